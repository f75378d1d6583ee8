"""The pairs of hosts that two states of a network both answer, and which of them a state in between cuts off."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

import numpy as np

from archipelago.reachability.arrays import Bools, Ints, NetworkArrays
from archipelago.reachability.matrix import Matrix, matrix
from archipelago.reachability.settling import Simulated

EXAMPLES = 3
Pair = tuple[str, str]


class Cut(NamedTuple):
    """Ordered pairs that are cut off: how many, and some of them."""

    pairs: int
    examples: tuple[Pair, ...] = ()

    def __str__(self) -> str:
        return f"{self.pairs:,} pair{'s' * (self.pairs != 1)}"


NOTHING = Cut(0)


def by_family(arrays: NetworkArrays, simulated: Simulated | None = None) -> dict[int, Matrix]:
    """All pairs in each family that the network has; what `simulated` has of it is not asked again."""
    return {version: matrix(arrays, version, causes=False, simulated=simulated) for version in arrays.families}


class Between:
    """The pairs of two networks side by side, over the hosts that both have.

    Args:
        old, new: all pairs of each, by family.
    """

    def __init__(self, old: dict[int, Matrix], new: dict[int, Matrix]) -> None:
        self._old, self._new = old, new
        any_old, any_new = next(iter(old.values()), None), next(iter(new.values()), None)
        there = {name: place for place, name in enumerate(any_new.hosts)} if any_new is not None else {}
        self.hosts = tuple(name for name in (any_old.hosts if any_old is not None else ()) if name in there)
        self._places = (_places(any_old, self.hosts), _places(any_new, self.hosts))
        self._kept: dict[int, tuple[Ints, Bools]] = {}
        for version in old.keys() & new.keys():
            first, group = self._groups(_kinds(old[version], self._places[0]), _kinds(new[version], self._places[1]))
            reached = self._reached(old[version], self._places[0][first]) & self._reached(
                new[version], self._places[1][first]
            )
            self._kept[version] = group, reached

    @property
    def gained(self) -> Cut:
        """What only the new network answers."""
        return self.only(self._new, self._old)

    @property
    def lost(self) -> Cut:
        """What only the old network answers."""
        return self.only(self._old, self._new)

    def both(self) -> Iterator[tuple[int, str, str, int]]:
        """What both answer: for each sort of pair the first family that they do in, an example, and how many."""
        if not self._kept or not self.hosts:
            return
        first, group = self._groups(*(group for group, _ in self._kept.values()))
        size = np.bincount(group)
        told = np.zeros((len(first), len(first)), dtype=np.bool_)
        for version, (kept, reached) in sorted(self._kept.items()):
            here = reached[np.ix_(kept[first], kept[first])] & ~told
            told |= here
            for source, target in zip(*np.nonzero(here), strict=True):
                many = int(size[source] * size[target]) - (int(size[source]) if source == target else 0)
                names = self._examples_of(source, target, first, group)
                if many and names is not None:
                    yield version, *names, many

    def cut(self, state: dict[int, Matrix]) -> Cut:
        """What both answer, in any family, and a state in between does not."""
        some = next(iter(state.values()), None)
        places = _places(some, self.hosts)
        columns = [group for group, _ in self._kept.values()]
        columns += [_kinds(matrix, places) for matrix in state.values()]
        if not columns or not len(self.hosts):
            return NOTHING
        first, group = self._groups(*columns)
        missing = np.zeros((len(first), len(first)), dtype=np.bool_)
        for version, (kept, reached) in self._kept.items():
            must = reached[np.ix_(kept[first], kept[first])]
            now = state.get(version)
            missing |= must & ~self._reached(now, places[first]) if now is not None else must
        return self._counted(missing, first, group)

    def only(self, one: dict[int, Matrix], other: dict[int, Matrix]) -> Cut:
        """What one state answers in any family and another does not, of the hosts that both ends have."""
        mine, its = (_places(next(iter(state.values()), None), self.hosts) for state in (one, other))
        columns = [_kinds(answer, mine) for answer in one.values()] + [_kinds(answer, its) for answer in other.values()]
        if not columns or not len(self.hosts):
            return NOTHING
        first, group = self._groups(*columns)
        only = np.zeros((len(first), len(first)), dtype=np.bool_)
        for version, answer in one.items():
            reached = self._reached(answer, mine[first])
            only |= reached & ~self._reached(other[version], its[first]) if version in other else reached
        return self._counted(only, first, group)

    @staticmethod
    def _groups(*columns: Ints) -> tuple[Ints, Ints]:
        """The first host of each sort that is alike in all columns, and the sort of each host."""
        group: Ints = np.zeros(len(columns[0]), dtype=np.int64)
        first: Ints = np.zeros(0, dtype=np.int64)
        for column in columns:
            codes = group * (int(column.max(initial=0)) + 1) + column
            _, first, group = np.unique(codes, return_index=True, return_inverse=True)
        return first, group

    @staticmethod
    def _reached(answer: Matrix, places: Ints) -> Bools:
        """Who reaches whom; nobody reaches a host that is not there, nor does it reach anybody."""
        there = places >= 0
        kinds = np.where(there, answer.kind[places] if len(answer.kind) else 0, 0)
        if not there.any():
            return np.zeros((len(places), len(places)), dtype=np.bool_)
        reached: Bools = answer.between[np.ix_(kinds, kinds)] & there[:, None] & there
        return reached

    def _counted(self, pairs: Bools, first: Ints, group: Ints) -> Cut:
        if not pairs.any():
            return NOTHING
        size = np.bincount(group, minlength=len(first))
        count = np.multiply.outer(size, size)
        count[np.diag_indices_from(count)] -= size
        total = int(count[pairs].sum())
        return Cut(total, tuple(self._examples(pairs, first, group))) if total else NOTHING

    def _examples(self, pairs: Bools, first: Ints, group: Ints) -> Sequence[Pair]:
        examples: list[Pair] = []
        for source, target in zip(*np.nonzero(pairs), strict=True):
            pair = self._examples_of(source, target, first, group)
            if pair is not None:
                examples.append(pair)
            if len(examples) == EXAMPLES:
                break
        return examples

    def _examples_of(self, source: int, target: int, first: Ints, group: Ints) -> Pair | None:
        """A pair of hosts of two sorts; None where there is only one host of both."""
        a = self.hosts[first[source]]
        others = np.flatnonzero(group == target)[:2] if source == target else first[[target]]
        b = next((self.hosts[place] for place in others if self.hosts[place] != a), None)
        return (a, b) if b is not None else None


def _places(answer: Matrix | None, hosts: Sequence[str]) -> Ints:
    """Where hosts stand in a matrix; -1 for one that is not in it, such as one that is unplugged."""
    there = {name: place for place, name in enumerate(answer.hosts)} if answer is not None else {}
    return np.array([there.get(name, -1) for name in hosts], dtype=np.int64)


def _kinds(answer: Matrix, places: Ints) -> Ints:
    """The kind of each of some hosts, from 1 on; 0 for one that is not there."""
    if not len(answer.kind):
        return np.zeros(len(places), dtype=np.int64)
    kinds: Ints = np.where(places >= 0, answer.kind[places] + 1, 0)
    return kinds
