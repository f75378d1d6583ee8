"""Everything that is known of a network, stage by stage, each part derived when it is first asked for; and what a
change of the network leaves standing of it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property, partial
from itertools import islice, takewhile

from archipelago.knowledge import devices as devices_stage
from archipelago.knowledge import elected as elected_stage
from archipelago.knowledge import leases as leases_stage
from archipelago.knowledge import links as links_stage
from archipelago.knowledge import routes as routes_stage
from archipelago.knowledge import tree as tree_stage
from archipelago.knowledge.devices import Attachment, Devices, Node
from archipelago.knowledge.domains import Domain, Domains
from archipelago.knowledge.elected import Elected, Member, named_as_next_hops
from archipelago.knowledge.forwarding import ForwardingState
from archipelago.knowledge.hosts import HostNumbers, host_node
from archipelago.knowledge.kept_leases import KeptLeases
from archipelago.knowledge.learned import KeptHosts, LearnedHosts
from archipelago.knowledge.leases import Leases
from archipelago.knowledge.links import HOST_PORT, Links, Plugs, facing, plugs, port_names
from archipelago.knowledge.routes import DeviceRoutes, HeldName, routes_of
from archipelago.knowledge.topology import LinkName, Sent, Topology
from archipelago.knowledge.tree import SpanningTree, spanning_tree
from archipelago.model.network import Network, with_changes
from archipelago.model.parts import Device, End, Host, Port
from archipelago.model.projection import WHOLE, Projection

UNREAD = Projection(
    Network="title domain expect traffic policy", Device="console description", OutsidePort="routes_back"
)
"""What no stage reads: it says what is meant, how people get at a device, or what lies beyond the network's edge."""


class Nodes(Mapping[str, Node]):
    """Every device and host by name, devices first. A host's node is made when it is asked for: a plan can hold a
    million, and most questions are about few."""

    __slots__ = ("_devices", "_hosts", "_known", "_numbers")

    def __init__(self, devices: Devices, hosts: LearnedHosts, numbers: HostNumbers) -> None:
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
            document = self._hosts.written[name]
            node = self._known[name] = host_node(self._hosts[name], down, self._numbers.mac(name), document)
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


@dataclass(frozen=True, slots=True)
class Anew:
    """The devices of which a change has each stage derived anew: what they know of themselves, their routes, their
    parts in virtual routers; `any` of it, or what they lease. Each holds those of the stage before."""

    nodes: frozenset[str]
    routes: frozenset[str]
    members: frozenset[str]
    any: frozenset[str]


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
            routes = (
                routes_of(self.nodes[name], self._written(name), answering) if answering else self._own_routes(name)
            )
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
            routes = self._routes[name] = routes_of(self.nodes[name], self._written(name))
        return routes

    def _written(self, name: str) -> Device | Host:
        return self.written.devices.get(name) or self.hosts[name]

    def state(self, name: str) -> ForwardingState:
        """What a device or host decides by."""
        answers = partial(self.elected.holder_on, name) if self.elected.members(name) else None
        return ForwardingState(self.nodes[name], self.routes(name), answers)

    def without(self, anew: Anew) -> _Kept:
        """What still holds once some devices have changed: whatever neither they nor those that face them have a say
        in."""
        gone = anew.nodes
        near = gone | {far for name in gone if name in self.ports for far in facing(self.plugs, name, self.ports[name])}
        domains = [domain for domain in self.domains.known if not domain.leaks and self._untouched(domain, near)]
        return _Kept(
            nodes={name: node for name, node in self.devices.known.items() if name not in gone},
            adjacencies={link: sent for link, sent in self.topology.known.items() if link[0] not in near},
            domains=domains,
            routes={
                name: kept for name, kept in self._routes.items() if name in self.devices and name not in anew.routes
            },
            learning=self.any_learning,
            leases=self.leases.without(self._nodes_of(anew.any), domains) if self.any_learning else None,
            learned=self.hosts.before_change() if self.any_learning else None,
            members={name: members for name, members in self.elected.known.items() if name not in anew.members},
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
    return Topology(Devices(knowledge.written, devices.ports, devices.plugs, devices.links, {}, open_tree), {})


def know(network: Network) -> Knowledge:
    """What every device knows, from what is written."""
    ports, plugged = port_names(network), plugs(network)
    devices = Devices(network, ports, plugged, Links(network, ports, plugged), {})
    return Knowledge(network, devices, frozenset(network.devices), None, _Kept({}, {}, [], {}))


def know_while(network: Network, blocked: Mapping[str, frozenset[str]]) -> Knowledge:
    """What every device knows while the spanning tree is on its way to another state, some ports being blocked now."""
    ports, plugged = port_names(network), plugs(network)
    links = Links(network, ports, plugged)
    tree = replace(spanning_tree(network, ports, plugged, links), blocked=blocked)
    devices = Devices(network, ports, plugged, links, {}, tree)
    return Knowledge(network, devices, frozenset(network.devices), None, _Kept({}, {}, [], {}))


def apply_change(before: Knowledge, network: Network) -> Knowledge:
    """What every device knows once the network has changed in any way; only what the change touches is derived again:
    each stage where what it reads is otherwise, or what a stage before it has derived anew.

    Args:
        before: what was known.
        network: the network as it is now. Parts of it that are the same objects as before cost next to nothing.
    """
    old = before.written
    other_hosts = _other_hosts(old.hosts, network.hosts)
    ports, plugged = _plugged_again(before, network, other_hosts)
    links = Links(network, ports, plugged)
    replugged = {*_replugged(old, network, other_hosts), *_outside_changed(old, network)}
    carrier = [
        end
        for name in {*replugged, *links_stage.READS.differing(old.devices, network.devices)}
        for end in links.differing(name, before.links)
    ]
    tree = before.devices.tree
    cabled = any(end in each.cabled for end in carrier for each in (before.plugs, plugged))
    if cabled or _tree_differs(before, network, ports):
        tree = spanning_tree(network, ports, plugged, links)
    nodes = {*replugged, *_nodes_anew(before, network, tree)}
    for end in carrier:
        nodes.add(end.device)
        nodes |= {far[0].device for each in (before.plugs, plugged) if (far := each.cabled.get(end)) is not None}
    anew = _with_later_stages(before, network, nodes)
    kept = before.without(anew)
    devices = Devices(network, ports, plugged, links, _as_written(kept.nodes, network), tree)
    return Knowledge(network, devices, anew.any & network.devices.keys(), other_hosts, kept)


def _other_hosts(old: Mapping[str, Host], new: Mapping[str, Host]) -> list[str] | None:
    """The hosts that are written otherwise; None where they are not the same hosts in the same order."""
    if old is not new and list(old) != list(new):
        return None
    return list(WHOLE.differing(old, new))


def _nodes_anew(before: Knowledge, network: Network, tree: SpanningTree) -> Iterator[str]:
    """The devices that know something else of themselves, whatever has carrier."""
    old, old_tree = before.written, before.devices.tree
    yield from _elsewhere(old.devices, network.devices)
    yield from devices_stage.READS.differing(old.devices, network.devices)
    if old.vlans is not network.vlans and set(old.vlans.values()) != set(network.vlans.values()):
        yield from (name for name, device in network.devices.items() if device.vlans is None)
    for name in {*tree.blocked, *tree.waiting, *old_tree.blocked, *old_tree.waiting}:
        if tree.idle_at(name) != old_tree.idle_at(name):
            yield name


def _with_later_stages(before: Knowledge, network: Network, nodes: set[str]) -> Anew:
    """The devices of which each stage is derived anew where some know something else of themselves."""
    was, now = before.written.devices, network.devices
    routes = {*nodes, *routes_stage.READS.differing(was, now)}
    routes |= {name for name in before.elected.naming_themselves() if name in now}
    members = {*routes, *elected_stage.READS.differing(was, now)}
    every = {*members, *leases_stage.READS.differing(was, now)}
    return Anew(frozenset(nodes), frozenset(routes), frozenset(members), frozenset(every))


def _elsewhere(old: Mapping[str, Device], new: Mapping[str, Device]) -> Iterator[str]:
    """The devices that stand at another place among all, which MAC addresses follow."""
    same_place = sum(1 for _ in takewhile(lambda pair: pair[0] == pair[1], zip(old, new, strict=False)))
    for devices in (old, new):
        yield from islice(devices, same_place, None)


def _replugged(old: Network, new: Network, other_hosts: list[str] | None) -> Iterator[str]:
    """The devices that something is plugged into otherwise, or that is off or on otherwise."""
    if old.cables is not new.cables:
        for cable in set(old.cables) ^ set(new.cables):
            yield from (end.device for end in cable.ends)
    for name in {**old.hosts, **new.hosts} if other_hosts is None else other_hosts:
        was, now = old.hosts.get(name), new.hosts.get(name)
        if was is None or now is None or not links_stage.READS.same(was, now):
            yield from (host.at.device for host in (was, now) if host is not None)


def _outside_changed(old: Network, new: Network) -> Iterator[str]:
    """The devices that may lead outside otherwise than before."""
    if old.outside == new.outside:
        return
    if old.outside is None or new.outside is None:
        yield from (name for name, device in new.devices.items() if device.kind != "switch")
    for entry in {*(old.outside or ()), *(new.outside or ())}:
        yield entry.at.device


def _tree_differs(before: Knowledge, network: Network, ports: Mapping[str, Mapping[str, Port]]) -> bool:
    """Whether a change can have changed the spanning tree, where all carrier is as it was."""
    old = before.written
    if list(old.devices) != list(network.devices) or old.cables != network.cables:
        return True
    if any(own is not before.ports[name] and list(own) != list(before.ports[name]) for name, own in ports.items()):
        return True
    return next(tree_stage.READS.differing(old.devices, network.devices), None) is not None


def _as_written(nodes: Mapping[str, Node], network: Network) -> Mapping[str, Node]:
    """What devices know of themselves, holding them as they are written now."""
    devices = network.devices
    return {
        name: node if node.written is devices[name] else replace(node, written=devices[name], document=devices[name])
        for name, node in nodes.items()
    }


def _plugged_again(
    before: Knowledge, network: Network, other_hosts: list[str] | None
) -> tuple[Mapping[str, Mapping[str, Port]], Plugs]:
    """The ports of a changed network and what is plugged into them, from what they were where nothing is replugged."""
    old, read = before.written, links_stage.NAMES_READ
    moved = other_hosts is None or not all(read.same(old.hosts[name], network.hosts[name]) for name in other_hosts)
    if moved or not read.same(old.cables, network.cables) or list(old.devices) != list(network.devices):
        return port_names(network), plugs(network)
    if next(read.differing(old.devices, network.devices), None) is not None:
        return port_names(network), before.plugs
    ports = dict(before.ports)
    for name, device in network.devices.items():
        if old.devices[name] is not device:
            ports[name] = {**before.ports[name], **device.ports}
    return ports, before.plugs
