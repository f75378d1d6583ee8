"""Both families together: hosts that fare alike in each are of one kind, and kinds are what pairs are decided for."""

from __future__ import annotations

from collections.abc import Sequence
from copy import copy
from dataclasses import replace

import numpy as np

from archipelago.model.filters import ECHO, Probe
from archipelago.reachability.arrays import Ints, NetworkArrays
from archipelago.reachability.domains import label_domains
from archipelago.reachability.engine import decide
from archipelago.reachability.outcome import Outcome


class Decided:
    """The engine's answer by kind: who reaches whom (`between`), for which pairs that is not for the arrays to say
    (`doubtful`; `doubtful_in_ipv6` where IPv4 decides `between`), and of these whose packets are `translated` on their
    way. A kind is hosts that are of one class in
    each family; where an address is held by several, whose answer wins is a matter of where one asks from, so there
    each host class is a kind of its own."""

    def __init__(
        self, arrays: NetworkArrays, family: int | None, probes: Sequence[Probe] = (ECHO,), filters: bool = True
    ) -> None:
        labels = label_domains(len(arrays.endpoints), arrays.adjacencies)
        wanted = [version for version in arrays.families if family in (None, version)]
        self.arrays = arrays
        self.family = family
        self.filters = filters
        self.outcomes = {
            version: decide(arrays, version, labels, [probe.length(version) for probe in probes]) for version in wanted
        }
        if not filters:
            self.outcomes = {version: replace(told, crossings=None) for version, told in self.outcomes.items()}
        self._by_probe = {version: outcome.reached(probes) for version, outcome in self.outcomes.items()}
        self._take(probes[0])

    def for_probe(self, probe: Probe) -> Decided:
        """The same for another of the probes."""
        other = copy(self)
        other._take(probe)
        return other

    def _take(self, probe: Probe) -> None:
        arrays = self.arrays
        self.probe = probe
        self._reached = {version: by_probe[probe] for version, by_probe in self._by_probe.items()}
        self._too_large = {
            version: outcome.too_large(probe, self._reached[version]) for version, outcome in self.outcomes.items()
        }
        state = arrays.host_class * 2 + ~arrays.down
        open_ = any(outcome.contested is not None for outcome in self.outcomes.values())
        self._kinds(state, open_)
        count = len(self.classes[4])
        self.version = np.zeros((count, count), dtype=np.int8)
        self.between = np.zeros((count, count), dtype=np.bool_)
        self.doubtful = np.zeros((count, count), dtype=np.bool_)
        self.translated = np.zeros((count, count), dtype=np.bool_)
        for version in (6, 4):
            if version in self.outcomes:
                self._lay(version, self.outcomes[version])
            if version == 6:
                self.doubtful_in_ipv6 = self.doubtful.copy()
        self.doubtful_in_ipv6 &= self.version == 4
        for version, too_large in self._too_large.items():
            if too_large is not None:  # whether answers in pieces get through, and what to mend, the simulation says
                has = np.flatnonzero(self.classes[version] >= 0)
                own = self.classes[version][has]
                self.doubtful[np.ix_(has, has)] |= too_large[np.ix_(own, own)]
        self.translated &= ~self.doubtful
        self.doubtful |= self.translated
        self.every = self.some = self.between
        if len(self.outcomes) > 1:
            self._both()

    def own(self) -> None:
        """Have arrays of its own, which can be changed: those of several probes are the same until then."""
        mine = self.between.copy()
        self.every, self.some = (mine if one is self.between else one.copy() for one in (self.every, self.some))
        self.between = mine

    def _kinds(self, state: Ints, open_: bool) -> None:
        arrays = self.arrays
        size = 2 * len(arrays.examples)
        by_state = {
            version: self.outcomes[version].of_state if version in self.outcomes else np.full(size, -1)
            for version in (4, 6)
        }
        columns = [by_state[4], by_state[6]]
        if open_:
            columns.append(np.arange(size))
        there = np.flatnonzero(np.bincount(state, minlength=size))
        if len(self.outcomes) == 1 and not open_ and (next(iter(self.outcomes.values())).of_state[there] >= 0).all():
            only = next(iter(self.outcomes))
            kind_of_state = by_state[only]
            count = int(kind_of_state.max(initial=-1)) + 1
            self.classes = {4: np.full(count, -1), 6: np.full(count, -1)}
            self.classes[only] = np.arange(count)
        else:
            table = np.stack([column[there] for column in columns], axis=1)
            unique, inverse = np.unique(table, axis=0, return_inverse=True)
            kind_of_state = np.full(size, -1)
            kind_of_state[there] = inverse.reshape(-1)
            self.classes = {4: unique[:, 0], 6: unique[:, 1]}
        self.kind = kind_of_state[state]
        if open_:
            self._single_out()

    def _single_out(self) -> None:
        """Each host whose address somebody else holds too is a kind of its own."""
        hosts = sorted(
            {host for outcome in self.outcomes.values() for host, _, _ in outcome.family.duplicate_addresses}
        )
        for host in hosts:
            kind = self.kind[host]
            if (self.kind == kind).sum() > 1:
                for version, classes in self.classes.items():
                    self.classes[version] = np.append(classes, classes[kind])
                self.kind[host] = len(self.classes[4]) - 1

    def _lay(self, version: int, outcome: Outcome) -> None:
        classes = self.classes[version]
        has = np.flatnonzero(classes >= 0)
        own = classes[has]
        if len(has) == len(classes) and np.array_equal(own, np.arange(len(outcome.onward))):
            self.between = self._reached[version]
            self.version[:] = version
            if outcome.contested is not None:
                self.doubtful[:] = outcome.contested
            if outcome.translated is not None:
                self.translated[:] = outcome.translated
            return
        both, grid = np.ix_(has, has), np.ix_(own, own)
        self.version[both] = version
        self.between[both] = self._reached[version][grid]
        self.doubtful[both] = outcome.contested[grid] if outcome.contested is not None else False
        self.translated[both] = outcome.translated[grid] if outcome.translated is not None else False

    def _both(self) -> None:
        """Which pairs are reached in every family that both ends have, and which in any."""
        self.every = self.version > 0
        self.some = np.zeros_like(self.between)
        for version in self.outcomes:
            has = np.flatnonzero(self.classes[version] >= 0)
            own = self.classes[version][has]
            reached = self._reached[version][np.ix_(own, own)]
            self.every[np.ix_(has, has)] &= reached
            self.some[np.ix_(has, has)] |= reached

    def in_ipv6(self, i: int, j: int) -> list[bool]:
        """Whether two kinds reach each other in IPv6, too; nothing where not both families are looked at there."""
        if len(self.outcomes) < 2 or min(self.classes[6][i], self.classes[6][j]) < 0:
            return []
        return [bool(self._reached[6][self.classes[6][i], self.classes[6][j]])]

    @property
    def all_reached(self) -> bool:
        """Whether nothing is cut off; a kind of one host has no pair of its own."""
        missing = ~self.between
        alone = np.bincount(self.kind, minlength=len(self.between)) < 2
        np.fill_diagonal(missing, np.diagonal(missing) & ~alone)
        return not missing.any()
