"""As few lines as say the same: a line goes that others make needless, also once one of them speaks of more places."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Hashable, Iterator, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from archipelago.addressing.values import Address, Prefix
from archipelago.design.filter_lines import Line
from archipelago.knowledge.filtering import address_pieces, both_families_named, but_addresses, of_family, speaks_of
from archipelago.knowledge.header import Header
from archipelago.model.filters import ICMP, ICMP_V6, TCP, UDP, Action, FilterRule

Actions = NDArray[np.int8]
"""What becomes of each sort of packet, by its place in ACTIONS."""
ACTIONS: tuple[Action, ...] = ("accept", "drop", "reject")
MOST_CELLS = 4_000_000
"""Filters of more lines times sorts of packets are left as they are."""
MOST_WIDENED = 40
"""In filters of more lines none is made to speak of more places."""
_OTHER_PROTOCOL = 253
"""A protocol that no line names (RFC 3692: for experiments)."""
_TYPES = {ICMP: (8, 0, 3), ICMP_V6: (128, 129, 1)}
"""The ICMP types that lines tell apart: a request, a reply, an error."""


def fewest(lines: Sequence[Line], otherwise: Action) -> list[Line]:
    """Fewer lines that do with every packet what some lines do; the lines themselves where none can go.

    Args:
        lines: the lines of a filter.
        otherwise: what it does after the last one.
    """
    space = _Space([line.rule for line in lines], otherwise)
    if not lines or space.cells * len(lines) > MOST_CELLS:
        return list(lines)
    wanted = space.verdicts([line.rule for line in lines])
    best = _without_needless(space, list(lines), wanted)
    while len(best) <= MOST_WIDENED:
        fewer = next((some for some in _widened(space, best, wanted) if len(some) < len(best)), None)
        if fewer is None:
            break
        best = fewer
    return best


def _without_needless(space: _Space, lines: list[Line], wanted: Actions) -> list[Line]:
    """Lines without those that make no difference, the last looked at first."""
    for at in range(len(lines) - 1, -1, -1):
        rest = [*lines[:at], *lines[at + 1 :]]
        if np.array_equal(space.verdicts([line.rule for line in rest]), wanted):
            lines = rest
    return lines


def _widened(space: _Space, lines: list[Line], wanted: Actions) -> Iterator[list[Line]]:
    """Lines of which one speaks of all places, where that says the same, without those that are needless then."""
    for at, line in enumerate(lines):
        for wide in (replace(line.rule, destination=()), replace(line.rule, source=())):
            if wide == line.rule:
                continue
            some = [*lines[:at], Line(wide, line.serves), *lines[at + 1 :]]
            if np.array_equal(space.verdicts([one.rule for one in some]), wanted):
                yield _without_needless(space, some, wanted)


class _Space:
    """Every sort of packet that some lines tell apart: by family, source, destination, and all else."""

    def __init__(self, rules: Sequence[FilterRule], otherwise: Action) -> None:
        self._otherwise = ACTIONS.index(otherwise)
        self._families = [_Family(version, rules) for version in (4, 6)]
        self.cells = sum(family.cells for family in self._families)

    def verdicts(self, rules: Sequence[FilterRule]) -> Actions:
        """What the first line that takes each sort of packet does."""
        said = np.full(self.cells, self._otherwise, dtype=np.int8)
        start = 0
        for family in self._families:
            part = said[start : start + family.cells].reshape(family.shape)
            for rule in reversed(rules):
                part[family.taken(rule)] = ACTIONS.index(rule.action)
            start += family.cells
        return said


class _Family:
    """The sorts of packets of one family."""

    def __init__(self, version: int, rules: Sequence[FilterRule]) -> None:
        self._version = version
        self._sources = address_pieces((rule.source for rule in rules), version)
        self._targets = address_pieces((rule.destination for rule in rules), version)
        self._headers = list(_headers(version, rules))
        self.shape = len(self._sources), len(self._targets), len(self._headers)
        self.cells = self.shape[0] * self.shape[1] * self.shape[2]
        self._known: dict[FilterRule, tuple[NDArray[np.intp], ...]] = {}
        self._kinds: dict[Hashable, NDArray[np.bool_]] = {}

    def taken(self, rule: FilterRule) -> tuple[NDArray[np.intp], ...]:
        """The sorts of packets that a line takes, for an index."""
        if rule not in self._known:
            ours = both_families_named(rule, self._version)
            kind = but_addresses(rule)
            if kind not in self._kinds:
                self._kinds[kind] = np.array([speaks_of(rule, header) for header in self._headers])
            sides = (
                _inside(self._sources, rule.source, self._version) & ours,
                _inside(self._targets, rule.destination, self._version),
                self._kinds[kind],
            )
            self._known[rule] = np.ix_(*map(np.flatnonzero, sides))
        return self._known[rule]


def _inside(starts: Sequence[int], prefixes: tuple[Prefix, ...], version: int) -> NDArray[np.bool_]:
    """Which pieces lie in some prefixes; all where none is named."""
    inside = np.full(len(starts), not prefixes)
    for prefix in of_family(prefixes, version):
        inside[bisect_left(starts, prefix.value) : bisect_right(starts, prefix.last)] = True
    return inside


def _headers(version: int, rules: Sequence[FilterRule]) -> Iterator[Header]:
    """A header of each sort that the lines' conditions on all but addresses tell apart."""
    nobody = Address(version, 0)
    icmp = ICMP if version == 4 else ICMP_V6
    yield from (Header(nobody, nobody, icmp, icmp_type=one) for one in _TYPES[icmp])
    numbers = {number for rule in rules for kind in rule.traffic for number in kind.numbers}
    for number in sorted(numbers - {icmp, TCP, UDP}):
        yield Header(nobody, nobody, number)
    yield Header(nobody, nobody, _OTHER_PROTOCOL)
    named = [ports for rule in rules for kind in rule.traffic if (ports := kind.ports) is not None]
    to = _ports([*named, *(ports for rule in rules for ports in rule.destination_port)])
    from_ = _ports([ports for rule in rules for ports in rule.source_port])
    for target in to:
        for own in from_:
            yield Header(nobody, nobody, UDP, own, target)
            yield Header(nobody, nobody, TCP, own, target)
            yield Header(nobody, nobody, TCP, own, target, answering=True)


def _ports(ranges: Sequence[tuple[int, int]]) -> list[int]:
    """The first port of each piece that some ranges tell apart."""
    return sorted({0, *(at for first, last in ranges for at in (first, last + 1) if at <= 65_535)})
