"""The outside: what lies beyond a routed port that nothing in the network is plugged into."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace

from archipelago.addressing.values import WIDTHS, Address, InterfaceAddress, Prefix, is_link_local, parse_address
from archipelago.errors import QueryError
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge
from archipelago.knowledge.links import next_hop_beyond
from archipelago.model.expectation import OUTSIDE
from archipelago.model.network import Network, with_changes
from archipelago.model.parts import Device, End, Host, NextHop

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


def ways_outside(knowledge: Knowledge) -> Iterator[tuple[Node, Nic, Address]]:
    """The ports that lead outside and are up, each with a neighbour beyond it."""
    for node, nic in _edges(knowledge):
        hops = (_hops(node, nic) if nic.up else None) or {}
        hop = next((hops[address] for address in nic.addresses if hops.get(address) is not None), None)
        if hop is not None:
            yield node, nic, hop


def _edges(knowledge: Knowledge) -> Iterator[tuple[Node, Nic]]:
    """Routed ports with an address that no cable and no host is plugged into."""
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
