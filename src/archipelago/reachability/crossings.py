"""Filters in arrays: the interfaces that paths cross, and what their filters say of the packets on them.

A path depends on where a packet goes, what a filter says on its source and its kind too. So paths are followed once
more, step by step, for the pairs that arrive, and each filter is asked once for all packets that come to it: what it
says is the same for addresses of one piece of the address space.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from archipelago.knowledge.filtering import Judged, Refusal
from archipelago.knowledge.header import FIRST_TTL
from archipelago.knowledge.known import Knowledge
from archipelago.model.filters import ECHO, Filter, FilterRule, Probe, Traffic
from archipelago.reachability.arrays import CANNOT_SEND, NO_ENDPOINT, Bools, Family, Ints, NetworkArrays
from archipelago.reachability.filter_lines import PASSES, FilterLines
from archipelago.reachability.states import Ways

AT_A_TIME = 256
"""How many classes' packets are followed at once where all are."""
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


def translators_of(arrays: NetworkArrays, family: Family) -> Guards | None:
    """The interfaces that translate sources, as filters that end what they translate; None where none does."""
    every: list[Guard] = []
    outwards = np.full(len(arrays.endpoints) + 1, -1, dtype=np.int64)
    for name, device in arrays.knowledge.network.devices.items() if family.version == 4 else ():
        if device.kind == "router":
            for nic in arrays.knowledge.devices[name].nics.values():
                if nic.translates_to is not None:
                    outwards[arrays.endpoints[name, nic.name]] = len(every)
                    ends = FilterRule(drop=(Traffic("any"),), source=nic.source_nat)
                    every.append(Guard(name, nic.name, False, Filter("source-nat", "accept", (ends,))))
    if not every:
        return None
    none = np.full(len(outwards), -1, dtype=np.int64)
    return Guards(tuple(every), none, outwards, np.full(len(family.rows), -1), np.full(len(every), -1))


def _with_filters(knowledge: Knowledge) -> list[str]:
    return [name for name, device in knowledge.network.devices.items() if device.filters]


class Crossing(NamedTuple):
    """Packets that come to filters at one step of their ways: the packets, in the order of the guards that see them;
    the number of each such guard, and where its packets begin."""

    packets: Ints
    guards: Ints
    starts: Ints


_Said = dict[tuple[int, int, tuple[int, ...]], Ints]
"""What a filter says of the packets that come to it at a step, by the step, the filter and the lines that are asked."""


class Crossings:
    """The filters on the ways of a family's packets.

    Args:
        family: its tables.
        ways: where its packets go.
        guards: the filters.
    """

    def __init__(self, family: Family, ways: Ways, guards: Guards) -> None:
        self.guards = guards
        self._family = family
        self._table = ways.table
        self._columns = ways.columns
        self._start = ways.start
        # Whose filter sees a packet for an address that several hold is not for the arrays to say.
        self._lines = FilterLines(family.version, family.cuts, [guard.filter for guard in guards.every])
        self._ingress = np.where(ways.hops.contested, NO_ENDPOINT, ways.hops.ingress)

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
        known = self._unknown(len(source))
        pieces = self._columns.piece[reply_column], self._columns.piece[target]
        out = self._first(self._crossed(source, target, known), pieces, probe, answers=False)
        passed = np.flatnonzero((out == PASSES) & arrives)
        answers = self._crossed(target[passed], reply_column[passed], known[passed])
        ended = self._first(answers, (pieces[1][passed], pieces[0][passed]), probe, answers=True)
        refused = out.copy()
        refused[passed] = ended
        return refused, out == PASSES

    def passing(self, way: tuple[Ints, Ints, Ints], probes: Sequence[Probe]) -> dict[Probe, Bools]:
        """Which probes all filters let pass, and their answers too, of pairs whose packets arrive both ways. Where
        packets go is worked out once for all kinds of probe."""
        source, target, reply_column = way
        known = self._unknown(len(source))
        asking, asked = self._columns.piece[reply_column], self._columns.piece[target]
        out = self._crossed(source, target, known)
        back = self._crossed(target, reply_column, known)
        there, again = _Said(), _Said()  # kinds of which a filter's lines say the same are judged once
        return {
            probe: (self._first(out, (asking, asked), probe, answers=False, said=there) == PASSES)
            & (self._first(back, (asked, asking), probe, answers=True, said=again) == PASSES)
            for probe in probes
        }

    def seen(self) -> set[int]:
        """The numbers of the guards that anything comes to which a class sends another."""
        classes = len(self._start.row)
        seen: set[int] = set()
        for low in range(0, classes, AT_A_TIME):
            source, column = np.indices((min(AT_A_TIME, classes - low), classes)).reshape(2, -1)
            crossed = self._crossed(source + low, column, self._unknown(len(source)))
            seen.update(number for crossing in crossed for number in crossing.guards.tolist())
        return seen

    def met(self, way: tuple[Ints, Ints, Ints]) -> Bools:
        """Which questions of some ways any guard would end."""
        source, target, reply_column = way
        pieces = self._columns.piece[reply_column], self._columns.piece[target]
        crossed = self._crossed(source, target, self._unknown(len(source)))
        met: Bools = self._first(crossed, pieces, ECHO, answers=False) != PASSES
        return met

    def _unknown(self, count: int) -> Bools:
        """For each packet, which devices that track conversations know that of it: none."""
        return np.zeros((count, int(self.guards.tracked.max(initial=-1)) + 1), dtype=np.bool_)

    # Where packets go

    def _crossed(self, source: Ints, column: Ints, known: Bools) -> list[Crossing]:
        """The filters that packets come to on their ways (class and column), step by step; not those that let them pass
        because they belong to a conversation that is `known`, where what passes is noted."""
        table, codes, guards = self._table, self._table.codes, self.guards
        crossed: list[Crossing] = []
        moving = np.flatnonzero(~self._start.is_apart(source * codes.columns + column))
        row = codes.rows + self._start.row[source[moving]].astype(np.int64)
        self._note(crossed, moving, guards.inwards[self._start.ingress[source[moving]]], known)
        routed = row < codes.rows
        moving, row = moving[routed], row[routed]
        for _ in range(FIRST_TTL):
            state = row * codes.columns + column[moving]
            out = self._leaves(state)
            self._note(crossed, moving, np.where(out >= 0, guards.outwards[out], -1), known)
            if known.shape[1]:
                tracks = guards.tracked[row]
                known[moving[tracks >= 0], tracks[tracks >= 0]] = True
            left = out >= 0
            moving, row, state = moving[left], row[left], state[left]
            self._note(crossed, moving, guards.inwards[self._ingress[table.route[state]]], known)
            onward = table.next[state].astype(np.int64)
            on = onward < codes.states
            moving, row = moving[on], onward[on] // codes.columns
            if not len(moving):
                break
        return crossed

    def _note(self, crossed: list[Crossing], packets: Ints, which: Ints, known: Bools) -> None:
        """Note packets that come to guards (-1: to none)."""
        met = which >= 0
        if known.shape[1]:
            tracker = self.guards.tracker[which]
            met &= ~((tracker >= 0) & known[packets, np.maximum(tracker, 0)])
        at = np.flatnonzero(met)
        if len(at):
            order = at[np.argsort(which[at], kind="stable")]
            numbers, starts = np.unique(which[order], return_index=True)
            crossed.append(Crossing(packets[order], numbers, starts))

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

    # What filters say

    def _first(
        self,
        crossed: list[Crossing],
        pieces: tuple[Ints, Ints],
        probe: Probe,
        *,
        answers: bool,
        said: _Said | None = None,
    ) -> Ints:
        """The first refusal of each packet, by the pieces that it comes from and goes to."""
        refused = np.full(len(pieces[0]), PASSES, dtype=np.int64)
        known: _Said = {} if said is None else said
        for at, crossing in enumerate(crossed):
            bounds = (*crossing.starts.tolist(), len(crossing.packets))
            for place, number in enumerate(crossing.guards.tolist()):
                packets = crossing.packets[bounds[place] : bounds[place + 1]]
                lines = self._lines.speaking(number, probe, answers)
                key = at, number, lines
                if key not in known:
                    known[key] = self._lines.grid(number, lines).judge(pieces[0][packets], pieces[1][packets])
                line = known[key]
                ends = (line != PASSES) & (refused[packets] == PASSES)
                refused[packets[ends]] = number * MOST_LINES + line[ends]
        return refused
