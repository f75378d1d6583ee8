"""Filters in arrays: the interfaces that paths cross, and what their filters say of the packets on them.

A path depends on where a packet goes, what a filter says on its source and its kind too. So paths are followed once
more, step by step, for the pairs that arrive, and each filter is asked once for all packets that come to it: what it
says is the same for addresses of one piece of the address space.
"""

from __future__ import annotations

from bisect import bisect_right
from dataclasses import dataclass

import numpy as np

from archipelago.addressing.values import Address, Prefix
from archipelago.knowledge.filtering import Judged, Refusal, both_families_named, never_filtered, of_family, speaks_of
from archipelago.knowledge.header import FIRST_TTL, Header, probe_header
from archipelago.knowledge.known import Knowledge
from archipelago.model.filters import Filter, Probe
from archipelago.reachability.arrays import CANNOT_SEND, NO_ENDPOINT, Bools, Codes, Family, Ints, NetworkArrays
from archipelago.reachability.states import HeaderClasses, Hops, StateTable

PASSES = -1
MOST_LINES = 1 << 20
"""A refusal's number is the filter's place, times this, plus the line (0 for `otherwise`)."""


@dataclass(frozen=True, slots=True)
class Guard:
    """A filter at an interface: of which device, on its way in or out."""

    device: str
    interface: str
    inwards: bool
    filter: Filter


@dataclass(frozen=True, slots=True)
class Guards:
    """Every filter at an interface. By endpoint the number of the one that sees what comes in, and of the one that sees
    what is forwarded out (-1: none); by row the number of the device among those that track conversations (-1); by
    guard the same."""

    every: tuple[Guard, ...]
    inwards: Ints
    outwards: Ints
    tracked: Ints
    tracker: Ints

    def refusal(self, number: int) -> tuple[Guard, Refusal]:
        """What the number of a refusal means."""
        at, line = divmod(number, MOST_LINES)
        guard = self.every[at]
        rules = guard.filter.rules
        judged = Judged(rules[line - 1].action, line) if line else Judged(guard.filter.otherwise, None)
        return guard, Refusal(guard.interface, "in" if guard.inwards else "out", guard.filter.name, judged)


def guards_of(arrays: NetworkArrays, family: Family) -> Guards | None:
    """The filters of a network; None where it has none."""
    knowledge = arrays.knowledge
    every: list[Guard] = []
    inwards = np.full(len(arrays.endpoints) + 1, -1, dtype=np.int64)  # the last is for no endpoint
    outwards = inwards.copy()
    for name in _with_filters(knowledge):
        for nic in knowledge.devices[name].nics.values():
            for filter_, of, way in ((nic.filter_in, inwards, True), (nic.filter_out, outwards, False)):
                if filter_ is not None:
                    of[arrays.endpoints[name, nic.name]] = len(every)
                    every.append(Guard(name, nic.name, way, filter_))
    if not every:
        return None
    trackers = dict.fromkeys(guard.device for guard in every if guard.filter.stateful)
    number = {name: at for at, name in enumerate(trackers)}
    tracked = np.array([number.get(name, -1) for name, _ in family.rows], dtype=np.int64)
    tracker = np.array([number.get(guard.device, -1) if guard.filter.stateful else -1 for guard in every])
    return Guards(tuple(every), inwards, outwards, tracked, tracker)


def _with_filters(knowledge: Knowledge) -> list[str]:
    return [name for name, device in knowledge.network.devices.items() if device.filters]


@dataclass(frozen=True, slots=True)
class Start:
    """Where the packets of each class begin: the row of their first router less the number of rows (0 and above: none),
    and the endpoint that they come in by there. `apart` are single cells (class times columns, plus column, in order)
    that begin otherwise, and meet no router."""

    row: Codes
    ingress: Ints
    apart: Ints


class Crossings:
    """The filters on the ways of a family's packets.

    Args:
        family: its tables.
        table: where each state leads.
        hops: where each route leads.
        columns: what can be sent to.
        start: where packets begin.
        guards: the filters.
    """

    def __init__(
        self, family: Family, table: StateTable, hops: Hops, columns: HeaderClasses, start: Start, guards: Guards
    ) -> None:
        self.guards = guards
        self._family = family
        self._table = table
        self._columns = columns
        self._start = start
        # Whose filter sees a packet for an address that several hold is not for the arrays to say.
        self._ingress = np.where(hops.contested, NO_ENDPOINT, hops.ingress)

    def refusals(self, way: tuple[Ints, Ints, Ints], arrives: Bools, probe: Probe) -> tuple[Ints, Bools]:
        """What ends a probe or its answer.

        Args:
            way: the classes that ask; those asked, which are columns too; the columns that the answers go to.
            arrives: which probes arrive where no filter ends them.
            probe: what is sent.

        Returns:
            The number of the refusal (PASSES: none), and whether it ends the answer.
        """
        source, target, reply_column = way
        asking, asked = self._columns.piece[reply_column], self._columns.piece[target]
        known = self._known_of(len(source))
        out = self._follow((source, target), (asking, asked), probe, answers=False, known=known)
        back = np.full(len(out), PASSES, dtype=np.int64)
        passed = np.flatnonzero((out == PASSES) & arrives)
        back[passed] = self._follow(
            (target[passed], reply_column[passed]),
            (asked[passed], asking[passed]),
            probe,
            answers=True,
            known=known[passed],
        )
        return np.where(out == PASSES, back, out), out == PASSES

    def _known_of(self, count: int) -> Bools:
        """For each pair, which devices that track conversations have let its question pass."""
        return np.zeros((count, int(self.guards.tracked.max(initial=-1)) + 1), dtype=np.bool_)

    def _follow(
        self, way: tuple[Ints, Ints], pieces: tuple[Ints, Ints], probe: Probe, *, answers: bool, known: Bools
    ) -> Ints:
        """The refusal that ends each packet of some ways (class and column). `known` says which devices that track
        conversations know that of each packet; what passes them is noted."""
        source, column = way
        refused = np.full(len(source), PASSES, dtype=np.int64)
        table, codes, guards = self._table, self._table.codes, self.guards
        moving = np.flatnonzero(~self._apart(source * codes.columns + column))
        ingress = self._start.ingress[source[moving]]
        row = codes.rows + self._start.row[source[moving]].astype(np.int64)

        def ask(which: Ints) -> None:
            """Have guards judge the packets that come to them (-1: none does), and leave out those that end."""
            nonlocal moving, row
            at = np.flatnonzero(which >= 0)
            if len(at):
                packets = moving[at]
                said = self._judged(which[at], (pieces[0][packets], pieces[1][packets]), probe, answers)
                if known.shape[1]:
                    tracker = guards.tracker[which[at]]
                    said[(tracker >= 0) & known[packets, np.maximum(tracker, 0)]] = PASSES
                refused[packets] = said
                goes_on = refused[moving] == PASSES
                moving, row = moving[goes_on], row[goes_on]

        ask(guards.inwards[ingress])
        routed = row < codes.rows
        moving, row = moving[routed], row[routed]
        for _ in range(FIRST_TTL):
            state = row * codes.columns + column[moving]
            before, out = moving, self._leaves(state)
            ask(np.where(out >= 0, guards.outwards[out], -1))
            goes_on = np.isin(before, moving, assume_unique=True)
            state, left = state[goes_on], out[goes_on] >= 0
            if known.shape[1]:
                tracks = guards.tracked[row]
                known[moving[tracks >= 0], tracks[tracks >= 0]] = True
            moving, row, state = moving[left], row[left], state[left]
            before = moving
            ask(guards.inwards[self._ingress[table.route[state]]])
            onward = table.next[state[np.isin(before, moving, assume_unique=True)]].astype(np.int64)
            on = onward < codes.states
            moving, row = moving[on], onward[on] // codes.columns
            if not len(moving):
                break
        return refused

    def _leaves(self, state: Ints) -> Ints:
        """The endpoint that packets are sent out by from some states; -1 where they end before."""
        codes, entries = self._table.codes, self._family.entries
        route, onward = self._table.route[state].astype(np.int64), self._table.next[state]
        sent = (route >= 0) & ((onward < codes.no_route) | (onward >= codes.entry))
        known = np.maximum(route, 0)
        if len(entries.hop):
            sent &= entries.hop[known] != CANNOT_SEND
            return np.where(sent, entries.endpoint[known], -1)
        return np.full(len(state), -1, dtype=np.int64)

    def _apart(self, cells: Ints) -> Bools:
        """Which cells meet no router."""
        known = self._start.apart
        if not len(known):
            return np.zeros(len(cells), dtype=np.bool_)
        met: Bools = known[np.minimum(np.searchsorted(known, cells), len(known) - 1)] == cells
        return met

    def _judged(self, which: Ints, pieces: tuple[Ints, Ints], probe: Probe, answers: bool) -> Ints:
        """What guards say of packets: the number of each refusal."""
        said = np.full(len(which), PASSES, dtype=np.int64)
        order = np.argsort(which, kind="stable")
        numbers, first = np.unique(which[order], return_index=True)
        for number, mine in zip(numbers.tolist(), np.split(order, first[1:]), strict=True):
            sources, of_source = np.unique(pieces[0][mine], return_inverse=True)
            targets, of_target = np.unique(pieces[1][mine], return_inverse=True)
            lines = self._lines(self.guards.every[number].filter, sources, targets, probe, answers)
            line = lines[of_source.reshape(-1), of_target.reshape(-1)]
            said[mine] = np.where(line == PASSES, PASSES, number * MOST_LINES + line)
        return said

    def _lines(self, filter_: Filter, sources: Ints, targets: Ints, probe: Probe, answers: bool) -> Ints:
        """The line (0 for `otherwise`) that ends packets from some pieces to others, PASSES where none does."""
        header = self._header(probe, answers)
        shape = (len(sources), len(targets))
        if never_filtered(header):
            return np.full(shape, PASSES, dtype=np.int64)
        lines = np.full(shape, PASSES if filter_.otherwise == "accept" else 0, dtype=np.int64)
        open_ = np.ones(shape, dtype=np.bool_)
        for number, rule in enumerate(filter_.rules, 1):
            if not speaks_of(rule, header) or not both_families_named(rule, self._family.version):
                continue
            here, there = self._within(rule.source, sources), self._within(rule.destination, targets)
            matched = np.logical_and.outer(here, there) & open_
            lines[matched] = PASSES if rule.action == "accept" else number
            open_ &= ~matched
            if not open_.any():
                break
        return lines

    def _header(self, probe: Probe, answers: bool) -> Header:
        """The header of a probe or its answer, between addresses that no condition but those on addresses sees."""
        nobody = Address(self._family.version, 0)
        return probe_header(nobody, nobody, probe, answers=answers)

    def _within(self, prefixes: tuple[Prefix, ...], pieces: Ints) -> Bools:
        """Which pieces lie in any of some prefixes; all where none is named."""
        if not prefixes:
            return np.ones(len(pieces), dtype=np.bool_)
        within = np.zeros(len(pieces), dtype=np.bool_)
        cuts = self._family.cuts
        for prefix in of_family(prefixes, self._family.version):
            first, last = bisect_right(cuts, prefix.value) - 1, bisect_right(cuts, prefix.last) - 1
            within |= (pieces >= first) & (pieces <= last)
        return within
