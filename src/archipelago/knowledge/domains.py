"""Broadcast domains: who hears whom without a router, and where switching runs in a circle."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from archipelago.knowledge.devices import Devices
from archipelago.knowledge.links import HOST_PORT
from archipelago.knowledge.topology import Adjacency, Layer2Endpoint, Topology, host_endpoint, untagged_endpoint
from archipelago.model.parts import Cable, End


@dataclass(frozen=True, slots=True)
class Loop:
    """A circle of cables that carry one domain round; a broadcast in it never ends."""

    endpoint: Layer2Endpoint
    cables: tuple[Cable, ...]


@dataclass(frozen=True, slots=True, eq=False)
class Domain:
    """One broadcast domain: its endpoints on devices, in the order of the network; the circle in it, if there is one;
    and its leaks, where frames pass into other domains and not back."""

    endpoints: tuple[Layer2Endpoint, ...]
    circle: Loop | None
    leaks: tuple[Adjacency, ...]


class Domains:
    """The broadcast domains of a network, each explored when somebody asks about one of its endpoints."""

    __slots__ = ("_devices", "_known", "_order", "_topology")

    def __init__(self, devices: Devices, topology: Topology, kept: Iterable[Domain] = ()) -> None:
        self._devices = devices
        self._topology = topology
        self._order = {name: number for number, name in enumerate(devices)}
        self._known: dict[Layer2Endpoint, Domain | None] = {
            endpoint: domain for domain in kept for endpoint in domain.endpoints
        }

    @property
    def known(self) -> set[Domain]:
        """Those that were explored so far."""
        return {domain for domain in self._known.values() if domain is not None}

    def of(self, endpoint: Layer2Endpoint) -> Domain | None:
        """The domain of an endpoint of a device or host; None where it is down."""
        if endpoint in self._known:
            return self._known[endpoint]
        if endpoint[0] not in self._devices:
            known_domain = self._known[endpoint] = self._of_host(endpoint)
            return known_domain
        if endpoint not in self._topology.alive(endpoint[0]):
            self._known[endpoint] = None
            return None
        domain = self._explore(endpoint)
        self._known.update(dict.fromkeys(domain.endpoints, domain))
        return domain

    def together(self, a: Layer2Endpoint, b: Layer2Endpoint) -> bool:
        """Whether frames get from one endpoint to the other and back."""
        domain = self.of(a)
        return domain is not None and domain is self.of(b)

    def is_within(self, endpoint: Layer2Endpoint, domain: Domain) -> bool:
        """Whether an endpoint of a device is in a domain, which is known; nothing else is explored for it."""
        return self._known.get(endpoint) is domain

    def heard_from(self, start: Domain) -> list[Domain]:
        """The domains that a broadcast gets to one from: itself, and those that leak into it, and they."""
        reached = [start]
        for domain in reached:
            for endpoint in domain.endpoints:
                for source in self._topology.leaking_into(endpoint):
                    near = self.of(source)
                    if near is not None and near not in reached:
                        reached.append(near)
        return reached

    def loop_at(self, endpoint: Layer2Endpoint) -> Loop | None:
        """The circle that a broadcast from an endpoint runs into: in its own domain, or in one that it leaks to."""
        start = self.of(endpoint)
        if start is None:
            return None
        for domain in self.spread(start):
            if domain.circle is not None:
                return domain.circle
            for leak in domain.leaks:
                if self.of(leak.target) is start:  # out by a one-way link, and in again
                    return Loop(leak.endpoint, (leak.cable,) if leak.cable else ())
        return None

    def spread(self, start: Domain) -> list[Domain]:
        """The domains that a broadcast in one gets to: itself, and those that it leaks to, and they."""
        if not start.leaks:
            return [start]
        reached = [start]
        for domain in reached:
            for leak in domain.leaks:
                far = self.of(leak.target)
                if far is not None and far not in reached:
                    reached.append(far)
        return reached

    def every(self) -> list[Domain]:
        """All domains of the devices, in the order of the network."""
        domains = (self.of(endpoint) for name in self._devices for endpoint in self._topology.alive(name))
        return list(dict.fromkeys(domain for domain in domains if domain is not None))

    def _of_host(self, endpoint: Layer2Endpoint) -> Domain | None:
        """A host stands in the domain that its port puts it in; where the port does not send to it, alone."""
        name = endpoint[0]
        if not self._devices.links[End(name, HOST_PORT)].carrier:
            return None
        at = self._devices.network.hosts[name].at
        joined = host_endpoint(self._devices, at)
        if joined is not None:
            return self.of(joined)
        heard = untagged_endpoint(self._devices, at)
        leaks = () if heard is None else (Adjacency(endpoint, heard, None, False, False),)
        return Domain((endpoint,), None, leaks)

    def _place(self, endpoint: Layer2Endpoint) -> tuple[int, int]:
        """Where an endpoint comes in the order of the network."""
        return self._order[endpoint[0]], self._topology.alive(endpoint[0])[endpoint]

    def _explore(self, start: Layer2Endpoint) -> Domain:
        inside = {start}
        queue = [start]
        for endpoint in queue:
            for joint in self._topology.at(endpoint):
                if joint.mutual and joint.target not in inside:
                    inside.add(joint.target)
                    queue.append(joint.target)
        endpoints = tuple(sorted(inside, key=self._place))
        sent = [joint for endpoint in endpoints for joint in self._topology.at(endpoint)]
        leaks = tuple(joint for joint in sent if not joint.mutual and joint.target not in inside)
        return Domain(endpoints, _circle_in(sent, inside), leaks)


def _circle_in(sent: list[Adjacency], inside: set[Layer2Endpoint]) -> Loop | None:
    """The first circle in a domain: a joint more than a tree has, or a one-way link back into it."""
    joints = [joint for joint in sent if joint.first]
    round_again = [joint for joint in sent if not joint.mutual and joint.target in inside]
    if len(joints) < len(inside) and not round_again:
        return None  # a tree
    parent = {endpoint: endpoint for endpoint in inside}
    onward: dict[Layer2Endpoint, list[tuple[Layer2Endpoint, Cable | None]]] = {}
    extra: list[Adjacency] = []
    for joint in sorted(joints, key=lambda joint: joint.cable is not None):
        onward.setdefault(joint.endpoint, []).append((joint.target, joint.cable))
        onward.setdefault(joint.target, []).append((joint.endpoint, joint.cable))
        if not _join(parent, joint.endpoint, joint.target):
            extra.append(joint)
    for joint in (*extra, *round_again):
        return Loop(joint.endpoint, _circle(onward, joint.endpoint, joint.target, joint.cable))
    return None


def _root(parent: dict[Layer2Endpoint, Layer2Endpoint], endpoint: Layer2Endpoint) -> Layer2Endpoint:
    while parent[endpoint] != endpoint:
        parent[endpoint] = parent[parent[endpoint]]
        endpoint = parent[endpoint]
    return endpoint


def _join(parent: dict[Layer2Endpoint, Layer2Endpoint], a: Layer2Endpoint, b: Layer2Endpoint) -> bool:
    """Put two endpoints together; False when they were together already."""
    root_a, root_b = _root(parent, a), _root(parent, b)
    parent[root_b] = root_a
    return root_a != root_b


def _circle(
    onward: Mapping[Layer2Endpoint, list[tuple[Layer2Endpoint, Cable | None]]],
    start: Layer2Endpoint,
    end: Layer2Endpoint,
    closing: Cable | None,
) -> tuple[Cable, ...]:
    """The cables of the way from `start` to `end` that does not use the closing one, and the closing one."""
    came: dict[Layer2Endpoint, tuple[Layer2Endpoint, Cable | None] | None] = {start: None}
    queue = deque([start])
    while queue and end not in came:
        endpoint = queue.popleft()
        for target, cable in onward.get(endpoint, ()):
            if target not in came and cable is not closing:
                came[target] = (endpoint, cable)
                queue.append(target)
    cables = [closing]
    endpoint = end
    while (step := came.get(endpoint)) is not None:
        endpoint, cable = step
        cables.append(cable)
    return tuple(dict.fromkeys(cable for cable in reversed(cables) if cable is not None))
