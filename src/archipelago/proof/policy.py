"""What a policy says and the network does otherwise, as findings: each with an example packet and its way."""

from __future__ import annotations

from collections.abc import Iterator

from archipelago.diagnosis.catalogue import finding
from archipelago.diagnosis.no_route import is_upstream
from archipelago.errors import QueryError
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import know
from archipelago.knowledge.outside import with_outside
from archipelago.model.filters import FIRST_OWN_PORT, Probe
from archipelago.model.finding import Finding
from archipelago.model.parts import Path
from archipelago.reachability.build import build_arrays
from archipelago.reachability.policy import MOST_PROBES, Breach, breaches, kinds_apart, probes_of
from archipelago.simulation.reach import ReachResult, reach

MOST_NAMED = 4
"""So many kinds of traffic are named in one finding; the others are counted."""


_OTHERWISE: Path = ("policy", "otherwise")


def broken_policy(index: NetworkIndex) -> Iterator[Finding]:
    """A finding for each line of the policy that the network does not keep, in each family."""
    if index.network.policy is None:
        return
    try:
        network, outside = with_outside(index.knowledge)
    except QueryError:  # somebody of ours is called as the outside is
        network, outside = index.knowledge.written, ()
    kinds = len(kinds_apart(network))
    if kinds > MOST_PROBES:
        says = f"policy and filters tell {kinds:,} kinds of traffic apart; {MOST_PROBES} of them were asked"
        yield finding("policy-in-part", at="", path=("policy",), says=says, mend="ask others by matrix --probe")
    wider = NetworkIndex(know(network))
    for breach in breaches(wider, build_arrays(wider.knowledge), outside):
        yield _finding(wider, breach)


def _finding(index: NetworkIndex, breach: Breach) -> Finding:
    nodes = index.knowledge.nodes
    source, target = breach.example
    answer = reach(index, nodes[source], nodes[target], probes=1, family=breach.version, probe=breach.probe)
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
        answers = all(probe.protocol == "udp" and probe.port >= FIRST_OWN_PORT for probe in breach.services)
        return finding(
            "policy-answers" if answers else "policy-open", at=at, path=path, says=says, mend=f"drop it{where}"
        )
    says = f"{line}; ended all the same: {what}, {such}: {answer.says}"
    return finding("policy-closed", at=answer.at or source, path=path, says=says, mend=answer.mend or "let it pass")


def _services(probes: tuple[Probe, ...]) -> str:
    named = ", ".join(map(str, probes[:MOST_NAMED]))
    more = len(probes) - MOST_NAMED
    return f"{named} and {more} more" if more > 0 else named


def _way(answer: ReachResult) -> str:
    return ", ".join(step.device for step in answer.out[1:-1]) or "one link"


def _comes_in(index: NetworkIndex, answer: ReachResult) -> str:
    """The interface by which a packet first comes to a routing device; empty where it comes to none."""
    for step in answer.out:
        node = index.knowledge.nodes[step.device]
        if step.did.startswith("routed") and not is_upstream(index, node):
            return f"{step.device}/{step.ingress}"
    return ""
