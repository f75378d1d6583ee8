"""Breaking parts of a network, and what the engines say of what is left."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import cached_property
from itertools import zip_longest

import numpy as np

from archipelago.failures.parts import Part
from archipelago.failures.result import DevicesLost, Outage
from archipelago.failures.takeovers import takeovers
from archipelago.knowledge.known import know
from archipelago.knowledge.outside import widened
from archipelago.knowledge.parts import switched_off
from archipelago.model.ends import OUTSIDE
from archipelago.model.network import Network
from archipelago.reachability.arrays import Bools, Ints, NetworkArrays
from archipelago.reachability.build import build_arrays, change_arrays
from archipelago.reachability.devices import DevicePairs, device_pairs
from archipelago.reachability.matrix import Matrix, count_pairs, matrix
from archipelago.reachability.promises import Promises


class Breaker:
    """A network, decided once, and broken as often as somebody asks.

    Args:
        network: the network; a few hosts may stand for many.
        stands_for: how many hosts each of its hosts stands for, by name; 1 where it is not there.
    """

    def __init__(self, network: Network, stands_for: Mapping[str, int] | None = None) -> None:
        self.plain = know(network)
        self.arrays = build_arrays(widened(self.plain))
        self.knowledge = self.arrays.knowledge
        self.stands_for = stands_for or {}
        self.weight = np.array([self.stands_for.get(name, 1) for name in self.arrays.hosts], dtype=np.int64)
        self.before = matrix(self.arrays, causes=False)
        self._promises = Promises(self.plain, self.arrays)
        self._plugged = np.array([self.knowledge.written.hosts[name].at.device for name in self.arrays.hosts])

    @property
    def pairs(self) -> int:
        """How many ordered pairs of hosts there are."""
        total = int(self.weight.sum())
        return total * (total - 1)

    @property
    def reached(self) -> int:
        """How many of them are reached, in any family, while nothing is broken."""
        sizes = np.bincount(self.before.kind, weights=self.weight, minlength=len(self.before.some)).astype(np.int64)
        return count_pairs(self.before.some, sizes)

    def without(self, parts: Sequence[Part]) -> NetworkArrays:
        """The network in arrays with parts broken."""
        return change_arrays(self.arrays, switched_off(self.knowledge, [part.name for part in parts]))

    def outage(
        self,
        parts: Sequence[Part],
        half: NetworkArrays | None = None,
        *,
        over: bool = True,
        expected: bool = True,
        policy: bool = True,
        devices: bool = False,
    ) -> Outage:
        """What happens when some parts break at once.

        Args:
            parts: what breaks.
            half: the arrays with some of them broken already, where somebody has these.
            over: also say what takes over.
            expected: also say which expectations fall with it.
            policy: also say which lines of the policy are not kept.
            devices: also say what is lost of devices' addresses.
        """
        names = [part.name for part in parts]
        arrays = change_arrays(half or self.arrays, switched_off(self.knowledge, names))
        after = matrix(arrays, causes=False)
        own = np.isin(self._plugged, [part.name for part in parts if part.kind == "device"])
        lost = _Lost(self.before, after, self.weight, own)
        return Outage(
            parts=tuple(names),
            kinds=tuple(part.kind for part in parts),
            lost=lost.count(lost.gone),
            elsewhere=lost.count(lost.gone & lost.elsewhere),
            one_family=lost.count(lost.halved & lost.elsewhere),
            hosts=lost.cut_off(),
            gained=lost.count(lost.new),
            example=lost.example(),
            expectations=self._promises.expectations_broken(names) if expected else (),
            policy=self._promises.policy_broken(names) if policy else (),
            takeovers=takeovers(self.arrays, arrays) if over else (),
            devices=self._devices_lost(arrays, names) if devices else None,
        )

    @cached_property
    def _devices(self) -> DevicePairs:
        return device_pairs(self.arrays)

    def _devices_lost(self, arrays: NetworkArrays, broken: Sequence[str]) -> DevicesLost:
        before, after = self._devices, device_pairs(arrays)
        at = [device or plugged for device, plugged in zip_longest(before.device, self._plugged.tolist())]
        weight = np.concatenate((self.weight, np.ones(len(at) - len(self.weight), dtype=np.int64)))
        lost = _Lost(before.pairs, after.pairs, weight, np.isin(at, broken))
        elsewhere = lost.gone & lost.elsewhere
        return DevicesLost(lost.count(elsewhere), lost.example() if elsewhere.any() else None)


class _Lost:
    """All pairs before and after, by hosts that fare alike in both and are plugged into what breaks, or not."""

    def __init__(self, before: Matrix, after: Matrix, weight: Ints, own: Bools) -> None:
        kinds = (before.kind * (len(after.between) + 1) + after.kind) * 2 + own
        _, first, of_host = np.unique(kinds, return_index=True, return_inverse=True)
        self._hosts = before.hosts
        self._kind = of_host.reshape(-1)
        self._sizes = np.bincount(self._kind, weights=weight).astype(np.int64)
        old, new = (np.ix_(answer.kind[first], answer.kind[first]) for answer in (before, after))
        self._was, self._is = before.some[old], after.some[new]
        alone = np.flatnonzero(self._sizes < 2)
        self._was[alone, alone] = self._is[alone, alone] = False
        self.gone = self._was & ~self._is
        self.new = self._is & ~self._was
        self.halved = before.every[old] & before.some[old] & ~after.every[new] & self._is
        outer = ~own[first]
        self.elsewhere = outer[:, None] & outer

    def count(self, pairs: Bools) -> int:
        """How many pairs of hosts some pairs of kinds stand for."""
        return count_pairs(pairs, self._sizes) if pairs.any() else 0

    def cut_off(self) -> int:
        """How many hosts reach nobody now and did; the outside is none."""
        alone = int(self._sizes[self._was.any(axis=1) & ~self._is.any(axis=1)].sum())
        return alone - int(self._outside_alone())

    def _outside_alone(self) -> bool:
        if OUTSIDE not in self._hosts:
            return False
        kind = self._kind[self._hosts.index(OUTSIDE)]
        return bool(self._was[kind].any() and not self._is[kind].any())

    def example(self) -> tuple[str, str] | None:
        """A pair that is lost; elsewhere, where any is."""
        for some in (self.gone & self.elsewhere, self.halved & self.elsewhere, self.gone):
            sources, targets = np.nonzero(some)
            if len(sources):
                most = int((self._sizes[sources] * self._sizes[targets]).argmax())
                ends = (np.flatnonzero(self._kind == kind[most]) for kind in (sources, targets))
                source, target = (self._hosts[place[end]] for place, end in zip(ends, (0, -1), strict=True))
                return source, target
        return None
