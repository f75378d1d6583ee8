"""An audit whose mends were tried, and that no pair which is cut off escapes."""

from __future__ import annotations

from collections.abc import Sequence

from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Finding
from archipelago.proof.mends import Rules, Trial
from archipelago.proof.promise import unexplained
from archipelago.reachability.build import build_arrays


def proved(index: NetworkIndex, findings: Sequence[Finding], rules: Rules) -> tuple[Finding, ...]:
    """The findings of the rules, without the mends that do not hold, and what still cuts pairs off once all are made.

    Args:
        index: the network, indexed.
        findings: what the rules found in it.
        rules: the rules, for the network with mends.
    """
    arrays = build_arrays(index.knowledge)
    told, after = Trial(arrays, findings, rules).prove(findings) if findings else ([], arrays)
    left = list(unexplained(NetworkIndex(after.knowledge), after, told))
    if left:  # their mends, too, are for the network as it is
        left = Trial(arrays, [*findings, *left], rules).prove(left)[0]
    return (*told, *left)
