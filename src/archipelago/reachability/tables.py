"""The routing tables of one address family, of devices and of host classes, in arrays."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Mapping
from dataclasses import replace
from typing import Any, NamedTuple

import numpy as np

from archipelago.knowledge.devices import speaks_ipv6
from archipelago.knowledge.elected import shared_addresses
from archipelago.knowledge.forwarding import ForwardingState, asking_address
from archipelago.knowledge.hosts import host_node
from archipelago.knowledge.known import Knowledge
from archipelago.knowledge.routes import Entry, routes_of
from archipelago.knowledge.topology import Layer2Endpoint
from archipelago.model.projection import Projection
from archipelago.reachability.arrays import CANNOT_SEND, CONNECTED, NO_ENDPOINT, Entries, Family, Holders, Ints
from archipelago.reachability.profiles import every_hop, profile_of

READS = Projection(
    Device="name kind routing ports interfaces",
    Port="name addresses vrf virtual",
    Aggregate="name addresses vrf virtual",
    Subinterface="name addresses vrf virtual",
    VlanInterface="name addresses vrf virtual",
    Loopback="name addresses vrf",
    VirtualRouter="vrid addresses",
)
"""What of a device decides which routing tables there are, and who holds which address in which of them."""


class Cut(NamedTuple):
    """How one family's address space is cut: where the pieces start, and which addresses several hold."""

    version: int
    cuts: tuple[int, ...]
    repeated: frozenset[int]


def family_of(
    knowledge: Knowledge,
    cut: Cut,
    endpoints: Mapping[Layer2Endpoint, int],
    examples: tuple[str, ...],
    seen: list[tuple[Any, ...]],
) -> Family:
    """The tables of a family.

    Args:
        knowledge: what every device knows.
        cut: the family and its pieces.
        endpoints: the number of each endpoint.
        examples: a host of each host class.
        seen: what the addresses and gateways of each host class look like.
    """
    version = cut.version
    rows: dict[tuple[str, str], int] = {}
    for node in knowledge.devices.values():
        if version in node.forwards:
            for vrf in dict.fromkeys(nic.vrf for nic in node.nics.values()):
                rows[node.name, vrf] = len(rows)
    numbers: dict[tuple[Any, ...], int] = {}
    profile = np.array(
        [numbers.setdefault(address, len(numbers)) if address[0] else -1 for address in seen], dtype=np.int64
    )
    hops = {value: index for index, value in enumerate(dict.fromkeys(every_hop(knowledge, version)))}
    gathered = _Gathered(version, cut.cuts, hops)
    for (name, vrf), row in rows.items():
        gathered.take(row, knowledge.state(name), vrf, endpoints)
    for number, name in enumerate(examples):
        if profile[number] >= 0:
            host = knowledge.hosts[name]
            node = host_node(host, None, 0)
            gathered.take(len(rows) + number, ForwardingState(node, routes_of(node, host)), "", {})
    return Family(
        version=version,
        cuts=cut.cuts,
        rows=rows,
        profile=profile,
        profiles=tuple(profile_of(addresses) for addresses, _ in numbers),
        hops=hops,
        holders=_holders(knowledge, version, endpoints, rows, hops),
        entries=gathered.entries(),
        dropped_broadcasts=gathered.dropped_broadcasts(),
        own_addresses=gathered.own_addresses(),
        duplicate_addresses=_duplicates(knowledge, version, endpoints, cut.repeated),
    )


def change_family(
    knowledge: Knowledge, before: Family, endpoints: Mapping[Layer2Endpoint, int], touched: frozenset[str]
) -> Family:
    """The tables once the devices touched have changed; none of their addresses has, and no new next hop or prefix
    cuts the address space anew."""
    old = before.entries
    mine = np.zeros(len(before.rows) + len(before.profile), dtype=np.bool_)
    gathered = _Gathered(before.version, before.cuts, before.hops)
    for (name, vrf), row in before.rows.items():
        if name in touched:
            mine[row] = True
            gathered.take(row, knowledge.state(name), vrf, endpoints)
    if not mine.any():
        return before
    kept = ~mine[old.place]
    new = gathered.entries()
    entries = Entries(
        place=np.concatenate((old.place[kept], new.place)),
        first=np.concatenate((old.first[kept], new.first)),
        last=np.concatenate((old.last[kept], new.last)),
        length=np.concatenate((old.length[kept], new.length)),
        endpoint=np.concatenate((old.endpoint[kept], new.endpoint)),
        hop=np.concatenate((old.hop[kept], new.hop)),
        written=np.concatenate((old.written[kept], new.written)),
    )

    def with_new(cells: Ints, added: Ints) -> Ints:
        return np.concatenate((cells[:, ~mine[cells[0]]], added), axis=1)

    return replace(
        before,
        entries=entries,
        dropped_broadcasts=with_new(before.dropped_broadcasts, gathered.dropped_broadcasts()),
        own_addresses=with_new(before.own_addresses, gathered.own_addresses()),
    )


class _Gathered:
    """Collects routes of one family into arrays."""

    def __init__(self, version: int, cuts: tuple[int, ...], hops: Mapping[int, int]) -> None:
        self._version = version
        self._cuts = cuts
        self._hops = hops
        self._lines: list[tuple[int, int, int, int, int, int]] = []
        self._broadcasts: list[tuple[int, int]] = []
        self._own: list[tuple[int, int]] = []
        self._written: list[Entry] = []

    def take(self, place: int, state: ForwardingState, vrf: str, endpoints: Mapping[Layer2Endpoint, int]) -> None:
        """The table of one place."""
        node, routes = state.node, state.routes
        if node.kind != "host":
            keys = (key for key in routes.held if key[:2] == (vrf, self._version))
            self._own += [(place, self._piece(value)) for _, _, value in keys]
        table = routes.tables.get((vrf, self._version))
        if table is None:
            return
        for _, entries in table.lengths:
            for entry in entries.values():
                nic = node.nics[entry.interface]
                hop = CONNECTED if entry.next_hop is None else self._hops[entry.next_hop.value]
                if asking_address(nic, entry.next_hop or entry.prefix.first) is None:
                    hop = CANNOT_SEND
                first, last = self._piece(entry.prefix.value), self._piece(entry.prefix.last)
                endpoint = endpoints.get((node.name, nic.name), NO_ENDPOINT)
                self._lines.append((place, first, last, entry.prefix.length, endpoint, hop))
                self._written.append(entry)
        self._broadcasts += [(place, self._piece(value)) for value in table.broadcasts]

    def _piece(self, value: int) -> int:
        return bisect_right(self._cuts, value) - 1

    def entries(self) -> Entries:
        place, first, last, length, endpoint, hop = np.array(self._lines, dtype=np.int64).reshape(-1, 6).T.copy()
        written = np.empty(len(self._written), dtype=object)
        written[:] = self._written
        return Entries(place=place, first=first, last=last, length=length, endpoint=endpoint, hop=hop, written=written)

    def dropped_broadcasts(self) -> Ints:
        return _cells(self._broadcasts)

    def own_addresses(self) -> Ints:
        return _cells(self._own)


def _cells(pairs: list[tuple[int, int]]) -> Ints:
    """Places and pieces as two rows."""
    cells: Ints = np.array(pairs, dtype=np.int64).reshape(-1, 2).T.copy()
    return cells


def _holders(
    knowledge: Knowledge,
    version: int,
    endpoints: Mapping[Layer2Endpoint, int],
    rows: Mapping[tuple[str, str], int],
    hops: Mapping[int, int],
) -> Holders:
    """Who holds each next hop."""
    lines: list[tuple[int, int, int, int]] = []
    for node in knowledge.devices.values():
        for nic in node.nics.values():
            row, endpoint = rows.get((node.name, nic.vrf), -1), endpoints[node.name, nic.name]
            held_here = {address.value for address in nic.addresses if address.version == version}
            if version == 6 and speaks_ipv6(nic):
                held_here.add(nic.link_local.value)
            lines += [(hops[value], endpoint, row, -1) for value in held_here if value in hops]
    for index, host in enumerate(knowledge.network.hosts.values()):
        for address in host.addresses:
            if address.version == version and address.value in hops:
                lines.append((hops[address.value], NO_ENDPOINT, -1, index))
    hop, at, place, of_host = np.array(lines, dtype=np.int64).reshape(-1, 4).T.copy()
    return Holders(hop=hop, endpoint=at, place=place, host=of_host)


def _duplicates(
    knowledge: Knowledge, version: int, endpoints: Mapping[Layer2Endpoint, int], repeated: frozenset[int]
) -> tuple[tuple[int, int, int], ...]:
    if not repeated:
        return ()
    holders: dict[int, list[tuple[int, int]]] = {value: [] for value in repeated}
    for node in knowledge.devices.values():
        for nic in node.nics.values():
            for address in nic.addresses:
                if address.version == version and address.value in repeated:
                    holders[address.value].append((-1, endpoints[node.name, nic.name]))
    for member in knowledge.elected.every():
        for shared in shared_addresses(member.written):
            if shared.version == version and shared.value in repeated:
                holders[shared.value].append((-1, endpoints[member.endpoint]))
    for index, host in enumerate(knowledge.network.hosts.values()):
        for address in host.addresses:
            if address.version == version and address.value in repeated:
                holders[address.value].append((index, NO_ENDPOINT))
    return tuple(
        (host, *other)
        for holder in holders.values()
        for host, _ in holder
        if host >= 0
        for other in holder
        if other[0] != host
    )
