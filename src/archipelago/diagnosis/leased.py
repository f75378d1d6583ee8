"""What is wrong with what a host was leased: its mistakes are those of the pool that it comes from."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterator

from archipelago.addressing.values import Address, Prefix
from archipelago.diagnosis.faults.leases import POOL_SUBNET_WRONG, pool_over, pool_path
from archipelago.diagnosis.kind import OFTEN, Example, Kind, finding
from archipelago.diagnosis.namesakes import apart_from_namesakes
from archipelago.diagnosis.places import host_attachment, port_path, vlan_of
from archipelago.diagnosis.servers import of_servers
from archipelago.diagnosis.stop import Direction, Stop
from archipelago.knowledge.delivery import Ended
from archipelago.knowledge.domains import Domain
from archipelago.knowledge.header import Header
from archipelago.knowledge.hearing import Lease
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.leases import CLIENT_PORT, SERVER_PORT
from archipelago.knowledge.links import HOST_PORT
from archipelago.knowledge.pools import own_name
from archipelago.knowledge.reasons import Reason
from archipelago.model.filters import UDP, Probe
from archipelago.model.finding import Edit, Finding
from archipelago.model.leases import Pool
from archipelago.model.network import pools_in
from archipelago.model.parts import Host, Path

SETTINGS = frozenset(
    {"gateway-missing", "gateway-wrong", "gateway-unheld", "mask-mismatch", "address-astray", "duplicate-address"}
)
"""The kinds of finding about a host's own settings; what it was leased, its pool is to blame for."""
RENEWAL = Probe("udp", SERVER_PORT)


def retold(index: NetworkIndex, found: Finding) -> Finding | None:
    """A finding about a host's settings as one about the pool that they come from; as it is where it is of another
    kind; None where the pool is not to blame either."""
    if found.path[:1] != ("hosts",) or found.kind not in SETTINGS:
        return found
    host = index.knowledge.written.hosts.get(str(found.path[1]))
    if found.kind == "duplicate-address" and host is not None:
        return next(_given_twice_with(index, host.name), found)
    if host is None or not host.dhcp:
        return found
    return pool_fault(index, host.name)


def _given_twice_with(index: NetworkIndex, name: str) -> Iterator[Finding]:
    """The pools that give an address which a host has, too."""
    for nic in index.knowledge.nodes[name].nics.values():
        for own in nic.addresses:
            for holder in index.holders(own.address) if own.version == 4 else ():
                lease = index.knowledge.leases.of(holder.node.name)
                found = given_twice(index, lease) if lease is not None else None
                if found is not None:
                    yield found


def pool_fault(index: NetworkIndex, name: str) -> Finding | None:
    """What is wrong with the pool that a host's lease is from; None where nothing is.

    Args:
        index: the network.
        name: a host that has a lease.
    """
    lease = index.knowledge.leases.of(name)
    if lease is None:
        return None
    right = subnet_there(index, lease)
    if right is not None and right != lease.pool.subnet:
        return pool_subnet(index, name, lease, right)
    return _gateway_fault(index, name, lease)


def pool_subnet(index: NetworkIndex, name: str, lease: Lease, right: Prefix) -> Finding:
    """A pool whose subnet is not the one that the VLAN's gateway has."""
    path = pool_path(index, lease.server, lease.pool)
    says = f"pool {lease.pool.name} of {lease.server} is for {lease.pool.subnet}, and the VLAN's subnet is {right}"
    first, last = right.value + 1, right.last - 1
    fits = all(first <= part.first.value and part.last.value <= last for part in lease.pool.ranges)
    kept = all(right.holds(address) for address in lease.pool.reservations.values())
    mend = f"give it the subnet {right}"
    edits = (Edit((*path, "subnet"), str(right)),) if fits and kept else ()
    return finding(POOL_SUBNET_WRONG, at=lease.server, path=path, says=says, mend=mend, edits=edits, name=name)


def leased_wrongly(index: NetworkIndex, name: str) -> Finding | None:
    """What is wrong for a host that has a lease: with its pool, with who else answers, with where it asks, or with its
    renewal; None where nothing is."""
    lease = index.knowledge.leases.of(name)
    if lease is None:
        return None
    shared = len(index.holders(lease.address.address)) > 1
    kept = (pool for pool in pools_in(index.network) if name in pool.reservations)
    elsewhere = next((pool for pool in kept if pool is not lease.pool), None)
    return (
        pool_fault(index, name)
        or (given_twice(index, lease) if shared else None)
        or (leased_elsewhere(index, name, elsewhere) if elsewhere is not None else None)
        or apart_from_namesakes(index, name)
        or next(of_servers(index, name), None)
        or renewal(index, name)
    )


def leased_elsewhere(index: NetworkIndex, name: str, pool: Pool) -> Finding | None:
    """A host that leases in another VLAN than the one that a pool keeps an address for it in; None where it does
    not."""
    lease = index.knowledge.leases.of(name)
    if lease is None or lease.pool.subnet == pool.subnet or name in lease.pool.reservations:
        return None
    written = index.knowledge.written.hosts[name]
    vlans = {vlan_of(index, held) for held in index.routed() if held.address.prefix == pool.subnet}
    vlan = next(iter(vlans)) if len(vlans) == 1 else None
    attachment = host_attachment(index.knowledge, written)
    port = port_path(index.knowledge, written.at.device, attachment.name)
    switched = attachment.switched and attachment.written.trunk is None
    return lease_elsewhere(index, written, lease, pool, vlan if switched else None, port)


LEASE_ELSEWHERE = Kind(
    "lease-elsewhere",
    "risk",
    "a host that leases in another VLAN than the one it is known in",
    "{name} works, with an address of the wrong subnet",
    OFTEN,
    example=Example("leases", "devices: {hall: {ports: {p7: {access: guests}}}}"),
)


def lease_elsewhere(index: NetworkIndex, host: Host, lease: Lease, pool: Pool, vlan: int | None, port: Path) -> Finding:
    """A host leases in another VLAN than the one that an address is kept for it in."""
    kept = f"its address {pool.reservations[host.name]} is kept in {pool.subnet}"
    says = f"{host.name} leases {lease.address} by its port's VLAN, and {kept}"
    if vlan is None:
        mend = f"plug {host.name} into the VLAN of {pool.subnet}, or keep its address in pool {lease.pool.name}"
        return finding(LEASE_ELSEWHERE, at=host.name, path=("hosts", host.name), says=says, mend=mend, name=host.name)
    edits = (Edit((*port, "access"), index.vlan_key(vlan)),)
    mend = f"put the port of {host.name} into {index.vlan_name(vlan)}"
    return finding(LEASE_ELSEWHERE, at=host.name, path=port, says=says, mend=mend, edits=edits, name=host.name)


def subnet_there(index: NetworkIndex, lease: Lease) -> Prefix | None:
    """The subnet of the interface by which the question came, or was relayed; of a host that serves, its own."""
    nic = index.knowledge.nodes[lease.heard.device].nics[lease.heard.interface]
    inside = (address for address in nic.addresses if address.version == 4 and lease.pool.subnet.holds(address))
    return next((address.prefix for address in inside), None)


def _gateway_fault(index: NetworkIndex, name: str, lease: Lease) -> Finding | None:
    node = index.knowledge.nodes[name]
    own = (name, HOST_PORT)
    homes = [held for held in index.homes(lease.address) if index.domains.together(own, held.endpoint)]
    homes = [held for held in homes if 4 in held.node.forwards]
    home = homes[0] if homes else index.home_of(node, lease.address)
    gateway = lease.pool.gateway
    if gateway is None or gateway == lease.address.address:
        why = "and its VLAN has one" if gateway is None else "which is the address that it gives the host itself"
        return pool_gateway(index, name, lease, home, why) if home is not None else None
    holders = index.holders(gateway)
    if any(_serves(index, own, held) for held in holders):
        return None
    if not lease.pool.subnet.holds(gateway):
        why = f"which lies outside {lease.pool.subnet}"
    elif not holders:
        why = "which nobody holds"
    elif any(held.node.can_route and index.domains.together(own, held.endpoint) for held in holders):
        return None  # it is the gateway, and does not route: that is its own mistake
    elif any(held.node.can_route and not held.nic.up and home is not None and held.nic is home.nic for held in holders):
        return None  # it is down: that is its own mistake
    else:
        first = holders[0].node
        why = f"which is {first.name}'s, in another VLAN" if first.can_route else f"which is {first.name}'s, no router"
    return pool_gateway(index, name, lease, home, why)


POOL_GATEWAY_MISSING = Kind(
    "pool-gateway-missing",
    "error",
    "a pool that gives no gateway although the VLAN has one",
    "{name} answers nobody outside its own subnet",
    OFTEN,
    example=Example("pair", "hosts: {stock: {dhcp-pools: {guests: {gateway: ~}}}}"),
)


POOL_GATEWAY_WRONG = Kind(
    "pool-gateway-wrong",
    "error",
    "a pool that gives a gateway which is none in the VLAN",
    "{name} answers nobody outside its own subnet",
    OFTEN,
    example=Example("pair", "hosts: {stock: {dhcp-pools: {guests: {gateway: 10.44.4.1}}}}"),
)


def pool_gateway(index: NetworkIndex, name: str, lease: Lease, home: Held | None, why: str) -> Finding:
    """A pool that gives a gateway that does not serve its VLAN, or none."""
    path = pool_path(index, lease.server, lease.pool)
    kind = POOL_GATEWAY_MISSING if lease.gateway is None else POOL_GATEWAY_WRONG
    whose = f"pool {lease.pool.name} of {lease.server}"
    says = f"{whose} gives {'no gateway' if lease.gateway is None else f'the gateway {lease.gateway}'}, {why}"
    if home is None:
        mend = f"give {whose} the gateway of its VLAN"
        return finding(kind, at=lease.server, path=path, says=says, mend=mend, name=name)
    right = index.as_shared(home).address.address
    edits = (Edit((*path, "gateway"), str(right)),)
    mend = f"give {whose} the gateway {right} ({home.node.name}/{home.nic.name})"
    return finding(kind, at=lease.server, path=path, says=says, mend=mend, edits=edits, name=name)


def _serves(index: NetworkIndex, own: tuple[str, str], held: Held) -> bool:
    return 4 in held.node.forwards and held.nic.up and index.domains.together(own, held.endpoint)


def given_twice(index: NetworkIndex, lease: Lease) -> Finding | None:
    """The pool gives what somebody has who did not lease it; None where nobody does."""
    taken = written_in(index, lease.server, lease.pool)
    return pool_over(index, lease.server, lease.pool, taken) if taken else None


def written_in(index: NetworkIndex, server: str, pool: Pool) -> list[tuple[Address, str]]:
    """The addresses in a pool's ranges that are written somewhere, but for those that its server never gives, and who
    has them."""
    values, names = index.once(_written)
    never = index.once(_never).get((server, pool.name), set()) | _own(index, server)
    kept = {address.value for address in pool.reservations.values()}
    found: dict[int, str] = {}
    for part in pool.ranges:
        for at in range(bisect_left(values, part.first.value), bisect_right(values, part.last.value)):
            if values[at] not in never and values[at] not in kept:
                found.setdefault(values[at], names[at])
    return [(Address(4, value), name) for value, name in sorted(found.items())]


def _written(index: NetworkIndex) -> tuple[list[int], list[str]]:
    """Every IPv4 address that is written, as a number, in order, and who has it; what is leased is not among them."""
    leased = index.knowledge.leases.given
    own = (
        (address.value, name)
        for name, _, address in index.written_addresses
        if address.version == 4 and leased.get(name) is None
    )
    places = sorted(own)
    return [value for value, _ in places], [name for _, name in places]


def asking(index: NetworkIndex) -> dict[Domain, list[str]]:
    """The hosts that ask for leases and have carrier, by their broadcast domain."""
    found: dict[Domain, list[str]] = {}
    for name in index.knowledge.leases.given if index.knowledge.any_learning else ():
        domain = index.domains.of((name, HOST_PORT))
        if domain is not None:
            found.setdefault(domain, []).append(name)
    return found


def _own(index: NetworkIndex, server: str) -> set[int]:
    nics = index.knowledge.nodes[server].nics.values()
    return {own.value for nic in nics for own in nic.addresses if own.version == 4}


def _never(index: NetworkIndex) -> dict[tuple[str, str], set[int]]:
    """What servers never give out of each pool where they are asked: their own addresses there, and those of relays."""
    found: dict[tuple[str, str], set[int]] = {}
    for names in index.once(asking).values():
        for listener in index.knowledge.leases.listeners(names[0]):
            for pool in listener.pools:
                found.setdefault((listener.server, pool.name), set()).update(listener.never)
    return found


def renewal(index: NetworkIndex, name: str) -> Finding | None:
    """What a filter has against the renewal of a host's lease, a unicast from the host to its server and the answer
    (RFC 2131 4.4.5); None where none has."""
    lease = index.knowledge.leases.of(name)
    server = server_address(index, lease) if lease is not None else None
    if lease is None or server is None:
        return None
    own = lease.address.address
    carrier = index.carrier
    there = carrier.carry(name, Header(own, server, UDP, CLIENT_PORT, SERVER_PORT))
    direction: Direction = "out"
    if not isinstance(there, Ended):
        direction = "back"
        answer = Header(server, own, UDP, SERVER_PORT, CLIENT_PORT)
        there = carrier.carry(there.node, answer, knowing=there.passed)
    if not isinstance(there, Ended) or there.reason not in (Reason.FILTERED, Reason.REJECTED):
        return None
    # Here, as explaining a packet may take explaining a lease.
    from archipelago.diagnosis.explain import explain

    source, target = (own, server) if direction == "out" else (server, own)
    stop = Stop(direction, there.node, there.reason, source, target, refusal=there.refusal, probe=RENEWAL)
    return renewal_filtered(name, lease, explain(index, stop), (source, target, direction))


RENEWAL_FILTERED = Kind(
    "renewal-filtered",
    "risk",
    "a filter lets the first lease pass and not its renewal",
    "{effect}",
    OFTEN,
    example=Example(
        "leases",
        """
        devices:
          landing:
            interfaces: {p1.20: {filter-in: crew-in}}
            filters:
              crew-in:
                rules: [{accept: udp, source: 0.0.0.0/32}, {drop: udp, destination-port: 67}]
                otherwise: accept
        """,
    ),
)


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
        RENEWAL_FILTERED,
        at=why.at,
        path=why.path,
        says=f"{name} cannot renew its lease at {lease.server}: {why.says}",
        mend=f"put the line {{{told}}} before it, into {filter_path[-1]} on {why.at}",
        edits=(Edit((*filter_path, "rules", where), line),),
        effect=f"{name} loses {lease.address} when its lease ends, and asks anew",
    )


def server_address(index: NetworkIndex, lease: Lease) -> Address | None:
    """The address that a host renews at."""
    return own_name(index.knowledge.nodes[lease.server].nics[lease.heard.came_in].addresses, lease.pool)
