"""Why pairs are cut off: where their packets end, from the arrays, and the mistake behind each such end, asked once."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import product

import numpy as np

from archipelago.diagnosis.explain import explain as explain_stop
from archipelago.diagnosis.kind import NEVER, Kind, finding
from archipelago.diagnosis.no_address import no_common_family
from archipelago.diagnosis.no_home import no_home
from archipelago.diagnosis.outvoted import astray_twin, contradicted
from archipelago.diagnosis.stop import Direction
from archipelago.knowledge.devices import Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Finding
from archipelago.model.parts import Path
from archipelago.reachability.arrays import Bools, Ints
from archipelago.reachability.families import Decided
from archipelago.reachability.filter_lines import PASSES
from archipelago.reachability.outcome import AT_A_TIME, Outcome
from archipelago.reachability.settling import Settled, members_of
from archipelago.reachability.stops import Code, stop_of
from archipelago.simulation.reach import ReachResult, reach

MOST_CAUSES = 20_000
"""How many ends of ways at most are looked into; those of the most pairs come first."""
NOT_ASKED = Kind("not-asked", "note", "pairs whose cause was not looked for", "too many pairs to ask about each", NEVER)


_NOT_ASKED = finding(
    NOT_ASKED,
    at="",
    path=(),
    says="the cause of these was not looked for",
    mend="mend the other causes, then ask again",
)


@dataclass(frozen=True, slots=True)
class Group:
    """Pairs of hosts that share a cause, with one of them as an example."""

    finding: Finding
    direction: Direction
    pairs: int
    source: str
    target: str


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


def explain(
    index: NetworkIndex, answer: Decided, settled: Settled, most: int = MOST_CAUSES, meant: Bools | None = None
) -> tuple[Group, ...]:
    """The causes of all that is not reached, each with its pairs, most pairs first; of pairs of kinds that are `meant`
    to be apart none.

    A way that fails ends in one of few places. The arrays say where; the diagnosis is asked once for each such end,
    and once for each host where the mistake is the host's own.
    """
    if meant is not None:
        settled = {pair: said for pair, said in settled.items() if not meant[pair]}
    return _Explained(index, answer, settled, meant).groups(most)


def _packed(keys: Ints, kinds: int) -> Ints:
    """Each line of keys (family, code, back, two kinds or -1) as one number, so that they sort fast."""
    family, code, back, source, target = keys.T
    packed: Ints = (((code * 7 + family) * 2 + back) * (kinds + 1) + source + 1) * (kinds + 1) + target + 1
    return packed


class _Explained:
    def __init__(self, index: NetworkIndex, answer: Decided, settled: Settled, meant: Bools | None) -> None:
        self.index = index
        self.answer = answer
        self.between = answer.between if meant is None else answer.between | meant
        self.settled = settled
        self.members = members_of(answer)
        self.sizes = np.array([len(member) for member in self.members])
        hosts = (self.index.knowledge.nodes[answer.arrays.hosts[member[0]]] for member in self.members)
        # Whom all around contradict, or who has no gateway that is up: the cause is theirs, wherever packets end.
        self.contradicted = np.array([self._contradicted(node) for node in hosts], dtype=np.bool_)
        self.found: dict[tuple[object, ...], Group] = {}
        self.own: dict[tuple[str, int, int], Finding] = {}
        self.asked = 0

    def _contradicted(self, node: Node) -> bool:
        own = [address.address for nic in node.nics.values() for address in nic.addresses]
        homes = (no_home(self.index, address, "") for address in own)
        if contradicted(self.index, node) is not None or any(home is not None for home in homes):
            return True
        return astray_twin(self.index, own) is not None

    def groups(self, most: int) -> tuple[Group, ...]:
        left, example = self._undecided()
        for end in sorted(self._ends(), key=lambda row: -row.weight):
            if self.asked >= most:
                left += end.weight
                example = example if example[0] else self._names(*self._pair(*end.example))
                continue
            for source, target, pairs, cause in self._causes(end):
                pair = (target, source) if end.back else (source, target)
                self._add(cause, "back" if end.back else "out", pairs, pair)
        for (i, j), (mistake, direction) in self.settled.items():
            if mistake is not None:
                for pair, pairs, cause in self._settled(i, j, mistake):
                    self._add(cause, direction, pairs, pair)
        if left:
            self.found["left",] = Group(_NOT_ASKED, "out", left, *example)
        return tuple(sorted(self.found.values(), key=lambda group: -group.pairs))

    def _undecided(self) -> tuple[int, tuple[str, str]]:
        """How many pairs the simulation was not asked to decide any more, and one of them."""
        i, j = np.nonzero(self.answer.doubtful & ~self.between)
        left = [pair for pair in zip(i.tolist(), j.tolist(), strict=True) if pair not in self.settled]
        pairs = sum(
            int(self.sizes[source_class] * (self.sizes[other] - (source_class == other)))
            for source_class, other in left
        )
        return pairs, self._names(*self._pair(*left[0])) if pairs else ("", "")

    def _add(self, cause: Finding, direction: Direction, pairs: int, pair: tuple[int, int]) -> None:
        if pairs:
            key = (cause.kind, cause.at, cause.path, cause.mend)
            before = self.found.get(key)
            if before is None:
                self.found[key] = Group(cause, direction, pairs, *self._names(*pair))
            else:
                total = before.pairs + pairs
                self.found[key] = Group(before.finding, before.direction, total, before.source, before.target)

    def _names(self, source: int, target: int) -> tuple[str, str]:
        return self.answer.arrays.hosts[source], self.answer.arrays.hosts[target]

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
        for class_host in hosts if len(hosts) > 1 else ():
            pair = (class_host, target) if own[0] == 0 else (source, class_host)
            key = (mistake.kind, own[0], class_host)
            if key not in self.own:
                nodes, names = self.index.knowledge.nodes, self._names(*pair)
                answer = self._asked(nodes[names[0]], nodes[names[1]])
                self.own[key] = answer.finding or mistake
            yield pair, pairs // len(hosts), self.own[key]

    def _asked(self, source: Node, target: Node) -> ReachResult:
        answer = self.answer
        return reach(self.index, source, target, probes=1, family=answer.family, probe=answer.probe)

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
        endpoints = np.concatenate(lines)
        _, first, inverse = np.unique(_packed(endpoints, count), return_index=True, return_inverse=True)
        every = endpoints[first]
        total = np.bincount(inverse.reshape(-1), weights=np.concatenate(weights)).astype(np.int64)
        shown = np.concatenate(examples)[first]
        for line, weight, example in zip(every.tolist(), total.tolist(), shown.tolist(), strict=True):
            version, code, back, source, target = line
            yield _End(
                version=version,
                code=code,
                back=bool(back),
                source=source,
                target=target,
                weight=weight,
                example=(example[0], example[1]),
            )

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
        for key, outcome in answer.outcomes.items():
            mine = np.flatnonzero(version == key)
            if len(mine):
                keys[mine, 1:] = self._ways(outcome, answer.classes[key], low, high, i[mine], j[mine])
        return keys

    def _ways(self, outcome: Outcome, classes: Ints, low: int, high: int, i: Ints, j: Ints) -> Ints:
        codes = outcome.codes
        source, target = classes[i + low], classes[j]
        out = outcome.paths.of_pairs(source, target)
        column = outcome.reply_columns(target, source)
        back = outcome.paths.of_pairs(target, column)
        fails = out != codes.arrived
        code = np.where(fails, out, back).astype(np.int64)
        ended, answers = outcome.refusals(source, target, out == codes.arrived, self.answer.probe)
        refused = ended != PASSES
        fails = np.where(refused, ~answers, fails)
        sender = np.where(fails, i + low, j)
        receiver = np.where(fails, j, i + low)
        by_sender, by_receiver = outcome.differs(code)
        by_sender |= self.contradicted[sender]
        by_receiver |= self.contradicted[receiver]
        # What a filter ends, it ends by its line, whoever is at the ends.
        code[refused] = outcome.refused_code + ended[refused]
        by_sender[refused] = by_receiver[refused] = False
        return np.stack((code, ~fails, np.where(by_sender, sender, -1), np.where(by_receiver, receiver, -1)), axis=1)

    # The mistake behind an end

    def _causes(self, end: _End) -> Iterator[tuple[int, int, int, Finding]]:
        """The mistakes behind an end, each with one way (sender and receiver) and how many pairs it cuts off."""
        i, j = (end.example[1], end.example[0]) if end.back else end.example
        if end.source < 0 and end.target < 0:
            sender, receiver = self._pair(i, j)
            yield sender, receiver, end.weight, self._finding(end, sender, receiver)
            return
        senders = self._host_classes(i) if end.source >= 0 else [self.members[i]]
        receivers = self._host_classes(j) if end.target >= 0 else [self.members[j]]
        for ours, theirs in product(senders, receivers):
            share = self._share(end, i, j, ours, theirs)
            if not share:
                continue
            sender, receiver = int(ours[0]), int(theirs[-1])
            cause = self._finding(end, sender, receiver)
            if end.source >= 0 and self._of(cause, sender) and len(ours) > 1:
                for our in ours.tolist():
                    other = receiver if our != receiver else int(theirs[0])
                    yield our, other, share // len(ours), self._finding(end, our, other)
            elif end.target >= 0 and self._of(cause, receiver) and len(theirs) > 1:
                for our in theirs.tolist():
                    other = sender if our != sender else int(ours[-1])
                    yield other, our, share // len(theirs), self._finding(end, other, our)
            else:
                yield sender, receiver, share, cause

    def _share(self, end: _End, i: int, j: int, ours: Ints, theirs: Ints) -> int:
        """How many of an end's pairs are between two host classes."""
        if end.source >= 0 and end.target >= 0:
            same = len(ours) if i == j and ours[0] == theirs[0] else 0
            return len(ours) * len(theirs) - same
        if end.source >= 0:
            return end.weight * len(ours) // len(self.members[i])
        return end.weight * len(theirs) // len(self.members[j])

    def _host_classes(self, kind: int) -> list[Ints]:
        """The hosts of a kind by host class, and by what keeps them down."""
        arrays = self.answer.arrays
        hosts = self.members[kind]
        classes: dict[tuple[object, ...], list[int]] = {}
        for host in hosts.tolist():
            node = self.index.knowledge.nodes[arrays.hosts[host]] if arrays.down[host] else None
            why = next(iter(node.nics.values())).down if node else None
            classes.setdefault((int(arrays.host_class[host]), why), []).append(host)
        return [np.array(members) for members in classes.values()]

    def _of(self, cause: Finding, host: int) -> bool:
        """Whether a mistake is one host's own: at the host, or at the port that it is plugged into."""
        written = self.index.network.hosts[self.answer.arrays.hosts[host]]
        port: tuple[Path, ...] = (("hosts", written.name), ("devices", written.at.device, "ports", written.at.port))
        places = (cause.path, *(edit.path for edit in cause.edits))
        return cause.at == written.name or any(path[: len(end)] == end for path in places for end in port)

    def _finding(self, end: _End, sender: int, receiver: int) -> Finding:
        self.asked += 1
        nodes, hosts = self.index.knowledge.nodes, self.answer.arrays.hosts
        source, target = nodes[hosts[sender]], nodes[hosts[receiver]]
        if end.version == 0:
            return no_common_family(self.index, source, target, self.answer.family)
        code = Code(end.version, end.code, end.back)
        return explain_stop(self.index, stop_of(self.index, self.answer, code, source, target))
