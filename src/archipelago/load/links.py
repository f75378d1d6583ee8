"""Over which links frames go: within a broadcast domain without a loop there is one way, that of a tree."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import breadth_first_order, connected_components

from archipelago.load.parties import Rates, summed
from archipelago.reachability.arrays import Adjacencies, Ints

INSIDE = -1
"""The link between a VLAN of a device and the device's own interface in it: none."""


@dataclass(frozen=True, slots=True)
class Forest:
    """The trees of all broadcast domains. By endpoint its `parent` (itself at a root), how `deep` it is, and the number
    of the link that a frame leaves by to its parent (`up`), and to it from there (`down`)."""

    parent: Ints
    deep: Ints
    up: Ints
    down: Ints


def forest_of(endpoints: int, joints: Adjacencies) -> Forest:
    """The trees that the endpoints are joined to both ways.

    Args:
        endpoints: how many there are.
        joints: which of them frames pass between.
    """
    a, b = joints.endpoint[joints.first], joints.target[joints.first]
    joined = coo_array((np.ones(len(a), dtype=np.int8), (a, b)), shape=(endpoints, endpoints))
    _, domain = connected_components(joined, directed=False)
    _, roots = np.unique(domain, return_index=True)
    # One more node, joined to a root of each tree, makes all of them one.
    a, b = np.concatenate((a, roots)), np.concatenate((b, np.full(len(roots), endpoints)))
    size = endpoints + 1
    joined = coo_array((np.ones(len(a), dtype=np.int8), (a, b)), shape=(size, size))
    _, before = breadth_first_order(joined.tocsr(), endpoints, directed=False)
    parent = before[:endpoints].astype(np.int64)
    parent[roots] = roots
    deep = np.zeros(endpoints, dtype=np.int64)
    at, moving = parent.copy(), np.flatnonzero(parent != np.arange(endpoints))
    while len(moving):
        deep[moving] += 1
        above = parent[at[moving]]
        on = above != at[moving]
        at[moving] = above
        moving = moving[on]
    key = joints.endpoint * endpoints + joints.target
    by_key = np.argsort(key, kind="stable")
    every = np.arange(endpoints)
    over = np.where(joints.sender == joints.receiver, INSIDE, joints.link)[by_key]
    up, down = (
        _between(key[by_key], over, one * endpoints + other) for one, other in ((every, parent), (parent, every))
    )
    return Forest(parent, deep, up, down)


def _between(known: Ints, links: Ints, wanted: Ints) -> Ints:
    """The link of each wanted joint; INSIDE where there is none over a link."""
    if not len(known):
        return np.full(len(wanted), INSIDE)
    at = np.minimum(np.searchsorted(known, wanted), len(known) - 1)
    return np.where(known[at] == wanted, links[at], INSIDE)


@dataclass(frozen=True, slots=True)
class Legs:
    """What goes from endpoints to others in the same broadcast domain."""

    source: Ints
    target: Ints
    rate: Rates


def over_links(forest: Forest, legs: Legs, links: int) -> Rates:
    """What leaves by each link: every leg goes up from both its ends until they meet.

    Args:
        forest: the trees.
        legs: what goes from where to where.
        links: how many links there are.
    """
    sent = np.zeros(links + 1)  # the last is for what is inside devices
    size = len(forest.parent)
    pair = legs.source * size + legs.target
    apart = legs.source != legs.target
    pair, of = np.unique(pair[apart], return_inverse=True)
    rate = summed(of, legs.rate[apart], len(pair))
    source, target = pair // max(size, 1), pair % max(size, 1)
    while len(source):
        rises = forest.deep[source] >= forest.deep[target]
        link = np.where(rises, forest.up[source], forest.down[target])
        sent += np.bincount(np.where(link == INSIDE, links, link), weights=rate, minlength=links + 1)
        source = np.where(rises, forest.parent[source], source)
        target = np.where(rises, target, forest.parent[target])
        on = source != target
        source, target, rate = source[on], target[on], rate[on]
    return sent[:links]
