"""The outside: what lies beyond a routed port that nothing in the network is plugged into."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import NamedTuple

from archipelago.addressing.values import WIDTHS, Address, InterfaceAddress, Prefix, is_link_local, parse_address
from archipelago.errors import QueryError
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge, know
from archipelago.knowledge.links import next_hop_beyond
from archipelago.model.ends import OUTSIDE
from archipelago.model.network import Network, with_changes
from archipelago.model.parts import Cable, Device, End, Host, NextHop, Port, Route
from archipelago.model.values import free_name

NOTHING_LEADS = (
    "no port leads outside: a routed port with an address does that nothing is plugged into, "
    "where a route goes to another address of its subnet"
)
_FAR = {
    4: tuple(parse_address(text) for text in ("192.0.2.1", "198.51.100.1", "203.0.113.1")),
    6: (parse_address("2001:db8:ffff:ffff::1"), parse_address("100::1")),
}
"""Addresses that nobody is given (RFC 5737, RFC 3849, RFC 6666): the first that the network has no own way to."""


def beyond(index: NetworkIndex, addresses: Iterable[Address]) -> tuple[Address, ...]:
    """Those of some addresses that are outside: in no subnet of the network."""
    return tuple(address for address in addresses if not index.in_a_subnet(address))


def with_outside(knowledge: Knowledge, also: Sequence[Address] = ()) -> tuple[Network, tuple[str, ...]]:
    """The network with a host for the outside at each port that leads there, and the names of these hosts: none
    where no port does. `also` are addresses out there that somebody asks for.

    Such a host holds the next hop that routes through the port go to, and an address far beyond, which is the one
    probed; it sends everything back to the port. So a way there needs a route to the outside, and a way back.

    Raises:
        QueryError: something in the network is called as the outside is.
    """
    network = knowledge.written
    if network.outside is not None:
        return _with_upstream(knowledge, also)
    hosts = dict(network.hosts)
    added: list[str] = []
    for node, nic in _edges(knowledge):
        name = OUTSIDE if not added else f"{OUTSIDE}-{len(added) + 1}"
        host = _beyond(knowledge, name, node, nic, len(added))
        if host is not None:
            own = (InterfaceAddress(*address, WIDTHS[address.version]) for address in also)
            host = replace(host, addresses=(*host.addresses, *own))
            if name in hosts or name in network.devices:
                raise QueryError(f"'{name}' stands for what is beyond the network; give the one called so another name")
            hosts[name] = host
            added.append(name)
    return with_changes(network, hosts=hosts), tuple(added)


def hides(network: Network) -> bool:
    """Whether what is outside is said to have no way to some of the network (`routes-back`): it is reached only from
    within then, where what goes out is translated."""
    return any(entry.routes_back != "all" for entry in network.outside or ())


class Hiding(NamedTuple):
    """What the outside has a way to (`known`), and what is translated where packets leave (`translated`)."""

    known: tuple[Prefix, ...]
    translated: tuple[Prefix, ...]

    def hides(self, address: Address) -> bool:
        """Whether an address is translated and the outside has no way to it: it is answered, and cannot be asked
        (RFC 3022 2.1)."""
        if any(prefix.holds(address) for prefix in self.known):
            return False
        return any(prefix.holds(address) for prefix in self.translated)


def hiding(knowledge: Knowledge) -> Hiding:
    """What translation hides from the outside, in a network that is widened."""
    upstream = knowledge.devices[knowledge.written.hosts[OUTSIDE].at.device].written
    assert isinstance(upstream, Device)
    links = (address.prefix for port in upstream.ports.values() for address in port.addresses)
    edges = (knowledge.links[End(upstream.name, name)].peer for name in upstream.ports)
    nics = (knowledge.nodes[edge.device].nics.get(edge.port) for edge in edges if edge is not None)
    translated = (prefix for nic in nics if nic is not None for prefix in nic.source_nat)
    return Hiding((*links, *(route.destination for route in upstream.routes)), tuple(translated))


def widened(knowledge: Knowledge) -> Knowledge:
    """The network with the outside in it, where it says which ports lead there; else as it is."""
    return knowledge if knowledge.written.outside is None else know(with_outside(knowledge)[0])


def _with_upstream(knowledge: Knowledge, also: Sequence[Address]) -> tuple[Network, tuple[str, ...]]:
    """The network with the upstream as one router: at each port that leads there it holds the neighbour's address, it
    sends back by the longest prefix of all that it is said to, and a host beyond it stands for all that is outside."""
    network = knowledge.written
    edges = list(_edges(knowledge))
    name = free_name(f"{OUTSIDE}-upstream", {*network.devices, *network.hosts})
    ports: dict[str, Port] = {}
    routes: list[Route] = []
    cables = list(network.cables)
    for number, ((node, nic), entry) in enumerate(zip(edges, network.outside or (), strict=True), 1):
        own = [address for address in nic.addresses if not is_link_local(address)]
        assert isinstance(node.written, Device)
        beyond = [InterfaceAddress(*(_neighbour(node.written, address)), address.length) for address in own]
        ports[f"p{number}"] = Port(f"p{number}", addresses=tuple(beyond))
        cables.append(Cable(entry.at, End(name, f"p{number}")))
        first = {address.version: NextHop(address.address) for address in reversed(own)}
        back = _EVERYTHING if entry.routes_back == "all" else () if entry.routes_back == "none" else entry.routes_back
        routes += [Route(prefix, first[prefix.version], number) for prefix in back if prefix.version in first]
    versions = sorted({address.version for port in ports.values() for address in port.addresses})
    if not versions:
        return network, ()
    far = [_beyond_everything(knowledge, version) for version in versions]
    ports["p0"] = Port("p0", addresses=tuple(InterfaceAddress(a.version, a.value + 1, _LINK[a.version]) for a in far))
    held = [*(InterfaceAddress(*address, _LINK[address.version]) for address in far)]
    held += [InterfaceAddress(*address, WIDTHS[address.version]) for address in also if address.version in versions]
    for address in also:
        onward = next((NextHop(own) for own in far if own.version == address.version), None)
        if onward is not None:
            routes.append(Route(Prefix(address.version, address.value, WIDTHS[address.version]), onward))
    gateways = tuple(NextHop(Address(address.version, address.value + 1)) for address in far)
    upstream = Device(name, "router", ports=ports, routes=tuple(routes))
    host = Host(OUTSIDE, End(name, "p0"), tuple(held), gateways)
    devices, hosts = {**network.devices, name: upstream}, {**network.hosts, OUTSIDE: host}
    return with_changes(network, devices=devices, hosts=hosts, cables=tuple(cables), outside=()), (OUTSIDE,)


_EVERYTHING = (Prefix(4, 0, 0), Prefix(6, 0, 0))
_LINK = {4: 30, 6: 64}
"""The size of the subnet that the host stands in that stands for the outside."""


def _neighbour(device: Device, address: InterfaceAddress) -> Address:
    """Who is at the other end of a link to the outside: on one of two addresses the other, else the next hop that the
    device's routes name, else the lowest."""
    first, last = address.prefix.usable()
    if last - first == 1:
        return _lowest(address)
    return _hop(device, address) or _lowest(address)


def _beyond_everything(knowledge: Knowledge, version: int) -> Address:
    """An address outside: one that only a default route leads to; without one, of a partner's prefix."""
    static = [route for device in knowledge.network.devices.values() for route in device.routes]
    static = [route for route in static if route.destination.version == version]
    links = [address.prefix for _, nic in _edges(knowledge) for address in nic.addresses if address.version == version]
    if not any(route.destination.length == 0 for route in static):
        for route in static:
            if any(link.holds(route.next_hop.address) for link in links):
                return Address(version, route.destination.value + 1)
    return _far(knowledge, version, 0)


def ways_outside(knowledge: Knowledge) -> Iterator[tuple[Node, Nic, Mapping[int, Address]]]:
    """The ports that lead outside and are up, each with a neighbour beyond it, by family."""
    for node, nic in _edges(knowledge):
        beyond = (_hops(node, nic) if nic.up else None) or {}  # the last address written comes first
        hops = {address.version: hop for address, hop in beyond.items() if hop is not None}
        if hops:
            yield node, nic, {version: hops[version] for version in sorted(hops)}


def _edges(knowledge: Knowledge) -> Iterator[tuple[Node, Nic]]:
    """Routed ports with an address that no cable and no host is plugged into; where the network says which of them lead
    outside, those."""
    if knowledge.network.outside is not None:
        for entry in knowledge.network.outside:
            node = knowledge.devices[entry.at.device]
            yield node, node.nics[entry.at.port]
        return
    for node in knowledge.devices.values():
        for nic in node.nics.values() if node.kind != "switch" else ():
            if nic.kind == "port" and nic.addresses and knowledge.links[End(node.name, nic.name)].peer is None:
                yield node, nic


def _beyond(knowledge: Knowledge, name: str, node: Node, nic: Nic, number: int) -> Host | None:
    """The host that stands for the outside at a port; None where no route leads there."""
    hops = _hops(node, nic)
    if hops is None:
        return None
    addresses: list[InterfaceAddress] = []
    gateways: list[NextHop] = []
    for version in (4, 6):
        address = next(
            (address for address in nic.addresses if address.version == version and not is_link_local(address)), None
        )
        if address is not None:
            hop = hops[address] or _lowest(address)
            far = _far(knowledge, version, number)
            addresses += [InterfaceAddress(*far, WIDTHS[version]), InterfaceAddress(*hop, address.length)]
            gateways.append(NextHop(address.address))
    return Host(name, End(node.name, nic.name), tuple(addresses), tuple(gateways))


def _hops(node: Node, nic: Nic) -> dict[InterfaceAddress, Address | None] | None:
    """Who is beyond a port, by its own address; None where no route leads there."""
    device = node.written
    assert isinstance(device, Device)
    hops = {address: _hop(device, address) for address in reversed(nic.addresses)}
    if next_hop_beyond(device, device.ports[nic.name]) is None and not any(hops.values()):
        return None
    return hops


def _hop(device: Device, address: InterfaceAddress) -> Address | None:
    """Who is beyond a port with that address: the next hop of a route, or the other address of a subnet of two."""
    for route in device.routes:
        if address.prefix.holds(route.next_hop.address) and route.next_hop.address != address.address:
            return route.next_hop.address
    first, last = address.prefix.usable()
    return _lowest(address) if last - first == 1 else None


def _lowest(address: InterfaceAddress) -> Address:
    """The lowest other address of a subnet."""
    first, _ = address.prefix.usable()
    return Address(address.version, first + (address.value == first))


def _far(knowledge: Knowledge, version: int, number: int) -> Address:
    """An address that only a default route leads to."""
    own: set[Prefix] = {
        address.prefix
        for node in knowledge.devices.values()
        for nic in node.nics.values()
        for address in nic.addresses
        if address.version == version
    }
    for device in knowledge.network.devices.values():
        own |= {
            route.destination
            for route in device.routes
            if route.destination.version == version and route.destination.length
        }
    free = [address for address in _FAR[version] if not any(prefix.holds(address) for prefix in own)]
    chosen = (free or _FAR[version])[0]
    return chosen._replace(value=chosen.value + number)
