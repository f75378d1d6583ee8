"""The spanning tree: which switched ports pass frames, so that none goes round in a circle (IEEE 802.1Q-2022, clause
13: the rapid tree; one tree for all VLANs). Here in its steady state."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from heapq import heappop, heappush
from typing import NamedTuple

from archipelago.knowledge.links import DEFAULT_SPEED, Links, Plugs, aggregates
from archipelago.knowledge.mac import device_mac
from archipelago.knowledge.shared_aggregates import waiting
from archipelago.model.network import Network
from archipelago.model.parts import Aggregate, Device, End, Port
from archipelago.model.projection import Projection
from archipelago.model.values import PATH_COSTS

READS = Projection(
    Network="devices",
    Device="name kind off mac ports interfaces spanning_tree bridge_priority",
    Port="name speed addresses routed path_cost",
    Subinterface="name",
    VlanInterface="name",
    Loopback="name",
    Aggregate="name members addresses routed path_cost shared_with",
)
"""What the spanning tree is derived from, beside carrier and what is plugged in where."""
USUAL_BRIDGE_PRIORITY = 32768
"""IEEE 802.1Q 13.18, table 13-3."""
_COST_OF_ONE_BIT = 20 * 10**12
"""A port's cost times its speed in bits per second (IEEE 802.1Q 13.18, table 13-4)."""


class Role(StrEnum):
    """What a port is in the tree (IEEE 802.1Q 13.12): the way to the root; the best of its link, which serves it; or a
    spare way, blocked, by another bridge or by the port's own."""

    ROOT = "root"
    DESIGNATED = "designated"
    ALTERNATE = "alternate"
    BACKUP = "backup"

    @property
    def forwards(self) -> bool:
        """Whether a port with this part forwards once the tree has settled."""
        return self in (Role.ROOT, Role.DESIGNATED)


class BridgeId(NamedTuple):
    """What bridges are compared by: the lowest is the root. `number` is the device's place in the network."""

    priority: int
    mac: int
    number: int


class Claim(NamedTuple):
    """What a bridge says on a link (a priority vector, IEEE 802.1Q 13.9): which root it knows, what the way there costs
    from it, who it is and by which port it speaks. The lowest claim of a link serves it."""

    root: BridgeId
    cost: int
    bridge: BridgeId
    port: int


@dataclass(frozen=True, slots=True)
class TreePort:
    """A cabled port in the tree: its number, its part, its own cost, and the best that it hears on its link."""

    number: int
    role: Role
    cost: int
    heard: Claim | None


@dataclass(frozen=True, slots=True)
class Bridge:
    """A device in the tree: itself, its root, what its way there costs and by which port it goes (None: it is the
    root), and its cabled ports. A port that is not among them has nobody to listen to, and serves its link."""

    id: BridgeId
    root: BridgeId
    cost: int
    root_port: str | None
    ports: Mapping[str, TreePort]


@dataclass(frozen=True, slots=True)
class SpanningTree:
    """Every device that takes part, by name, and the ports and aggregates that are blocked, device by device. `names`
    are those of all devices, by their places. The halves of shared aggregates that are `waiting` are no part of it."""

    bridges: Mapping[str, Bridge]
    blocked: Mapping[str, frozenset[str]]
    names: tuple[str, ...]
    waiting: Mapping[str, frozenset[str]] = field(default_factory=dict)

    def blocked_at(self, device: str) -> frozenset[str]:
        """The ports and aggregates of a device that are blocked."""
        return self.blocked.get(device, frozenset())

    def idle_at(self, device: str) -> frozenset[str]:
        """All of a device that passes nothing though it has carrier: blocked, or waiting."""
        return self.blocked_at(device) | self.waiting_at(device)

    def waiting_at(self, device: str) -> frozenset[str]:
        """The halves of shared aggregates of a device that wait."""
        return self.waiting.get(device, frozenset())

    def name(self, bridge: BridgeId) -> str:
        """The device that a bridge is."""
        return self.names[bridge.number]


def is_switched(device: Device, part: Port | Aggregate) -> bool:
    """Whether a port or aggregate switches frames, rather than being an interface itself."""
    return device.kind != "router" and not part.routed and not part.addresses


def path_cost(part: Port | Aggregate, ports: Mapping[str, Port]) -> int:
    """What the way by a port or aggregate costs: as written, else by its speed, an aggregate's being that of all its
    members (IEEE 802.1Q 13.18)."""
    if part.path_cost is not None:
        return part.path_cost
    members = [ports[name] for name in part.members] if isinstance(part, Aggregate) else [part]
    speed = sum(member.speed or DEFAULT_SPEED for member in members) or DEFAULT_SPEED
    return min(max(_COST_OF_ONE_BIT // speed, PATH_COSTS[0]), PATH_COSTS[-1])


class Wired(NamedTuple):
    """A cabled port or aggregate that switches, with carrier."""

    device: str
    name: str


class Wiring:
    """Which switched ports hear which, the devices that take no part being pieces of wire."""

    def __init__(self, network: Network, ports: Mapping[str, Mapping[str, Port]], plugged: Plugs, links: Links) -> None:
        self._network = network
        self._ports = ports
        self._links = links
        self._numbers: dict[str, Mapping[str, int]] = {}
        self._member_of: dict[str, Mapping[str, Aggregate]] = {}
        self.waiting = waiting(network, links)
        self.parts: dict[Wired, Port | Aggregate] = {}
        self.towards: dict[Wired, Wired] = {}
        self.of: dict[str, list[Wired]] = {}
        cabled: dict[str, list[str]] = {}
        for end in plugged.cabled:
            device = network.devices.get(end.device)
            if device is not None and device.kind != "router" and not device.off:
                cabled.setdefault(end.device, []).append(end.port)
        for name, names in cabled.items():
            device = network.devices[name]
            for port in names:
                self._take(device, port, ports[name])
        for own in self.parts:
            self.of.setdefault(own.device, []).append(own)
        for own, part in self.parts.items():
            far = self._far(own, part)
            if far is not None and far in self.parts:
                self.towards[own] = far

    def number(self, own: Wired) -> int:
        """The number of a port or aggregate: listed ports in their order, others as something names them, then the
        aggregates."""
        numbers = self._numbers.get(own.device)
        if numbers is None:
            device = self._network.devices[own.device]
            every = [*self._ports[own.device], *(bundle.name for bundle in aggregates(device))]
            numbers = self._numbers[own.device] = {name: number for number, name in enumerate(every, 1)}
        return numbers[own.name]

    def _bundles(self, device: Device) -> Mapping[str, Aggregate]:
        if device.name not in self._member_of:
            bundles = aggregates(device) if device.interfaces else ()
            self._member_of[device.name] = {member: bundle for bundle in bundles for member in bundle.members}
        return self._member_of[device.name]

    def _take(self, device: Device, port: str, ports: Mapping[str, Port]) -> None:
        part: Port | Aggregate = self._bundles(device).get(port) or ports[port]
        if part.name in self.waiting.get(device.name, ()):
            return
        if is_switched(device, part) and self._links.down(End(device.name, port)) is None:
            self.parts[Wired(device.name, part.name)] = part

    def _far(self, own: Wired, part: Port | Aggregate) -> Wired | None:
        """Where what a port or aggregate sends arrives: by its first live member (IEEE 802.1AX)."""
        members = part.members if isinstance(part, Aggregate) else (part.name,)
        for member in members:
            link = self._links[End(own.device, member)]
            if link.carrier and link.peer is not None:
                peer = self._network.devices.get(link.peer.device)
                if peer is None:
                    return None
                bundle = self._bundles(peer).get(link.peer.port)
                return Wired(peer.name, bundle.name if bundle is not None else link.peer.port)
        return None

    def heard_from(self, own: Wired) -> Iterator[Wired]:
        """The ports of bridges that hear what a bridge's port says."""
        devices = self._network.devices
        first = self.towards.get(own)
        if first is None:
            return
        seen, queue = {first}, [first]
        for at in queue:
            if devices[at.device].spanning_tree:
                yield at
                continue
            for out in self.of[at.device]:  # a piece of wire, whatever VLANs its ports carry
                far = self.towards.get(out)
                if out != at and far is not None and far not in seen:
                    seen.add(far)
                    queue.append(far)


def spanning_tree(
    network: Network, ports: Mapping[str, Mapping[str, Port]], plugged: Plugs, links: Links
) -> SpanningTree:
    """The tree of a network (IEEE 802.1Q 13.9 to 13.12). Bridges are settled in the order of their ways to the root,
    so each knows whatever is better than itself once its own turn comes.

    Args:
        network: the network.
        ports: every port of every device, in the order of their numbers.
        plugged: what is plugged in where.
        links: which ports have carrier.
    """
    wiring = Wiring(network, ports, plugged, links)
    ids: dict[str, BridgeId] = {}
    for number, device in enumerate(network.devices.values()):
        if device.kind != "router" and device.spanning_tree and not device.off:
            priority = USUAL_BRIDGE_PRIORITY if device.bridge_priority is None else device.bridge_priority
            ids[device.name] = BridgeId(priority, device.mac or device_mac(number), number)
    names = tuple(network.devices)
    heard: dict[Wired, Claim] = {}
    settled: dict[str, Bridge] = {}
    ways = [((own, 0, own), own, 0, 0, "") for own in ids.values()]
    ways.sort()
    while ways:
        (root, cost, own), _, _, _, root_port = heappop(ways)
        name = names[own.number]
        if name in settled:
            continue
        roles: dict[str, TreePort] = {}
        for attached in sorted(wiring.of.get(name, ()), key=wiring.number):
            claim = Claim(root, cost, own, wiring.number(attached))
            best = heard.get(attached)
            role = Role.DESIGNATED
            if attached.name == root_port:
                role = Role.ROOT
            elif best is not None and best < claim:
                role = Role.BACKUP if best.bridge == own else Role.ALTERNATE
            part = wiring.parts[attached]
            own_cost = path_cost(part, ports[name])
            roles[attached.name] = TreePort(claim.port, role, own_cost, best)
            if role is not Role.DESIGNATED:
                continue
            for far in wiring.heard_from(attached):
                if far == attached:
                    continue
                heard[far] = min(heard.get(far, claim), claim)
                if far.device not in settled and far.device != name:
                    onward = cost + path_cost(wiring.parts[far], ports[far.device])
                    heappush(ways, ((root, onward, ids[far.device]), own, claim.port, wiring.number(far), far.name))
        settled[name] = Bridge(own, root, cost, root_port or None, roles)
    blocked = {
        name: frozenset(port for port, at in bridge.ports.items() if not at.role.forwards)
        for name, bridge in settled.items()
    }
    in_order = {name: settled[name] for name in ids}
    return SpanningTree(in_order, {name: found for name, found in blocked.items() if found}, names, wiring.waiting)
