"""Broadcast domains of a network in arrays: connected components, and where switching runs in a circle."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from archipelago.reachability.arrays import Adjacencies, Bools


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
    count, of = connected_components(_graph(a, b, endpoints), directed=False)
    joined = np.bincount(of[a], minlength=count) if len(a) else np.zeros(count, dtype=np.int64)
    loops = joined >= np.bincount(of, minlength=count)
    leaks = ~joints.mutual
    if leaks.any():
        source, target = of[joints.endpoint[leaks]], of[joints.target[leaks]]
        _, strong = connected_components(_graph(source, target, count), directed=True, connection="strong")
        loops[source[strong[source] == strong[target]]] = True
        while (spread := loops[target] & ~loops[source]).any():
            loops[source[spread]] = True
    return DomainLabels(of, loops)


def _graph(a: NDArray[np.integer], b: NDArray[np.integer], size: int) -> coo_array:
    return coo_array((np.ones(len(a), dtype=np.int8), (a, b)), shape=(size, size))
