"""What must hold of pools, relays and hosts that lease, whoever writes them down."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from typing import TYPE_CHECKING

from archipelago.addressing.values import Address
from archipelago.errors import ModelProblem
from archipelago.model.leases import AddressRange, Pool
from archipelago.model.parts import Device, Host, Loopback, Path
from archipelago.model.problems import Names, Problems

if TYPE_CHECKING:
    from archipelago.model.network import Network

LONGEST_WITH_ENDS = 30
"""In longer IPv4 subnets the first and the last address are for hosts too (RFC 3021)."""


def lease_problems(network: Network, names: Names) -> Problems:
    """Everything wrong in a network's pools and relays, and in what hosts say of leases."""
    for device in network.devices.values():
        path: Path = ("devices", device.name)
        if device.dhcp_pools and device.kind == "switch":
            message = f"switch '{device.name}' leases nothing; pools belong on a router, an l3switch or a host"
            yield ModelProblem((*path, "dhcp-pools"), message, True)
        yield from _pool_problems(path, device.dhcp_pools, network.hosts, names)
        yield from _relay_problems(device, path)
    for host in network.hosts.values():
        if host.dhcp or host.dhcp_pools:
            yield from _pool_problems(("hosts", host.name), host.dhcp_pools, network.hosts, names)
            yield from _host_problems(host)


def _host_problems(host: Host) -> Problems:
    path: Path = ("hosts", host.name)
    if host.dhcp and any(address.version == 4 for address in host.addresses):
        message = f"'{host.name}' leases its IPv4 address (dhcp); leave out the one that is written, or 'dhcp'"
        yield ModelProblem((*path, "address"), message)
    if host.dhcp and any(hop.address.version == 4 for hop in host.gateway):
        message = f"'{host.name}' leases its IPv4 gateway with its address; leave out the one that is written"
        yield ModelProblem((*path, "gateway"), message)


def _relay_problems(device: Device, path: Path) -> Problems:
    for section, parts in (("ports", device.ports), ("interfaces", device.interfaces)):
        for name, part in parts.items():
            if isinstance(part, Loopback) or not part.dhcp_relay:
                continue
            where: Path = (*path, section, name, "dhcp-relay")
            if not any(address.version == 4 for address in part.addresses):
                yield ModelProblem(where, f"'{name}' has no IPv4 address, which it would relay from; give it one")
            yield from _ipv4_only(where, part.dhcp_relay)


def _pool_problems(path: Path, pools: Mapping[str, Pool], hosts: Collection[str], names: Names) -> Problems:
    for name, pool in pools.items():
        where: Path = (*path, "dhcp-pools", name)
        if name != pool.name:
            yield ModelProblem(where, f"'{name}' stands for what is called '{pool.name}'", True)
        if pool.subnet.version != 4:
            yield ModelProblem((*where, "subnet"), f"{pool.subnet} is not IPv4; for IPv6 hosts write 'address: auto'")
            continue
        if pool.lease_time < 1_000:
            yield ModelProblem((*where, "lease-time"), "a lease lasts a second at least (RFC 2131 counts seconds)")
        for number, given in enumerate(pool.ranges):
            yield from _range_problems((*where, "range", number), given, pool)
        yield from _ipv4_only((*where, "dns-server"), pool.dns_server)
        if pool.gateway is not None:
            yield from _ipv4_only((*where, "gateway"), [pool.gateway])
        yield from _reservation_problems((*where, "reservations"), pool, hosts, names)


def _range_problems(path: Path, given: AddressRange, pool: Pool) -> Problems:
    first, last = pool.subnet.value, pool.subnet.last
    if pool.subnet.length <= LONGEST_WITH_ENDS:
        first, last = first + 1, last - 1
    if given.first.version != 4 or given.first.value < first or given.last.value > last:
        usable = AddressRange(Address(4, first), Address(4, last))
        yield ModelProblem(path, f"{given} is not within {pool.subnet}; its addresses for hosts are {usable}")


def _reservation_problems(path: Path, pool: Pool, hosts: Collection[str], names: Names) -> Problems:
    holder: dict[Address, str] = {}
    for host, address in pool.reservations.items():
        yield from names.unknown((*path, host), host, hosts, "host")
        if address.version != 4 or not pool.subnet.holds(address):
            yield ModelProblem((*path, host), f"{address} is not in {pool.subnet}, the subnet of the pool")
        first = holder.setdefault(address, host)
        if first != host:
            yield ModelProblem((*path, host), f"{address} is reserved for '{first}' already; one address for one host")


def _ipv4_only(path: Path, addresses: Iterable[Address]) -> Problems:
    for address in addresses:
        if address.version != 4:
            yield ModelProblem(path, f"{address} is not IPv4; leases are for IPv4 (RFC 2131)")
