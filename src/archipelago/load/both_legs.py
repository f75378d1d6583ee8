"""What crosses a cable twice, once each way: packets that go up to a router by it and come down again."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple, TypeAlias

import numpy as np
from scipy.sparse import csr_array

from archipelago.load.links import INSIDE, Forest
from archipelago.load.parties import Rates, summed
from archipelago.reachability.arrays import Bools, Ints

Crossings: TypeAlias = "csr_array[Any]"
"""By leg (a row) and link (a column) the share of what goes there that leaves by the link: it is less than 1 where
hosts are plugged in at several places."""


def crossings(forest: Forest, source: Ints, target: Ints, share: Rates, leg: Ints, shape: tuple[int, int]) -> Crossings:
    """The links that go from endpoints to others of the same broadcast domain.

    Args:
        forest: the trees of the broadcast domains.
        source, target: the endpoints.
        share: how much of its leg goes from this source to this target.
        leg: the leg that each is of.
        shape: how many legs and links there are.
    """
    rows, columns, shares = [], [], []
    apart = source != target
    source, target, share, leg = source[apart], target[apart], share[apart], leg[apart]
    while len(source):
        rises = forest.deep[source] >= forest.deep[target]
        link = np.where(rises, forest.up[source], forest.down[target])
        outer = link != INSIDE
        rows.append(leg[outer])
        columns.append(link[outer])
        shares.append(share[outer])
        source = np.where(rises, forest.parent[source], source)
        target = np.where(rises, target, forest.parent[target])
        on = source != target
        source, target, share, leg = source[on], target[on], share[on], leg[on]
    if not rows:
        return csr_array(shape)
    return csr_array((np.concatenate(shares), (np.concatenate(rows), np.concatenate(columns))), shape=shape)


class Numbered(NamedTuple):
    """Legs, each once, and the number of the leg that each flow takes."""

    legs: Crossings
    of: Ints


def crossed_again(
    reverse: Ints, first: Numbered, ways: Ints, hops: Sequence[Crossings], last: Numbered, rate: Rates
) -> Rates:
    """What of flows leaves by each link that had come in by it before, on any leg.

    Flows are added up by the legs that they have in common, two legs at a time, so that a million cost little more than
    their legs. That counts double what crosses a link in one direction twice before it comes back: where hosts and
    routers send over one link, such flows are followed each for itself.

    Args:
        reverse: for each link the one that frames come back by; -1 where there is none.
        first: the legs from hosts to their routers.
        ways: the way of each flow from its first router to its last.
        hops: by hop the links of each way there, none where it has ended.
        last: the legs from the last routers to hosts.
        rate: what each flow carries.
    """
    if not len(rate):
        return np.zeros(len(reverse))
    passed = csr_array(sum(hops[1:], start=hops[0])) if hops else csr_array((int(ways.max()) + 1, len(reverse)))
    shared = (first.legs.sum(axis=0) > 0) & (passed.sum(axis=0) > 0)
    single = (_touching(first.legs, shared)[first.of] & _touching(passed, shared)[ways]) if shared.any() else None
    again: Rates = np.zeros(len(reverse))
    if single is not None:
        alone = np.flatnonzero(single)
        legs = [hop[ways[alone]] for hop in hops]
        again += _along(reverse, [first.legs[first.of[alone]], *legs, last.legs[last.of[alone]]], rate[alone])
        rate = np.where(single, 0.0, rate)
    again += _along(reverse, hops, summed(ways, rate, passed.shape[0]))
    once = passed.minimum(csr_array((np.ones(passed.nnz), passed.indices, passed.indptr), shape=passed.shape))
    for (before, earlier), (after, later) in ((first, (passed, ways)), ((once, ways), last), (first, last)):
        together = csr_array((rate, (earlier, later)), shape=(before.shape[0], after.shape[0]))
        again += _turned(before, reverse).multiply(together @ after).sum(axis=0)
    return again


def _along(reverse: Ints, legs: Sequence[Crossings], rate: Rates) -> Rates:
    """What comes back on one of some legs, taken one after another, over a link of an earlier one."""
    again: Rates = np.zeros(len(reverse))
    if not legs:
        return again
    crossed, *others = legs
    for leg in others:
        again += _turned(crossed, reverse).multiply(leg).T @ rate
        crossed = crossed.maximum(leg)
    return again


def _touching(legs: Crossings, links: Bools) -> Bools:
    """Which legs cross any of some links."""
    return np.asarray(legs @ links.astype(np.float64)) > 0


def _turned(legs: Crossings, reverse: Ints) -> Crossings:
    """What is crossed, by the links that come back."""
    cells = legs.tocoo()
    column = reverse[cells.col]
    known = column >= 0
    return csr_array((cells.data[known], (cells.row[known], column[known])), shape=legs.shape)
