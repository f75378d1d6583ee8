"""Mistakes in leases: pools, relays, servers, and what hosts are given."""

from __future__ import annotations

from collections.abc import Iterator

from archipelago.addressing.values import Address
from archipelago.audit.registry import rule
from archipelago.diagnosis.faults.leases import POOL_OVER_ADDRESS, pool_over, pool_path
from archipelago.diagnosis.kind import OFTEN, Example, Kind, finding
from archipelago.diagnosis.leased import asking, leased_elsewhere, pool_fault, renewal, written_in
from archipelago.diagnosis.namesakes import apart_from_namesakes, astray
from archipelago.diagnosis.no_lease import no_lease, relay_to_nobody, relayed_stop
from archipelago.diagnosis.servers import of_servers
from archipelago.knowledge.hearing import Hearing, Listener
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.leases import Pool


@rule
def without_lease(index: NetworkIndex) -> Iterator[Finding]:
    """Hosts that ask and get nothing; what is wrong is the same for all of a broadcast domain."""
    given = index.knowledge.leases.given if index.knowledge.any_learning else {}
    told: set[object] = set()
    for names in index.once(asking).values():
        first = next((name for name in names if given[name] is None), None)
        found = no_lease(index, index.knowledge.nodes[first]) if first is not None else None
        if found is not None and (found.kind, found.path) not in told:
            told.add((found.kind, found.path))
            yield found


@rule
def wrong_pools(index: NetworkIndex) -> Iterator[Finding]:
    """Pools that give a gateway or a subnet which is not that of the VLAN, or whose renewal a filter ends."""
    seen: set[tuple[str, str, str, str]] = set()
    for name, lease in index.knowledge.leases.given.items() if index.knowledge.any_learning else ():
        if lease is None:
            continue
        key = (lease.server, lease.pool.name, lease.heard.device, lease.heard.interface)
        if key in seen:
            continue
        seen.add(key)
        for found in (pool_fault(index, name), renewal(index, name)):
            if found is not None:
                yield found


@rule
def over_addresses(index: NetworkIndex) -> Iterator[Finding]:
    """Ranges and reservations over addresses that somebody has."""
    leases = index.knowledge.leases
    for server in leases.servers:
        for pool in leases.pools_of(server).values():
            taken = written_in(index, server, pool)
            if taken:
                yield pool_over(index, server, pool, taken)
            yield from _reserved_over(index, server, pool)


def _reserved_over(index: NetworkIndex, server: str, pool: Pool) -> Iterator[Finding]:
    given = index.knowledge.leases.given
    for host, address in pool.reservations.items():
        for holder in index.holders(address):
            lease = given.get(holder.node.name)
            if holder.node.name != host and (lease is None or lease.address.value != address.value):
                yield reservation_over(index, server, pool, host, address, holder.node.name)
                break


def reservation_over(index: NetworkIndex, server: str, pool: Pool, host: str, address: Address, holder: str) -> Finding:
    """An address kept for a host that somebody else has."""
    path = (*pool_path(index, server, pool), "reservations", host)
    says = f"pool {pool.name} of {server} keeps {address} for {host}, and {holder} has it"
    mend = f"keep another address for {host}"
    return finding(POOL_OVER_ADDRESS, at=server, path=path, says=says, mend=mend, address=str(address))


@rule
def several_servers(index: NetworkIndex) -> Iterator[Finding]:
    """Servers that answer one VLAN and do not agree, or that nobody planned there."""
    told: set[object] = set()
    for names in index.once(asking).values():
        for found in of_servers(index, names[0]):
            if (found.kind, found.path) not in told:
                told.add((found.kind, found.path))
                yield found


@rule
def wrong_relays(index: NetworkIndex) -> Iterator[Finding]:
    """Relays whose messages, or the answers to them, get nowhere, though others may answer the host."""
    leases = index.knowledge.leases
    told: set[object] = set()
    for names in index.once(asking).values():
        for listener in leases.listeners(names[0]):
            found = _relay_fault(index, listener)
            if found is not None and (found.kind, found.path) not in told:
                told.add((found.kind, found.path))
                yield found


def _relay_fault(index: NetworkIndex, listener: Listener) -> Finding | None:
    if not listener.relay:
        return None
    if listener.outcome is Hearing.NO_SERVER:
        return relay_to_nobody(index, listener)
    if listener.outcome is Hearing.NO_WAY:
        return relayed_stop(index, listener, "out")
    if listener.outcome is Hearing.NO_WAY_BACK:
        return relayed_stop(index, listener, "back")
    return None


@rule
def reservations(index: NetworkIndex) -> Iterator[Finding]:
    """Addresses kept for hosts that never ask there: they ask elsewhere, in the wrong VLAN, or not at all."""
    leases = index.knowledge.leases
    for server in leases.servers:
        for pool in leases.pools_of(server).values():
            for host in pool.reservations:
                lease = leases.given.get(host)
                if lease is None or (lease.server, lease.pool.name) != (server, pool.name):
                    elsewhere = leased_elsewhere(index, host, pool) if lease is not None else None
                    yield elsewhere or reservation_idle(index, server, pool, host)


RESERVATION_IDLE = Kind(
    "reservation-idle",
    "note",
    "an address kept for who never asks there",
    "nothing; it stays kept",
    OFTEN,
    example=Example("pair", "hosts: {stock: {dhcp-pools: {guests: {reservations: {mess: 10.44.3.50}}}}}"),
)


def reservation_idle(index: NetworkIndex, server: str, pool: Pool, host: str) -> Finding:
    """An address kept for a host that never asks there."""
    path = (*pool_path(index, server, pool), "reservations", host)
    says = f"pool {pool.name} of {server} keeps {pool.reservations[host]} for {host}, which never asks there"
    mend = f"take it out, or let {host} ask (address: dhcp) in that VLAN"
    return finding(RESERVATION_IDLE, at=server, path=path, says=says, mend=mend, edits=(Edit(path, REMOVE),))


@rule
def namesakes(index: NetworkIndex) -> Iterator[Finding]:
    """A host that leases apart from all others of its name."""
    for name in index.once(astray):
        found = apart_from_namesakes(index, name)
        if found is not None:
            yield found
