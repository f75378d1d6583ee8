"""Everything that is known of a network, stage by stage, each part derived when it is first asked for; and what a
change of the network leaves standing of it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property, partial
from itertools import takewhile

from archipelago.knowledge.devices import Attachment, Devices, Node
from archipelago.knowledge.domains import Domain, Domains
from archipelago.knowledge.elected import Elected, Member, named_as_next_hops
from archipelago.knowledge.forwarding import ForwardingState
from archipelago.knowledge.hosts import HostNumbers, host_node
from archipelago.knowledge.kept_leases import KeptLeases
from archipelago.knowledge.learned import KeptHosts, LearnedHosts
from archipelago.knowledge.leases import Leases
from archipelago.knowledge.links import HOST_PORT, Links, Plugs, aggregates, facing, plugs, port_names
from archipelago.knowledge.routes import DeviceRoutes, HeldName, routes_of
from archipelago.knowledge.topology import LinkName, Sent, Topology
from archipelago.knowledge.tree import is_switched, spanning_tree
from archipelago.model.network import Network, with_changes
from archipelago.model.parts import Aggregate, Device, End, Host, Port


class Nodes(Mapping[str, Node]):
    """Every device and host by name, devices first. A host's node is made when it is asked for: a plan can hold a
    million, and most questions are about few."""

    __slots__ = ("_devices", "_hosts", "_known", "_numbers")

    def __init__(self, devices: Devices, hosts: Mapping[str, Host], numbers: HostNumbers) -> None:
        self._devices = devices
        self._hosts = hosts
        self._numbers = numbers
        self._known: dict[str, Node] = {}

    def __getitem__(self, name: str) -> Node:
        node = self._known.get(name)
        if node is None:
            if name in self._devices:
                node = self._known[name] = self._devices[name]
                return node
            down = self._devices.links.down(End(name, HOST_PORT))
            node = self._known[name] = host_node(self._hosts[name], down, self._numbers.mac(name))
        return node

    def __iter__(self) -> Iterator[str]:
        yield from self._devices
        yield from self._hosts

    def __len__(self) -> int:
        return len(self._devices) + len(self._hosts)

    def __contains__(self, name: object) -> bool:
        return name in self._devices or name in self._hosts


@dataclass(frozen=True, slots=True)
class _Kept:
    """What a change leaves standing."""

    nodes: Mapping[str, Node]
    adjacencies: Mapping[LinkName, Sent]
    domains: list[Domain]
    routes: Mapping[str, DeviceRoutes]
    learning: bool | None = None
    leases: KeptLeases | None = None
    learned: KeptHosts | None = None
    members: Mapping[str, tuple[Member, ...]] = field(default_factory=dict)


class Knowledge:
    """What every device and host of a network knows.

    The stages, each derived from those before it: `links` and carrier, `devices` and their VLANs, the layer 2
    `topology`, broadcast `domains`, who is `elected` in virtual routers, the addresses that `hosts` have learned,
    `routes`, and the `state` that the forwarding decision is made by. `written` is the network as it is written,
    `network` the same with what hosts have learned. When a change was applied, `derived` names the devices that were
    derived anew, and `other_hosts` the hosts that are written otherwise (None: they are not the same hosts); at first
    all are.
    """

    def __init__(
        self, network: Network, devices: Devices, derived: frozenset[str], other_hosts: list[str] | None, kept: _Kept
    ) -> None:
        self.written = network
        self.devices = devices
        self.derived = derived
        self.other_hosts = other_hosts
        self._kept_learning = kept.learning
        self.topology = Topology(devices, kept.adjacencies)
        self.domains = Domains(devices, self.topology, kept.domains)
        self._routes: dict[str, DeviceRoutes] = dict(kept.routes)
        self._with_shared: dict[str, DeviceRoutes] = {}
        self.elected = Elected(network, devices, self.domains, self._own_routes, kept.members)
        numbers = HostNumbers(network.hosts)
        self.leases = Leases(network, devices, self.domains, self.elected, self.state, kept.leases)
        self.hosts = LearnedHosts(
            network.hosts, devices, self.domains, self.elected, numbers, leases=self.leases, kept=kept.learned
        )
        self.nodes = Nodes(devices, self.hosts, numbers)

    @property
    def ports(self) -> Mapping[str, Mapping[str, Port]]:
        """Every port of every device, written or made to exist by what is plugged in."""
        return self.devices.ports

    @property
    def plugs(self) -> Plugs:
        """What is plugged in where."""
        return self.devices.plugs

    @property
    def links(self) -> Links:
        """Each port's link, and whether it has carrier."""
        return self.devices.links

    @cached_property
    def network(self) -> Network:
        """The network once hosts have learned the addresses that they take from routers and servers."""
        return with_changes(self.written, hosts=dict(self.hosts)) if self.any_learning else self.written

    @cached_property
    def any_learning(self) -> bool:
        """Whether any host takes addresses from what routers advertise, or servers lease."""
        hosts = self.written.hosts
        if self._kept_learning is not None and self.other_hosts is not None:
            return self._kept_learning or any(hosts[name].auto or hosts[name].dhcp for name in self.other_hosts)
        return any(host.auto or host.dhcp for host in hosts.values())

    def attachment_at(self, end: End) -> Attachment:
        """The attachment that a port is, or is a member of."""
        if end.device in self.devices:
            return self.devices.attachment_at(end)
        return self.nodes[end.device].attachments[end.port]

    def routes(self, name: str) -> DeviceRoutes:
        """The routing tables of a device or host."""
        members = self.elected.members(name) if name in self.devices else ()
        if not members:
            return self._own_routes(name)
        if name not in self._with_shared:
            answering = self._next_hops_shared(name, members)
            routes = routes_of(self.nodes[name], answering) if answering else self._own_routes(name)
            self._with_shared[name] = routes
        return self._with_shared[name]

    def _next_hops_shared(self, name: str, members: Iterable[Member]) -> dict[HeldName, str]:
        """The shared addresses that a device answers for and that it names as next hops, which are then itself."""
        return {
            (self.devices[name].nics[member.interface].vrf, *address): member.interface
            for member, address in named_as_next_hops(self.written.devices[name], members)
            if self.elected.active(member)
        }

    def _own_routes(self, name: str) -> DeviceRoutes:
        """The routing tables of a device or host, whatever it shares with others."""
        routes = self._routes.get(name)
        if routes is None:
            routes = self._routes[name] = routes_of(self.nodes[name])
        return routes

    def state(self, name: str) -> ForwardingState:
        """What a device or host decides by."""
        answers = partial(self.elected.holder_on, name) if self.elected.members(name) else None
        return ForwardingState(self.nodes[name], self.routes(name), answers)

    def without(self, gone: frozenset[str]) -> _Kept:
        """What still holds once some devices have changed: whatever neither they nor those that face them have a say
        in."""
        near = gone | {far for name in gone if name in self.ports for far in facing(self.plugs, name, self.ports[name])}
        domains = [domain for domain in self.domains.known if not domain.leaks and self._untouched(domain, near)]
        return _Kept(
            nodes={name: node for name, node in self.devices.known.items() if name not in gone},
            adjacencies={link: sent for link, sent in self.topology.known.items() if link[0] not in near},
            domains=domains,
            routes={name: route for name, route in self._routes.items() if name in self.devices and name not in gone},
            learning=self.any_learning,
            leases=self.leases.without(self._nodes_of(gone), domains) if self.any_learning else None,
            learned=self.hosts.before_change() if self.any_learning else None,
            members={name: members for name, members in self.elected.known.items() if name not in gone},
        )

    def _nodes_of(self, names: Iterable[str]) -> Mapping[str, Node]:
        return {name: self.devices[name] for name in names if name in self.devices}

    def _untouched(self, domain: Domain, near: frozenset[str]) -> bool:
        return all(name in self.devices and name not in near for name, _ in domain.endpoints)


def unblocked(knowledge: Knowledge) -> Topology:
    """The topology if the spanning tree blocked nothing: every way that frames may come to take once a part is gone."""
    devices = knowledge.devices
    if not devices.tree.blocked:
        return knowledge.topology
    open_tree = replace(devices.tree, blocked={})
    return Topology(Devices(knowledge.written, devices.ports, devices.plugs, {}, open_tree), {})


def know(network: Network) -> Knowledge:
    """What every device knows, from what is written."""
    devices = Devices(network, port_names(network), plugs(network), {})
    return Knowledge(network, devices, frozenset(network.devices), None, _Kept({}, {}, [], {}))


def know_while(network: Network, blocked: Mapping[str, frozenset[str]]) -> Knowledge:
    """What every device knows while the spanning tree is on its way to another state, some ports being blocked now."""
    ports, plugged = port_names(network), plugs(network)
    tree = replace(spanning_tree(network, ports, plugged, Links(network, ports, plugged)), blocked=blocked)
    devices = Devices(network, ports, plugged, {}, tree)
    return Knowledge(network, devices, frozenset(network.devices), None, _Kept({}, {}, [], {}))


def apply_change(before: Knowledge, network: Network) -> Knowledge:
    """What every device knows once the network has changed in any way; only what the change touches is derived again.

    Args:
        before: what was known.
        network: the network as it is now. Parts of it that are the same objects as before cost next to nothing.
    """
    other_hosts = _other_hosts(before.written, network)
    ports, plugged = _plugged_again(before, network, other_hosts)
    touched = set(_changed(before.written, network, other_hosts))
    tree = before.devices.tree
    if _tree_differs(before.written, network, touched):
        tree = spanning_tree(network, ports, plugged, Links(network, ports, plugged))
        touched |= {
            name
            for name in {*tree.blocked, *tree.waiting, *before.devices.tree.blocked, *before.devices.tree.waiting}
            if tree.idle_at(name) != before.devices.tree.idle_at(name)
        }
    for name in list(touched):
        was, now = before.written.devices.get(name), network.devices.get(name)
        for known, device, changed in ((before.plugs, was, before.ports), (plugged, now, ports)):
            if device is not None:
                touched |= facing(known, name, _other_links(was, now, changed[name]))
    touched |= {name for name in before.elected.naming_themselves() if name in network.devices}
    kept = before.without(frozenset(touched))
    devices = Devices(network, ports, plugged, kept.nodes, tree)
    return Knowledge(network, devices, frozenset(touched & network.devices.keys()), other_hosts, kept)


def _other_hosts(old: Network, new: Network) -> list[str] | None:
    """The hosts that are written otherwise; None where they are not the same hosts in the same order."""
    if old.hosts is new.hosts:
        return []
    if list(old.hosts) != list(new.hosts):
        return None
    pairs = zip(old.hosts.values(), new.hosts.values(), strict=True)
    return [a.name for a, b in pairs if a is not b and a != b]


def _changed(old: Network, new: Network, other_hosts: list[str] | None) -> frozenset[str]:
    """The devices that are written otherwise, or that something is plugged into otherwise."""
    if old.vlans is not new.vlans and set(old.vlans.values()) != set(new.vlans.values()):
        return frozenset((*old.devices, *new.devices))
    same_place = sum(1 for _ in takewhile(lambda pair: pair[0] == pair[1], zip(old.devices, new.devices, strict=False)))
    changed = {*list(old.devices)[same_place:], *list(new.devices)[same_place:]}  # MAC addresses follow the place
    for name, device in new.devices.items():
        if name not in changed and old.devices[name] is not device and old.devices[name] != device:
            changed.add(name)
    if old.cables is not new.cables:
        for cable in set(old.cables) ^ set(new.cables):
            changed |= {cable.a.device, cable.b.device}
    for name in {*old.hosts, *new.hosts} if other_hosts is None else other_hosts:
        a, b = old.hosts.get(name), new.hosts.get(name)
        if a is not b and a != b:
            changed |= {host.at.device for host in (a, b) if host is not None}
    return frozenset(changed)


def _tree_differs(old: Network, new: Network, changed: Iterable[str]) -> bool:
    """Whether a change can have changed the spanning tree."""
    if list(old.devices) != list(new.devices):
        return True
    if old.cables is not new.cables and old.cables != new.cables:
        return True
    return any(_tree_facts(old.devices[name]) != _tree_facts(new.devices[name]) for name in changed)


def _tree_facts(device: Device) -> object:
    """All of a device that the spanning tree depends on."""
    own = (device.kind, device.off, device.spanning_tree, device.bridge_priority, device.mac)
    bundles = list(aggregates(device)) if device.interfaces else []
    parts: list[Port | Aggregate] = [*device.ports.values(), *bundles]
    facts = [(part.name, part.off, part.path_cost, is_switched(device, part)) for part in parts]
    return (
        own,
        facts,
        [port.speed for port in device.ports.values()],
        [(bundle.members, bundle.shared_with) for bundle in bundles],
    )


def _other_links(was: Device | None, now: Device | None, ports: Mapping[str, Port]) -> set[str]:
    """The ports of a device whose carrier a change of the device can have changed."""
    if was is now:
        return set()
    if was is None or now is None or was.off != now.off or was.kind != now.kind:
        return set(ports)
    members = {name for bundle in _bundles(was) ^ _bundles(now) for name in bundle[0]}
    plain = Port("")

    def state(device: Device, name: str) -> tuple[bool, int | None]:
        port = device.ports.get(name, plain)
        return port.off, port.speed

    return members | {name for name in ports if state(was, name) != state(now, name)}


def _bundles(device: Device) -> set[tuple[tuple[str, ...], bool]]:
    return {(aggregate.members, aggregate.off) for aggregate in aggregates(device)} if device.interfaces else set()


def _plugged_again(
    before: Knowledge, network: Network, other_hosts: list[str] | None
) -> tuple[Mapping[str, Mapping[str, Port]], Plugs]:
    """The ports of a changed network and what is plugged into them, from what they were where nothing is replugged."""
    old = before.written
    ends = [[(cable.a, cable.b) for cable in each.cables] for each in (old, network)]
    replugged = old.cables is not network.cables and ends[0] != ends[1]
    moved = other_hosts is None or any(old.hosts[name].at != network.hosts[name].at for name in other_hosts)
    if replugged or moved or list(old.devices) != list(network.devices):
        return port_names(network), plugs(network)
    ports = dict(before.ports)
    for name, device in network.devices.items():
        was = old.devices[name]
        if was is device:
            continue
        members = [[aggregate.members for aggregate in aggregates(each)] for each in (was, device)]
        if list(was.ports) != list(device.ports) or members[0] != members[1]:
            return port_names(network), before.plugs
        ports[name] = {**before.ports[name], **device.ports}
    return ports, before.plugs
