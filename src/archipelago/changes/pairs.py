"""The pairs of hosts of two states of a network together: what each answers, and what a state in between cuts off."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import reduce
from itertools import islice
from typing import NamedTuple

import numpy as np

from archipelago.reachability.arrays import Bools, Ints, NetworkArrays
from archipelago.reachability.matrix import Matrix, matrix

EXAMPLES = 3
Pair = tuple[str, str]
Pairs = Mapping[int, Matrix]
"""All pairs of a state, by family."""


class Cut(NamedTuple):
    """Ordered pairs that are cut off: how many, and some of them."""

    pairs: int
    examples: tuple[Pair, ...] = ()

    def __str__(self) -> str:
        return f"{self.pairs:,} pair{'s' * (self.pairs != 1)}"


NOTHING = Cut(0)


def by_family(arrays: NetworkArrays, family: int | None = None) -> Pairs:
    """All pairs in each family that the network has, or in the one asked for."""
    return {version: matrix(arrays, version, causes=False) for version in arrays.families if family in (None, version)}


class Between:
    """The pairs of two networks together: of all hosts that either has. A host that a network lacks is not reached in
    it. A pair is reached where it is in any family.

    Args:
        old, new: all pairs of each, by family.
    """

    def __init__(self, old: Pairs, new: Pairs) -> None:
        self._old, self._new = old, new
        names = (name for state in (old, new) for answer in state.values() for name in answer.hosts)
        self.hosts = tuple(dict.fromkeys(names))
        self._ends = _Beside(self.hosts, (old, new))

    @property
    def reached(self) -> tuple[int, int]:
        """How many pairs the old network answers, and how many the new one."""
        return self.answered(self._old), self.answered(self._new)

    @property
    def gained(self) -> Cut:
        """What only the new network answers."""
        return self.only(self._new, self._old)

    @property
    def lost(self) -> Cut:
        """What only the old network answers."""
        return self.only(self._old, self._new)

    @property
    def lost_with_an_end(self) -> int:
        """How many pairs are lost because the new network lacks an end of them."""
        side = self._ends
        old, new = side.any
        return side.counted(old & ~new & ~side.there[1]).pairs

    @property
    def left_in_one_family(self) -> Cut:
        """What the old network answers in a family in which the new one does not, which answers it in the other."""
        side = self._ends
        return side.counted(side.lost_in_a_family(0, 1) & side.any[1])

    def both(self) -> Iterator[tuple[int, str, str, int]]:
        """What both answer: for each sort of pair the first family that they do in, an example, and how many."""
        side = self._ends
        counted = np.zeros_like(side.any[0])
        for version in sorted(self._old.keys() & self._new.keys()):
            here = side.reached[0][version] & side.reached[1][version] & ~counted
            counted |= here
            for names, many in side.sorts(here):
                yield version, *names, many

    def cut(self, state: Pairs) -> Cut:
        """What both answer and a state in between does not."""
        return self.interrupted(state)[0]

    def interrupted(self, state: Pairs) -> tuple[Cut, Cut]:
        """What both answer and a state in between does not; and what both answer in a family in which that state does
        not, which answers it in the other."""
        side = _Beside(self.hosts, (self._old, self._new, state), self._ends.group)
        old, new, now = side.any
        halved = side.lost_in_a_family(0, 2) & side.lost_in_a_family(1, 2) & now
        return side.counted(old & new & ~now), side.counted(halved)

    def answered(self, state: Pairs) -> int:
        """How many pairs a state answers."""
        side = _Beside(self.hosts, (state,))
        return side.counted(side.any[0]).pairs

    def only(self, one: Pairs, other: Pairs) -> Cut:
        """What one state answers and another does not."""
        side = _Beside(self.hosts, (one, other))
        mine, its = side.any
        return side.counted(mine & ~its)


class _Beside:
    """Several states by sorts of hosts that fare alike in all of them.

    `reached` has for each state and family who reaches whom, sort by sort, `any` the same in any family, `there` which
    pairs of sorts each state has, `group` the sort of each host.

    Args:
        hosts: all hosts.
        states: the states.
        alike: which hosts fare alike in the first two of them, where that is known.
    """

    def __init__(self, hosts: tuple[str, ...], states: Sequence[Pairs], alike: Ints | None = None) -> None:
        places = [{version: _places(answer, hosts) for version, answer in state.items()} for state in states]
        columns = [] if alike is None else [alike]
        columns += [
            _kinds(answer, at[version])
            for state, at in list(zip(states, places, strict=True))[0 if alike is None else 2 :]
            for version, answer in state.items()
        ]
        self._hosts = hosts
        self._first, self.group = _grouped(len(hosts), columns)
        self._sizes = np.bincount(self.group, minlength=len(self._first))
        self.reached = [
            {version: _reached(answer, at[version][self._first]) for version, answer in state.items()}
            for state, at in zip(states, places, strict=True)
        ]
        nothing = np.zeros((len(self._first), len(self._first)), dtype=np.bool_)
        self.any: list[Bools] = [reduce(np.logical_or, by_family.values(), nothing) for by_family in self.reached]
        nobody = np.full(len(hosts), -1)
        there = [reduce(np.maximum, at.values(), nobody)[self._first] >= 0 for at in places]
        self.there: list[Bools] = [here[:, None] & here for here in there]

    def lost_in_a_family(self, before: int, after: int) -> Bools:
        """Which pairs one state answers in a family in which another does not."""
        nothing = np.zeros_like(self.any[before])
        lost = nothing
        for version, reached in self.reached[before].items():
            lost = lost | (reached & ~self.reached[after].get(version, nothing))
        return lost

    def counted(self, pairs: Bools) -> Cut:
        """How many pairs of hosts some pairs of sorts stand for, and examples of them."""
        if not pairs.any():
            return NOTHING
        count = np.multiply.outer(self._sizes, self._sizes)
        count[np.diag_indices_from(count)] -= self._sizes
        total = int(count[pairs].sum())
        return Cut(total, tuple(names for names, _ in islice(self.sorts(pairs), EXAMPLES))) if total else NOTHING

    def sorts(self, pairs: Bools) -> Iterator[tuple[Pair, int]]:
        """A pair of hosts of each of some pairs of sorts, and how many of them there are."""
        for source, target in zip(*np.nonzero(pairs), strict=True):
            a = self._hosts[self._first[source]]
            others = np.flatnonzero(self.group == target)[:2] if source == target else self._first[[target]]
            b = next((self._hosts[place] for place in others if self._hosts[place] != a), None)
            if b is not None:
                yield (a, b), int(self._sizes[source] * self._sizes[target] - (source == target) * self._sizes[source])


def _grouped(count: int, columns: Sequence[Ints]) -> tuple[Ints, Ints]:
    """The first host of each sort that is alike in all columns, and the sort of each host."""
    group: Ints = np.zeros(count, dtype=np.int64)
    first: Ints = np.zeros(min(count, 1), dtype=np.int64)
    for column in columns:
        codes = group * (int(column.max(initial=0)) + 1) + column
        _, first, group = np.unique(codes, return_index=True, return_inverse=True)
    return first, group


def _reached(answer: Matrix, places: Ints) -> Bools:
    """Who reaches whom; nobody reaches a host that is not there, nor does it reach anybody."""
    there = places >= 0
    if not there.any():
        return np.zeros((len(places), len(places)), dtype=np.bool_)
    kinds = np.where(there, answer.kind[places], 0)
    reached: Bools = answer.between[np.ix_(kinds, kinds)] & there[:, None] & there
    return reached


def _places(answer: Matrix, hosts: Sequence[str]) -> Ints:
    """Where hosts stand in a matrix; -1 for one that is not in it, such as one that is unplugged."""
    there = {name: place for place, name in enumerate(answer.hosts)}
    return np.array([there.get(name, -1) for name in hosts], dtype=np.int64)


def _kinds(answer: Matrix, places: Ints) -> Ints:
    """The kind of each of some hosts, from 1 on; 0 for one that is not there."""
    if not len(answer.kind):
        return np.zeros(len(places), dtype=np.int64)
    kinds: Ints = np.where(places >= 0, answer.kind[places] + 1, 0)
    return kinds
