"""What crosses a cable twice, once each way: packets that go up to a router by it and come down again."""

from __future__ import annotations

from typing import Any, TypeAlias

import numpy as np
from scipy.sparse import csr_array

from archipelago.load.links import INSIDE, Forest
from archipelago.load.parties import Rates
from archipelago.reachability.arrays import Ints

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


class BothLegs:
    """Adds up what crosses cables again, while flows go on from router to router.

    Args:
        reverse: for each link the one that frames come back by; -1 where there is none.
        first: the links of each flow's first leg.
        rate: what each flow carries.
    """

    def __init__(self, reverse: Ints, first: Crossings, rate: Rates) -> None:
        self._reverse = reverse
        self._rate = rate
        self._crossed = self._turned(first)
        self.again: Rates = np.zeros(len(reverse))

    def follow(self, leg: Crossings) -> None:
        """Take up the next leg of every flow."""
        self.again += self._crossed.multiply(leg).T @ self._rate
        self._crossed = self._crossed.maximum(self._turned(leg))

    def keep(self, which: Ints) -> None:
        """Go on with some of the flows."""
        self._crossed, self._rate = self._crossed[which], self._rate[which]

    def _turned(self, leg: Crossings) -> Crossings:
        """What is crossed by the links that come back."""
        cells = leg.tocoo()
        column = self._reverse[cells.col]
        known = column >= 0
        return csr_array((cells.data[known], (cells.row[known], column[known])), shape=leg.shape)
