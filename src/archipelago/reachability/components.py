"""The parts of a graph that hang together, in arrays."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from archipelago.reachability.arrays import Ints


def components(a: NDArray[np.integer], b: NDArray[np.integer], size: int) -> tuple[int, NDArray[np.int32]]:
    """The connected components of a graph, whichever way its edges point. As fast as SciPy's, without its import, which
    takes longer than most questions do.

    Args:
        a: the node at one end of each edge.
        b: the node at its other end.
        size: how many nodes there are, numbered from 0.

    Returns:
        How many components, and of each node the number of its own: in the order of the least node of each.
    """
    root: Ints = np.arange(size, dtype=np.int64)
    low, high = np.minimum(a, b).astype(np.int64), np.maximum(a, b).astype(np.int64)
    while (apart := low != high).any():
        low, high = low[apart], high[apart]
        # Each root that has a lesser neighbour goes under the least of them; then every node under its root.
        np.minimum.at(root, high, low)
        while not np.array_equal(above := root[root], root):
            root = above
        first, second = root[low], root[high]
        low, high = np.minimum(first, second), np.maximum(first, second)
    is_root = root == np.arange(size)
    number = np.cumsum(is_root, dtype=np.int32) - 1
    return int(np.count_nonzero(is_root)), number[root].astype(np.int32)
