"""Lines of filters in arrays: which speak of a kind of packet, and for which pieces of the address space."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Hashable, Sequence
from typing import NamedTuple

import numpy as np

from archipelago.addressing.values import Address, Prefix
from archipelago.knowledge.filtering import both_families_named, but_addresses, never_filtered, of_family, speaks_of
from archipelago.knowledge.header import probe_header
from archipelago.model.filters import Filter, FilterRule, Probe
from archipelago.reachability.arrays import Bools, Ints

PASSES = -1
"""In place of a line's number: the packet passes."""
CELLS_AT_A_TIME = 1 << 20
"""So many packets times lines are looked at at once."""
NOT_LOOKED_AT = (-1,)
"""In place of a filter's lines: it lets the packet pass whatever they say."""


class Pieces(NamedTuple):
    """Ranges of pieces, in order and apart: the first and the last piece of each."""

    first: tuple[int, ...]
    last: tuple[int, ...]


NOWHERE = Pieces((), ())
"""In place of the pieces of a line that names the other family only."""


class Axis(NamedTuple):
    """One end of some lines: where their pieces begin and end (`cuts`), and between each two cuts which lines take what
    lies there."""

    cuts: Ints
    takes: Bools


class Grid(NamedTuple):
    """Lines of a filter in their order, by the pieces that packets come from and go to, and what each says. The last
    one takes whatever is left."""

    sources: Axis
    targets: Axis
    says: Ints

    def judge(self, sources: Ints, targets: Ints) -> Ints:
        """What the first line says that takes each packet."""
        said = np.empty(len(sources), dtype=np.int64)
        source = np.searchsorted(self.sources.cuts, sources, side="right")
        target = np.searchsorted(self.targets.cuts, targets, side="right")
        at_a_time = max(CELLS_AT_A_TIME // len(self.says), 1)
        for low in range(0, len(sources), at_a_time):
            taken = self.sources.takes[source[low : low + at_a_time]]
            taken &= self.targets.takes[target[low : low + at_a_time]]
            said[low : low + at_a_time] = self.says[taken.argmax(axis=1)]
        return said


class FilterLines:
    """The lines of some filters, for the packets of one family.

    Args:
        version: the family, 4 or 6.
        cuts: where the pieces of the address space begin.
        filters: the filters, called by their places.
    """

    def __init__(self, version: int, cuts: Sequence[int], filters: Sequence[Filter]) -> None:
        self._version = version
        self._cuts = cuts
        self._filters = filters
        self._speaking: dict[tuple[int, Probe, bool], tuple[int, ...]] = {}
        self._pieces_of: dict[int, Pieces] = {}
        self._sorts: dict[int, list[int]] = {}
        self._sort_numbers: dict[Hashable, int] = {}
        self._of_sort: list[FilterRule] = []
        self._spoken: dict[tuple[Probe, bool], list[bool]] = {}
        self._wholes: dict[int, Grid] = {}
        self._grids: dict[tuple[int, tuple[int, ...]], Grid] = {}

    def speaking(self, number: int, probe: Probe, answers: bool) -> tuple[int, ...]:
        """The places of a filter's lines that speak of a kind of packet; NOT_LOOKED_AT for what passes every filter."""
        key = number, probe, answers
        if key not in self._speaking:
            sorts = self._sorts_of(number)
            speaks = self._speaks(probe, answers)
            self._speaking[key] = (
                NOT_LOOKED_AT if speaks is None else tuple(at for at, sort in enumerate(sorts) if speaks[sort])
            )
        return self._speaking[key]

    def _sorts_of(self, number: int) -> list[int]:
        """The sort of each line of a filter: those of one sort differ in addresses only, and there are few sorts."""
        if number not in self._sorts:
            self._sorts[number] = [self._sort(rule) for rule in self._filters[number].rules]
        return self._sorts[number]

    def _sort(self, rule: FilterRule) -> int:
        number = self._sort_numbers.setdefault(but_addresses(rule), len(self._sort_numbers))
        if number == len(self._of_sort):
            self._of_sort.append(rule)
        return number

    def _speaks(self, probe: Probe, answers: bool) -> list[bool] | None:
        """Which sorts of lines speak of a kind of packet; None where filters never look at it."""
        nobody = Address(self._version, 0)
        header = probe_header(nobody, nobody, probe, answers=answers)
        if never_filtered(header):
            return None
        known = self._spoken.setdefault((probe, answers), [])
        known += [speaks_of(rule, header) for rule in self._of_sort[len(known) :]]
        return known

    def grid(self, number: int, places: tuple[int, ...]) -> Grid:
        """Some lines of a filter; after them what it does otherwise."""
        key = number, places
        if key not in self._grids:
            sources, targets, says = self._whole(number)
            columns = [*places, len(says) - 1] if places != NOT_LOOKED_AT else [-1]
            self._grids[key] = Grid(
                Axis(sources.cuts, sources.takes[:, columns]),
                Axis(targets.cuts, targets.takes[:, columns]),
                says[columns] if places != NOT_LOOKED_AT else np.array([PASSES]),
            )
        return self._grids[key]

    def _whole(self, number: int) -> Grid:
        """All lines of a filter, whatever they speak of; those that name the other family only take nothing."""
        if number not in self._wholes:
            filter_ = self._filters[number]
            ours = [both_families_named(rule, self._version) for rule in filter_.rules]
            lines = list(zip(filter_.rules, ours, strict=True))
            says = [PASSES if rule.action == "accept" else at for at, rule in enumerate(filter_.rules, 1)]
            self._wholes[number] = Grid(
                _axis([*(self._pieces(rule.source) if own else NOWHERE for rule, own in lines), None]),
                _axis([*(self._pieces(rule.destination) if own else NOWHERE for rule, own in lines), None]),
                np.array([*says, PASSES if filter_.otherwise == "accept" else 0], dtype=np.int64),
            )
        return self._wholes[number]

    def _pieces(self, prefixes: tuple[Prefix, ...]) -> Pieces | None:
        """The pieces of some prefixes, found once for a list that many lines share."""
        if not prefixes:
            return None
        if id(prefixes) not in self._pieces_of:
            self._pieces_of[id(prefixes)] = self._found(prefixes)
        return self._pieces_of[id(prefixes)]

    def _found(self, prefixes: tuple[Prefix, ...]) -> Pieces:
        cuts = self._cuts
        ranges = sorted(
            (bisect_right(cuts, prefix.value) - 1, bisect_right(cuts, prefix.last) - 1)
            for prefix in of_family(prefixes, self._version)
        )
        merged: list[tuple[int, int]] = []
        for first, last in ranges:
            if merged and first <= merged[-1][1] + 1:
                merged[-1] = (merged[-1][0], max(merged[-1][1], last))
            else:
                merged.append((first, last))
        return Pieces(*zip(*merged, strict=True))


def _axis(lines: Sequence[Pieces | None]) -> Axis:
    """One end of some lines."""
    named = [(at, pieces) for at, pieces in enumerate(lines) if pieces is not None]
    column = np.array([at for at, pieces in named for _ in pieces.first], dtype=np.int64)
    first = np.array([piece for _, pieces in named for piece in pieces.first], dtype=np.int64)
    after = np.array([piece for _, pieces in named for piece in pieces.last], dtype=np.int64) + 1
    cuts = np.unique(np.concatenate((first, after)))
    begins = np.zeros((len(cuts) + 1, len(lines)), dtype=np.int64)
    begins[0, [at for at, pieces in enumerate(lines) if pieces is None]] = 1
    np.add.at(begins, (np.searchsorted(cuts, first, side="right"), column), 1)
    np.add.at(begins, (np.searchsorted(cuts, after, side="right"), column), -1)
    return Axis(cuts, begins.cumsum(axis=0) > 0)
