"""Every pair of classes decided in arrays: each device's way to every class, followed to its end, out and back."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from archipelago.reachability.arrays import CONNECTED, NOWHERE, Bools, Fabric, Family, Ints
from archipelago.reachability.islands import Islands, islands

MOST_ROUTERS = 63
"""A packet with a first TTL of 64 passes so many routers at most (RFC 1812 5.3.1)."""
AT_A_TIME = 256
"""How many classes' ways are in memory at once."""
TILE = 512
"""Rows and columns of a piece of a matrix that fits the processor's cache."""
Codes = NDArray[np.int32]


@dataclass(frozen=True, slots=True)
class Meaning:
    """What the number at the end of a way means. Below `arrived`: still under way between routers, at that row, when
    the TTL ran out. Then, in this order: arrived; contested (an address that several hold decides); no route, at a
    place; a broadcast address, at a place; the route (an entry) that led nowhere."""

    rows: int
    places: int

    @property
    def arrived(self) -> int:
        return self.rows

    @property
    def contested(self) -> int:
        return self.rows + 1

    @property
    def no_route(self) -> int:
        return self.rows + 2

    @property
    def broadcast(self) -> int:
        return self.no_route + self.places

    @property
    def entry(self) -> int:
        return self.broadcast + self.places


@dataclass(frozen=True, slots=True)
class Columns:
    """What can be sent to: each class by its probed address, then classes by their other addresses. `order` sorts
    them by the `piece` of the address space that each lies in."""

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


@dataclass(frozen=True, slots=True)
class Ways:
    """Where every class's packets end. `ends` are those of each routing row; a class's packets fare as those of its
    first router (`start`: a row, or a meaning of its own), but for single cells (class times columns, plus column, in
    order) that `patch` has."""

    ends: Codes
    start: Codes
    cell: Ints
    patch: Codes
    columns: Columns

    def of(self, low: int, high: int) -> Codes:
        """Where the ways of classes `low` to `high` to every column end."""
        start, rows, width = self.start[low:high], len(self.ends), len(self.columns.piece)
        if rows:
            found = self.ends[np.minimum(start, rows - 1)]
            own = start >= rows
            found[own] = start[own, None]
        else:
            found = np.repeat(start[:, None], width, axis=1)
        a, b = np.searchsorted(self.cell, (low * width, high * width))
        found.reshape(-1)[self.cell[a:b] - low * width] = self.patch[a:b]
        return found

    def of_pairs(self, source: Ints, column: Ints) -> Codes:
        """Where single ways end."""
        start, rows = self.start[source], len(self.ends)
        found = np.where(start < rows, self.ends[np.minimum(start, rows - 1), column], start) if rows else start.copy()
        if len(self.cell):
            wanted = source * len(self.columns.piece) + column
            at = np.minimum(np.searchsorted(self.cell, wanted), len(self.cell) - 1)
            patched = self.cell[at] == wanted
            found[patched] = self.patch[at[patched]]
        return found


@dataclass(frozen=True, slots=True)
class Outcome:
    """One family's answer, by class. `of_state` gives the class of each state (twice a bunch's number, plus one where
    a host of it is up), -1 for none. `onward` says whose packets arrive at whom, `back` whose replies do; where it is
    `contested`, an address that several hold decides. `replies` has, for classes that speak from several addresses,
    the column that each class's replies go to. `direct` are the entries that ask for the target itself."""

    family: Family
    meaning: Meaning
    of_state: Ints
    ways: Ways
    replies: Mapping[int, Ints]
    direct: Bools
    onward: Bools
    back: Bools
    contested: Bools | None

    @property
    def reached(self) -> Bools:
        """Who reaches whom, there and back."""
        if self.replies:
            return self.onward & self.back
        found = np.empty_like(self.onward)
        for i in range(0, len(found), TILE):  # a matrix and its turned self, in pieces that fit the cache
            for j in range(0, len(found), TILE):
                here, there = slice(i, i + TILE), slice(j, j + TILE)
                np.logical_and(self.onward[here, there], self.back[here, there], out=found[here, there])
        return found

    def reply_columns(self, answers: Ints, asks: Ints) -> Ints:
        """The columns that replies from some classes to others go to."""
        found = asks.copy()
        for owner, column in self.replies.items():
            mine = asks == owner
            found[mine] = column[answers[mine]]
        return found

    def differs(self, code: Ints) -> tuple[Bools, Bools]:
        """Whether the mistake behind an end can differ by who sends, and by who is sent to."""
        meaning, entries = self.meaning, self.family.entries
        entry = np.maximum(code - meaning.entry, 0)
        by_entry = code >= meaning.entry
        place = np.where(code >= meaning.broadcast, code - meaning.broadcast, code - meaning.no_route)
        if len(entries.place):
            entry = np.minimum(entry, len(entries.place) - 1)
            place = np.where(by_entry, entries.place[entry], place)
        sender = (code >= meaning.no_route) & (place >= meaning.rows)
        hearer = np.where(by_entry, self.direct[entry], True) if len(entries.place) else np.ones_like(sender)
        hearer &= ~(sender & (code < meaning.broadcast))
        return sender, hearer


def decide(fabric: Fabric, version: int, domains: Islands | None = None) -> Outcome:
    """Decide every ordered pair of classes of a family.

    Hosts that look alike from outside and stand in one broadcast domain are a class. Each routing device (once for
    each of its tables) is a row, each class a column, and the value where a packet for that class goes next: another
    row, or an end. Following the rows at most 63 times ends every packet.
    """
    return _Decision(fabric, fabric.families[version], domains or islands(len(fabric.feet), fabric.joints)).outcome()


class _Decision:
    def __init__(self, fabric: Fabric, family: Family, domains: Islands) -> None:
        self.fabric = fabric
        self.family = family
        self.islands = domains
        self.meaning = Meaning(len(family.rows), len(family.rows) + len(family.sign))
        self.bunch_domain = np.where(fabric.stands == NOWHERE, -1, domains.of[fabric.stands])
        self._classes()
        self.columns = self._columns()
        self._entries()

    # Classes

    def _classes(self) -> None:
        """Fold the hosts: those of one sign in one domain, and those that are down, of one sign."""
        fabric, family = self.fabric, self.family
        state = fabric.bunch * 2 + ~fabric.down
        size = 2 * len(family.sign)
        there = np.bincount(state, minlength=size) > 0
        there &= np.repeat(family.sign, 2) >= 0
        states = np.flatnonzero(there)
        live = states % 2 == 1
        domain = np.where(live, self.bunch_domain[states // 2], -2)
        # hosts on no foot hear nobody, each bunch of them in a domain of its own
        apart = np.where(live & (domain == -1), -3 - states, domain)
        key = family.sign[states // 2] * (len(fabric.feet) + size + 4) + apart + size + 3
        _, first, of = np.unique(key, return_index=True, return_inverse=True)
        self.of_state = np.full(size, -1, dtype=np.int64)
        self.of_state[states] = of
        self.bunch_of = states[first] // 2
        self.live = live[first]
        self.domain = apart[first]
        self.sign = family.sign[self.bunch_of]

    def _columns(self) -> Columns:
        signs = self.family.signs
        probed = np.array([sign.pieces[0] for sign in signs], dtype=np.int64)[self.sign]
        several = np.array([len(sign.pieces) > 1 for sign in signs], dtype=np.bool_)[self.sign]
        more = [
            (int(owner), slot, piece)
            for owner in np.flatnonzero(several)
            for slot, piece in enumerate(signs[self.sign[owner]].pieces)
            if slot
        ]
        extra = np.array(more, dtype=np.int64).reshape(-1, 3).T
        piece = np.concatenate((probed, extra[2]))
        owner = np.concatenate((np.arange(len(probed)), extra[0]))
        slot = np.concatenate((np.zeros(len(probed), dtype=np.int64), extra[1]))
        order = np.argsort(piece, kind="stable")
        return Columns(piece, self.domain[owner], owner, slot, order, piece[order])

    # Routes

    def _entries(self) -> None:
        """Where each route leads: to a row, to whoever is asked for, or to an end."""
        entries, family, meaning = self.family.entries, self.family, self.meaning
        rows = meaning.rows
        host = entries.place >= rows
        foot_domain = self.islands.of[np.maximum(entries.foot, 0)]
        self.entry_domain = np.where(host, self.bunch_domain[np.maximum(entries.place - rows, 0)], foot_domain)
        looped = self.islands.loops[np.maximum(self.entry_domain, 0)] & (self.entry_domain >= 0)
        self.direct = (entries.hop == CONNECTED) & ~looped
        self.connected = self.direct & (self.entry_domain >= 0)
        value = meaning.entry + np.arange(len(entries.place))
        asking = np.flatnonzero((entries.hop >= 0) & ~looped & (self.entry_domain >= 0))
        holders = family.holders
        by_host = holders.host >= 0
        place = self.bunch_domain[self.fabric.bunch[np.maximum(holders.host, 0)]]
        stands = np.where(by_host, place, self.islands.of[np.maximum(holders.foot, 0)])
        ready = np.where(by_host, ~self.fabric.down[np.maximum(holders.host, 0)], self.fabric.up[holders.foot])
        ready &= stands >= 0
        width = len(self.islands.loops) + 1
        key = (holders.hop * width + stands)[ready]
        known, first, times = np.unique(key, return_index=True, return_counts=True)
        wanted = entries.hop[asking] * width + self.entry_domain[asking]
        at = np.minimum(np.searchsorted(known, wanted), max(0, len(known) - 1))
        self.handed = np.full(len(value), -1, dtype=np.int64)
        if len(known):
            met = known[at] == wanted
            asking, at = asking[met], at[met]
            holder = np.flatnonzero(ready)[first[at]]
            forwards = holders.place[holder] >= 0
            value[asking[forwards]] = holders.place[holder][forwards]
            self.handed[asking] = holders.host[holder]
            value[asking[times[at] > 1]] = meaning.contested
        self.value = value.astype(np.int32)

    def _painted(self, chosen: Ints) -> Iterator[tuple[Ints, Ints]]:
        """The cells that entries cover, shorter prefixes first: of each cell the entry, and the column."""
        entries = self.family.entries
        low, high = self.columns.between(entries.first[chosen], entries.last[chosen])
        length = entries.length[chosen]
        for one in np.unique(length):
            these = (length == one) & (high > low)
            yield self._cells(chosen[these], low[these], high[these])

    def _cells(self, what: Ints, low: Ints, high: Ints) -> tuple[Ints, Ints]:
        """Each of some things, repeated for the columns from `low` to `high` in their order."""
        size = high - low
        whose = np.repeat(what, size)
        within = np.arange(len(whose)) - np.repeat(np.cumsum(size) - size, size)
        return whose, self.columns.order[np.repeat(low, size) + within]

    def _codes(self, entry: NDArray[np.integer], cell: Ints) -> Codes:
        """Where a packet goes next by an entry; its column is the cell's number, counted round."""
        count = len(self.columns.piece)
        code: Codes = self.value[entry]
        direct = np.flatnonzero(self.connected[entry])
        there = self.entry_domain[entry[direct]] == self.columns.domain[cell[direct] % count]
        code[direct[there]] = self.meaning.arrived
        if (self.handed >= 0).any():
            met, fabric = self.handed[entry], self.fabric
            owner = self.of_state[fabric.bunch[np.maximum(met, 0)] * 2 + 1]
            code[(met >= 0) & (owner == self.columns.owner[cell % count]) & (code != self.meaning.contested)] = (
                self.meaning.arrived
            )
        return code

    def _steps(self) -> NDArray[np.int32]:
        """Where every routing row sends each column next."""
        meaning, columns = self.meaning, self.columns
        count = len(columns.piece)
        entries = self.family.entries
        mine = entries.place < meaning.rows
        whole = mine & (entries.length == 0)
        grid = np.full((meaning.rows, count), -1, dtype=np.int32)
        grid[entries.place[whole]] = np.flatnonzero(whole)[:, None]  # a default route covers every column
        best = grid.reshape(-1)
        for whose, column in self._painted(np.flatnonzero(mine & ~whole)):
            best[entries.place[whose] * count + column] = whose
        steps = np.repeat(meaning.no_route + np.arange(meaning.rows, dtype=np.int32), count)
        known = np.flatnonzero(best >= 0)
        steps[known] = self._codes(best[known], known)
        table = steps.reshape(meaning.rows, count)
        deaf = self.family.deaf[:, self.family.deaf[0] < meaning.rows]
        which, column = self._cells(np.arange(deaf.shape[1]), *columns.between(deaf[1], deaf[1]))
        table[deaf[0][which], column] = meaning.broadcast + deaf[0][which]
        table[:, self.twice] = meaning.contested
        return table

    def _follow(self, steps: Codes) -> Codes:
        """63 steps at once, by squaring; sooner where every way has ended."""
        rows, count = steps.shape
        powers = [steps.reshape(-1)]
        moving = np.flatnonzero(powers[0] < rows)
        column = moving % count
        while len(moving) and 2 ** len(powers) <= MOST_ROUTERS:
            last = powers[-1]
            power = last.copy()
            power[moving] = onward = last[last[moving] * count + column]
            powers.append(power)
            moving, column = moving[onward < rows], column[onward < rows]
        result = powers.pop()
        while len(moving) and powers:  # what still goes on goes the rest of its 63 steps
            result[moving] = onward = powers.pop()[result[moving] * count + column]
            moving, column = moving[onward < rows], column[onward < rows]
        return result.reshape(rows, count)

    # Ways

    def _ways(self) -> Ways:
        meaning, columns, entries = self.meaning, self.columns, self.family.entries
        rows = meaning.rows
        ends = self._follow(self._steps())
        of_place = np.full(meaning.places, -1, dtype=np.int64)
        speaking = np.flatnonzero(self.live)
        of_place[rows + self.bunch_of[speaking]] = speaking
        start = (meaning.no_route + rows + self.bunch_of).astype(np.int32)
        mine = of_place[entries.place]
        default = np.flatnonzero((mine >= 0) & (entries.hop != CONNECTED) & (self.handed < 0))
        start[mine[default]] = self.value[default]
        cells = [np.empty((3, 0), dtype=np.int64)]
        others = np.flatnonzero((mine >= 0) & ((entries.hop == CONNECTED) | (self.handed >= 0)))
        for whose, column in self._painted(others):
            cells.append(np.stack((mine[whose], column, self._codes(whose, column))))
        deaf = self.family.deaf[:, of_place[self.family.deaf[0]] >= 0]
        low, high = columns.between(deaf[1], deaf[1])
        whose, column = self._cells(np.arange(deaf.shape[1]), low, high)
        cells.append(np.stack((of_place[deaf[0]][whose], column, meaning.broadcast + deaf[0][whose])))
        contested = np.flatnonzero(self.twice)
        if len(contested):
            cells.append(
                np.stack(
                    (
                        np.repeat(speaking, len(contested)),
                        np.tile(contested, len(speaking)),
                        np.full(len(speaking) * len(contested), meaning.contested),
                    )
                )
            )
        patches = np.concatenate(cells, axis=1)
        key = patches[0] * len(columns.piece) + patches[1]
        cell, last = np.unique(key[::-1], return_index=True)  # the longest prefix was written last
        return Ways(ends, start, cell, patches[2][::-1][last].astype(np.int32), columns)

    def outcome(self) -> Outcome:
        self.twice = self._contested_columns()
        ways = self._ways()
        meaning, classes = self.meaning, len(self.sign)
        onward = np.empty((classes, len(self.columns.piece)), dtype=np.bool_)
        contested = None
        for low in range(0, classes, AT_A_TIME):
            high = min(low + AT_A_TIME, classes)
            codes = ways.of(low, high)
            np.equal(codes, meaning.arrived, out=onward[low:high])
            open_ = codes == meaning.contested
            if open_.any():
                if contested is None:
                    contested = np.zeros_like(onward)
                contested[low:high] = open_
        main = onward[:, :classes]
        replies = self._replies()
        back = _turned(onward, replies, classes)
        doubt = None
        if contested is not None:
            doubt = contested[:, :classes] | (main & _turned(contested, replies, classes))
        return Outcome(self.family, meaning, self.of_state, ways, replies, self.direct, main, back, doubt)

    def _contested_columns(self) -> Bools:
        """The columns whose address somebody else who is up holds too."""
        found = np.zeros(len(self.columns.piece), dtype=np.bool_)
        fabric = self.fabric
        for host, other, foot in self.family.twice:
            if not fabric.down[other] if other >= 0 else fabric.up[foot]:
                owner = self.of_state[fabric.bunch[host] * 2 + (not fabric.down[host])]
                found |= self.columns.owner == owner
        return found

    def _replies(self) -> dict[int, Ints]:
        """For each class with several addresses, the column of the one that it speaks from to each class."""
        columns, classes = self.columns, len(self.sign)
        found: dict[int, Ints] = {}
        for owner in np.unique(columns.owner[classes:]).tolist():
            mine = np.flatnonzero(columns.owner == owner)
            column = dict(zip(columns.slot[mine].tolist(), mine.tolist(), strict=True))
            towards = np.full(classes, owner, dtype=np.int64)
            spoken = np.zeros(classes, dtype=np.bool_)
            for slot, first, last in self.family.signs[self.sign[owner]].speaks:
                piece = columns.piece[:classes]
                inside = (piece >= first) & (piece <= last) & ~spoken
                towards[inside] = column[slot]
                spoken |= inside
            found[owner] = towards
        return found


def _turned(onward: Bools, replies: Mapping[int, Ints], classes: int) -> Bools:
    """Of each class and each other, what holds of the other's replies."""
    found = onward[:, :classes].T
    if replies:
        found = found.copy()
        every = np.arange(classes)
        for owner, column in replies.items():
            found[owner] = onward[every, column]
    return found
