"""A VLAN that is split: a new one takes some of its hosts."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any

from archipelago.addressing.values import WIDTHS, Address, InterfaceAddress, Prefix
from archipelago.changes.renumbered import Rewriter, check_free, routes_alike, subnets_of
from archipelago.errors import QueryError
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.index import NetworkIndex, index_network
from archipelago.model.leases import AddressRange, Pool
from archipelago.model.network import Network, pools_in, with_changes
from archipelago.model.parts import Device, Host, NextHop, Route, Subinterface, VlanInterface
from archipelago.model.recipe import Split
from archipelago.model.values import free_name


def split(network: Network, asked: Split) -> Network:
    """The network with a new VLAN beside an old one, carried wherever that is, with its gateways in the same places.

    Raises:
        QueryError: the old VLAN has no gateway, a host is not in it, or a subnet is in use or missing.
    """
    index = index_network(network)
    name = index.vlan_name(asked.vlan)
    old = subnets_of(index, asked.vlan)
    pairs = {}
    for prefix in old:
        new = next((one for one in asked.subnet if one.version == prefix.version), None)
        if new is None:
            raise QueryError(
                f"VLAN {name} has the subnet {prefix}; write one of IPv{prefix.version} for {asked.new}, too"
            )
        check_free(index, new)
        pairs[prefix] = new
    if not pairs:
        raise QueryError(f"VLAN {name} has no gateway anywhere, so the new one would have none")
    plan = _Split(index, asked, pairs)
    hosts = {key: plan.host(host) for key, host in network.hosts.items()}
    there = _Elsewhere(
        {old.address: new.address for key in asked.hosts for old, new in _both(network.hosts[key], hosts[key])}
    )
    hosts = {key: host if key in asked.hosts else there.mapped(plan.server(host)) for key, host in hosts.items()}
    network = with_changes(
        there.with_ends(network),
        vlans={**network.vlans, asked.new: asked.id},
        devices={key: there.mapped(plan.device(device)) for key, device in network.devices.items()},
        hosts=hosts,
    )
    outside = _Beside(pairs).mapped(network.outside)
    return _spoken_of(with_changes(network, outside=outside), asked, pairs)


def _both(old: Host, new: Host) -> Iterator[tuple[InterfaceAddress, InterfaceAddress]]:
    return zip(old.addresses, new.addresses, strict=True)


class _Elsewhere(Rewriter):
    """Writes the addresses of hosts that move as their new ones."""

    def __init__(self, moved: Mapping[Address, Address]) -> None:
        self._moved = moved

    def address(self, address: Address) -> Address:
        return self._moved.get(address, address)

    def prefix(self, prefix: Prefix) -> Prefix:
        single = prefix.length == WIDTHS[prefix.version]
        moved = self._moved.get(Address(prefix.version, prefix.value)) if single else None
        return Prefix(moved.version, moved.value, prefix.length) if moved is not None else prefix


class _Beside(Rewriter):
    """Writes the new subnet into every list that holds the old one, or one around it, and not the new one."""

    def __init__(self, pairs: Mapping[Prefix, Prefix]) -> None:
        self._pairs = pairs

    def listed(self, entries: tuple[Any, ...]) -> tuple[Any, ...]:
        held = [one for one in entries if isinstance(one, Prefix)]
        more = [
            new
            for old, new in self._pairs.items()
            if any(one.covers(old) for one in held) and not any(one.covers(new) for one in held)
        ]
        return (*entries, *more) if more else entries


def _spoken_of(network: Network, asked: Split, pairs: Mapping[Prefix, Prefix]) -> Network:
    """Whatever is said of the old VLAN, by its name, its id or its subnet, is said of the new one, too."""
    names = {name for name, number in network.vlans.items() if number == asked.vlan} | {str(asked.vlan)}
    subnets = {str(old): str(new) for old, new in pairs.items()}

    def more(end: str) -> list[str]:
        return [asked.new] if end in names else [subnets[end]] if end in subnets else []

    def both(ends: tuple[str, ...]) -> tuple[str, ...]:
        return tuple(dict.fromkeys([*ends, *(new for end in ends for new in more(end))]))

    def between(entries: Iterable[Any]) -> tuple[Any, ...]:
        """Every line, then the same for whoever they speak of in the new VLAN."""
        lines = list(entries)
        again = [
            replace(one, source=source, target=target)
            for one in lines
            for source in [one.source, *more(one.source)]
            for target in [one.target, *more(one.target)]
            if (source, target) != (one.source, one.target)
        ]
        return (*lines, *again)

    policy = network.policy
    rules = (
        [replace(rule, source=both(rule.source), target=both(rule.target)) for rule in policy.rules] if policy else []
    )
    return with_changes(
        network,
        expect=between(network.expect),
        policy=replace(policy, rules=tuple(rules)) if policy is not None else None,
    )


class _Split:
    def __init__(self, index: NetworkIndex, asked: Split, pairs: dict[Prefix, Prefix]) -> None:
        self._index, self._asked, self._pairs = index, asked, pairs
        self._taken = set(asked.hosts)
        network = index.network
        self._ports = {(network.hosts[name].at.device, network.hosts[name].at.port) for name in asked.hosts}
        pools = [pool for pool in pools_in(network) if pool.subnet in pairs]
        kept = [span for pool in pools for span in (self._spans(pool), self._reserved(pool))]
        self._next = {new: iter(_free_places(index, old, new, kept)) for old, new in pairs.items()}
        for name in asked.hosts:
            host = network.hosts[name]
            node = index.knowledge.devices[host.at.device]
            attachment = node.attachments.get(host.at.port)
            if attachment is None or attachment.untagged != asked.vlan:
                raise QueryError(f"host {name} is not in VLAN {index.vlan_name(asked.vlan)}, so it cannot leave it")

    def _mapped(self, address: Address) -> Address | None:
        """The address at the same place of the new subnet."""
        for old, new in self._pairs.items():
            if old.holds(address):
                moved = Address(address.version, new.value + address.value - old.value)
                return moved if new.holds(moved) else None
        return None

    def host(self, host: Host) -> Host:
        """A host with the next free addresses of the new subnet, if it moves."""
        if host.name not in self._taken:
            return host
        addresses = []
        for own in host.addresses:
            new = next((new for old, new in self._pairs.items() if old.holds(own.address)), None)
            addresses.append(InterfaceAddress(new.version, next(self._next[new]), new.length) if new else own)
        gateway = tuple(NextHop(self._mapped(hop.address) or hop.address, hop.interface) for hop in host.gateway)
        return replace(host, addresses=tuple(addresses), gateway=gateway)

    # Leases

    def _spans(self, pool: Pool) -> list[tuple[int, int]]:
        """Where the ranges of a pool would be in the new subnet, as far as that has room for them."""
        old, new = pool.subnet, self._pairs[pool.subnet]
        first, last = new.usable()
        spans = [
            (new.value + one.first.value - old.value, new.value + one.last.value - old.value) for one in pool.ranges
        ]
        return [(max(low, first), min(high, last)) for low, high in spans if low <= last]

    def _reserved(self, pool: Pool) -> list[tuple[int, int]]:
        places = (self._mapped(address) for name, address in pool.reservations.items() if name in self._taken)
        return [(place.value, place.value) for place in places if place is not None]

    def pools(self, pools: Mapping[str, Pool]) -> Mapping[str, Pool]:
        """Pools with one for the new subnet after each for an old one."""
        made: dict[str, Pool] = {}
        for name, pool in pools.items():
            made[name] = pool
            if pool.subnet not in self._pairs:
                continue
            reserved = {
                host: self._mapped(address) for host, address in pool.reservations.items() if host in self._taken
            }
            without = {host: address for host, address in pool.reservations.items() if host not in self._taken}
            made[name] = replace(pool, reservations=without) if reserved else pool
            new = free_name(self._asked.new, {*pools, *made})
            made[new] = replace(
                pool,
                name=new,
                subnet=self._pairs[pool.subnet],
                ranges=tuple(AddressRange(Address(4, low), Address(4, high)) for low, high in self._spans(pool)),
                gateway=self._mapped(pool.gateway) or pool.gateway if pool.gateway is not None else None,
                reservations={host: address for host, address in reserved.items() if address is not None},
            )
        return made if made != pools else pools

    def server(self, host: Host) -> Host:
        """A host that leases addresses, with a pool for the new VLAN."""
        pools = self.pools(host.dhcp_pools)
        return host if pools is host.dhcp_pools else replace(host, dhcp_pools=pools)

    # Devices

    def device(self, device: Device) -> Device:
        """A device that has and carries the new VLAN wherever it has the old one."""
        node = self._index.knowledge.devices[device.name]
        ports = {name: self._port(device, name, port) for name, port in device.ports.items()}
        missing = {port for name, port in self._ports if name == device.name} - ports.keys()
        if missing:
            raise QueryError(f"{device.name} says nothing of {', '.join(sorted(missing))}, where a host moves")
        interfaces: dict[str, Any] = {name: self._port(device, name, one) for name, one in device.interfaces.items()}
        for nic in node.nics.values():
            made = self._gateway(device, node, nic, interfaces)
            if made is not None:
                interfaces[made.name] = made
        vlans = device.vlans
        if vlans is not None and self._asked.vlan in vlans:
            vlans = (*vlans, self._asked.id)
        made = replace(
            device,
            ports=ports,
            interfaces=interfaces,
            vlans=vlans,
            routes=tuple(self._routes(device)),
            dhcp_pools=self.pools(device.dhcp_pools),
        )
        beside = _Beside(self._pairs).mapped
        return replace(made, filters=beside(made.filters), ports=beside(made.ports), interfaces=beside(made.interfaces))

    def _port(self, device: Device, name: str, port: Any) -> Any:
        trunk = getattr(port, "trunk", None)
        if isinstance(trunk, tuple) and self._asked.vlan in trunk:
            return replace(port, trunk=(*trunk, self._asked.id))
        if (device.name, name) in self._ports:
            return replace(port, access=self._asked.id)
        return port

    def _gateway(self, device: Device, node: Node, nic: Nic, taken: dict[str, Any]) -> Any:
        """An interface in the new VLAN beside one in the old that forwards."""
        if nic.vlan != self._asked.vlan or not node.forwards or nic.kind not in ("subinterface", "vlan"):
            return None
        addresses = []
        for own in nic.addresses:
            moved = self._mapped(own.address)
            new = next((new for old, new in self._pairs.items() if old.holds(own.address)), None)
            if moved is None or new is None:
                raise QueryError(
                    f"{own} at {device.name}/{nic.name} has no place in the new subnet, which is too small"
                )
            addresses.append(InterfaceAddress(moved.version, moved.value, new.length))
        part = device.interfaces[nic.name]
        if not isinstance(part, (Subinterface, VlanInterface)) or part.virtual:
            raise QueryError(f"{device.name}/{nic.name} shares its gateway; split such a VLAN by hand")
        wanted = f"{part.parent}.{self._asked.id}" if isinstance(part, Subinterface) else f"{self._asked.new}-gw"
        name = free_name(wanted, taken)
        if isinstance(part, Subinterface):
            return replace(part, name=name, tag=self._asked.id, untagged=False, addresses=tuple(addresses))
        return replace(part, name=name, vlan=self._asked.id, addresses=tuple(addresses))

    def _routes(self, device: Device) -> Iterator[Route]:
        """The routes of a device, those to the old subnets again for the new ones."""
        for route in device.routes:
            yield route
            new = self._pairs.get(route.destination)
            if new is not None:
                yield replace(route, destination=new)
        for old, new in self._pairs.items():
            yield from routes_alike(device.routes, old, new)


def _free_places(
    index: NetworkIndex, old: Prefix, new: Prefix, leased: Sequence[Sequence[tuple[int, int]]]
) -> Iterator[int]:
    """The addresses of the new subnet that no gateway has a twin of, those that are not leased first."""
    first, last = new.usable()
    held = {
        own.value - old.value
        for node in index.knowledge.devices.values()
        for nic in node.nics.values()
        for own in nic.addresses
        if old.holds(own.address)
    }

    def is_leased(value: int) -> bool:
        return any(low <= value <= high for spans in leased for low, high in spans)

    for wanted in (False, True):
        for value in range(first, last + 1):
            if value - new.value not in held and is_leased(value) is wanted:
                yield value
    raise QueryError(f"{new} has no room for the hosts that are to move")
