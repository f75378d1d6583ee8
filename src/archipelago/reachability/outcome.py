"""One family's answer by classes: where packets end, who reaches whom, and what filters have against it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from archipelago.model.filters import Probe
from archipelago.progress import steps
from archipelago.reachability.arrays import Bools, Codes, Family, Ints
from archipelago.reachability.crossings import Crossings
from archipelago.reachability.filter_lines import PASSES
from archipelago.reachability.sizes import Sizes
from archipelago.reachability.states import OutcomeCodes, Ways

AT_A_TIME = 256
"""How many classes' paths are in memory at once."""
PAIRS_AT_A_TIME = 2_000_000
"""How many pairs are followed past filters at once."""
TILE = 512
"""Rows and columns of a piece of a matrix that fits the processor's cache."""


@dataclass(frozen=True, slots=True)
class Paths:
    """Where every class's packets end. `ends` are those of each routing row; a class's packets fare as those of its
    first router (`start`: a row less the number of rows, so below 0, or an outcome of its own), but for single cells
    (class times columns, plus column, in order) that `patch` has."""

    ends: Codes
    start: Codes
    cell: Ints
    patch: Codes

    def of(self, low: int, high: int) -> Codes:
        """Where the paths of classes `low` to `high` to every column end."""
        start, width = self.start[low:high], self.ends.shape[1]
        own = start >= 0
        if len(self.ends):
            columns = self.ends[np.where(own, -1, start)]
            columns[own] = start[own, None]
        else:
            columns = np.repeat(start[:, None], width, axis=1)
        a, b = np.searchsorted(self.cell, (low * width, high * width))
        columns.reshape(-1)[self.cell[a:b] - low * width] = self.patch[a:b]
        return columns

    def of_pairs(self, source: Ints, column: Ints) -> Codes:
        """Where single paths end."""
        start = self.start[source]
        columns = start.copy()
        if len(self.ends):
            columns = np.where(start < 0, self.ends[np.minimum(start, -1), column], start)
        if len(self.cell):
            wanted = source * self.ends.shape[1] + column
            at = np.minimum(np.searchsorted(self.cell, wanted), len(self.cell) - 1)
            patched = self.cell[at] == wanted
            columns[patched] = self.patch[at[patched]]
        return columns


@dataclass(frozen=True, slots=True)
class Outcome:
    """One family's answer, by class. `of_state` gives the class of each host state (twice a host class's number, plus
    one where a host of it is up), -1 for none. `onward` says whose packets arrive at whom, `back` whose replies do;
    where it is `contested`, an address that several hold decides; where it is `translated`, what is sent leaves with
    another source, and the answer goes there. `replies` has, for classes that speak from several
    addresses, the column that each class's replies go to. `direct` are the routes that ask for the target itself.
    `ways` are those that packets take, `sizes` what on them is too small for some packets, `crossings` the filters on
    them, where there are any."""

    family: Family
    codes: OutcomeCodes
    of_state: Ints
    paths: Paths
    replies: Mapping[int, Ints]
    direct: Bools
    onward: Bools
    back: Bools
    contested: Bools | None
    translated: Bools | None
    ways: Ways
    sizes: Sizes | None
    crossings: Crossings | None

    def reached(self, probes: Sequence[Probe]) -> dict[Probe, Bools]:
        """Who reaches whom, there and back, by each kind of probe."""
        if self.crossings is None:
            return dict.fromkeys(probes, self._there_and_back())
        both = self._there_and_back()
        reached = {probe: both.copy() for probe in probes}
        at_a_time = max(AT_A_TIME, PAIRS_AT_A_TIME // max(both.shape[1], 1))
        for low in steps(range(0, len(both), at_a_time), "asking filters"):
            source, target = np.nonzero(both[low : low + at_a_time])
            source += low
            way = source, target, self.reply_columns(target, source)
            for probe, passes in self.crossings.passing(way, probes).items():
                reached[probe][source[~passes], target[~passes]] = False
        return reached

    def too_large(self, probe: Probe, reached: Bools) -> Bools | None:
        """Of the pairs that reach each other whatever the size: those of which a probe, or its answer in one piece,
        does not fit everything on its way; None where there are none."""
        length = probe.length(self.family.version)
        if self.sizes is None or length not in self.sizes.every:
            return None
        lost = np.zeros_like(reached)
        at_a_time = max(AT_A_TIME, PAIRS_AT_A_TIME // max(reached.shape[1], 1))
        for low in range(0, len(reached), at_a_time):
            source, target = np.nonzero(reached[low : low + at_a_time])
            source += low
            entries = self.family.entries
            well = self.sizes.fit(length, self.ways, entries, source, target)
            well &= self.sizes.fit(length, self.ways, entries, target, self.reply_columns(target, source))
            lost[source[~well], target[~well]] = True
        return lost

    def _there_and_back(self) -> Bools:
        """Who reaches whom, there and back, where no filter ends a packet."""
        if self.replies:
            return self.onward & self.back
        reached = np.empty_like(self.onward)
        for i in range(0, len(reached), TILE):  # a matrix and its turned self, in pieces that fit the cache
            for j in range(0, len(reached), TILE):
                here, there = slice(i, i + TILE), slice(j, j + TILE)
                np.logical_and(self.onward[here, there], self.back[here, there], out=reached[here, there])
        return reached

    def reply_columns(self, answers: Ints, asks: Ints) -> Ints:
        """The columns that replies from some classes to others go to."""
        return reply_columns(self.replies, answers, asks)

    @property
    def refused_code(self) -> int:
        """Codes from here on are refusals of filters."""
        return self.codes.entry + len(self.family.entries.place)

    def refusals(self, source: Ints, target: Ints, arrives: Bools, probe: Probe) -> tuple[Ints, Bools]:
        """What filters end of the probes and answers of pairs, of which some arrive if no filter ends them; and whether
        that is the answer."""
        if self.crossings is None:
            return np.full(len(source), PASSES), np.zeros(len(source), dtype=np.bool_)
        return self.crossings.refusals((source, target, self.reply_columns(target, source)), arrives, probe)

    def differs(self, code: Ints) -> tuple[Bools, Bools]:
        """Whether the mistake behind an end can differ by who sends, and by who is sent to."""
        codes, entries = self.codes, self.family.entries
        entry = np.maximum(code - codes.entry, 0)
        by_entry = code >= codes.entry
        place = np.where(code >= codes.broadcast, code - codes.broadcast, code - codes.no_route)
        if len(entries.place):
            entry = np.minimum(entry, len(entries.place) - 1)
            place = np.where(by_entry, entries.place[entry], place)
        sender = (code >= codes.no_route) & (place >= codes.rows)
        receiver = np.where(by_entry, self.direct[entry], True) if len(entries.place) else np.ones_like(sender)
        receiver &= ~(sender & (code < codes.broadcast))
        return sender, receiver


def reply_columns(replies: Mapping[int, Ints], answers: Ints, asks: Ints) -> Ints:
    """The columns that replies from some classes to others go to."""
    columns = asks.copy()
    for owner, column in replies.items():
        mine = asks == owner
        columns[mine] = column[answers[mine]]
    return columns
