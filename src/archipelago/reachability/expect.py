"""What must hold, checked: every pair of two ends, in arrays, and why those pairs fail that do."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from archipelago.addressing.values import Address, Prefix, parse_address, parse_prefix
from archipelago.diagnosis.catalogue import finding
from archipelago.diagnosis.places import plugged_vlan
from archipelago.errors import AddressError, QueryError
from archipelago.knowledge.ends import common_families
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge, know
from archipelago.knowledge.outside import NOTHING_LEADS, with_outside
from archipelago.model.expectation import OUTSIDE, Expectation
from archipelago.model.finding import Finding
from archipelago.model.parts import Host
from archipelago.reachability.arrays import Bools, Ints
from archipelago.reachability.build import build_arrays
from archipelago.reachability.families import Decided
from archipelago.reachability.few import few_hosts
from archipelago.reachability.matrix import Matrix, matrix
from archipelago.simulation.reach import reach

BREAKS = "what the network's own 'expect' promises"
MOST_NAMED = 1_000
"""So many of the pairs that break an expectation are named; all are counted."""


_NO_EDGE = finding(
    "outside-missing",
    at=OUTSIDE,
    path=(),
    says=NOTHING_LEADS,
    mend="give a routed port an address and a route through it",
)


@dataclass(frozen=True, slots=True)
class Verdict:
    """One expectation and whether it holds: of so many `pairs`, how many are `broken`, their names (the first
    thousand), and, where they should be reached, the mistake that cuts off the first."""

    expectation: Expectation
    pairs: int
    broken: int
    such_as: tuple[tuple[str, str], ...]
    finding: Finding | None

    @property
    def holds(self) -> bool:
        """Whether there are pairs and none is broken."""
        return self.pairs > 0 and not self.broken

    def __bool__(self) -> bool:
        return self.holds

    def __str__(self) -> str:
        wanted = str(self.expectation)
        if not self.pairs:
            return f"{wanted}: there is no pair of hosts to check"
        if not self.broken:
            return f"{wanted}: holds for {'the one pair' if self.pairs == 1 else f'all {self.pairs:,} pairs'}"
        such = ", ".join(f"{a} to {b}" for a, b in self.such_as[:3])
        text = f"{wanted}: broken by {self.broken:,} of {self.pairs:,} pair{'s' * (self.pairs != 1)}, such as {such}"
        return f"{text}; {self.finding.says} ({self.finding.at}); {self.finding.mend}" if self.finding else text


@dataclass(frozen=True, slots=True)
class Checked:
    """The verdicts, and how many pairs of the network's own hosts are cut off although nothing says that they should
    be."""

    verdicts: tuple[Verdict, ...]
    unforeseen: int


def check(knowledge: Knowledge, family: int | None = None, answer: Matrix | None = None) -> Checked:
    """Check what a network's `expect` says: what must be reached, in every address family that both ends have; what
    must not be, in none.

    Args:
        knowledge: the network, with what its devices know.
        family: 4 or 6; by default both.
        found: all its pairs, where they are decided already.

    Raises:
        QueryError: an end does not exist.
    """
    expectations = knowledge.network.expect
    outside: tuple[str, ...] = ()
    if any(OUTSIDE in (expectation.source, expectation.target) for expectation in expectations):
        network, outside = with_outside(knowledge)
        knowledge = know(network)
        answer = None
    answer = answer or matrix(build_arrays(knowledge), family, causes=False)
    ends = _Ends(knowledge, answer.hosts, outside)
    verdicts = [_verdict(ends, answer, expectation) for expectation in expectations]
    asked = [number for number, verdict in enumerate(verdicts) if _needs_reason(verdict)]
    within = None
    if len(asked) > 1:  # they share one small network
        kinds = np.unique(answer.kind, return_index=True)[1].tolist()
        names = {name for number in asked for name in verdicts[number].such_as[0]}
        within = few_hosts(ends.index, names.union(outside, (answer.hosts[place] for place in kinds)))
    for number in asked:
        reason = _why(ends, verdicts[number].such_as[0], family, within)
        verdicts[number] = replace(verdicts[number], finding=reason)
    return Checked(tuple(verdicts), _unforeseen(ends, answer, expectations))


def _needs_reason(verdict: Verdict) -> bool:
    return bool(verdict.such_as) and verdict.expectation.reached and verdict.finding is None


def findings(knowledge: Knowledge) -> tuple[Finding, ...]:
    """A finding for each expectation that does not hold.

    Raises:
        QueryError: an end does not exist.
    """
    verdicts = check(knowledge).verdicts if knowledge.network.expect else ()
    return tuple(_finding(number, verdict) for number, verdict in enumerate(verdicts) if not verdict.holds)


def _finding(number: int, verdict: Verdict) -> Finding:
    wanted = verdict.expectation
    path = ("expect", number)
    if not verdict.pairs:
        says = f"nothing can be said of {wanted.source} to {wanted.target}: there is no pair of hosts"
        return finding("expectation-idle", at=wanted.source, path=path, says=says, mend="name hosts that exist")
    such = f"{verdict.such_as[0][0]} to {verdict.such_as[0][1]}"
    count = f"{verdict.broken:,} of {verdict.pairs:,} pair{'s' * (verdict.pairs != 1)}"
    if verdict.finding is not None:
        says = f"{wanted.source} must reach {wanted.target}; cut off: {count}, such as {such}: {verdict.finding.says}"
        return finding("expectation-broken", at=verdict.finding.at, path=path, says=says, mend=verdict.finding.mend)
    if wanted.reached:
        says = f"{wanted.source} must reach {wanted.target}; cut off: {count}, such as {such}"
        mend = "look at the other findings"
        return finding("expectation-broken", at=wanted.source, path=path, says=says, mend=mend)
    says = f"{wanted.source} must not reach {wanted.target}; reached: {count}, such as {such}"
    mend = f"keep {wanted.source} from {wanted.target} where both pass, or change what is expected"
    return finding("expectation-broken", at=wanted.source, path=path, says=says, mend=mend)


class _Ends:
    """The hosts that the ends of expectations stand for."""

    def __init__(self, knowledge: Knowledge, hosts: tuple[str, ...], outside: tuple[str, ...]) -> None:
        self.knowledge = knowledge
        self.outside = outside
        self.index = NetworkIndex(knowledge)
        self.place = {name: index for index, name in enumerate(hosts)}
        self._vlans: dict[int | None, list[int]] | None = None
        self._known: dict[str, Ints] = {}

    def of(self, end: str) -> Ints:
        """The places of an end's hosts."""
        if end not in self._known:
            self._known[end] = np.array(self._hosts(end), dtype=np.int64)
        return self._known[end]

    def _hosts(self, end: str) -> list[int]:
        network = self.knowledge.network
        if end == OUTSIDE:
            return [self.place[name] for name in self.outside]
        if end in network.hosts:
            return [self.place[end]]
        vlan = network.vlan_called(end)
        if vlan is not None:
            return self._plugged(vlan)
        try:
            block = parse_prefix(end) if "/" in end else _single(parse_address(end))
        except AddressError:
            raise QueryError(
                f"'{end}' is no end to expect anything of: write a VLAN, a host, a subnet, an address or '{OUTSIDE}'"
            ) from None
        own = (host for host in network.hosts.values() if host.name not in self.outside)
        return [self.place[host.name] for host in own if _inside(host, block)]

    def _plugged(self, vlan: int) -> list[int]:
        if self._vlans is None:
            self._vlans = {}
            for name, host in self.knowledge.network.hosts.items():
                if name not in self.outside:
                    self._vlans.setdefault(plugged_vlan(self.knowledge, host), []).append(self.place[name])
        return self._vlans.get(vlan, [])


def _single(address: Address) -> Prefix:
    return Prefix(address.version, address.value, 32 if address.version == 4 else 128)


def _inside(host: Host, block: Prefix) -> bool:
    return any(block.holds(address) for address in host.addresses)


def _verdict(ends: _Ends, answers: Matrix, expectation: Expectation) -> Verdict:
    sources, targets = ends.of(expectation.source), ends.of(expectation.target)
    if OUTSIDE in (expectation.source, expectation.target):
        return _outside_verdict(answers, expectation, sources, targets)
    kinds = len(answers.between)
    ours = np.bincount(answers.kind[sources], minlength=kinds)
    theirs = np.bincount(answers.kind[targets], minlength=kinds)
    both = np.bincount(answers.kind[np.intersect1d(sources, targets)], minlength=kinds)
    wrong = ~answers.every if expectation.reached else answers.some
    pairs = len(sources) * len(targets) - int(both.sum())
    broken = int(ours @ (wrong @ theirs)) - int(both[np.diagonal(wrong)].sum())
    such = _such(answers, sources, targets, wrong) if broken else ()
    return Verdict(expectation, pairs, broken, such, None)


def _such(answers: Matrix, sources: Ints, targets: Ints, wrong: Bools) -> tuple[tuple[str, str], ...]:
    """The first pairs that are not as they should be."""
    named: list[tuple[str, str]] = []
    for i in sources.tolist():
        for j in targets[wrong[answers.kind[i]][answers.kind[targets]]].tolist():
            if i != j:
                named.append((answers.hosts[i], answers.hosts[j]))
            if len(named) == MOST_NAMED:
                return tuple(named)
    return tuple(named)


def _outside_verdict(answers: Matrix, expectation: Expectation, sources: Ints, targets: Ints) -> Verdict:
    """Whoever gets out (or in) by any of the ports that lead outside, does."""
    outwards = expectation.target == OUTSIDE
    inner, outer = (sources, targets) if outwards else (targets, sources)
    holds = answers.every if expectation.reached else answers.some
    across = holds if outwards else holds.T
    reached = across[np.ix_(answers.kind[inner], answers.kind[outer])].any(axis=1)
    names = [answers.hosts[i] for i in inner[reached != expectation.reached].tolist()]
    pairs = [(name, OUTSIDE) if outwards else (OUTSIDE, name) for name in names]
    finding = _NO_EDGE if pairs and expectation.reached and not len(outer) else None
    return Verdict(expectation, len(inner), len(pairs), tuple(pairs[:MOST_NAMED]), finding)


def _why(ends: _Ends, pair: tuple[str, str], family: int | None, within: Knowledge | None) -> Finding | None:
    """The mistake that cuts off a pair."""
    index = ends.index
    source, target = (index.knowledge.nodes[name] for name in pair)
    asked: list[int | None] = [family] if family else [*common_families(source, target)] or [None]
    answers = (reach(index, source, target, probes=1, family=end, within=within).finding for end in asked)
    return next((answer for answer in answers if answer is not None), None)


def _unforeseen(ends: _Ends, answers: Matrix, expectations: Sequence[Expectation]) -> int:
    """How many pairs are cut off that no expectation wants cut off. Hosts of one kind that the same expectations speak
    of are taken together."""
    own = np.ones(len(answers.hosts), dtype=np.bool_)
    own[[ends.place[name] for name in ends.outside]] = False
    parts = [
        expectation
        for expectation in expectations
        if not expectation.reached and OUTSIDE not in (expectation.source, expectation.target)
    ]
    marks = np.zeros((len(answers.hosts), 2 * len(parts) + 1), dtype=np.int64)
    marks[:, 0] = answers.kind
    for number, part in enumerate(parts):
        marks[ends.of(part.source), 2 * number + 1] = 1
        marks[ends.of(part.target), 2 * number + 2] = 1
    sorts, sizes = np.unique(marks[own], axis=0, return_counts=True)
    cut = ~answers.between[np.ix_(sorts[:, 0], sorts[:, 0])]
    for number in range(len(parts)):
        cut &= ~np.logical_and.outer(sorts[:, 2 * number + 1] == 1, sorts[:, 2 * number + 2] == 1)
    return int(sizes @ (cut @ sizes)) - int(sizes[np.diagonal(cut)].sum())


def forbidden(knowledge: Knowledge, answer: Matrix | Decided, hosts: tuple[str, ...]) -> Bools:
    """The pairs of kinds that are not to reach each other, all their hosts alike, of shape (kinds, kinds)."""
    mask = np.zeros_like(answer.between)
    sizes = np.bincount(answer.kind, minlength=len(mask))
    ends = _Ends(knowledge, hosts, ())
    for expectation in knowledge.network.expect:
        if not expectation.reached and OUTSIDE not in (expectation.source, expectation.target):
            whole = [
                np.bincount(answer.kind[ends.of(end)], minlength=len(mask)) == sizes
                for end in (expectation.source, expectation.target)
            ]
            mask |= np.logical_and.outer(*whole)
    return mask
