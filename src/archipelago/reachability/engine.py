"""Every pair of classes decided in arrays: each state followed to its end, out and back."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import numpy as np
from numpy.typing import NDArray

from archipelago.progress import steps
from archipelago.reachability.answering import with_shared
from archipelago.reachability.arrays import CONNECTED, NO_ENDPOINT, Bools, Codes, Family, Ints, NetworkArrays
from archipelago.reachability.crossings import Crossings, guards_of, translators_of
from archipelago.reachability.domains import DomainLabels, label_domains
from archipelago.reachability.outcome import AT_A_TIME, Outcome, Paths, reply_columns
from archipelago.reachability.sizes import passing, shapes, sizes_of
from archipelago.reachability.states import (
    HeaderClasses,
    OutcomeCodes,
    Start,
    StateTable,
    Ways,
    by_place,
    chosen_routes,
    painted,
    resolve_hops,
)

MOST_ROUTERS = 63
"""A packet with a first TTL of 64 passes so many routers at most (RFC 1812 5.3.1)."""


def decide(
    arrays: NetworkArrays, version: int, labels: DomainLabels | None = None, lengths: Iterable[int] = ()
) -> Outcome:
    """Decide every ordered pair of classes of a family.

    Hosts that look alike from outside and stand in one broadcast domain are a class. Each routing device (once for
    each of its tables) is a row, each class a column, and the value where a packet for that class goes next: another
    state, or an end. Following the states at most 63 times ends every packet. Hosts that packets of some `lengths`
    (octets) tell apart are of different classes.
    """
    labels = labels or label_domains(len(arrays.endpoints), arrays.adjacencies)
    return _Deciding(arrays, arrays.families[version], labels, lengths).outcome()


class _Deciding:
    def __init__(self, arrays: NetworkArrays, family: Family, labels: DomainLabels, lengths: Iterable[int]) -> None:
        self.arrays = arrays
        self.family = family = with_shared(arrays, family, labels)
        self.class_domain = np.where(arrays.endpoint == NO_ENDPOINT, -1, labels.of[arrays.endpoint])
        self.passes = passing(arrays, lengths)
        self._fold_hosts()
        self.columns = self._header_classes()
        rows = len(family.rows)
        self.codes = OutcomeCodes(rows, len(self.columns.piece), rows + len(family.profile))
        self.kind = self.codes.kind(len(family.entries.place))
        self.hops = resolve_hops(arrays, family, labels, self.class_domain)

    # Classes

    def _fold_hosts(self) -> None:
        """Fold the hosts: those of one profile in one domain, and those that are down, of one profile."""
        arrays, family = self.arrays, self.family
        state = arrays.host_class * 2 + ~arrays.down
        size = 2 * len(family.profile)
        there = np.bincount(state, minlength=size) > 0
        there &= np.repeat(family.profile, 2) >= 0
        states = np.flatnonzero(there)
        live = states % 2 == 1
        domain = np.where(live, self.class_domain[states // 2], -2)
        # hosts at no endpoint hear nobody, each host class of them in a domain of its own
        apart = np.where(live & (domain == -1), -3 - states, domain)
        key = family.profile[states // 2] * (len(arrays.endpoints) + size + 4) + apart + size + 3
        if self.passes:
            shape = shapes(arrays, self.passes)
            key = key * (int(shape.max(initial=0)) + 1) + shape[states // 2]
        _, first, of = np.unique(key, return_index=True, return_inverse=True)
        self.of_state = np.full(size, -1, dtype=np.int64)
        self.of_state[states] = of
        self.example = states[first] // 2
        self.live = live[first]
        self.domain = apart[first]
        self.profile = family.profile[self.example]

    def _header_classes(self) -> HeaderClasses:
        """What can be sent to: each class by its probed address, then classes by their other addresses."""
        profiles = self.family.profiles
        probed = np.array([profile.pieces[0] for profile in profiles], dtype=np.int64)[self.profile]
        several = np.array([len(profile.pieces) > 1 for profile in profiles], dtype=np.bool_)[self.profile]
        more = [
            (int(owner), slot, piece)
            for owner in np.flatnonzero(several)
            for slot, piece in enumerate(profiles[self.profile[owner]].pieces)
            if slot
        ]
        extra = np.array(more, dtype=np.int64).reshape(-1, 3).T
        piece = np.concatenate((probed, extra[2]))
        owner = np.concatenate((np.arange(len(probed)), extra[0]))
        slot = np.concatenate((np.zeros(len(probed), dtype=np.int64), extra[1]))
        order = np.argsort(piece, kind="stable")
        return HeaderClasses(piece, self.domain[owner], owner, slot, order, piece[order])

    # Steps

    def _lead(self, route: NDArray[np.integer], column: Ints) -> Codes:
        """Where routes lead packets of some columns: to a state, to whoever is asked for, or to an end."""
        codes, hops, columns = self.codes, self.hops, self.columns
        lead: Codes = (codes.entry + route).astype(self.kind)
        row = hops.row[route]
        onward = np.flatnonzero(row >= 0)
        lead[onward] = row[onward] * codes.columns + column[onward]
        direct = np.flatnonzero(hops.direct[route] & (hops.domain[route] >= 0))
        there = hops.domain[route[direct]] == columns.domain[column[direct]]
        lead[direct[there]] = codes.arrived
        host = hops.host[route]
        if (host >= 0).any():
            asked = self.of_state[self.arrays.host_class[np.maximum(host, 0)] * 2 + 1]
            lead[(host >= 0) & (asked == columns.owner[column])] = codes.arrived
        lead[hops.contested[route]] = codes.contested
        return lead

    def state_table(self) -> StateTable:
        """Where every routing row sends each column next."""
        codes, columns, family = self.codes, self.columns, self.family
        best = chosen_routes(family.entries, columns, codes.rows, self.kind)
        steps = np.repeat(codes.no_route + np.arange(codes.rows, dtype=self.kind), codes.columns)
        known = np.flatnonzero(best >= 0)
        steps[known] = self._lead(best[known], known % max(codes.columns, 1))
        table = steps.reshape(codes.rows, codes.columns)
        routing = np.arange(codes.places) < codes.rows
        for cells, base in ((family.dropped_broadcasts, codes.broadcast), (family.own_addresses, codes.delivered)):
            row, column = by_place(columns, cells, routing)
            table[row, column] = base + row
        table[:, self.duplicated] = codes.contested
        return StateTable(codes, steps, best)

    def _walk(self, table: StateTable) -> Codes:
        """63 steps at once, by squaring; sooner where every path has ended."""
        states = table.codes.states
        powers = [table.next]
        moving = np.flatnonzero(table.next < states)
        while len(moving) and 2 ** len(powers) <= MOST_ROUTERS:
            last = powers[-1]
            power = last.copy()
            power[moving] = onward = last[last[moving]]
            powers.append(power)
            moving = moving[onward < states]
        result = powers.pop()
        while len(moving) and powers:  # what still goes on goes the rest of its 63 steps
            result[moving] = onward = powers.pop()[result[moving]]
            moving = moving[onward < states]
        return result.reshape(table.codes.rows, table.codes.columns)

    # Paths

    def _paths(self) -> Paths:
        codes, columns, hops = self.codes, self.columns, self.hops
        rows, entries = codes.rows, self.family.entries
        self.table = self.state_table()
        ends = self._walk(self.table)
        of_place = np.full(codes.places, -1, dtype=np.int64)
        speaking = np.flatnonzero(self.live)
        of_place[rows + self.example[speaking]] = speaking
        start = (codes.no_route + rows + self.example).astype(self.kind)
        mine = of_place[entries.place]
        default = np.flatnonzero((mine >= 0) & (entries.hop != CONNECTED) & (hops.host < 0))
        value = np.where(hops.row >= 0, hops.row - rows, codes.entry + np.arange(len(entries.place)))
        value[hops.contested] = codes.contested
        start[mine[default]] = value[default]
        self.ingress = np.full(len(start), NO_ENDPOINT, dtype=np.int64)
        self.ingress[mine[default]] = np.where(hops.contested, NO_ENDPOINT, hops.ingress)[default]
        cells = [np.empty((3, 0), dtype=np.int64)]
        others = np.flatnonzero((mine >= 0) & ((entries.hop == CONNECTED) | (hops.host >= 0)))
        for whose, column in painted(entries, columns, others):
            cells.append(np.stack((mine[whose], column, self._lead(whose, column))))
        place, column = by_place(columns, self.family.dropped_broadcasts, of_place >= 0)
        cells.append(np.stack((of_place[place], column, codes.broadcast + place)))
        doubtful = np.flatnonzero(self.duplicated)
        if len(doubtful):
            pairs = (np.repeat(speaking, len(doubtful)), np.tile(doubtful, len(speaking)))
            cells.append(np.stack((*pairs, np.full(len(pairs[0]), codes.contested))))
        patches = np.concatenate(cells, axis=1)
        key = patches[0] * len(columns.piece) + patches[1]
        cell, last = np.unique(key[::-1], return_index=True)  # the longest prefix was written last
        return Paths(ends, start, cell, patches[2][::-1][last].astype(self.kind))

    def outcome(self) -> Outcome:
        """The answer."""
        self.duplicated = self._duplicated_columns()
        paths = self._paths()
        codes, classes = self.codes, len(self.profile)
        onward = np.empty((classes, codes.columns), dtype=np.bool_)
        contested = None
        for low in steps(range(0, classes, AT_A_TIME), "deciding pairs"):
            high = min(low + AT_A_TIME, classes)
            path_codes = paths.of(low, high)
            np.equal(path_codes, codes.arrived, out=onward[low:high])
            open_ = path_codes == codes.contested
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
        ways = Ways(self.table, self.hops, self.columns, Start(paths.start, self.ingress, paths.cell))
        translated = self._translated(ways, main, replies)
        guards = guards_of(self.arrays, self.family)
        return Outcome(
            family=self.family,
            codes=codes,
            of_state=self.of_state,
            paths=paths,
            replies=replies,
            direct=self.hops.direct,
            onward=main,
            back=back,
            contested=doubt,
            translated=translated,
            ways=ways,
            sizes=sizes_of(self.arrays, self.passes, self.example),
            crossings=None if guards is None else Crossings(self.family, ways, guards),
        )

    def _translated(self, ways: Ways, onward: Bools, replies: Mapping[int, Ints]) -> Bools | None:
        """The pairs whose question leaves with another source than its own: the answer goes to that, which is for the
        simulation to follow. None where nobody translates."""
        translating = translators_of(self.arrays, self.family)
        if translating is None:
            return None
        source, target = np.nonzero(onward)
        way = source, target, reply_columns(replies, target, source)
        translated = np.zeros_like(onward)
        translated[source, target] = Crossings(self.family, ways, translating).met(way)
        return translated

    def _duplicated_columns(self) -> Bools:
        """The columns whose address somebody else who is up holds too."""
        duplicated = np.zeros(len(self.columns.piece), dtype=np.bool_)
        arrays = self.arrays
        for host, other, endpoint in self.family.duplicate_addresses:
            if not arrays.down[other] if other >= 0 else arrays.up[endpoint]:
                owner = self.of_state[arrays.host_class[host] * 2 + (not arrays.down[host])]
                duplicated |= self.columns.owner == owner
        return duplicated

    def _replies(self) -> dict[int, Ints]:
        """For each class with several addresses, the column of the one that it speaks from to each class."""
        columns, classes = self.columns, len(self.profile)
        replies: dict[int, Ints] = {}
        for owner in np.unique(columns.owner[classes:]).tolist():
            mine = np.flatnonzero(columns.owner == owner)
            column = dict(zip(columns.slot[mine].tolist(), mine.tolist(), strict=True))
            towards = np.full(classes, owner, dtype=np.int64)
            spoken = np.zeros(classes, dtype=np.bool_)
            for slot, first, last in self.family.profiles[self.profile[owner]].speaks:
                piece = columns.piece[:classes]
                inside = (piece >= first) & (piece <= last) & ~spoken
                towards[inside] = column[slot]
                spoken |= inside
            replies[owner] = towards
        return replies


def _turned(onward: Bools, replies: Mapping[int, Ints], classes: int) -> Bools:
    """Of each class and each other, what holds of the other's replies."""
    turned = onward[:, :classes].T
    if replies:
        turned = turned.copy()
        every = np.arange(classes)
        for owner, column in replies.items():
            turned[owner] = onward[every, column]
    return turned
