"""Pools and relays: for each VLAN whose hosts lease their addresses, on its gateway or on one central server."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from archipelago.addressing.carve import Allotment
from archipelago.addressing.values import Address, parse_address
from archipelago.design.draft import Draft
from archipelago.design.entrances import Entrance
from archipelago.errors import AddressError
from archipelago.model.brief import Brief, foreseen
from archipelago.model.leases import AddressRange, Pool
from archipelago.model.network import Network, pools_in, with_changes
from archipelago.model.parts import Device, Loopback

ON_GATEWAYS = "gateway"
"""In place of a server's name: each gateway leases in its own VLANs."""


def with_leases(draft: Draft, network: Network, entrances: Sequence[Entrance]) -> Network:
    """The network with a pool for each VLAN that needs one, and relays where the server is not in the VLAN.

    Args:
        draft: what was decided so far.
        network: the network.
        entrances: the interface of each VLAN's gateway.
    """
    brief = draft.brief
    central = brief.conventions.server if brief.conventions.server != ON_GATEWAYS else None
    asking = {draft.name_of(host.vlan) for host in brief.hosts.values() if host.dhcp}
    wanted = set(brief.vlans) if brief.conventions.server is not None else asking
    own = None if central is None else _address_of(network, central)
    if central is not None and own is None and wanted:
        draft.reasons.append(f"'{central}' is to lease addresses and has no IPv4 address; give it one")
        return network
    for entrance in entrances:
        subnet = next((a for a in draft.subnets(entrance.who) if a.prefix.version == 4), None)
        if entrance.who not in wanted:
            continue
        pool = _pool(draft, network, entrance.who, subnet) if subnet is not None else None
        if pool is None:
            if entrance.who in asking:
                draft.reasons.append(_unable(entrance.who, subnet))
            continue
        server = central or entrance.at.device
        if central is None:  # of several that share the gateway each leases a part of its own
            sharing = [other for other in entrances if other.who == entrance.who]
            pool = replace(pool, ranges=_part(pool.ranges, sharing.index(entrance), len(sharing)))
        network = _serving(network, server, pool)
        what = f"{', '.join(map(str, pool.ranges))} for {entrance.who}"
        why = "the VLAN's gateway leases" if central is None else "the brief's server"
        if central is not None and own is not None and server != entrance.at.device and not pool.subnet.holds(own):
            network = _relaying(network, entrance, own)
            what += f", relayed by {entrance.at}"
        draft.decide(f"pool {pool.name} of {server}", what, why)
    for name in sorted(asking - {entrance.who for entrance in entrances}):
        draft.reasons.append(_unable(name, None))
    return network


def _part(ranges: Sequence[AddressRange], number: int, count: int) -> tuple[AddressRange, ...]:
    """One of so many parts of some ranges, alike in size."""
    total = sum(part.size for part in ranges)
    first, last = total * number // count, total * (number + 1) // count
    parts, passed = [], 0
    for part in ranges:
        low, high = max(first - passed, 0), min(last - passed, part.size)
        if low < high:
            start = part.first.value
            parts.append(AddressRange(Address(4, start + low), Address(4, start + high - 1)))
        passed += part.size
    return tuple(parts)


def _unable(vlan: str, subnet: Allotment | None) -> str:
    if subnet is None:
        return f"hosts of '{vlan}' lease their addresses, and it has no IPv4 subnet with a gateway; give it one"
    return (
        f"hosts of '{vlan}' lease their addresses, and {subnet.prefix} keeps too few for that; "
        f"raise 'hosts' of '{vlan}', or 'leases' under 'conventions'"
    )


def _pool(draft: Draft, network: Network, vlan: str, subnet: Allotment) -> Pool | None:
    """The pool of a VLAN: what its subnet keeps for leases, without what somebody has; what the old network's pool of
    that subnet gave, it goes on giving. None where that is too little."""
    held = set(_held(network))
    old = list(pools_in(draft.old)) if draft.old is not None else []
    before = [pool for pool in old if pool.subnet == subnet.prefix]
    if subnet.leases is None and not before:
        return None
    asking = [host.name for host in draft.brief.hosts.values() if host.dhcp and draft.name_of(host.vlan) == vlan]
    given = tuple(dict.fromkeys(part for pool in before for part in pool.ranges))
    whole = given if before else (_foreseen(draft, vlan, subnet, held),)
    ranges = tuple(free for part in whole for free in part.without(Address(4, value) for value in held))
    kept = {
        host: address
        for pool in old
        for host, address in pool.reservations.items()
        if host in network.hosts and subnet.prefix.holds(address) and address.value not in held
    }
    spare = [Address(4, value) for part in ranges for value in range(part.first.value, part.last.value + 1)]
    spare = [address for address in spare if address not in kept.values()]
    if len(spare) < len([host for host in asking if host not in kept]):
        return None
    for host in asking:  # a policy can only speak of who has an address that is known
        if host in _spoken_of(draft.brief) and host not in kept:
            kept[host] = spare.pop()
    servers = tuple(_name_servers(draft.brief, network))
    made = Pool(vlan, subnet.prefix, ranges, subnet.gateway, servers, reservations=kept)
    if not before:
        return made
    return replace(made, lease_time=before[0].lease_time, dns_server=servers or before[0].dns_server)


def _foreseen(draft: Draft, vlan: str, subnet: Allotment, held: set[int]) -> AddressRange:
    """What a subnet keeps for leases; where hosts of the VLAN lease and that is less than it has to make room for, as
    much of what is kept for static hosts as is missing and free."""
    assert subnet.leases is not None
    first, last = subnet.leases
    here = [host for host in draft.brief.hosts.values() if draft.name_of(host.vlan) == vlan]
    static = sum(not host.dhcp for host in here)
    missing = foreseen(draft.brief, draft.brief.vlans[vlan]) - static if static < len(here) else 0
    missing -= sum(value not in held for value in range(first.value, last.value + 1))
    lowest = first.value
    if subnet.static is not None:
        while missing > 0 and lowest > subnet.static[0].value:
            lowest -= 1
            missing -= lowest not in held
    return AddressRange(Address(4, lowest), last)


def _held(network: Network) -> Iterator[int]:
    """The IPv4 addresses that are written."""
    for device in network.devices.values():
        for part in (*device.ports.values(), *device.interfaces.values()):
            yield from (own.value for own in part.addresses if own.version == 4)
    for host in network.hosts.values():
        yield from (own.value for own in host.addresses if own.version == 4)


def _spoken_of(brief: Brief) -> set[str]:
    """The ends that the policy names."""
    rules = brief.policy.rules if brief.policy is not None else ()
    return {end for rule in rules for end in (*rule.source, *rule.target)}


def _name_servers(brief: Brief, network: Network) -> Iterator[Address]:
    """The name servers that the brief names, by host or by address."""
    for named in brief.conventions.dns_server:
        address = _address_of(network, named)
        if address is None:
            try:
                address = parse_address(named)
            except AddressError:
                continue
        if address.version == 4:
            yield address


def _address_of(network: Network, name: str) -> Address | None:
    """The first IPv4 address of a host, or of a device."""
    host = network.hosts.get(name)
    if host is not None:
        return next((address.address for address in host.addresses if address.version == 4), None)
    device = network.devices.get(name)
    parts = (*device.interfaces.values(), *device.ports.values()) if device is not None else ()
    return next((own.address for part in parts for own in part.addresses if own.version == 4), None)


def _serving(network: Network, server: str, pool: Pool) -> Network:
    if server in network.hosts:
        host = network.hosts[server]
        served = replace(host, dhcp_pools={**host.dhcp_pools, pool.name: pool})
        return with_changes(network, hosts={**network.hosts, server: served})
    device = network.devices[server]
    return _with_device(network, replace(device, dhcp_pools={**device.dhcp_pools, pool.name: pool}))


def _relaying(network: Network, entrance: Entrance, to: Address) -> Network:
    device = network.devices[entrance.at.device]
    name = entrance.at.port
    if name in device.interfaces:
        part = device.interfaces[name]
        assert not isinstance(part, Loopback)
        interfaces = {**device.interfaces, name: replace(part, dhcp_relay=(to,))}
        return _with_device(network, replace(device, interfaces=interfaces))
    ports = {**device.ports, name: replace(device.ports[name], dhcp_relay=(to,))}
    return _with_device(network, replace(device, ports=ports))


def _with_device(network: Network, device: Device) -> Network:
    return with_changes(network, devices={**network.devices, device.name: device})
