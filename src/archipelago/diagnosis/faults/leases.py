"""Findings about leases: pools, relays and what hosts are given."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from archipelago.addressing.values import Address, Prefix
from archipelago.diagnosis.faults.words import texts
from archipelago.diagnosis.kind import OFTEN, Example, Kind, finding
from archipelago.diagnosis.places import vlan_of
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.leases import AddressRange, Pool
from archipelago.model.parts import Path

MOST_SCANNED = 100_000
"""So many addresses of a subnet are looked at for free ones."""


def pool_path(index: NetworkIndex, server: str, pool: Pool) -> Path:
    """Where a pool stands in the document."""
    section = "devices" if server in index.network.devices else "hosts"
    return (section, server, "dhcp-pools", pool.name)


MOST_LEASED = 200
"""So many addresses a new pool has at most."""


def free_for_pool(index: NetworkIndex, pool: Pool, wanted: int, never: Collection[int]) -> list[Address]:
    """The next addresses of a pool's subnet that nobody has, nobody sends to and no range or reservation holds; those
    after its range first."""
    first, last = pool.subnet.usable()
    start = max((part.last.value for part in pool.ranges), default=first - 1) + 1
    kept = {address.value for address in pool.reservations.values()} | set(never)
    found: list[Address] = []
    for value in (*range(start, min(last, start + MOST_SCANNED) + 1), *range(first, min(start, first + MOST_SCANNED))):
        address = Address(4, value)
        if len(found) == wanted:
            break
        ranged = value > last or value in kept or any(part.holds(address) for part in pool.ranges)
        if not ranged and not index.is_held(address) and address not in index.next_hops and address != pool.gateway:
            found.append(address)
    return found


def _room_for_leases(index: NetworkIndex, subnet: Prefix, least: int) -> list[Address]:
    """What a new pool leases: the free addresses of the upper half of a subnet, room for hosts to come among them; of
    all of it where that is too little for those that wait."""
    first, last = subnet.usable()
    middle = max(first + (last - first + 1) // 2, last + 1 - MOST_LEASED)
    upper = (Address(4, value) for value in range(middle, last + 1))
    free = [address for address in upper if not index.is_held(address) and address not in index.next_hops]
    return free if len(free) >= least else free_for_pool(index, Pool("", subnet), least, frozenset())


def merged_ranges(ranges: Sequence[AddressRange]) -> list[AddressRange]:
    """Ranges in their order, each joined to the one before it that it continues."""
    merged: list[AddressRange] = []
    for part in ranges:
        before = merged[-1] if merged else None
        if before is not None and part.first.value == before.last.value + 1:
            merged[-1] = AddressRange(before.first, part.last)
        else:
            merged.append(part)
    return merged


def serving_addresses(index: NetworkIndex, within: Sequence[Address]) -> list[Address]:
    """An address of each server that has a pool for a subnet that holds some addresses."""
    leases = index.knowledge.leases
    found: list[Address] = []
    for name in leases.servers:
        pools = leases.pools_of(name).values()
        if not any(pool.subnet.holds(address) for pool in pools for address in within):
            continue
        node = index.knowledge.nodes[name]
        own = [a for nic in node.nics.values() if nic.up for a in nic.addresses if a.version == 4]
        found += [own[0].address] if own else []
    return found


POOL_SUBNET_WRONG = Kind(
    "pool-subnet-wrong",
    "error",
    "a pool whose subnet is not that of the VLAN",
    "{name} takes near for far, or far for near",
    OFTEN,
    example=Example("leases", "hosts: {office: {dhcp-pools: {crew: {subnet: 10.44.2.0/23}}}}"),
)


POOL_MISSING = Kind(
    "pool-missing",
    "error",
    "hosts ask in a VLAN that no pool is for",
    "{name} gets no address",
    OFTEN,
    example=Example("pair", "devices: {quay: {ports: {p3: {access: store}}}}"),
)


def pool_missing(index: NetworkIndex, name: str, where: str, held: Held, server: str) -> Finding:
    """A server has no pool for a VLAN whose gateway is known: one that overlaps its subnet gets it, else there is a new
    one over the free addresses of the subnet."""
    subnet = held.address.prefix
    for pool in index.knowledge.leases.pools_of(server).values():
        inside = all(subnet.holds(end) for part in pool.ranges for end in part)
        if pool.subnet.overlaps(subnet) and inside and all(map(subnet.holds, pool.reservations.values())):
            own = pool_path(index, server, pool)
            says = f"pool {pool.name} of {server} is for {pool.subnet}, and the subnet of {where} is {subnet}"
            edits = (Edit((*own, "subnet"), str(subnet)),)
            mend = f"give it the subnet {subnet}"
            return finding(POOL_SUBNET_WRONG, at=server, path=own, says=says, mend=mend, edits=edits, name=name)
    for pool in index.knowledge.leases.pools_of(server).values():
        if pool.gateway is not None and subnet.holds(pool.gateway) and not pool.subnet.overlaps(subnet):
            return _pool_elsewhere(index, name, where, subnet, server, pool)
    waiting = [name for name, lease in index.knowledge.leases.given.items() if lease is None]
    free = merged_ranges([AddressRange(a, a) for a in _room_for_leases(index, subnet, len(waiting))])
    says = f"{server} hears {where}, and has no pool for {subnet}"
    section = "devices" if server in index.network.devices else "hosts"
    path: Path = (section, server, "dhcp-pools")
    vlan = vlan_of(index, held)
    called = index.names.get(vlan, held.nic.name) if vlan else held.nic.name
    taken = index.knowledge.leases.pools_of(server)
    if not free or called in taken:
        mend = f"give {server} a pool for {subnet}"
        return finding(POOL_MISSING, at=server, path=path, says=says, mend=mend, name=name)
    members = (one for one in index.knowledge.elected.members(held.node.name) if one.interface == held.nic.name)
    shared = (one.written.addresses[0] for one in members if subnet.holds(one.written.addresses[0]))
    gateway = next(shared, held.address.address)
    written = {"subnet": str(subnet), "range": texts(free), "gateway": str(gateway)}
    mend = f"give {server} a pool for {subnet} with the range {', '.join(map(str, free))}"
    edits = (Edit((*path, called), written),)
    return finding(POOL_MISSING, at=server, path=path, says=says, mend=mend, edits=edits, name=name)


def _pool_elsewhere(index: NetworkIndex, name: str, where: str, subnet: Prefix, server: str, pool: Pool) -> Finding:
    """A pool whose gateway is right and whose subnet is another: its ranges belong at the same places of the right
    one."""
    own = pool_path(index, server, pool)
    size = subnet.last - subnet.value + 1

    def moved(address: Address) -> Address:
        return Address(4, subnet.value + address.value % size)

    edits = [Edit((*own, "subnet"), str(subnet))]
    if pool.ranges:
        ranges = [AddressRange(moved(part.first), moved(part.last)) for part in pool.ranges]
        edits.append(Edit((*own, "range"), texts(ranges)))
    for name, address in pool.reservations.items():
        edits.append(Edit((*own, "reservations", name), str(moved(address))))
    says = (
        f"pool {pool.name} of {server} is for {pool.subnet}, and its gateway {pool.gateway} and {where} are of {subnet}"
    )
    mend = f"give it the subnet {subnet}, its ranges and reservations at the same places"
    return finding(POOL_SUBNET_WRONG, at=server, path=own, says=says, mend=mend, edits=tuple(edits), name=name)


POOL_OVER_ADDRESS = Kind(
    "pool-over-address",
    "error",
    "a pool that gives an address which somebody has",
    "two share {address} once it is given",
    OFTEN,
    example=Example("leases", "devices: {landing: {dhcp-pools: {guests: {range: 10.44.3.9-10.44.3.120}}}}"),
)


def pool_over(index: NetworkIndex, server: str, pool: Pool, taken: Sequence[tuple[Address, str]]) -> Finding:
    """A range that holds addresses which somebody has already: it is cut round them."""
    path = pool_path(index, server, pool)
    addresses = [address for address, _ in taken]
    named = ", ".join(f"{address} of {who}" for address, who in taken[:3])
    more = f" and {len(taken) - 3:,} more" if len(taken) > 3 else ""
    says = f"the range of pool {pool.name} of {server} holds {named}{more}"
    ranges = [part for whole in pool.ranges for part in whole.without(addresses)]
    edits = (Edit((*path, "range"), texts(ranges)),) if ranges else (Edit((*path, "range"), REMOVE),)
    mend = f"give it the range {', '.join(map(str, ranges)) or 'that nobody has addresses of'}"
    return finding(
        POOL_OVER_ADDRESS, at=server, path=path, says=says, mend=mend, edits=edits, address=str(addresses[0])
    )
