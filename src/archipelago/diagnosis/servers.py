"""Servers that answer one broadcast domain: whether they agree, and whether anybody planned them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from archipelago.addressing.values import Address
from archipelago.diagnosis.faults.leases import MOST_SCANNED, pool_path
from archipelago.diagnosis.faults.words import texts
from archipelago.diagnosis.kind import OFTEN, Example, Kind, finding
from archipelago.diagnosis.places import plugged_vlan
from archipelago.knowledge.hearing import Hearing, Listener
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.leases import AddressRange, Pool
from archipelago.model.parts import Path


def of_servers(index: NetworkIndex, name: str) -> Iterator[Finding]:
    """What is wrong with the servers that answer a host that asks."""
    named = index.once(_named)
    offers: dict[str, Listener] = {}
    for listener in index.knowledge.leases.listeners(name):
        if listener.outcome is Hearing.OFFERS:
            offers.setdefault(listener.server, listener)
    strangers = [server for server in offers if server in index.network.hosts and server not in named]
    planned = [server for server in offers if server not in strangers]
    yield from _of_servers(index, _where(index, name), offers, strangers if planned else [], planned)


def _named(index: NetworkIndex) -> set[str]:
    """Who is named by a relay."""
    return {
        holder.node.name
        for node in index.knowledge.devices.values()
        for nic in node.nics.values()
        for address in nic.dhcp_relay
        for holder in index.holders(address)
    }


def _of_servers(
    index: NetworkIndex, where: str, offers: dict[str, Listener], strangers: list[str], planned: list[str]
) -> Iterator[Finding]:
    for stranger in strangers:
        yield server_stranger(index, stranger, where, planned[0])
    servers = [server for server in offers if server not in strangers]
    for at, server in enumerate(servers):
        for other in servers[at + 1 :]:
            one, two = offers[server].pools[0], offers[other].pools[0]
            said = [
                f"{word} {a if a is not None else 'none'} and {b if b is not None else 'none'}"
                for word, a, b in (
                    ("the subnets", one.subnet, two.subnet),
                    ("the gateways", one.gateway, two.gateway),
                    ("the name servers", _listed(one), _listed(two)),
                )
                if a != b
            ]
            if said:
                yield servers_differ(index, where, (server, one), (other, two), " and ".join(said))
            if any(x.first <= y.last and y.first <= x.last for x in one.ranges for y in two.ranges):
                yield servers_overlap(index, where, (server, one), (other, two))


SERVER_STRANGER = Kind(
    "server-stranger",
    "risk",
    "a host that leases addresses in a VLAN which another server is for",
    "who plugs in gets its answers, whatever they are",
    OFTEN,
    example=Example(
        "leases",
        """
        hosts:
          desk:
            dhcp-pools:
              x: {subnet: 10.44.3.0/24, range: 10.44.3.50-10.44.3.60}
        """,
    ),
)


def server_stranger(index: NetworkIndex, name: str, where: str, other: str) -> Finding:
    """A host that serves where no relay names it and another server is for the VLAN."""
    says = f"{name} leases addresses in {where}, which {other} is for; no relay names {name}"
    path: Path = ("hosts", name, "dhcp-pools")
    mend = f"take the pools from {name}"
    edits = (Edit(path, REMOVE),)
    return finding(SERVER_STRANGER, at=name, path=path, says=says, mend=mend, edits=edits)


SERVERS_OVERLAP = Kind(
    "servers-overlap",
    "risk",
    "two servers of one VLAN that can give the same address",
    "two hosts can be given one address",
    OFTEN,
    example=Example(
        "leases",
        """
        devices:
          landing:
            interfaces:
              p1.30: {dhcp-relay: 10.44.1.5}
        hosts:
          office:
            dhcp-pools:
              guests: {subnet: 10.44.3.0/24, range: 10.44.3.115-10.44.3.130, gateway: 10.44.3.1}
        """,
    ),
)


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
    edits = (Edit((*path, "range"), texts(ranges)),) if ranges else ()
    told = ", ".join(map(str, ranges))
    mend = f"give pool {other[1].name} of {other[0]} the range {told}" if ranges else f"split {shared} between the two"
    return finding(SERVERS_OVERLAP, at=other[0], path=path, says=says, mend=mend, edits=edits)


def _shared(part: AddressRange, pool: Pool) -> Iterable[int]:
    for other in pool.ranges:
        first, last = max(part.first.value, other.first.value), min(part.last.value, other.last.value)
        yield from range(first, min(last, first + MOST_SCANNED) + 1)


SERVERS_DIFFER = Kind(
    "servers-differ",
    "risk",
    "two servers that answer one VLAN differently",
    "hosts get one or the other's answer, by chance",
    OFTEN,
    example=Example(
        "leases",
        """
        devices:
          landing:
            interfaces:
              p1.30: {dhcp-relay: 10.44.1.5}
        hosts:
          office:
            dhcp-pools:
              guests: {subnet: 10.44.3.0/24, range: 10.44.3.121-10.44.3.130, gateway: 10.44.3.2}
        """,
    ),
)


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
        edits.append(Edit((*path, "dns-server"), texts(first.dns_server) if first.dns_server else REMOVE))
    both = f"pool {second.name} of {other[0]}", f"pool {first.name} of {one[0]}"
    if first.subnet != second.subnet:
        mend = f"make {both[0]} and {both[1]} agree, or keep one"
        return finding(SERVERS_DIFFER, at=other[0], path=path, says=says, mend=mend)
    mend = f"let {both[0]} give what {both[1]} gives, which hosts take first"
    return finding(SERVERS_DIFFER, at=other[0], path=path, says=says, mend=mend, edits=tuple(edits))


def _listed(pool: Pool) -> str | None:
    return ", ".join(map(str, pool.dns_server)) or None


def _where(index: NetworkIndex, name: str) -> str:
    vlan = plugged_vlan(index.knowledge, index.knowledge.written.hosts[name])
    return index.vlan_name(vlan) if vlan is not None else f"the link of {name}"
