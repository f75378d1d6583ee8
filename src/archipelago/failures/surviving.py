"""How much of a network survives any one failure: the pairs that are reached whichever single part breaks."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from archipelago.failures.breaking import Breaker
from archipelago.failures.few import with_few_hosts
from archipelago.failures.parts import whole_parts
from archipelago.model.network import Network
from archipelago.progress import steps
from archipelago.reachability.arrays import Bools, Ints
from archipelago.reachability.matrix import Matrix, count_pairs, matrix


class Surviving(NamedTuple):
    """How many ordered pairs of hosts are reached, in any family, and how many of them whichever single device, cable
    or port breaks that neither end is plugged into; the part whose failure cuts off most, and how many."""

    reached: int
    survive: int
    worst: str
    worst_cut: int


def surviving(network: Network) -> Surviving:
    """Break every part of a network in turn, and count the pairs that are always left. Hosts that every failure so far
    leaves alike, and that are plugged into one device, are counted together."""
    few = with_few_hosts(network)
    breaker = Breaker(few.network, few.stands_for)
    hosts = breaker.knowledge.written.hosts
    _, plugged = np.unique([hosts[name].at.device for name in breaker.arrays.hosts], return_inverse=True)
    device = dict(zip((hosts[name].at.device for name in breaker.arrays.hosts), plugged.tolist(), strict=True))
    group, first = _grouped(breaker.before.kind, plugged)
    left = _pairs(breaker.before, first)
    reached = _count(left, group, breaker.weight)
    worst, most = "", 0
    for part in steps(whole_parts(breaker.plain), "breaking one part after another"):
        answer = matrix(breaker.without([part]), causes=False)
        coarse, (group, first) = group, _grouped(group, answer.kind)
        left = left[np.ix_(coarse[first], coarse[first])]
        own = plugged[first] == (device.get(part.name, -1) if part.kind == "device" else -1)
        after = _pairs(answer, first) | own[:, None] | own
        cut = _count(_pairs(breaker.before, first) & ~after, group, breaker.weight)
        if cut > most:
            worst, most = part.name, cut
        left &= after
    return Surviving(reached, _count(left, group, breaker.weight), worst, most)


def _grouped(group: Ints, other: Ints) -> tuple[Ints, Ints]:
    """Groups that are as fine as two groupings of hosts together: each host's, and a host of each."""
    key = group.astype(np.int64) * (int(other.max(initial=0)) + 1) + other
    _, first, of = np.unique(key, return_index=True, return_inverse=True)
    return of.reshape(-1), first


def _pairs(answer: Matrix, first: Ints) -> Bools:
    """Who reaches whom, group by group; on the diagonal whether the hosts of a group reach each other."""
    kind = answer.kind[first]
    pairs: Bools = answer.some[np.ix_(kind, kind)]
    return pairs


def _count(pairs: Bools, group: Ints, weight: Ints) -> int:
    """How many pairs of hosts some pairs of groups stand for."""
    return count_pairs(pairs, np.bincount(group, weights=weight, minlength=len(pairs)).astype(np.int64))
