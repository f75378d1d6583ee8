"""What must hold, checked: every pair of two ends, in arrays, and why those pairs fail that do."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from archipelago.addressing.values import Address
from archipelago.diagnosis.kind import NEVER, OFTEN, Example, Kind, finding
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge, know
from archipelago.knowledge.outside import NOTHING_LEADS, beyond, with_outside
from archipelago.model.ends import GATEWAY, OUTSIDE, find
from archipelago.model.expectation import Expectation
from archipelago.model.filters import ECHO, Probe
from archipelago.model.finding import Finding
from archipelago.model.network import Network
from archipelago.reachability.arrays import Bools, Ints, NetworkArrays
from archipelago.reachability.asked import Asking
from archipelago.reachability.build import build_arrays
from archipelago.reachability.families import Decided
from archipelago.reachability.matrix import Matrix, by_probe, matrix, only
from archipelago.reachability.parties import Parties
from archipelago.reachability.verdict import MOST_NAMED, Verdict

BREAKS = "what the network's own 'expect' promises"
OUTSIDE_MISSING = Kind(
    "outside-missing",
    "error",
    "nothing leads outside, and somebody should get there",
    "nothing gets out, and nothing comes in",
    NEVER,
)


_NO_EDGE = finding(
    OUTSIDE_MISSING,
    at=OUTSIDE,
    path=(),
    says=NOTHING_LEADS,
    mend="give a routed port an address and a route through it",
)


@dataclass(frozen=True, slots=True)
class Checked:
    """The verdicts."""

    verdicts: tuple[Verdict, ...]


def check(
    knowledge: Knowledge,
    family: int | None = None,
    answer: Matrix | None = None,
    *,
    outside: tuple[str, ...] | None = None,
    reasons: bool = True,
    arrays: NetworkArrays | None = None,
) -> Checked:
    """Check what a network's `expect` says: what must be reached, in every address family that both ends have; what
    must not be, in none.

    Args:
        knowledge: the network, with what its devices know.
        family: 4 or 6; by default both.
        answer: all its pairs, where they are decided already.
        outside: the hosts that stand for the outside, where the network and the answer have them already.
        reasons: also say which mistake breaks an expectation.
        arrays: the network in arrays, where it is that already.

    Raises:
        QueryError: an end does not exist.
    """
    expectations = knowledge.network.expect
    if outside is None:
        outside = ()
        unheld = beyond(NetworkIndex(knowledge), _addresses(knowledge.network))
        if unheld or any(OUTSIDE in (expectation.source, expectation.target) for expectation in expectations):
            network, outside = with_outside(knowledge, unheld)
            knowledge = know(network)
            answer = arrays = None
    others = sorted(_probes(expectations) - {ECHO})
    if arrays is None and (answer is None or others):
        arrays = build_arrays(knowledge)
    if answer is None:
        answer = matrix(arrays or build_arrays(knowledge), family, causes=False)
    answers = {ECHO: answer}
    if arrays is not None:
        answers |= {other.probe: other for other in by_probe(arrays, others, family, causes=False)}
    parties = Parties(knowledge, answer.hosts, outside)
    askings = [_asking(parties, expectation, answers, family) for expectation in expectations]
    asking = Asking(parties, answer, family)
    verdicts = [_verdict(*each) for each in zip(askings, expectations, strict=True)]
    asked = [number for number, verdict in enumerate(verdicts) if reasons and _needs_reason(verdict)]
    within = knowledge
    if len(asked) > 1:  # they share one small network
        within = asking.few({name for number in asked for name in verdicts[number].such_as[0]})
    for number in asked:
        source, target = (parties.index.knowledge.nodes[name] for name in verdicts[number].such_as[0])
        said = askings[number].pair(source, target, within)
        mistake = next((one.finding for one in said if one.finding is not None), None)
        verdicts[number] = replace(verdicts[number], finding=mistake)
    return Checked(tuple(verdicts))


def _probes(expectations: Sequence[Expectation]) -> set[Probe]:
    return {probe for expectation in expectations for probe in expectation.probe}


def _asking(parties: Parties, expectation: Expectation, answers: Mapping[Probe, Matrix], family: int | None) -> Asking:
    """What answers an expectation: of several probes all must be reached, or none."""
    probes = expectation.probe or (ECHO,)
    first, *others = (answers[probe] for probe in probes)
    for other in others:
        first = replace(first, every=first.every & other.every, some=first.some | other.some)
    return Asking(parties, first, family, probes)


def names_addresses_beyond(knowledge: Knowledge) -> bool:
    """Whether a network expects something of addresses that are in none of its subnets."""
    return bool(beyond(NetworkIndex(knowledge), _addresses(knowledge.network)))


def _addresses(network: Network) -> Iterator[Address]:
    """The single addresses that a network's expectations name."""
    for expectation in network.expect:
        for word in (expectation.source, expectation.target):
            end = find(word, network)
            if end is not None and end.address is not None:
                yield end.address


def _needs_reason(verdict: Verdict) -> bool:
    named = bool(verdict.such_as) and verdict.expectation.target != GATEWAY
    return named and verdict.expectation.reached and verdict.finding is None


def findings(verdicts: Sequence[Verdict]) -> Iterator[tuple[int, Finding]]:
    """A finding for each expectation that does not hold, and its place."""
    return ((number, _finding(number, verdict)) for number, verdict in enumerate(verdicts) if not verdict.holds)


def mistakes(knowledge: Knowledge, arrays: NetworkArrays, verdict: Verdict) -> list[Finding]:
    """The mistakes that break an expectation: of hosts all of them, by the arrays, else that of the first pair.

    Args:
        knowledge: the network.
        arrays: the same network.
        verdict: what was said of the expectation.
    """
    first = [verdict.finding] if verdict.finding is not None else []
    wanted = verdict.expectation
    parties = Parties(knowledge, arrays.hosts, ())
    ends = (wanted.source, wanted.target)
    if OUTSIDE in ends or any(parties.is_gateway(end) or not len(parties.hosts(end)) for end in ends):
        return first
    untold = ("no-common-family", "not-asked")
    asked = {(mistake.kind, mistake.path): mistake for mistake in first if mistake.kind not in untold}
    for version in arrays.families:
        kind = Decided(arrays, version).kind
        mask = np.zeros((int(kind.max(initial=-1)) + 1,) * 2, dtype=np.bool_)
        mask[np.ix_(np.unique(kind[parties.hosts(ends[0])]), np.unique(kind[parties.hosts(ends[1])]))] = True
        for probe in wanted.probe or (ECHO,):
            for group in matrix(arrays, version, excused=only(mask, kind), probe=probe).groups:
                if group.finding.kind not in untold:
                    asked.setdefault((group.finding.kind, group.finding.path), group.finding)
        if asked:  # either family would do, and one was meant to
            break
    return list(asked.values())


EXPECTATION_BROKEN = Kind(
    "expectation-broken",
    "error",
    "what the network expects does not hold",
    "what the network's own 'expect' promises",
    OFTEN,
    example=Example("pier", "expect: [{from: kiosk, to: mess, reached: false}]"),
)


EXPECTATION_IDLE = Kind(
    "expectation-idle",
    "risk",
    "an expectation with nobody to check",
    "nothing is checked",
    NEVER,
    example=Example(
        "pier",
        """
        vlans: {mail: '250'}
        expect:
        - {from: mail, to: mess, reached: 'true'}
        """,
    ),
)


def _finding(number: int, verdict: Verdict) -> Finding:
    wanted = verdict.expectation
    path = ("expect", number)
    if verdict.idle:
        says = f"nothing can be said of {wanted.source} to {wanted.target}: there is nobody to check"
        return finding(EXPECTATION_IDLE, at=wanted.source, path=path, says=says, mend="name hosts that exist")
    if verdict.finding is not None:
        says = f"{verdict.says}: {verdict.finding.says}"
        return finding(EXPECTATION_BROKEN, at=verdict.finding.at, path=path, says=says, mend=verdict.finding.mend)
    if wanted.reached:
        mend = "look at the other findings"
    else:
        mend = f"keep {wanted.source} from {wanted.target} where both pass, or change what is expected"
    return finding(EXPECTATION_BROKEN, at=wanted.source, path=path, says=verdict.says, mend=mend)


def _verdict(asking: Asking, expectation: Expectation) -> Verdict:
    parties, answers = asking.parties, asking.answers
    ends = (expectation.source, expectation.target)
    if parties.is_gateway(expectation.target) or not all(isinstance(parties.of(end), np.ndarray) for end in ends):
        return asking.verdict(expectation)
    sources, targets = (parties.hosts(end) for end in ends)
    if OUTSIDE in ends:
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
