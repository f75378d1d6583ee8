"""Broadcast domains of a network in arrays: connected components, and where switching runs in a circle."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from archipelago.reachability.arrays import Adjacencies, Bools
from archipelago.reachability.components import components


@dataclass(frozen=True, slots=True)
class DomainLabels:
    """The broadcast domain of each endpoint, and of each domain whether a broadcast in it never ends."""

    of: NDArray[np.int32]
    loops: Bools


def label_domains(endpoints: int, joints: Adjacencies) -> DomainLabels:
    """The broadcast domains: the connected components of the endpoints that frames pass between both ways.

    A component with more joints than a tree has is a loop; so is a way out of it and back in by one-way joints, and a
    domain from which frames leak into such a one is lost with it.
    """
    a, b = joints.endpoint[joints.first], joints.target[joints.first]
    count, of = components(a, b, endpoints)
    joined = np.bincount(of[a], minlength=count) if len(a) else np.zeros(count, dtype=np.int64)
    loops = joined >= np.bincount(of, minlength=count)
    leaks = ~joints.mutual
    if leaks.any():
        source, target = of[joints.endpoint[leaks]], of[joints.target[leaks]]
        strong = _both_ways(source, target, count)
        loops[source[strong[source] == strong[target]]] = True
        while (spread := loops[target] & ~loops[source]).any():
            loops[source[spread]] = True
    return DomainLabels(of, loops)


def _both_ways(source: NDArray[np.integer], target: NDArray[np.integer], size: int) -> NDArray[np.int32]:
    """The strongly connected component of each node."""
    from scipy.sparse import coo_array  # takes long to import, and few networks leak
    from scipy.sparse.csgraph import connected_components

    graph = coo_array((np.ones(len(source), dtype=np.int8), (source, target)), shape=(size, size))
    _, strong = connected_components(graph, directed=True, connection="strong")
    return np.asarray(strong, dtype=np.int32)
