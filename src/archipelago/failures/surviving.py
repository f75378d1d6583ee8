"""How much of a network survives any one failure: the pairs that are reached whichever single part breaks."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from archipelago.failures.breaking import Breaker
from archipelago.failures.few import with_few_hosts
from archipelago.failures.parts import Part, breakable
from archipelago.model.network import Network
from archipelago.progress import steps
from archipelago.reachability.arrays import Bools, Ints
from archipelago.reachability.matrix import Matrix, matrix


class Surviving(NamedTuple):
    """How many ordered pairs of hosts are reached, and how many of them whichever single device, cable or port breaks
    that neither end is plugged into; the part whose failure cuts off most, and how many pairs that is."""

    reached: int
    survive: int
    worst: str
    worst_cut: int


def surviving(network: Network) -> Surviving:
    """Break every part of a network in turn, and count the pairs that are always left."""
    few = with_few_hosts(network)
    breaker = Breaker(few.network, few.stands_for)
    before = _pairs(breaker.before)
    left = before.copy()
    weight = breaker.weight
    worst, most = "", 0
    parts = [part for part in breakable(breaker.plain) if part.kind != "interface"]
    for part in steps(parts, "breaking one part after another"):
        after = _pairs(matrix(breaker.without([part]), causes=False)) | _excused(breaker, part)
        cut = _count(before & ~after, weight)
        if cut > most:
            worst, most = part.name, cut
        left &= after
    return Surviving(_count(before, weight), _count(left, weight), worst, most)


def _pairs(answer: Matrix) -> Bools:
    """Who reaches whom, host by host; on the diagonal whether others like a host do."""
    pairs: Bools = answer.between[np.ix_(answer.kind, answer.kind)]
    return pairs


def _excused(breaker: Breaker, part: Part) -> Bools:
    """The pairs of which an end is plugged into what breaks."""
    hosts = breaker.knowledge.written.hosts
    own = np.array([part.kind == "device" and hosts[name].at.device == part.name for name in breaker.arrays.hosts])
    excused: Bools = own[:, None] | own
    return excused


def _count(pairs: Bools, weight: Ints) -> int:
    return int(weight @ (pairs @ weight)) - int(weight[np.diagonal(pairs)].sum())
