"""The states that a packet can be in, and where each leads: what the array engine walks.

A state is a routing table (a row) and a header class (a column): what a packet's header is, so far as any rule of the
network can tell headers apart. A step leads from one state to another, or to an outcome, and carries the interfaces
that it crosses: out by the one of the route that was chosen, in by the one that holds the next hop. Filters and
translation belong on these crossings.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from archipelago.reachability.arrays import CONNECTED, NO_ENDPOINT, Bools, Codes, Entries, Family, Ints, NetworkArrays
from archipelago.reachability.domains import DomainLabels


@dataclass(frozen=True, slots=True)
class OutcomeCodes:
    """What the number at the end of a path means. Below `states`: still under way, in that state, when the TTL ran out.
    Then, in this order: arrived; contested (an address that several hold decides); no route, at a place; a broadcast
    address, at a place; the place's own address; the route (an entry) that led nowhere."""

    rows: int
    columns: int
    places: int

    @property
    def states(self) -> int:
        return self.rows * self.columns

    @property
    def arrived(self) -> int:
        return self.states

    @property
    def contested(self) -> int:
        return self.states + 1

    @property
    def no_route(self) -> int:
        return self.states + 2

    @property
    def broadcast(self) -> int:
        return self.no_route + self.places

    @property
    def delivered(self) -> int:
        return self.broadcast + self.places

    @property
    def entry(self) -> int:
        return self.delivered + self.places

    def row(self, state: int) -> int:
        """The routing table of a state."""
        return state // self.columns

    def kind(self, entries: int) -> np.dtype[Any]:
        """The smallest integers that hold every code."""
        return np.dtype(np.int32 if self.entry + entries < 2**31 else np.int64)


@dataclass(frozen=True, slots=True)
class HeaderClasses:
    """What can be sent to: the `piece` of the address space that each header class's destination lies in, the broadcast
    domain of whoever holds it, whose it is, and which of its addresses. `order` sorts them by piece."""

    piece: Ints
    domain: Ints
    owner: Ints
    slot: Ints
    order: Ints
    sorted_piece: Ints

    def between(self, first: Ints, last: Ints) -> tuple[Ints, Ints]:
        """Where the columns of each range of pieces begin and end in the order."""
        low = np.searchsorted(self.sorted_piece, first)
        return low, np.maximum(np.searchsorted(self.sorted_piece, last, side="right"), low)

    def cells(self, what: Ints, low: Ints, high: Ints) -> tuple[Ints, Ints]:
        """Each of some things, repeated for the columns from `low` to `high` in their order."""
        size = high - low
        whose = np.repeat(what, size)
        within = np.arange(len(whose)) - np.repeat(np.cumsum(size) - size, size)
        return whose, self.order[np.repeat(low, size) + within]


def classes_at(pieces: Ints) -> HeaderClasses:
    """Header classes for destinations that nobody need hold, one for each piece."""
    order = np.argsort(pieces, kind="stable")
    nobody = np.full(len(pieces), -1, dtype=np.int64)
    return HeaderClasses(pieces, nobody - 2, nobody, np.zeros_like(nobody), order, pieces[order])


@dataclass(frozen=True, slots=True)
class Hops:
    """Where each route leads: the broadcast domain that it leaves into; whether it asks for the target itself; the row
    that its next hop forwards by (-1: none), the endpoint that holds it (-1: none found) and the host, where a host
    does (-1); whether several hold it."""

    domain: Ints
    direct: Bools
    row: Ints
    ingress: Ints
    host: Ints
    contested: Bools


def resolve_hops(arrays: NetworkArrays, family: Family, labels: DomainLabels, class_domain: Ints) -> Hops:
    """Find out for each route who answers for its next hop: whoever holds it in the domain that the route leaves into.

    Args:
        arrays: the network.
        family: the routes.
        labels: the broadcast domain of each endpoint.
        class_domain: that of each host class.
    """
    entries, holders = family.entries, family.holders
    rows = len(family.rows)
    own = class_domain[np.maximum(entries.place - rows, 0)] if len(class_domain) else entries.place
    domain = np.where(entries.place >= rows, own, labels.of[np.maximum(entries.endpoint, 0)])
    looped = labels.loops[np.maximum(domain, 0)] & (domain >= 0)
    size = len(entries.place)
    row, ingress, host = (np.full(size, -1, dtype=np.int64) for _ in range(3))
    contested = np.zeros(size, dtype=np.bool_)
    asking = np.flatnonzero((entries.hop >= 0) & ~looped & (domain >= 0))
    by_host = holders.host >= 0
    someone = np.maximum(holders.host, 0)
    stands = np.where(by_host, class_domain[arrays.host_class[someone]], labels.of[np.maximum(holders.endpoint, 0)])
    ready = np.where(by_host, ~arrays.down[someone], arrays.up[holders.endpoint]) & (stands >= 0)
    width = len(labels.loops) + 1
    known, first, times = np.unique((holders.hop * width + stands)[ready], return_index=True, return_counts=True)
    if len(known):
        wanted = entries.hop[asking] * width + domain[asking]
        at = np.minimum(np.searchsorted(known, wanted), len(known) - 1)
        met = known[at] == wanted
        asking, at = asking[met], at[met]
        holder = np.flatnonzero(ready)[first[at]]
        row[asking], host[asking] = holders.place[holder], holders.host[holder]
        ingress[asking] = holders.endpoint[holder]
        contested[asking] = times[at] > 1
    return Hops(domain, (entries.hop == CONNECTED) & ~looped, row, ingress, host, contested)


@dataclass(frozen=True, slots=True)
class StateTable:
    """For each state (row times columns, plus column) where it leads `next`, another state or an outcome, and the
    `route` that was chosen there (-1: none)."""

    codes: OutcomeCodes
    next: Codes
    route: Codes

    def crossing(self, state: int, entries: Entries, hops: Hops) -> tuple[int, int]:
        """The endpoints that the step from a state crosses: the interface that it leaves by, and the one that it comes
        in by at the next routing table (NO_ENDPOINT where it comes to none)."""
        route = int(self.route[state])
        if route < 0:
            return NO_ENDPOINT, NO_ENDPOINT
        moves = self.next[state] < self.codes.states
        return int(entries.endpoint[route]), int(hops.ingress[route]) if moves else NO_ENDPOINT


@dataclass(frozen=True, slots=True)
class Start:
    """Where the packets of each class begin: the row of their first router less the number of rows (0 and above: none),
    and the endpoint that they come in by there. `apart` are single cells (class times columns, plus column, in order)
    that begin otherwise, and meet no router."""

    row: Codes
    ingress: Ints
    apart: Ints

    def is_apart(self, cells: Ints) -> Bools:
        """Which cells meet no router."""
        if not len(self.apart):
            return np.zeros(len(cells), dtype=np.bool_)
        met: Bools = self.apart[np.minimum(np.searchsorted(self.apart, cells), len(self.apart) - 1)] == cells
        return met


@dataclass(frozen=True, slots=True)
class Ways:
    """All ways of a family's packets: where they `start`, where each state leads (`table`), by which `hops`, and what
    can be sent to (`columns`)."""

    table: StateTable
    hops: Hops
    columns: HeaderClasses
    start: Start


def chosen_routes(entries: Entries, classes: HeaderClasses, rows: int, kind: np.dtype[Any]) -> Codes:
    """For each state the route with the longest prefix (RFC 1812 5.2.4.3), by its number; -1 where there is none."""
    count = len(classes.piece)
    mine = entries.place < rows
    whole = mine & (entries.length == 0)
    grid: Codes = np.full((rows, count), -1, dtype=kind)
    grid[entries.place[whole]] = np.flatnonzero(whole)[:, None]  # a default route covers every column
    best = grid.reshape(-1)
    for whose, column in painted(entries, classes, np.flatnonzero(mine & ~whole)):
        best[entries.place[whose] * count + column] = whose
    return best


def painted(entries: Entries, classes: HeaderClasses, chosen: Ints) -> Iterator[tuple[Ints, Ints]]:
    """The cells that routes cover, shorter prefixes first: of each cell the route, and the column."""
    low, high = classes.between(entries.first[chosen], entries.last[chosen])
    length = entries.length[chosen]
    for size in np.unique(length):
        these = (length == size) & (high > low)
        yield classes.cells(chosen[these], low[these], high[these])


def by_place(classes: HeaderClasses, cells: Ints, places: Bools) -> tuple[Ints, Ints]:
    """The columns of the pieces that some places have something of their own to say of: each place, and a column."""
    mine = cells[:, places[cells[0]]]
    which, column = classes.cells(np.arange(mine.shape[1]), *classes.between(mine[1], mine[1]))
    return mine[0][which], column
