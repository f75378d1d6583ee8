"""Why pairs are cut off: where their packets end, from the arrays, and the mistake behind each such end, asked once."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from itertools import product
from typing import Literal

import numpy as np

from archipelago.addressing.values import Address, source_for
from archipelago.diagnosis.culprit import Stop, culprit
from archipelago.diagnosis.picture import Picture
from archipelago.knowledge.devices import Knowledge, Node, know
from archipelago.model.finding import Finding
from archipelago.model.network import Path
from archipelago.reachability.arrays import Ints
from archipelago.reachability.engine import AT_A_TIME, MOST_ROUTERS, Outcome
from archipelago.reachability.kinds import Decided
from archipelago.simulation.reach import first_address, reach, without_family

MOST_ASKED = 2_000
"""How often at most the simulation decides about an address that several hold."""
MOST_CAUSES = 20_000
"""How many ends of ways at most are looked into; those of the most pairs come first."""
_LEFT = Finding(
    "not-asked",
    "note",
    "",
    (),
    "the cause of these was not looked for",
    "too many pairs are cut off to ask about each",
    "mend the other causes, then ask again",
)


@dataclass(frozen=True, slots=True)
class Group:
    """Pairs of hosts that share a cause, with one of them as an example."""

    finding: Finding
    direction: str
    pairs: int
    source: str
    target: str


Settled = dict[tuple[int, int], tuple[Finding | None, str]]
"""What the simulation said of two kinds: the mistake and the direction, no mistake where they reach each other."""


def settle(view: Picture, answer: Decided) -> Settled:
    """Let the simulation decide what the arrays cannot: whose answer stands where several hold an address. What it
    decides is entered into the arrays' answer."""
    sources, targets = np.nonzero(answer.doubtful)
    answer.between[sources, targets] = False
    settled: Settled = {}
    if not len(sources):
        return settled
    members = _members(answer)
    within = _few(view, answer, members)
    nodes, hosts = view.knowledge.nodes, answer.fabric.hosts
    for i, j in zip(sources[:MOST_ASKED].tolist(), targets[:MOST_ASKED].tolist(), strict=True):
        source, target = int(members[i][0]), int(members[j][0])
        if i == j:
            if len(members[i]) == 1:
                continue
            target = int(members[i][1])
        found = reach(view, nodes[hosts[source]], nodes[hosts[target]], probes=1, family=answer.family, within=within)
        for decided in (answer.between, answer.every, answer.some):
            decided[i, j] = found.reached
        settled[i, j] = (found.finding, found.direction or "out")
    return settled


def _few(view: Picture, answer: Decided, members: list[Ints]) -> Knowledge:
    """The network with no more than two hosts of each kind and whoever holds a next hop or an address of others: the
    rest neither answers for them nor keeps anything up that these do not. What they heard from routers is kept."""
    names, network = answer.fabric.hosts, view.network
    kept = {names[one] for hosts in members for one in hosts[:2].tolist()}
    for family in answer.fabric.families.values():
        kept |= {names[host] for host, _, _ in family.twice}
        kept |= {names[host] for host in family.holders.host.tolist() if host >= 0}
    hosts = {name: replace(host, auto=False) for name, host in network.hosts.items() if name in kept}
    return know(replace(network, hosts=hosts))


def _members(answer: Decided) -> list[Ints]:
    """The hosts of each kind."""
    order = np.argsort(answer.kind, kind="stable")
    ends = np.cumsum(np.bincount(answer.kind, minlength=len(answer.between)))
    return np.split(order, ends[:-1])


@dataclass(frozen=True, slots=True)
class _End:
    """Where the packets of some pairs end. `source` and `target` are the kinds of the way (of a way back, of the
    reply); -1 where the end is the same for all. `weight` counts the pairs; `example` is one pair of kinds."""

    version: int
    code: int
    back: bool
    source: int
    target: int
    weight: int
    example: tuple[int, int]


def explain(view: Picture, answer: Decided, settled: Settled) -> tuple[Group, ...]:
    """The causes of all that is not reached, each with its pairs, most pairs first.

    A way that fails ends in one of few places. The arrays say where; the diagnosis is asked once for each such end,
    and once for each host where the mistake is the host's own.
    """
    return _Explained(view, answer, settled).groups()


def _packed(keys: Ints, kinds: int) -> Ints:
    """Each line of keys (family, code, back, two kinds or -1) as one number, so that they sort fast."""
    family, code, back, source, target = keys.T
    packed: Ints = (((code * 7 + family) * 2 + back) * (kinds + 1) + source + 1) * (kinds + 1) + target + 1
    return packed


class _Explained:
    def __init__(self, view: Picture, answer: Decided, settled: Settled) -> None:
        self.view = view
        self.answer = answer
        self.between = answer.between
        self.settled = settled
        self.members = _members(answer)
        self.sizes = np.array([len(one) for one in self.members])
        self.found: dict[tuple[object, ...], Group] = {}
        self.own: dict[tuple[str, int, int], Finding] = {}
        self.asked = 0

    def groups(self) -> tuple[Group, ...]:
        left, example = self._undecided()
        for end in sorted(self._ends(), key=lambda one: -one.weight):
            if self.asked >= MOST_CAUSES:
                left += end.weight
                example = example if example[0] else self._names(*self._pair(*end.example))
                continue
            for source, target, pairs, finding in self._causes(end):
                pair = (target, source) if end.back else (source, target)
                self._add(finding, "back" if end.back else "out", pairs, pair)
        for (i, j), (mistake, direction) in self.settled.items():
            if mistake is not None:
                for pair, pairs, finding in self._settled(i, j, mistake):
                    self._add(finding, direction, pairs, pair)
        if left:
            self.found["left",] = Group(_LEFT, "out", left, *example)
        return tuple(sorted(self.found.values(), key=lambda group: -group.pairs))

    def _undecided(self) -> tuple[int, tuple[str, str]]:
        """How many pairs the simulation was not asked to decide any more, and one of them."""
        i, j = np.nonzero(self.answer.doubtful)
        left = [pair for pair in zip(i.tolist(), j.tolist(), strict=True) if pair not in self.settled]
        pairs = sum(int(self.sizes[one] * (self.sizes[other] - (one == other))) for one, other in left)
        return pairs, self._names(*self._pair(*left[0])) if pairs else ("", "")

    def _add(self, finding: Finding, direction: str, pairs: int, pair: tuple[int, int]) -> None:
        if pairs:
            key = (finding.slug, finding.at, finding.path, finding.mend)
            before = self.found.get(key)
            if before is None:
                self.found[key] = Group(finding, direction, pairs, *self._names(*pair))
            else:
                total = before.pairs + pairs
                self.found[key] = Group(before.finding, before.direction, total, before.source, before.target)

    def _names(self, source: int, target: int) -> tuple[str, str]:
        return self.answer.fabric.hosts[source], self.answer.fabric.hosts[target]

    def _pair(self, i: int, j: int) -> tuple[int, int]:
        """Two different hosts of two kinds."""
        source, target = self.members[i], self.members[j]
        return int(source[0]), int(target[-1])

    def _settled(self, i: int, j: int, mistake: Finding) -> Iterator[tuple[tuple[int, int], int, Finding]]:
        """The pairs that the simulation decided; where the mistake is the host's own, asked again once for each host,
        whoever is at the other end."""
        source, target = self._pair(i, j)
        pairs = int(self.sizes[i] * (self.sizes[j] - (i == j)))
        own = [end for end, host in ((0, source), (1, target)) if self._of(mistake, host)]
        hosts = self.members[(i, j)[own[0]]].tolist() if own and i != j else []
        if len(hosts) < 2:
            yield (source, target), pairs, mistake
        for one in hosts if len(hosts) > 1 else ():
            pair = (one, target) if own[0] == 0 else (source, one)
            key = (mistake.slug, own[0], one)
            if key not in self.own:
                nodes, names = self.view.knowledge.nodes, self._names(*pair)
                answer = reach(self.view, nodes[names[0]], nodes[names[1]], probes=1, family=self.answer.family)
                self.own[key] = answer.finding or mistake
            yield pair, pairs // len(hosts), self.own[key]

    # Where ways end

    def _ends(self) -> Iterator[_End]:
        """Every end of ways, from the arrays, some classes at a time: pairs are counted, never listed."""
        count = len(self.between)
        lines: list[Ints] = []
        weights: list[Ints] = []
        examples: list[Ints] = []
        for low in range(0, count, AT_A_TIME):
            high = min(low + AT_A_TIME, count)
            pairs = self.sizes[low:high, None] * self.sizes[None, :]
            own = np.arange(low, high)
            pairs[own - low, own] -= self.sizes[own]
            missing = ~self.between[low:high] & (pairs > 0) & ~self.answer.doubtful[low:high]
            i, j = np.nonzero(missing)
            if len(i):
                keys = self._keys(low, high, i, j)
                _, first, inverse = np.unique(_packed(keys, count), return_index=True, return_inverse=True)
                lines.append(keys[first])
                weights.append(np.bincount(inverse.reshape(-1), weights=pairs[i, j]).astype(np.int64))
                examples.append(np.stack((i[first] + low, j[first]), axis=1))
        if not lines:
            return
        found = np.concatenate(lines)
        _, first, inverse = np.unique(_packed(found, count), return_index=True, return_inverse=True)
        every = found[first]
        total = np.bincount(inverse.reshape(-1), weights=np.concatenate(weights)).astype(np.int64)
        shown = np.concatenate(examples)[first]
        for line, weight, example in zip(every.tolist(), total.tolist(), shown.tolist(), strict=True):
            version, code, back, source, target = line
            yield _End(version, code, bool(back), source, target, weight, (example[0], example[1]))

    def _keys(self, low: int, high: int, i: Ints, j: Ints) -> Ints:
        """For pairs that are not reached (`i` counts from `low`): the family, where the way ends, whether that is the
        way back, and by which kinds the end differs."""
        answer = self.answer
        version = answer.version[low:high][i, j].astype(np.int64)
        keys = np.full((len(i), 5), -1, dtype=np.int64)
        keys[:, 0] = version
        keys[:, 2] = 0
        none = version == 0
        keys[none, 1], keys[none, 3], keys[none, 4] = 0, i[none] + low, j[none]
        for one, outcome in answer.outcomes.items():
            mine = np.flatnonzero(version == one)
            if len(mine):
                keys[mine, 1:] = self._ways(outcome, answer.classes[one], low, high, i[mine], j[mine])
        return keys

    def _ways(self, outcome: Outcome, classes: Ints, low: int, high: int, i: Ints, j: Ints) -> Ints:
        meaning = outcome.meaning
        source, target = classes[i + low], classes[j]
        out = outcome.ways.of_pairs(source, target)
        column = outcome.reply_columns(target, source)
        back = outcome.ways.of_pairs(target, column)
        fails = out != meaning.arrived
        code = np.where(fails, out, back).astype(np.int64)
        sender = np.where(fails, i + low, j)
        hearer = np.where(fails, j, i + low)
        by_sender, by_hearer = outcome.differs(code)
        return np.stack((code, ~fails, np.where(by_sender, sender, -1), np.where(by_hearer, hearer, -1)), axis=1)

    # The mistake behind an end

    def _causes(self, end: _End) -> Iterator[tuple[int, int, int, Finding]]:
        """The mistakes behind an end, each with one way (sender and hearer) and how many pairs it cuts off."""
        i, j = (end.example[1], end.example[0]) if end.back else end.example
        if end.source < 0 and end.target < 0:
            sender, hearer = self._pair(i, j)
            yield sender, hearer, end.weight, self._finding(end, sender, hearer)
            return
        senders = self._bunches(i) if end.source >= 0 else [self.members[i]]
        hearers = self._bunches(j) if end.target >= 0 else [self.members[j]]
        for ours, theirs in product(senders, hearers):
            share = self._share(end, i, j, ours, theirs)
            if not share:
                continue
            sender, hearer = int(ours[0]), int(theirs[-1])
            finding = self._finding(end, sender, hearer)
            if end.source >= 0 and self._of(finding, sender) and len(ours) > 1:
                for one in ours.tolist():
                    other = hearer if one != hearer else int(theirs[0])
                    yield one, other, share // len(ours), self._finding(end, one, other)
            elif end.target >= 0 and self._of(finding, hearer) and len(theirs) > 1:
                for one in theirs.tolist():
                    other = sender if one != sender else int(ours[-1])
                    yield other, one, share // len(theirs), self._finding(end, other, one)
            else:
                yield sender, hearer, share, finding

    def _share(self, end: _End, i: int, j: int, ours: Ints, theirs: Ints) -> int:
        """How many of an end's pairs are between two bunches."""
        if end.source >= 0 and end.target >= 0:
            same = len(ours) if i == j and ours[0] == theirs[0] else 0
            return len(ours) * len(theirs) - same
        if end.source >= 0:
            return end.weight * len(ours) // len(self.members[i])
        return end.weight * len(theirs) // len(self.members[j])

    def _bunches(self, kind: int) -> list[Ints]:
        """The hosts of a kind by bunch, and by what keeps them down."""
        fabric = self.answer.fabric
        hosts = self.members[kind]
        found: dict[tuple[object, ...], list[int]] = {}
        for one in hosts.tolist():
            node = self.view.knowledge.nodes[fabric.hosts[one]] if fabric.down[one] else None
            why = next(iter(node.nics.values())).down if node else ""
            found.setdefault((int(fabric.bunch[one]), why), []).append(one)
        return [np.array(one) for one in found.values()]

    def _of(self, finding: Finding, host: int) -> bool:
        """Whether a mistake is one host's own: at the host, or at the port that it is plugged into."""
        written = self.view.network.hosts[self.answer.fabric.hosts[host]]
        port: tuple[Path, ...] = (("hosts", written.name), ("devices", written.at.device, "ports", written.at.port))
        places = (finding.path, *(edit.path for edit in finding.edits))
        return finding.at == written.name or any(path[: len(one)] == one for path in places for one in port)

    def _finding(self, end: _End, sender: int, hearer: int) -> Finding:
        self.asked += 1
        nodes, hosts = self.view.knowledge.nodes, self.answer.fabric.hosts
        source, target = nodes[hosts[sender]], nodes[hosts[hearer]]
        if end.version == 0:
            return without_family(self.view, source, target, self.answer.family)
        return culprit(self.view, self._stop(end, source, target))

    def _stop(self, end: _End, source: Node, target: Node) -> Stop:
        """Where a packet from one host to another stops, as the simulation would tell it."""
        outcome = self.answer.outcomes[end.version]
        meaning, family = outcome.meaning, outcome.family
        to, own = first_address(target, end.version), first_address(source, end.version)
        assert to is not None and own is not None
        if end.back:  # a reply goes to the address that the question came from
            to = source_for(next(iter(target.nics.values())).addresses, own).address  # type: ignore[union-attr]
        else:
            own = source_for(next(iter(source.nics.values())).addresses, to).address  # type: ignore[union-attr]
        direction: Literal["out", "back"] = "back" if end.back else "out"
        code = end.code
        rows = list(family.rows)
        if code < meaning.rows:
            passed = self._round(outcome, rows, code, to)
            return Stop(direction, passed[-1], "ttl-expired", own, to, "", None, passed)
        if code < meaning.broadcast:
            name, vrf = self._place(rows, code - meaning.no_route, source)
            return Stop(direction, name, "no-route", own, to, self._interface(name, vrf))
        if code < meaning.entry:
            name, vrf = self._place(rows, code - meaning.broadcast, source)
            return Stop(direction, name, "broadcast", own, to, self._interface(name, vrf))
        at = code - meaning.entry
        entry = family.entries.written[at]
        name, vrf = self._place(rows, int(family.entries.place[at]), source)
        node = self.view.knowledge.nodes[name]
        nic = node.nics[entry.interface]
        asks = source_for(nic.addresses, entry.next_hop or to)
        if not nic.speaks or nic.kind == "loopback" or asks is None:
            return Stop(direction, name, "mute", own, to, entry.interface)
        number = self.view.domains.of.get((name, entry.interface))
        if number is not None and number in self.view.domains.loops:
            return Stop(direction, name, "storm", own, to, entry.interface)
        hop = entry.next_hop
        for held in self.view.holders.get(hop, ()) if hop is not None else ():
            if held.node is not node and self.view.domains.together((name, entry.interface), held.foot):
                passed = (name, held.node.name)
                return Stop(direction, held.node.name, "not-routing", own, to, held.nic.name, None, passed)
        return Stop(direction, name, "unanswered", own, to, entry.interface, hop or to, (name,))

    def _place(self, rows: list[tuple[str, str]], place: int, source: Node) -> tuple[str, str]:
        return rows[place] if place < len(rows) else (source.name, "")

    def _interface(self, name: str, vrf: str) -> str:
        """An interface in a `vrf`, to name it by."""
        nics = self.view.knowledge.nodes[name].nics.values()
        return next((nic.name for nic in nics if nic.vrf == vrf), "")

    def _round(self, outcome: Outcome, rows: list[tuple[str, str]], row: int, target: Address) -> tuple[str, ...]:
        """The routers that a packet passes from one of them on until it comes round again, told from the one that
        comes first in the network."""
        way = list(self._onward(outcome, rows, row, target))
        seen: list[int] = []
        for one in way:
            if one in seen:
                seen = seen[seen.index(one) :]
                first = seen.index(min(seen))
                seen = [*seen[first:], *seen[:first]]
                return tuple(rows[one][0] for one in (*seen, seen[0]))
            seen.append(one)
        return tuple(rows[one][0] for one in seen)

    def _onward(self, outcome: Outcome, rows: list[tuple[str, str]], row: int, target: Address) -> Iterator[int]:
        place = dict(outcome.family.rows)
        for _ in range(2 * MOST_ROUTERS + 2):
            yield row
            name, vrf = rows[row]
            node = self.view.knowledge.nodes[name]
            entry = node.routes.lookup(vrf, target)
            if entry is None or entry.next_hop is None:
                return
            foot = (name, entry.interface)
            holders = self.view.holders.get(entry.next_hop, ())
            held = next((one for one in holders if self.view.domains.together(foot, one.foot)), None)
            if held is None or (held.node.name, held.nic.vrf) not in place:
                return
            row = place[held.node.name, held.nic.vrf]
