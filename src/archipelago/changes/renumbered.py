"""A VLAN in another subnet, or in IPv6, too: every place where the old subnet is written."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import fields, is_dataclass, replace
from typing import Any

from archipelago.addressing.values import Address, InterfaceAddress, Prefix, is_link_local, parse_address, parse_prefix
from archipelago.errors import AddressError, QueryError
from archipelago.knowledge.index import NetworkIndex, index_network
from archipelago.model.leases import AddressRange
from archipelago.model.network import Network, with_changes
from archipelago.model.parts import Device, Host, NextHop, Route
from archipelago.model.policy import PolicyRule
from archipelago.model.recipe import Renumbered, WithIpv6


def subnets_of(index: NetworkIndex, vlan: int) -> list[Prefix]:
    """The subnets of a VLAN: those of the devices' interfaces in it that forward."""
    found: dict[Prefix, None] = {}
    for node in index.knowledge.devices.values():
        for nic in node.nics.values():
            if nic.vlan == vlan and node.forwards:
                found.update(dict.fromkeys(own.prefix for own in nic.addresses if not is_link_local(own.address)))
    return list(found)


def renumbered(network: Network, asked: Renumbered) -> Network:
    """The network with a VLAN in other subnets; every address keeps its place in its subnet.

    Raises:
        QueryError: it has no subnet of that family, or several, or the new one is too small or in use.
    """
    index = index_network(network)
    name = index.vlan_name(asked.vlan)
    old = subnets_of(index, asked.vlan)
    for new in asked.subnet:
        same = [prefix for prefix in old if prefix.version == new.version]
        if len(same) != 1:
            listed = ", ".join(map(str, same)) or "none"
            raise QueryError(f"VLAN {name} must have one subnet of IPv{new.version} to renumber; it has {listed}")
        check_free(index, new, except_for=same[0])
        mapper = _Mapper(same[0], new)
        devices = {key: mapper.mapped(device) for key, device in network.devices.items()}
        for key, device in network.devices.items():
            more = tuple(routes_alike(device.routes, same[0], new))
            if more:
                devices[key] = replace(devices[key], routes=(*devices[key].routes, *more))
        hosts = {key: mapper.mapped(host) for key, host in network.hosts.items()}
        network = with_changes(mapper.with_ends(network), devices=devices, hosts=hosts)
    return network


def check_free(index: NetworkIndex, new: Prefix, except_for: Prefix | None = None) -> None:
    """Raise where a subnet overlaps one that is in use."""
    for node in index.knowledge.nodes.values():
        for nic in node.nics.values():
            for own in nic.addresses:
                taken = own.prefix
                if taken != except_for and (taken.covers(new) or new.covers(taken)):
                    raise QueryError(f"{new} overlaps {taken} at {node.name}/{nic.name}; a free subnet is expected")


def routes_alike(routes: Sequence[Route], old: Prefix, new: Prefix) -> Iterator[Route]:
    """The routes that take what is for a new subnet where a wider route takes what is for an old one; none where the
    same way is the best for both."""
    for vrf in dict.fromkeys(route.vrf for route in routes):
        table = [route for route in routes if route.vrf == vrf]
        before, after = _best(table, old), _best(table, new)
        if before is None or before.destination == old:
            continue  # a route to exactly the subnet is renumbered itself
        if after is None or after.next_hop != before.next_hop:
            yield replace(before, destination=new)


def _best(routes: Sequence[Route], subnet: Prefix) -> Route | None:
    """The route with the longest prefix around a subnet, the lowest metric first."""
    around = [route for route in routes if route.destination.covers(subnet)]
    return min(around, key=lambda route: (-route.destination.length, route.metric), default=None)


class Rewriter:
    """Writes some addresses and subnets as others, wherever they are spoken of."""

    def address(self, address: Address) -> Address:
        """What an address becomes."""
        return address

    def prefix(self, prefix: Prefix) -> Prefix:
        """What a subnet becomes, or an address where subnets may be written too."""
        return prefix

    def held(self, own: InterfaceAddress) -> InterfaceAddress:
        """What an interface's own address becomes."""
        return own

    def listed(self, entries: tuple[Any, ...]) -> tuple[Any, ...]:
        """What a list becomes, its entries being rewritten already."""
        return entries

    def mapped(self, value: Any) -> Any:
        """A value with every address and subnet in it rewritten; what has none is the same object."""
        if isinstance(value, InterfaceAddress):
            return self.held(value)
        if isinstance(value, Prefix):
            return self.prefix(value)
        if isinstance(value, Address):
            return self.address(value)
        if isinstance(value, tuple) and hasattr(value, "_fields"):
            entries = [self.mapped(entry) for entry in value]
            return type(value)(*entries) if any(a is not b for a, b in zip(entries, value, strict=True)) else value
        if isinstance(value, tuple):
            entries = [self.mapped(entry) for entry in value]
            same = all(a is b for a, b in zip(entries, value, strict=True))
            return self.listed(value if same else tuple(entries))
        if isinstance(value, Mapping):
            made = {key: self.mapped(entry) for key, entry in value.items()}
            return made if any(made[key] is not value[key] for key in made) else value
        if is_dataclass(value) and not isinstance(value, type):
            changed = {spec.name: self.mapped(getattr(value, spec.name)) for spec in fields(value)}
            otherwise = {key: entry for key, entry in changed.items() if entry is not getattr(value, key)}
            return replace(value, **otherwise) if otherwise else value
        return value

    def party(self, end: str) -> str:
        """An end of an expectation or a policy, where it is an address or a subnet."""
        try:
            if "/" in end:
                return str(self.prefix(parse_prefix(end)))
            return str(self.address(parse_address(end)))
        except AddressError:
            return end

    def with_ends(self, network: Network) -> Network:
        """The network with what is meant by it, and its outside, rewritten."""

        def between(one: Any) -> Any:
            return replace(one, source=self.party(one.source), target=self.party(one.target))

        def line(rule: PolicyRule) -> PolicyRule:
            return replace(rule, source=tuple(map(self.party, rule.source)), target=tuple(map(self.party, rule.target)))

        policy = network.policy
        return with_changes(
            network,
            outside=self.mapped(network.outside),
            traffic=tuple(map(between, network.traffic)),
            expect=tuple(map(between, network.expect)),
            policy=replace(policy, rules=tuple(map(line, policy.rules))) if policy is not None else None,
        )


class _Mapper(Rewriter):
    """Writes what lies in one subnet as what lies at the same place of another."""

    def __init__(self, old: Prefix, new: Prefix) -> None:
        self._old, self._new = old, new

    def address(self, address: Address) -> Address:
        """The address at the same place.

        Raises:
            QueryError: the new subnet has no such place.
        """
        if not self._old.holds(address):
            return address
        moved = Address(address.version, self._new.value + address.value - self._old.value)
        if not self._new.holds(moved):
            raise QueryError(f"{address} has no place in {self._new}, which is smaller than {self._old}")
        return moved

    def mapped(self, value: Any) -> Any:
        if isinstance(value, AddressRange) and self._old.holds(value.first) != self._old.holds(value.last):
            raise QueryError(f"the range {value} is only partly in {self._old}: split it first")
        return super().mapped(value)

    def held(self, own: InterfaceAddress) -> InterfaceAddress:
        moved = self.address(own.address)
        length = self._new.length if own.prefix == self._old else own.length
        return InterfaceAddress(moved.version, moved.value, length) if moved != own.address else own

    def prefix(self, prefix: Prefix) -> Prefix:
        if prefix == self._old:
            return self._new
        if self._old.covers(prefix):
            first = self.address(Address(prefix.version, prefix.value))
            return Prefix(first.version, first.value, prefix.length)
        return prefix


def with_ipv6(network: Network, asked: WithIpv6) -> Network:
    """The network with IPv6 in a VLAN, too: who has an address in its IPv4 subnet gets one at the same place, and
    routes to that subnet, and from it, are written again where the next hop has IPv6 beside its address.

    Raises:
        QueryError: it has IPv6 already, no IPv4 subnet, or the new subnet is none of IPv6 or in use.
    """
    index = index_network(network)
    name = index.vlan_name(asked.vlan)
    old = subnets_of(index, asked.vlan)
    if len(asked.subnet) != 1 or asked.subnet[0].version != 6:
        raise QueryError(f"VLAN {name} is to get one subnet of IPv6")
    four = [prefix for prefix in old if prefix.version == 4]
    if len(four) != 1 or len(old) != 1:
        raise QueryError(f"VLAN {name} must have one subnet, of IPv4; it has {', '.join(map(str, old)) or 'none'}")
    check_free(index, asked.subnet[0])
    twin = _Twin(index, four[0], asked.subnet[0])
    return with_changes(
        network,
        devices={key: twin.device(device) for key, device in network.devices.items()},
        hosts={key: twin.host(host) for key, host in network.hosts.items()},
    )


class _Twin:
    """Gives who has an address in an IPv4 subnet one at the same place of an IPv6 subnet."""

    def __init__(self, index: NetworkIndex, four: Prefix, six: Prefix) -> None:
        self._index, self._four, self._six = index, four, six

    def _address(self, address: Address) -> Address:
        return Address(6, self._six.value + address.value - self._four.value)

    def _more(self, addresses: tuple[InterfaceAddress, ...]) -> tuple[InterfaceAddress, ...]:
        inside = [own for own in addresses if own.version == 4 and self._four.holds(own.address)]
        return (*addresses, *(InterfaceAddress(*self._address(own.address), self._six.length) for own in inside))

    def _part(self, part: Any) -> Any:
        if not part.addresses:
            return part
        shares = getattr(part, "virtual", ())
        more = tuple(
            replace(one, addresses=tuple(map(self._address, one.addresses)))
            for one in shares
            if one.family == 4 and all(self._four.holds(address) for address in one.addresses)
        )
        addresses = self._more(part.addresses)
        if addresses == part.addresses:
            return part
        return replace(part, addresses=addresses, **({"virtual": (*shares, *more)} if more else {}))

    def device(self, device: Device) -> Device:
        """A device with addresses in the subnet, forwarding IPv6 if it forwards IPv4, and with routes to it."""
        ports = {name: self._part(port) for name, port in device.ports.items()}
        interfaces = {name: self._part(one) for name, one in device.interfaces.items()}
        spoke = ports != device.ports or interfaces != device.interfaces
        routing = device.routing
        if spoke and routing is not None and 4 in routing and 6 not in routing:
            routing = (*routing, 6)
        gateway = device.gateway
        if spoke and not self._index.knowledge.devices[device.name].forwards:
            gateway = (*gateway, *(NextHop(self._address(hop.address)) for hop in gateway if self._in(hop.address)))
        routes = (*device.routes, *self._routes(device, spoke))
        return replace(device, ports=ports, interfaces=interfaces, routing=routing, gateway=gateway, routes=routes)

    def _in(self, address: Address) -> bool:
        return address.version == 4 and self._four.holds(address)

    def _routes(self, device: Device, spoke: bool) -> Iterator[Route]:
        """Routes of IPv4 to the subnet, and the default of who is in it, again where the next hop has IPv6 there."""
        default = Prefix(6, 0, 0)
        for route in device.routes:
            to_it = route.destination == self._four
            onward = spoke and route.destination == Prefix(4, 0, 0)
            if not (to_it or onward):
                continue
            hop = self._twin_of(route.next_hop.address)
            wanted = self._six if to_it else default
            if hop is not None and all(old.destination != wanted for old in device.routes):
                yield replace(route, destination=wanted, next_hop=NextHop(hop))

    def _twin_of(self, address: Address) -> Address | None:
        """The IPv6 address beside an IPv4 address on its interface."""
        if self._in(address):
            return self._address(address)
        for held in self._index.holders(address):
            six = [own.address for own in held.nic.addresses if own.version == 6 and not is_link_local(own.address)]
            if six:
                return six[0]
        return None

    def host(self, host: Host) -> Host:
        """A host with an address in the subnet, and its gateway."""
        addresses = self._more(host.addresses)
        if addresses == host.addresses:
            return host
        more = (NextHop(self._address(hop.address)) for hop in host.gateway if self._in(hop.address))
        return replace(host, addresses=addresses, gateway=(*host.gateway, *more))
