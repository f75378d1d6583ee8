"""An audit whose mends were tried, and that no pair which is cut off escapes."""

from __future__ import annotations

from collections.abc import Sequence

from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Finding
from archipelago.proof.expected import broken
from archipelago.proof.idle import idle_filters
from archipelago.proof.mends import prove
from archipelago.proof.mirrored import unlike_filters
from archipelago.proof.policy import broken_policy
from archipelago.proof.promise import unexplained
from archipelago.proof.trial import Rules, Trial
from archipelago.reachability.widened import arrays_of


def proved(index: NetworkIndex, findings: Sequence[Finding], rules: Rules) -> tuple[Finding, ...]:
    """The findings of the rules, without the mends that do not hold, what still cuts pairs off once all are made, and
    what is expected and does not hold.

    Args:
        index: the network, indexed.
        findings: what the rules found in it.
        rules: the rules, for the network with mends.
    """
    arrays = arrays_of(index)
    trial = Trial(arrays, findings, rules) if findings else None
    known, after = prove(trial, findings) if trial is not None else ([], arrays)
    left = list(unexplained(NetworkIndex(after.knowledge), after, known))
    if left:  # their mends, too, are for the network as it is
        trial = Trial(arrays, [*findings, *left], rules)
        left = prove(trial, left).findings
    beside = (*idle_filters(index), *unlike_filters(index), *broken_policy(index), *broken(index, arrays))
    return (*known, *left, *beside)
