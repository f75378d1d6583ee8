"""The routing tables of one address family, of devices and of bunches of hosts, in arrays."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from archipelago.addressing.values import source_for
from archipelago.knowledge.devices import Knowledge, Node, host_node, speaks_ipv6
from archipelago.knowledge.domains import Foot
from archipelago.knowledge.routes import Entry
from archipelago.reachability.arrays import CONNECTED, MUTE, NOWHERE, Entries, Family, Holders, Ints
from archipelago.reachability.looks import every_hop, sign_of


def family_of(
    knowledge: Knowledge,
    version: int,
    cuts: tuple[int, ...],
    repeated: frozenset[int],
    feet: Mapping[Foot, int],
    likeness: tuple[str, ...],
    looks: list[tuple[Any, ...]],
) -> Family:
    rows: dict[tuple[str, str], int] = {}
    for node in knowledge.devices.values():
        if version in node.forwards:
            for vrf in dict.fromkeys(nic.vrf for nic in node.nics.values()):
                rows[node.name, vrf] = len(rows)
    numbers: dict[tuple[Any, ...], int] = {}
    sign = np.array([numbers.setdefault(look, len(numbers)) if look[0] else -1 for look in looks], dtype=np.int64)
    hops = {value: index for index, value in enumerate(dict.fromkeys(every_hop(knowledge, version)))}
    gathered = _Gathered(version, cuts, hops)
    for (name, vrf), row in rows.items():
        gathered.take(row, knowledge.devices[name], vrf, feet)
    for one, name in enumerate(likeness):
        if sign[one] >= 0:
            gathered.take(len(rows) + one, host_node(knowledge.network.hosts[name], "", 0), "", {})
    entries, deaf = gathered.arrays()
    return Family(
        version,
        cuts,
        rows,
        sign,
        tuple(sign_of(addresses) for addresses, _ in numbers),
        hops,
        _holders(knowledge, version, feet, rows, hops),
        entries,
        deaf,
        _twice(knowledge, version, feet, repeated),
    )


def family_again(knowledge: Knowledge, before: Family, feet: Mapping[Foot, int], touched: frozenset[str]) -> Family:
    old = before.entries
    mine = np.zeros(len(before.rows) + len(before.sign), dtype=np.bool_)
    gathered = _Gathered(before.version, before.cuts, before.hops)
    for (name, vrf), row in before.rows.items():
        if name in touched:
            mine[row] = True
            gathered.take(row, knowledge.devices[name], vrf, feet)
    if not mine.any():
        return before
    kept = ~mine[old.place]
    new, deaf = gathered.arrays()
    entries = Entries(
        np.concatenate((old.place[kept], new.place)),
        np.concatenate((old.first[kept], new.first)),
        np.concatenate((old.last[kept], new.last)),
        np.concatenate((old.length[kept], new.length)),
        np.concatenate((old.foot[kept], new.foot)),
        np.concatenate((old.hop[kept], new.hop)),
        np.concatenate((old.written[kept], new.written)),
    )
    return replace(before, entries=entries, deaf=np.concatenate((before.deaf[:, ~mine[before.deaf[0]]], deaf), axis=1))


class _Gathered:
    """Collects routes of one family into arrays."""

    def __init__(self, version: int, cuts: tuple[int, ...], hops: Mapping[int, int]) -> None:
        self._version = version
        self._cuts = cuts
        self._hops = hops
        self._lines: list[tuple[int, int, int, int, int, int]] = []
        self._deaf: list[tuple[int, int]] = []
        self._written: list[Entry] = []

    def take(self, place: int, node: Node, vrf: str, feet: Mapping[Foot, int]) -> None:
        """The table of one place."""
        table = node.routes.tables.get((vrf, self._version))
        if table is None:
            return
        for _, entries in table.lengths:
            for entry in entries.values():
                nic = node.nics[entry.interface]
                hop = CONNECTED if entry.next_hop is None else self._hops[entry.next_hop.value]
                asks = source_for(nic.addresses, entry.next_hop or entry.prefix.first)
                if not nic.speaks or nic.kind == "loopback" or asks is None:
                    hop = MUTE
                first, last = self._piece(entry.prefix.value), self._piece(entry.prefix.last)
                foot = feet.get((node.name, nic.name), NOWHERE)
                self._lines.append((place, first, last, entry.prefix.length, foot, hop))
                self._written.append(entry)
        self._deaf += [(place, self._piece(value)) for value in table.broadcasts]

    def _piece(self, value: int) -> int:
        return bisect_right(self._cuts, value) - 1

    def arrays(self) -> tuple[Entries, Ints]:
        lines = np.array(self._lines, dtype=np.int64).reshape(-1, 6).T.copy()
        deaf = np.array(self._deaf, dtype=np.int64).reshape(-1, 2).T.copy()
        written = np.empty(len(self._written), dtype=object)
        written[:] = self._written
        return Entries(lines[0], lines[1], lines[2], lines[3], lines[4], lines[5], written), deaf


def _holders(
    knowledge: Knowledge,
    version: int,
    feet: Mapping[Foot, int],
    rows: Mapping[tuple[str, str], int],
    hops: Mapping[int, int],
) -> Holders:
    lines: list[tuple[int, int, int, int]] = []
    for node in knowledge.devices.values():
        for nic in node.nics.values():
            row, foot = rows.get((node.name, nic.vrf), -1), feet[node.name, nic.name]
            held_here = {held.value for held in nic.addresses if held.version == version}
            if version == 6 and speaks_ipv6(nic):
                held_here.add(nic.link_local.value)
            lines += [(hops[value], foot, row, -1) for value in held_here if value in hops]
    for index, host in enumerate(knowledge.network.hosts.values()):
        for held in host.addresses:
            if held.version == version and held.value in hops:
                lines.append((hops[held.value], NOWHERE, -1, index))
    table = np.array(lines, dtype=np.int64).reshape(-1, 4).T.copy()
    return Holders(table[0], table[1], table[2], table[3])


def _twice(
    knowledge: Knowledge, version: int, feet: Mapping[Foot, int], repeated: frozenset[int]
) -> tuple[tuple[int, int, int], ...]:
    if not repeated:
        return ()
    holders: dict[int, list[tuple[int, int]]] = {value: [] for value in repeated}
    for node in knowledge.devices.values():
        for nic in node.nics.values():
            for held in nic.addresses:
                if held.version == version and held.value in repeated:
                    holders[held.value].append((-1, feet[node.name, nic.name]))
    for index, host in enumerate(knowledge.network.hosts.values()):
        for held in host.addresses:
            if held.version == version and held.value in repeated:
                holders[held.value].append((index, NOWHERE))
    return tuple(
        (host, *other)
        for found in holders.values()
        for host, _ in found
        if host >= 0
        for other in found
        if other[0] != host
    )
