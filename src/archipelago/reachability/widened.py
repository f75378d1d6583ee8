"""The arrays of an indexed network, and of the same with the outside in it: made once, however many ask."""

from __future__ import annotations

from dataclasses import dataclass

from archipelago.errors import QueryError
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import know
from archipelago.knowledge.outside import with_outside
from archipelago.reachability.arrays import NetworkArrays
from archipelago.reachability.build import build_arrays


@dataclass(frozen=True, slots=True)
class Widened:
    """A network with the outside in it, as far as that can be: indexed, in arrays, and the hosts that stand for it."""

    index: NetworkIndex
    arrays: NetworkArrays
    outside: tuple[str, ...]


def arrays_of(index: NetworkIndex) -> NetworkArrays:
    """An indexed network in arrays."""
    return index.once(_arrays)


def widened_of(index: NetworkIndex) -> Widened:
    """An indexed network with the outside in it; as it is where it has none, or where one of its own is called so."""
    return index.once(_widened)


def _arrays(index: NetworkIndex) -> NetworkArrays:
    return build_arrays(index.knowledge)


def _widened(index: NetworkIndex) -> Widened:
    try:
        network, outside = with_outside(index.knowledge)
    except QueryError:
        network, outside = index.network, ()
    if not outside and index.network.outside is None:
        return Widened(index, arrays_of(index), ())
    wider = NetworkIndex(know(network))
    return Widened(wider, arrays_of(wider), outside)
