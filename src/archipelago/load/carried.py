"""Carry what hosts send along the ways of the array engine: from host to gateway, on, to the host."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.sparse import csr_array

from archipelago.knowledge.header import FIRST_TTL
from archipelago.knowledge.topology import far_end
from archipelago.load.both_legs import Crossings, Numbered, crossed_again, crossings
from archipelago.load.links import Forest, Legs, forest_of, over_links
from archipelago.load.parties import Flows, Groups, Rates, Stream, ends_of, group_hosts, some, summed
from archipelago.load.result import DemandLoad
from archipelago.load.walked import Walked
from archipelago.model.filters import Probe
from archipelago.reachability.arrays import Ints, NetworkArrays
from archipelago.reachability.families import Decided
from archipelago.reachability.outcome import Outcome

AT_ONCE = 2_000_000
"""About how many pairs of parties are carried at once."""


@dataclass(frozen=True, slots=True)
class Carried:
    """What links carry: by the number of a link (of the arrays) what leaves by it, and what of it had come in by it
    before it was routed; by host what it sends and is sent; what became of each stream, and what each of its pairs
    sends; `routed` is what routers forward, each time that one does. `uncounted` pairs are those whose way hangs on an
    address that several hold, beyond those that were looked at."""

    leaves: Rates
    returns: Rates
    sent: Rates
    received: Rates
    demands: tuple[DemandLoad, ...]
    each: tuple[float, ...]
    routed: float
    uncounted: int


def carry(
    arrays: NetworkArrays, decided: Mapping[Probe, Decided], streams: Sequence[Stream], each: Sequence[float] | None
) -> Carried:
    """Carry streams over a network.

    Args:
        arrays: the network.
        decided: all its pairs, for every kind of traffic that streams are of.
        streams: who sends whom how much.
        each: what every pair of each stream sends, where that is settled; by default the stream's rate is spread
            evenly over the pairs that reach each other.
    """
    first = next(iter(decided.values()))
    groups = group_hosts(first.kind, arrays.host_class, streams)
    carrying = _Carrying(arrays, groups, first)
    for number, stream in enumerate(streams):
        carrying.take(stream, decided[stream.probe], None if each is None else each[number])
    return carrying.carried()


class _Carrying:
    def __init__(self, arrays: NetworkArrays, groups: Groups, decided: Decided) -> None:
        self.arrays = arrays
        self.groups = groups
        self.decided = decided
        self.party_of = groups.party[groups.of]
        self.by_party = np.argsort(groups.party, kind="stable")
        self.last_of = np.cumsum(np.bincount(groups.party, minlength=len(groups.size_of)))
        self.endpoint = arrays.endpoint[groups.host_class]
        links = len(arrays.links)
        self.leaves, self.returns = np.zeros(links), np.zeros(links)
        self.sent, self.received = np.zeros(len(groups.size_of)), np.zeros(len(groups.size_of))
        self.legs: list[Legs] = []
        self.walked = Walked(arrays, groups, self.reverse, (self.leaves, self.returns))
        self.forest: Forest = forest_of(len(arrays.endpoints), arrays.adjacencies)
        self.waiting: dict[bool, list[Flows]] = {False: [], True: []}
        self.pending = 0
        self.routed = 0.0
        self.demands: list[DemandLoad] = []
        self.each: list[float] = []

    def take(self, stream: Stream, decided: Decided, each: float | None) -> None:
        """Take up one stream."""
        if not stream.of_hosts:
            self._walk(stream, each)
            return
        groups = self.groups
        ends = ends_of(groups, self.party_of, stream)
        grid = np.ix_(groups.kind_of[ends.source], groups.kind_of[ends.target])
        counted = ends.pairs()
        pairs = int(counted.sum())
        counted[~decided.between[grid]] = 0
        reached = int(counted.sum())
        if each is None:
            each = stream.rate / reached if reached else 0.0
        a, b = np.nonzero(counted)
        rate = counted[a, b] * each
        flows = Flows(ends.source[a], ends.target[b], rate)
        doubtful = decided.doubtful[grid][a, b]
        if doubtful.any():
            self.walked.take(decided, some(flows, doubtful), stream)
            flows = some(flows, ~doubtful)
        np.add.at(self.sent, ends.source[a], rate)
        np.add.at(self.received, ends.target[b], rate)
        self.waiting[False].append(flows)
        if stream.answers:
            back = rate * stream.answers
            np.add.at(self.sent, ends.target[b], back)
            np.add.at(self.received, ends.source[a], back)
            self.waiting[True].append(Flows(flows.target, flows.source, flows.rate * stream.answers))
        self.pending += len(flows.rate) * (1 + bool(stream.answers))
        if self.pending > AT_ONCE:
            self._carry_waiting()
        self.demands.append(DemandLoad(stream.name, pairs, reached, stream.rate, reached * each))
        self.each.append(each)

    def _walk(self, stream: Stream, each: float | None) -> None:
        """Take up a stream from or to a device: a few ways, walked one by one."""
        walks = self.walked.ways(stream)
        pairs, reached = sum(way.pairs for way in walks), sum(way.pairs for way in walks if way.reached)
        if each is None:
            each = stream.rate / reached if reached else 0.0
        for way in walks:
            if way.reached:
                self.walked.load(way, each * way.pairs, stream.answers)
                for host, of_it, back in ((way.source, 1.0, stream.answers), (way.target, stream.answers, 1.0)):
                    if host is not None:
                        self.sent[self.groups.party[host]] += of_it * each * way.pairs
                        self.received[self.groups.party[host]] += back * each * way.pairs
        self.demands.append(DemandLoad(stream.name, pairs, reached, stream.rate, reached * each))
        self.each.append(each)

    def carried(self) -> Carried:
        """All of it."""
        self._carry_waiting()
        if self.legs:
            every = Legs(*(np.concatenate([getattr(leg, of) for leg in self.legs]) for of in Legs.__slots__))
            self.leaves += over_links(self.forest, every, len(self.leaves))
        of, size = self.groups.party[self.groups.of], np.maximum(self.groups.size_of, 1)
        return Carried(
            leaves=self.leaves,
            returns=self.returns,
            sent=(self.sent / size)[of],
            received=(self.received / size)[of],
            demands=tuple(self.demands),
            each=tuple(self.each),
            routed=self.routed,
            uncounted=self.walked.uncounted,
        )

    def _carry_waiting(self) -> None:
        for answers, waiting in self.waiting.items():
            if waiting:
                flows = _summed(waiting, len(self.groups.size_of))
                for version, outcome, own in self._by_family(flows):
                    self._route(version, outcome, own, answers)
            waiting.clear()
        self.pending = 0

    def _by_family(self, flows: Flows) -> Iterator[tuple[int, Outcome, Flows]]:
        kind_of, decided = self.groups.kind_of, self.decided
        version = decided.version[kind_of[flows.source], kind_of[flows.target]]
        for family, outcome in decided.outcomes.items():
            mine = version == family
            if mine.any():
                yield family, outcome, some(flows, mine)

    def _route(self, version: int, outcome: Outcome, flows: Flows, answers: bool) -> None:
        """Carry flows of one family: what meets no router at once, the others from routing table to routing table."""
        ways, classes = outcome.ways, self.decided.classes[version][self.groups.kind_of]
        sender, column = classes[flows.source], classes[flows.target]
        if answers:
            column = outcome.reply_columns(sender, column)
        direct = ways.start.is_apart(sender * ways.table.codes.columns + column)
        self._within(some(flows, direct))
        routed, sender, column = some(flows, ~direct), sender[~direct], column[~direct]
        if not len(sender):
            return
        begins = ways.start.row[sender], ways.start.ingress[sender], column
        self._spread(routed.source, begins[1], routed.rate, outwards=True)
        self._follow(outcome, begins, routed)
        self._count_again(outcome, begins, routed)

    def _follow(self, outcome: Outcome, begins: tuple[Ints, Ints, Ints], flows: Flows) -> None:
        """From routing table to routing table, what comes in by one interface for one party at once."""
        ways, codes, entries = outcome.ways, outcome.codes, outcome.family.entries
        parties, size = len(self.groups.size_of), len(self.arrays.endpoints) + 1
        row, ingress, column = codes.rows + begins[0].astype(np.int64), begins[1], begins[2]
        target, rate = flows.target, flows.rate
        for _ in range(FIRST_TTL):
            key = (column * parties + target) * size + ingress % size
            _, first, of = np.unique(key, return_index=True, return_inverse=True)
            rate = summed(of, rate, len(first))
            row, ingress, column, target = row[first], ingress[first], column[first], target[first]
            self.routed += float(rate.sum())
            state = row * codes.columns + column
            route, onward = ways.table.route[state].astype(np.int64), ways.table.next[state].astype(np.int64)
            egress = entries.endpoint[route]
            arrives = onward == codes.arrived
            self._spread(target[arrives], egress[arrives], rate[arrives], outwards=False)
            moving = np.flatnonzero(onward < codes.states)
            if not len(moving):
                return
            row, ingress = onward[moving] // codes.columns, ways.hops.ingress[route[moving]]
            column, target, rate = column[moving], target[moving], rate[moving]
            self.legs.append(Legs(egress[moving], ingress, rate))

    def _count_again(self, outcome: Outcome, begins: tuple[Ints, Ints, Ints], flows: Flows) -> None:
        """What crosses a cable that it came by."""
        columns = outcome.codes.columns
        _, example, ways = np.unique(begins[0] * columns + begins[2], return_index=True, return_inverse=True)
        ways = ways.reshape(-1)
        hops, egress = self._hops(outcome, begins[0][example], begins[2][example])
        first = self._to_hosts(flows.source, begins[1], outwards=True)
        last = self._to_hosts(flows.target, egress[ways], outwards=False)
        self.returns += crossed_again(self.reverse, first, ways, hops, last, flows.rate)

    def _hops(self, outcome: Outcome, row: Ints, column: Ints) -> tuple[list[Crossings], Ints]:
        """The links of ways from router to router, by hop, and the interface by which each leaves its last router."""
        ways, codes = outcome.ways, outcome.codes
        hops: list[Crossings] = []
        last = np.zeros(len(row), dtype=np.int64)
        left, row = np.arange(len(row)), codes.rows + row.astype(np.int64)
        while len(left) and len(hops) < FIRST_TTL:
            state = row * codes.columns + column
            route, onward = ways.table.route[state].astype(np.int64), ways.table.next[state].astype(np.int64)
            egress, moving = outcome.family.entries.endpoint[route], onward < codes.states
            last[left[~moving]] = egress[~moving]
            left, row, column = left[moving], onward[moving] // codes.columns, column[moving]
            if len(left):
                hops.append(self._between(egress[moving], ways.hops.ingress[route[moving]], left, len(last)))
        return hops, last

    def _to_hosts(self, party: Ints, far: Ints, *, outwards: bool) -> Numbered:
        """The legs between parties and an interface of a router each."""
        size = len(self.arrays.endpoints) + 1
        key, of = np.unique(party * size + far, return_inverse=True)
        leg, group = self._groups_of(key // size)
        near, far = self.endpoint[group], (key % size)[leg]
        share = self.groups.size[group] / self.groups.size_of[(key // size)[leg]]
        ends = (near, far) if outwards else (far, near)
        return Numbered(crossings(self.forest, *ends, share, leg, (len(key), len(self.reverse))), of.reshape(-1))

    def _between(self, egress: Ints, ingress: Ints, ways: Ints, count: int) -> Crossings:
        """The links between interfaces of two routers each, for some ways of so many."""
        size = len(self.arrays.endpoints) + 1
        key, of = np.unique(egress * size + ingress, return_inverse=True)
        legs, shares = np.arange(len(key)), np.ones(len(key))
        made = crossings(self.forest, key // size, key % size, shares, legs, (len(key), len(self.reverse)))
        placed = csr_array((np.ones(len(ways)), (ways, of.reshape(-1))), shape=(count, len(key)))
        return csr_array(placed @ made)

    @cached_property
    def reverse(self) -> Ints:
        """For each link the one by which frames come back; -1 where there is none."""
        knowledge, links = self.arrays.knowledge, self.arrays.links
        reverse = np.full(len(links), -1, dtype=np.int64)
        for (device, part), number in links.items():
            if not part:  # what is inside a device
                continue
            far = far_end(knowledge.devices, knowledge.devices[device].attachments[part])
            if far is not None and far.peer.device in knowledge.devices:
                reverse[number] = links.get((far.peer.device, knowledge.attachment_at(far.peer).name), -1)
        return reverse

    # Legs between hosts and routers

    def _spread(self, party: Ints, far: Ints, rate: Rates, *, outwards: bool) -> None:
        """Legs between parties, wherever their hosts are plugged in, and an interface of a router each."""
        size = len(self.arrays.endpoints) + 1
        key, of = np.unique(party * size + far, return_inverse=True)
        rate = summed(of, rate, len(key))
        party, far = key // size, key % size
        which, group = self._groups_of(party)
        near = self.endpoint[group]
        share = rate[which] * self.groups.size[group] / self.groups.size_of[party[which]]
        ends = (near, far[which]) if outwards else (far[which], near)
        self.legs.append(Legs(*ends, share))

    def _within(self, flows: Flows) -> None:
        """Legs between hosts of one broadcast domain, which nobody routes."""
        if not len(flows.rate):
            return
        size, size_of = self.groups.size, self.groups.size_of
        which, sender = self._groups_of(flows.source)
        more, receiver = self._groups_of(flows.target[which])
        which, sender = which[more], sender[more]
        source, target = flows.source[which], flows.target[which]
        pairs = size_of[source] * (size_of[target] - (source == target))
        share = flows.rate[which] * size[sender] * size[receiver] / np.maximum(pairs, 1)
        self.legs.append(Legs(self.endpoint[sender], self.endpoint[receiver], share))

    def _groups_of(self, party: Ints) -> tuple[Ints, Ints]:
        """The groups of some parties: the place of each party among these, repeated, and a group of it."""
        last = self.last_of[party]
        first = np.where(party > 0, self.last_of[party - 1], 0)
        count = last - first
        which = np.repeat(np.arange(len(party)), count)
        within = np.arange(len(which)) - np.repeat(np.cumsum(count) - count, count)
        return which, self.by_party[first[which] + within]


def _summed(waiting: Sequence[Flows], parties: int) -> Flows:
    """Flows of the same two parties as one."""
    source, target, rate = (np.concatenate([getattr(flows, of) for flows in waiting]) for of in Flows.__slots__)
    key, of = np.unique(source * parties + target, return_inverse=True)
    return Flows(key // parties, key % parties, summed(of, rate, len(key)))
