"""Findings about leases: pools, relays and what hosts are given."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence

from archipelago.addressing.values import Address, Prefix
from archipelago.diagnosis.catalogue import finding
from archipelago.diagnosis.places import nic_path
from archipelago.diagnosis.stop import Direction
from archipelago.knowledge.devices import Node
from archipelago.knowledge.hearing import Hearing, Lease, Listener
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.leases import ASKED, CLIENT_PORT, SERVER_PORT
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.leases import AddressRange, Pool
from archipelago.model.parts import Host, Path

MOST_SCANNED = 100_000
"""So many addresses of a subnet are looked at for free ones."""


def pool_path(index: NetworkIndex, server: str, pool: Pool) -> Path:
    """Where a pool stands in the document."""
    section = "devices" if server in index.network.devices else "hosts"
    return (section, server, "dhcp-pools", pool.name)


def _texts(values: Iterable[object]) -> object:
    listed = [str(value) for value in values]
    return listed[0] if len(listed) == 1 else listed


def serves_itself(host: Host) -> Finding:
    """A host that serves and asks."""
    says = f"{host.name} has pools of its own and asks for a lease; servers are reached by addresses of their own"
    mend = f"write the address of {host.name}"
    return finding("lease-of-server", at=host.name, path=("hosts", host.name), says=says, mend=mend, name=host.name)


def pool_used_up(index: NetworkIndex, listener: Listener) -> Finding:
    """Hosts ask for more addresses than the pools that fit have: the last of these gets the next free ones."""
    leases = index.knowledge.leases
    pool = listener.pools[-1]
    waiting = [
        name
        for name, lease in leases.given.items()
        if lease is None and any(_same(other, listener) for other in leases.listeners(name))
    ] or ["a host"]
    path = pool_path(index, listener.server, pool)
    size = sum(part.size for part in pool.ranges)
    many = f"{len(waiting):,} host{'s' * (len(waiting) != 1)}"
    says = f"pool {pool.name} of {listener.server} has given all it has ({size:,} in its range); {many} got none"
    free = _free(index, pool, len(waiting), listener.never)
    if len(free) < len(waiting):
        mend = f"give {pool.subnet} more room: a shorter prefix for the VLAN, and for the pool"
        return finding("pool-used-up", at=listener.server, path=path, says=says, mend=mend, name=waiting[0])
    ranges = _merged([*pool.ranges, *(AddressRange(address, address) for address in free)])
    mend = f"give pool {pool.name} of {listener.server} the range {', '.join(map(str, ranges))}"
    edits = (Edit((*path, "range"), _texts(ranges)),)
    return finding("pool-used-up", at=listener.server, path=path, says=says, mend=mend, edits=edits, name=waiting[0])


def _same(other: Listener, listener: Listener) -> bool:
    return other.outcome is Hearing.OFFERS and other.server == listener.server and other.pools == listener.pools


MOST_LEASED = 200
"""So many addresses a new pool has at most."""


def _free(index: NetworkIndex, pool: Pool, wanted: int, never: Collection[int]) -> list[Address]:
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
    return free if len(free) >= least else _free(index, Pool("", subnet), least, frozenset())


def _merged(ranges: Sequence[AddressRange]) -> list[AddressRange]:
    """Ranges in their order, each joined to the one before it that it continues."""
    merged: list[AddressRange] = []
    for part in ranges:
        before = merged[-1] if merged else None
        if before is not None and part.first.value == before.last.value + 1:
            merged[-1] = AddressRange(before.first, part.last)
        else:
            merged.append(part)
    return merged


def question_filtered(node: Node, listener: Listener) -> Finding:
    """A filter ends what hosts broadcast that have no address yet."""
    refusal = listener.refusal
    assert refusal is not None
    line = {"accept": "udp", "source-port": str(ASKED.source_port), "destination-port": str(ASKED.destination_port)}
    path: Path = ("devices", node.name, "filters", refusal.filter)
    where = f"filter {refusal.filter} at {node.name}/{refusal.interface} (in), {refusal.line_text}"
    says = f"{where}, ends what hosts ask for leases with (udp from port 68 to port 67)"
    told = ", ".join(f"{key}: {value}" for key, value in line.items())
    at = refusal.judged.line
    before = f" before line {at}" if at is not None else ""
    mend = f"put the line {{{told}}}{before} into {refusal.filter} on {node.name}"
    edit = _inserted(node, path, line, at)
    return finding(
        "lease-filtered", at=node.name, path=path, says=says, mend=mend, edits=(edit,), name="who asks there"
    )


def _inserted(node: Node, path: Path, line: dict[str, str], at: int | None) -> Edit:
    """A line before another (numbers from 1), or after the last."""
    if at is not None:
        return Edit((*path, "rules", f"+{at - 1}"), line)
    filters = getattr(node.written, "filters", {})
    return Edit((*path, "rules", "+"), line) if filters[str(path[3])].rules else Edit((*path, "rules"), [line])


def relay_to_nobody(index: NetworkIndex, listener: Listener) -> Finding:
    """A relay sends to an address that nobody holds, or whose holder leases nothing."""
    node = index.knowledge.nodes[listener.device]
    nic = node.nics[listener.interface]
    path = (*nic_path((node, nic)), "dhcp-relay")
    holders = index.holders(listener.asked) if listener.asked is not None else ()
    whose = f"{holders[0].node.name} leases nothing" if holders else "nobody holds that address"
    says = f"{node.name}/{nic.name} relays to {listener.asked}, and {whose}"
    better = serving_addresses(index, [a.address for a in nic.addresses if a.version == 4][:1])
    better = [address for address in better if address not in nic.dhcp_relay]
    kept = [address for address in nic.dhcp_relay if address != listener.asked]
    if len(better) == 1:
        edits: tuple[Edit, ...] = (Edit(path, _texts([*kept, better[0]])),)
        mend = f"let {node.name}/{nic.name} relay to {better[0]} instead"
    elif kept:
        edits, mend = (Edit(path, _texts(kept)),), f"do not relay to {listener.asked}"
    else:
        edits, mend = (), "relay to a server that has a pool for this subnet"
    return finding("relay-nowhere", at=node.name, path=path, says=says, mend=mend, edits=edits, name="who asks there")


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


def nobody_hears(index: NetworkIndex, host: Host, vlan: int | None, places: Sequence[Held]) -> Finding:
    """Nobody who could answer hears a host: a relay is missing where a server has a pool for the VLAN, or the pool."""
    where = index.vlan_name(vlan) if vlan is not None else f"the VLAN of {host.name}"
    routed = [held for held in places if held.node.can_route and held.nic.up]
    for held in routed:
        servers = serving_addresses(index, [held.address.address])
        servers = [address for address in servers if address not in held.nic.dhcp_relay]
        if servers:
            path = nic_path(held)
            edits = (Edit((*path, "dhcp-relay"), _texts([*held.nic.dhcp_relay, servers[0]])),)
            says = f"{where} has no relay that asks {servers[0]}, whose server has a pool for {held.address.prefix}"
            mend = f"let {held.node.name}/{held.nic.name} relay to {servers[0]}"
            return finding(
                "relay-missing", at=held.node.name, path=path, says=says, mend=mend, edits=edits, name=host.name
            )
    if routed:
        return pool_missing(index, host, where, routed[0], routed[0].node.name)
    says = f"{host.name} asks for a lease in {where}, where nobody leases and nobody relays"
    mend = f"give {where} a gateway with a pool, or one that relays to a server"
    return finding("lease-unheard", at=host.name, path=("hosts", host.name), says=says, mend=mend, name=host.name)


def pool_missing(index: NetworkIndex, host: Host, where: str, held: Held, server: str) -> Finding:
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
            return finding("pool-subnet-wrong", at=server, path=own, says=says, mend=mend, edits=edits, name=host.name)
    for pool in index.knowledge.leases.pools_of(server).values():
        if pool.gateway is not None and subnet.holds(pool.gateway) and not pool.subnet.overlaps(subnet):
            return _pool_elsewhere(index, host, where, subnet, server, pool)
    waiting = [name for name, lease in index.knowledge.leases.given.items() if lease is None]
    free = _merged([AddressRange(a, a) for a in _room_for_leases(index, subnet, len(waiting))])
    says = f"{server} hears {where}, and has no pool for {subnet}"
    section = "devices" if server in index.network.devices else "hosts"
    path: Path = (section, server, "dhcp-pools")
    name = index.names.get(held.nic.vlan, held.nic.name) if held.nic.vlan else held.nic.name
    taken = index.knowledge.leases.pools_of(server)
    if not free or name in taken:
        mend = f"give {server} a pool for {subnet}"
        return finding("pool-missing", at=server, path=path, says=says, mend=mend, name=host.name)
    written = {"subnet": str(subnet), "range": _texts(free), "gateway": str(held.address.address)}
    mend = f"give {server} a pool for {subnet} with the range {', '.join(map(str, free))}"
    edits = (Edit((*path, name), written),)
    return finding("pool-missing", at=server, path=path, says=says, mend=mend, edits=edits, name=host.name)


def _pool_elsewhere(index: NetworkIndex, host: Host, where: str, subnet: Prefix, server: str, pool: Pool) -> Finding:
    """A pool whose gateway is right and whose subnet is another: its ranges belong at the same places of the right
    one."""
    own = pool_path(index, server, pool)
    size = subnet.last - subnet.value + 1

    def moved(address: Address) -> Address:
        return Address(4, subnet.value + address.value % size)

    edits = [Edit((*own, "subnet"), str(subnet))]
    if pool.ranges:
        ranges = [AddressRange(moved(part.first), moved(part.last)) for part in pool.ranges]
        edits.append(Edit((*own, "range"), _texts(ranges)))
    for name, address in pool.reservations.items():
        edits.append(Edit((*own, "reservations", name), str(moved(address))))
    says = (
        f"pool {pool.name} of {server} is for {pool.subnet}, and its gateway {pool.gateway} and {where} are of {subnet}"
    )
    mend = f"give it the subnet {subnet}, its ranges and reservations at the same places"
    return finding("pool-subnet-wrong", at=server, path=own, says=says, mend=mend, edits=tuple(edits), name=host.name)


def pool_gateway(index: NetworkIndex, name: str, lease: Lease, home: Held | None, why: str) -> Finding:
    """A pool that gives a gateway that does not serve its VLAN, or none."""
    path = pool_path(index, lease.server, lease.pool)
    kind = "pool-gateway-missing" if lease.gateway is None else "pool-gateway-wrong"
    whose = f"pool {lease.pool.name} of {lease.server}"
    says = f"{whose} gives {'no gateway' if lease.gateway is None else f'the gateway {lease.gateway}'}, {why}"
    if home is None:
        mend = f"give {whose} the gateway of its VLAN"
        return finding(kind, at=lease.server, path=path, says=says, mend=mend, name=name)
    right = index.as_shared(home).address.address
    edits = (Edit((*path, "gateway"), str(right)),)
    mend = f"give {whose} the gateway {right} ({home.node.name}/{home.nic.name})"
    return finding(kind, at=lease.server, path=path, says=says, mend=mend, edits=edits, name=name)


def pool_subnet(index: NetworkIndex, name: str, lease: Lease, right: Prefix) -> Finding:
    """A pool whose subnet is not the one that the VLAN's gateway has."""
    path = pool_path(index, lease.server, lease.pool)
    says = f"pool {lease.pool.name} of {lease.server} is for {lease.pool.subnet}, and the VLAN's subnet is {right}"
    first, last = right.value + 1, right.last - 1
    fits = all(first <= part.first.value and part.last.value <= last for part in lease.pool.ranges)
    kept = all(right.holds(address) for address in lease.pool.reservations.values())
    mend = f"give it the subnet {right}"
    edits = (Edit((*path, "subnet"), str(right)),) if fits and kept else ()
    return finding("pool-subnet-wrong", at=lease.server, path=path, says=says, mend=mend, edits=edits, name=name)


def pool_over(index: NetworkIndex, server: str, pool: Pool, taken: Sequence[tuple[Address, str]]) -> Finding:
    """A range that holds addresses which somebody has already: it is cut round them."""
    path = pool_path(index, server, pool)
    addresses = [address for address, _ in taken]
    named = ", ".join(f"{address} of {who}" for address, who in taken[:3])
    more = f" and {len(taken) - 3:,} more" if len(taken) > 3 else ""
    says = f"the range of pool {pool.name} of {server} holds {named}{more}"
    ranges = [part for whole in pool.ranges for part in whole.without(addresses)]
    edits = (Edit((*path, "range"), _texts(ranges)),) if ranges else (Edit((*path, "range"), REMOVE),)
    mend = f"give it the range {', '.join(map(str, ranges)) or 'that nobody has addresses of'}"
    return finding(
        "pool-over-address", at=server, path=path, says=says, mend=mend, edits=edits, address=str(addresses[0])
    )


def reservation_over(index: NetworkIndex, server: str, pool: Pool, host: str, address: Address, holder: str) -> Finding:
    """An address kept for a host that somebody else has."""
    path = (*pool_path(index, server, pool), "reservations", host)
    says = f"pool {pool.name} of {server} keeps {address} for {host}, and {holder} has it"
    mend = f"keep another address for {host}"
    return finding("pool-over-address", at=server, path=path, says=says, mend=mend, address=str(address))


def servers_differ(
    index: NetworkIndex, where: str, one: tuple[str, Pool], other: tuple[str, Pool], what: str
) -> Finding:
    """Two servers give the hosts of one VLAN different answers."""
    path = pool_path(index, *other)
    says = f"{one[0]} and {other[0]} both answer {where}, with {what}"
    first, second = one[1], other[1]
    edits: list[Edit] = []
    if first.gateway != second.gateway:
        edits.append(Edit((*path, "gateway"), str(first.gateway) if first.gateway is not None else REMOVE))
    if first.dns_server != second.dns_server:
        edits.append(Edit((*path, "dns-server"), _texts(first.dns_server) if first.dns_server else REMOVE))
    both = f"pool {second.name} of {other[0]}", f"pool {first.name} of {one[0]}"
    if first.subnet != second.subnet:
        mend = f"make {both[0]} and {both[1]} agree, or keep one"
        return finding("servers-differ", at=other[0], path=path, says=says, mend=mend)
    mend = f"let {both[0]} give what {both[1]} gives, which hosts take first"
    return finding("servers-differ", at=other[0], path=path, says=says, mend=mend, edits=tuple(edits))


def servers_overlap(index: NetworkIndex, where: str, one: tuple[str, Pool], other: tuple[str, Pool]) -> Finding:
    """Two servers that know nothing of each other can give the same address in one VLAN."""
    path = pool_path(index, *other)
    shared = next(
        AddressRange(max(x.first, y.first), min(x.last, y.last))
        for x in one[1].ranges
        for y in other[1].ranges
        if x.first <= y.last and y.first <= x.last
    )
    says = f"{one[0]} and {other[0]} both answer {where}, and both can give {shared}"
    addresses = [Address(4, value) for part in one[1].ranges for value in _shared(part, other[1])]
    ranges = [part for whole in other[1].ranges for part in whole.without(addresses)]
    edits = (Edit((*path, "range"), _texts(ranges)),) if ranges else ()
    told = ", ".join(map(str, ranges))
    mend = f"give pool {other[1].name} of {other[0]} the range {told}" if ranges else f"split {shared} between the two"
    return finding("servers-overlap", at=other[0], path=path, says=says, mend=mend, edits=edits)


def _shared(part: AddressRange, pool: Pool) -> Iterable[int]:
    for other in pool.ranges:
        first, last = max(part.first.value, other.first.value), min(part.last.value, other.last.value)
        yield from range(first, min(last, first + MOST_SCANNED) + 1)


def server_stranger(index: NetworkIndex, name: str, where: str, other: str) -> Finding:
    """A host that serves where no relay names it and another server is for the VLAN."""
    says = f"{name} leases addresses in {where}, which {other} is for; no relay names {name}"
    path: Path = ("hosts", name, "dhcp-pools")
    mend = f"take the pools from {name}"
    edits = (Edit(path, REMOVE),)
    return finding("server-stranger", at=name, path=path, says=says, mend=mend, edits=edits)


def lease_elsewhere(index: NetworkIndex, host: Host, lease: Lease, pool: Pool, vlan: int | None, port: Path) -> Finding:
    """A host leases in another VLAN than the one that an address is kept for it in."""
    kept = f"its address {pool.reservations[host.name]} is kept in {pool.subnet}"
    says = f"{host.name} leases {lease.address} by its port's VLAN, and {kept}"
    if vlan is None:
        mend = f"plug {host.name} into the VLAN of {pool.subnet}, or keep its address in pool {lease.pool.name}"
        return finding("lease-elsewhere", at=host.name, path=("hosts", host.name), says=says, mend=mend, name=host.name)
    edits = (Edit((*port, "access"), index.vlan_key(vlan)),)
    mend = f"put the port of {host.name} into {index.vlan_name(vlan)}"
    return finding("lease-elsewhere", at=host.name, path=port, says=says, mend=mend, edits=edits, name=host.name)


def lease_apart(index: NetworkIndex, host: Host, vlans: tuple[int, int], others: int, port: Path | None) -> Finding:
    """A host leases in another VLAN than the one called like it, where others of its name do; `vlans` are the two,
    `port` is where it is plugged in, where that is an access port."""
    there, right = map(index.vlan_name, vlans)
    many = f"where {others} other{'s' * (others != 1)} of its name lease{'s' * (others == 1)}"
    says = f"{host.name} leases in {there}, and not in {right}, which is called like it" + f", {many}" * (others > 0)
    mend = f"put the port of {host.name} into {right}"
    edits = (Edit((*port, "access"), index.vlan_key(vlans[1])),) if port is not None else ()
    path = port if port is not None else ("hosts", host.name)
    return finding("lease-apart", at=host.name, path=path, says=says, mend=mend, edits=edits, name=host.name)


def reservation_idle(index: NetworkIndex, server: str, pool: Pool, host: str) -> Finding:
    """An address kept for a host that never asks there."""
    path = (*pool_path(index, server, pool), "reservations", host)
    says = f"pool {pool.name} of {server} keeps {pool.reservations[host]} for {host}, which never asks there"
    mend = f"take it out, or let {host} ask (address: dhcp) in that VLAN"
    return finding("reservation-idle", at=server, path=path, says=says, mend=mend, edits=(Edit(path, REMOVE),))


def renewal_filtered(name: str, lease: Lease, why: Finding, way: tuple[Address, Address, Direction]) -> Finding:
    """The renewal, a unicast from the host to its server, or the answer, is ended by a filter."""
    source, target, direction = way
    ports = (CLIENT_PORT, SERVER_PORT) if direction == "out" else (SERVER_PORT, CLIENT_PORT)
    subnet = lease.pool.subnet
    ends = (str(subnet), str(target)) if direction == "out" else (str(source), str(subnet))
    line = {"accept": "udp", "source": ends[0], "destination": ends[1]}
    line |= {"source-port": str(ports[0]), "destination-port": str(ports[1])}
    filter_path = why.path[:4]
    at = int(why.path[5]) if len(why.path) > 5 else None
    where = f"+{at}" if at is not None else "+"
    told = ", ".join(f"{key}: {value}" for key, value in line.items())
    return finding(
        "renewal-filtered",
        at=why.at,
        path=why.path,
        says=f"{name} cannot renew its lease at {lease.server}: {why.says}",
        mend=f"put the line {{{told}}} before it, into {filter_path[-1]} on {why.at}",
        edits=(Edit((*filter_path, "rules", where), line),),
        effect=f"{name} loses {lease.address} when its lease ends, and asks anew",
    )
