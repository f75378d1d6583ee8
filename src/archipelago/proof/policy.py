"""What a policy says and the network does otherwise, as findings: each with an example packet and its way."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace

from archipelago.addressing.values import parse_address
from archipelago.answer import spelled_out
from archipelago.design.entrances import Entrance
from archipelago.diagnosis.kind import ALWAYS, NEVER, OFTEN, Example, Kind, finding
from archipelago.diagnosis.places import is_upstream
from archipelago.errors import DocumentError, EditError
from archipelago.files.amended import Amendable
from archipelago.files.meant import distinct
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge, know
from archipelago.knowledge.outside import with_outside
from archipelago.model.filters import Probe
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.network import Network
from archipelago.model.parts import Path
from archipelago.progress import steps, tell
from archipelago.proof.placing import Edits, Place, Side, entrances, entrances_for, lines_of, stale, ways_to_place
from archipelago.proof.promise import newly_broken
from archipelago.reachability.build import build_arrays
from archipelago.reachability.management import MOST_QUESTIONS, questions_of_devices
from archipelago.reachability.policy import MOST_PROBES, Breach, BreachKey, Intent, breaches, kinds_apart, probes_of
from archipelago.reachability.policy_lines import IdleLine, idle_lines
from archipelago.reachability.widened import widened_of
from archipelago.simulation.reach import ReachResult, reach

MOST_TRIED = 60
"""So many sets of filters are tried each for itself; more are tried together only."""
MOST_NAMED = 4
"""So many kinds of traffic are named in one finding; the others are counted."""

_OTHERWISE: Path = ("policy", "otherwise")


POLICY_IN_PART = Kind(
    "policy-in-part",
    "note",
    "more kinds of traffic, or addresses of devices, than were asked",
    "some were not looked at",
    NEVER,
)


def broken_policy(index: NetworkIndex) -> Iterator[Finding]:
    """A finding for each line of the policy that the network does not keep, in each family."""
    if index.network.policy is None:
        return
    widened = widened_of(index)
    wider, arrays, outside, network = widened.index, widened.arrays, widened.outside, widened.index.network
    kinds = len(kinds_apart(network))
    if kinds > MOST_PROBES:
        says = f"policy and filters tell {kinds:,} kinds of traffic apart; {MOST_PROBES} of them were asked"
        yield finding(POLICY_IN_PART, at="", path=("policy",), says=says, mend="ask others by matrix --probe")
    found = list(breaches(wider, arrays, outside))
    if questions_of_devices(network, len(network.hosts)) > MOST_QUESTIONS:
        says = f"the first {MOST_QUESTIONS:,} questions to addresses of devices were asked; there may be more"
        yield finding(POLICY_IN_PART, at="", path=("policy",), says=says, mend="ask others by reach --probe")
    intent = Intent(wider.knowledge, arrays.hosts, outside)
    yield from (_idle(network, line) for line in idle_lines(network, intent, arrays))
    serious = [breach for breach in found if not breach.only_answers]
    mends = policy_mends(index, serious)
    yield from _by_mend(_finding(wider, breach, edits) for breach, edits in zip(serious, mends, strict=True))
    for version in (4, 6):
        answers = [breach for breach in found if breach.only_answers and breach.version == version]
        if answers:
            yield _answers(wider, answers)


def _by_mend(findings: Iterable[Finding]) -> list[Finding]:
    """Findings, those that one mend ends as one: a filter that is wrong can break several lines of the policy."""
    by_mend: dict[object, Finding] = {}
    for number, one in enumerate(findings):
        key = (one.kind, one.at, spelled_out(one.edits)) if one.edits else number
        first = by_mend.get(key)
        by_mend[key] = one if first is None else replace(first, says=f"{first.says}; and {one.says}")
    return list(by_mend.values())


def breaches_of(knowledge: Knowledge) -> list[Breach]:
    """Where a network, as it is written, and its policy differ.

    Raises:
        QueryError: something in it is called as the outside is.
    """
    network, outside = with_outside(knowledge)
    wider = NetworkIndex(know(network))
    return list(breaches(wider, build_arrays(wider.knowledge), outside))


POLICY_LINE_UNNEEDED = Kind(
    "policy-line-unneeded",
    "note",
    "a line of the policy that decides nothing",
    "nothing; it misleads whoever reads the policy",
    ALWAYS,
    example=Example(
        "pair",
        """
        policy:
          otherwise: any
          rules:
          - {from: guests, to: crew, may-not: any}
          - {from: crew, to: guests, may-not: any}
          - {from: kiosk, to: crew, may-not: tcp/23}
        """,
    ),
)


POLICY_LINE_HIDDEN = Kind(
    "policy-line-hidden",
    "risk",
    "a line of the policy that never decides, because earlier ones say otherwise",
    "what whoever wrote it believes",
    NEVER,
    example=Example(
        "pair",
        """
        policy:
          otherwise: any
          rules:
          - {from: guests, to: crew, may-not: any}
          - {from: crew, to: guests, may-not: any}
          - {from: kiosk, to: crew, may: tcp/443}
        """,
    ),
)


def _idle(network: Network, idle: IdleLine) -> Finding:
    """A line that decides nothing: because earlier ones do, or because all that it names share a VLAN."""
    assert network.policy is not None
    path = ("policy", "rules", idle.line)
    lines = f"line{'s' * (len(idle.earlier) > 1)} {', '.join(str(number + 1) for number in idle.earlier[:MOST_NAMED])}"
    why = f"{lines} decide{'s' * (len(idle.earlier) == 1)} before it" if idle.earlier else ""
    within = "hosts of one VLAN talk within it whatever the policy says" if idle.within else ""
    says = f"policy, line {idle.line + 1} decides nothing: {network.policy.rules[idle.line]}; "
    says += "; ".join(part for part in (why, within) if part)
    if idle.contradicted:
        mend = f"move it before {lines}, or remove it"
        return finding(POLICY_LINE_HIDDEN, at="", path=path, says=says, mend=mend)
    edits = (Edit(path, REMOVE),)
    return finding(POLICY_LINE_UNNEEDED, at="", path=path, says=says, mend="remove it", edits=edits)


def policy_mends(index: NetworkIndex, found: Sequence[Breach]) -> list[Edits]:
    """For each breach the edits that make filters what the policy wants where those come in whom it is about, or where
    what is for them goes out; none where that does not end it, or makes another. Of two ways the one that writes fewer
    lines is tried first."""
    places = entrances(index) if found else {}
    if not places:
        return [()] * len(found)
    ways = [_candidates(index, found, places, edits) for edits in ways_to_place(index, places)]
    ways.sort(key=lambda way: lines_of(distinct(edit for some in way for edit in some)))
    tried = (_ending(index, found, candidates) for candidates in ways)
    return next((edits for edits in tried if any(edits)), [()] * len(found))


def _ending(index: NetworkIndex, found: Sequence[Breach], candidates: Sequence[Edits]) -> list[Edits]:
    """For each breach its edits, if they end it; else none."""
    amendable = Amendable(index.knowledge.written)
    everything = tuple(edit for some in candidates for edit in some)
    sets = {spelled_out(some): some for some in candidates if some}
    if len(sets) > MOST_TRIED:  # tried together only
        ended = _ended(amendable, everything, found)
        return [some if breach.key in ended else () for breach, some in zip(found, candidates, strict=True)]
    verdicts = {told: _ended(amendable, some, found) for told, some in steps(list(sets.items()), "proving the filters")}
    return [
        some if breach.key in verdicts.get(spelled_out(some), ()) else ()
        for breach, some in zip(found, candidates, strict=True)
    ]


def _candidates(
    index: NetworkIndex, found: Sequence[Breach], places: Mapping[Place, Entrance], edits: Mapping[Side, Edits]
) -> list[Edits]:
    """For each breach the edits where those come in whom it is about, and wherever what goes out is judged: who begins,
    and where something is ended, who answers."""
    out = [edit for side, some in edits.items() if not side[2] for edit in some]
    ending = stale(index, places, edits)
    candidates = []
    for breach in found:
        hosts = breach.sources if breach.let_through else (*breach.sources, *breach.targets)
        there = dict.fromkeys(place for host in hosts for place in entrances_for(index, host, places))
        here = [edit for place in there for edit in edits[(*place, True)]]
        gone = () if breach.let_through else (edit for place in there for edit in ending.get(place, ()))
        candidates.append((*here, *out, *gone))
    return candidates


def _ended(amendable: Amendable, edits: Edits, found: Sequence[Breach]) -> set[BreachKey]:
    """The breaches that edits end; none where they make another, larger or smaller, or break what is expected."""
    tell("proving the policy's filters")
    try:
        network = amendable.with_edits(edits)
    except (DocumentError, EditError):
        return set()
    knowledge = know(network)
    after = breaches_of(knowledge)
    if worse(found, after) or newly_broken(know(amendable.network), knowledge):
        return set()
    return {breach.key for breach in found} - {breach.key for breach in after if not breach.only_answers}


def worse(before: Sequence[Breach], after: Sequence[Breach]) -> bool:
    """Whether a change makes a breach, or one larger; lines for answers aside."""
    pairs = {breach.key: breach.pairs for breach in before}
    return any(breach.pairs > pairs.get(breach.key, 0) for breach in after if not breach.only_answers)


POLICY_CLOSED = Kind(
    "policy-closed",
    "error",
    "a filter ends what the policy allows, or the answer to it",
    "what the policy says of who may talk to whom",
    OFTEN,
    example=Example("pair", "policy: {otherwise: any, rules: [{from: crew, to: guests, may-not: any}]}"),
)


POLICY_OPEN = Kind(
    "policy-open",
    "error",
    "the network lets through what the policy forbids",
    "what the policy says of who may talk to whom",
    OFTEN,
    example=Example(
        "pair",
        """
        policy:
          otherwise: any
          rules:
          - {from: guests, to: crew, may-not: any}
          - {from: crew, to: guests, may-not: any}
          - {from: crew, to: store, may-not: tcp/23}
        """,
    ),
)


def _finding(index: NetworkIndex, breach: Breach, edits: Edits) -> Finding:
    nodes = index.knowledge.nodes
    source, target = breach.example
    there = nodes[target] if target in nodes else parse_address(target)
    answer = reach(index, nodes[source], there, probes=1, family=breach.version, probe=breach.probe)
    mend = _said(index, edits)
    tried = (f"{mend}: the policy is kept there then, and no other line of it is broken",) if edits else ()
    policy = index.network.policy
    assert policy is not None
    line, path = f"policy, otherwise {policy.otherwise}", _OTHERWISE
    if breach.line is not None:
        line = f"policy, line {breach.line + 1}: {policy.rules[breach.line]}"
        path = ("policy", "rules", breach.line)
    services = _services(breach.services) if len(breach.services) < len(probes_of(index.network)) else "anything"
    what = f"{services} over IPv{breach.version}"
    such = f"{breach.pairs:,} pair{'s' * (breach.pairs != 1)}, such as {source} to {target} by {breach.probe}"
    if breach.let_through:
        place = _comes_in(index, answer)
        at, where = place.partition("/")[0] or source, f" where {source} comes in, at {place}" if place else ""
        says = f"{line}; let through all the same: {what}, {such}, over {_way(answer)}"
        told = finding(POLICY_OPEN, at=at, path=path, says=says, mend=mend or f"drop it{where}", edits=edits)
        return replace(told, tried=tried)
    says = f"{line}; ended all the same: {what}, {such}: {answer.says}"
    mend = mend or answer.mend or "let it pass"
    told = finding(POLICY_CLOSED, at=answer.at or source, path=path, says=says, mend=mend, edits=edits)
    return replace(told, tried=tried)


POLICY_ANSWERS = Kind(
    "policy-answers",
    "risk",
    "a line for answers lets the other side begin, to the ports that answers go to",
    "what the policy says, for UDP to ports from 49152 on",
    NEVER,
    example=Example(
        "pier",
        """
        policy:
          otherwise: any
          rules:
          - {from: cameras, to: tickets, may-not: any}
        devices:
          core:
            ports:
              p9: {filter-out: cameras-out}
            filters:
              cameras-out:
                rules:
                - {accept: tcp, answering: 'yes', source: 10.44.2.0/24}
                - {accept: icmp, icmp-type: reply, source: 10.44.2.0/24}
                - {accept: udp, source: 10.44.2.0/24, destination-port: 49152-65535}
                - {drop: any, source: 10.44.2.0/24, destination: 10.44.0.0/24}
                otherwise: accept
        """,
    ),
)


def _answers(index: NetworkIndex, some: Sequence[Breach]) -> Finding:
    """One finding for all that lines for answers let through."""
    most = max(some, key=lambda breach: breach.pairs)
    one = _finding(index, most, ())
    pairs = sum(breach.pairs for breach in some)
    says = (
        f"lines for answers let {_services(most.services)} over IPv{most.version} begin too, which "
        f"{len(some):,} line{'s' * (len(some) != 1)} of the policy forbid{'s' * (len(some) == 1)}: "
        f"{pairs:,} pair{'s' * (pairs != 1)}, such as {most.example[0]} to {most.example[1]}"
    )
    mend = "route these VLANs on a router, whose filters know conversations, where that is too much"
    return finding(POLICY_ANSWERS, at=one.at, path=one.path, says=says, mend=mend)


def _said(index: NetworkIndex, edits: Edits) -> str:
    """What edits do, in words: where filters go, which are written anew, and where there is to be none."""
    places, anew, none, gone = list[str](), list[str](), list[str](), list[str]()
    for edit in edits:
        device, part = str(edit.path[1]), str(edit.path[min(3, len(edit.path) - 1)])
        if edit.path[2] == "filters" and edit.value is REMOVE:
            gone.append(device)
        elif edit.path[2] != "filters":
            (none if edit.value is REMOVE else places).append(f"{device}/{part}")
        elif part in index.network.devices[device].filters:
            anew.append(f"'{part}' of {device}")
    said = [f"let a filter that the policy makes see what comes in by {', '.join(places)}"] if places else []
    said += [f"write {', '.join(anew)} anew, as the policy says"] if anew else []
    said += [f"take away the filter of what comes in by {', '.join(none)}"] if none else []
    said += [f"take what no interface names from {', '.join(gone)}"] if gone else []
    return "; ".join(said)


def _services(probes: tuple[Probe, ...]) -> str:
    named = ", ".join(map(str, probes[:MOST_NAMED]))
    more = len(probes) - MOST_NAMED
    return f"{named} and {more} more" if more > 0 else named


def _way(answer: ReachResult) -> str:
    return ", ".join(dict.fromkeys(step.device for step in answer.out[1:-1])) or "one link"


def _comes_in(index: NetworkIndex, answer: ReachResult) -> str:
    """The interface by which a packet first comes to a routing device; empty where it comes to none."""
    for step in answer.out:
        node = index.knowledge.nodes[step.device]
        taken = node.can_route and step.did.startswith(("routed", "delivered"))
        if taken and not is_upstream(index, node):
            return f"{step.device}/{step.ingress}"
    return ""
