"""A green audit is a promise: a pair that is cut off and that no finding explains is a finding itself."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import replace

import numpy as np

from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge
from archipelago.model.finding import Finding
from archipelago.proof.pairs import excused
from archipelago.reachability.arrays import Bools, NetworkArrays
from archipelago.reachability.expect import check
from archipelago.reachability.families import Decided
from archipelago.reachability.matrix import matrix, unfiltered

MOST_ASKED = 2_000
"""So many ends of ways are looked into; once all mends are made few are left."""


def unexplained(index: NetworkIndex, arrays: NetworkArrays, findings: Iterable[Finding]) -> Iterator[Finding]:
    """A finding for every cause of pairs that are cut off which is not among those found already: the cause that
    `reach` gives. Pairs that `expect` forbids, those of separate routing tables (`vrf`) and those that a filter ends
    are as they should be.

    Args:
        index: the network, indexed.
        arrays: the same network.
        findings: what the rules have found.
    """
    known: set[object] = {(finding.kind, finding.at) for finding in findings}
    known |= {finding.path for finding in findings}
    routed = any(node.forwards for node in index.knowledge.devices.values())
    for version in (None, 6) if len(arrays.families) > 1 else (None,):
        fine = _filtered_too(arrays, version, excused(index, version))
        for group in matrix(arrays, version, excused=fine, most=MOST_ASKED).groups:
            cause = group.finding
            if cause.kind == "filtered":  # as the filter is written; what it should be, the plan says
                continue
            if (cause.kind, cause.at) not in known and cause.path not in known:
                known |= {(cause.kind, cause.at), cause.path}
                such = (
                    f"{group.pairs:,} pair{'s' * (group.pairs != 1)} of hosts, such as {group.source} to {group.target}"
                )
                risky = not routed or cause.kind == "no-common-family"
                yield replace(cause, breaks=f"it cuts off {such}", severity="risk" if risky else "error")


def _filtered_too(
    arrays: NetworkArrays, version: int | None, fine: Callable[[Decided], Bools]
) -> Callable[[Decided], Bools]:
    """What excuses the pairs, too, that only a filter ends: why is not looked for where nobody asks."""

    def excusing(answer: Decided) -> Bools:
        mask = fine(answer)
        if any(outcome.crossings is not None for outcome in answer.outcomes.values()):
            plain = unfiltered(arrays, version)
            _, first = np.unique(answer.kind, return_index=True)
            kinds = plain.kind[first]
            mask |= plain.between[np.ix_(kinds, kinds)]
        return mask

    return excusing


def newly_broken(before: Knowledge, after: Knowledge) -> set[int]:
    """The places of the expectations that hold before a change and not after it."""
    return broken_places(after) - broken_places(before)


def broken_places(knowledge: Knowledge) -> set[int]:
    """The places of the expectations that do not hold."""
    if not knowledge.network.expect:
        return set()
    return {number for number, verdict in enumerate(check(knowledge).verdicts) if verdict.broken}
