"""The causes of what is cut off, with mends that were tried."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from archipelago.knowledge.known import Knowledge
from archipelago.model.filters import ECHO, Probe
from archipelago.model.finding import Finding
from archipelago.proof.mends import NOT_TRIED, settle, told
from archipelago.proof.trial import Trial
from archipelago.reachability.arrays import NetworkArrays
from archipelago.reachability.causes import Group
from archipelago.reachability.matrix import Matrix
from archipelago.reachability.verdict import Verdict

MOST_TRIED = 20
"""So many mends, those of the most pairs, are tried each for itself; the others together."""


def with_proof(plain: Knowledge, arrays: NetworkArrays, answer: Matrix) -> Matrix:
    """All pairs of a network, the mends of what cuts some off tried: each cuts off nothing that works."""
    return replace(answer, groups=proved(plain, arrays, answer.groups, answer.probe)) if answer.groups else answer


def proved_verdicts(plain: Knowledge, verdicts: Sequence[Verdict]) -> tuple[Verdict, ...]:
    """What is expected and broken, the mend of the first mistake behind each tried; of the first few, the others say
    that theirs was not."""
    mended = [
        number for number, verdict in enumerate(verdicts) if verdict.finding is not None and verdict.finding.edits
    ]
    trial = Trial(plain, ()) if mended else None
    findings: dict[int, Finding] = {}
    for place, number in enumerate(mended):
        finding, why = verdicts[number].finding, NOT_TRIED
        if trial is not None and finding is not None and place < min(trial.most, MOST_TRIED):
            finding, why, _ = settle(trial, finding)
        if finding is not None:
            findings[number] = told(finding, why or None)
    return tuple(
        replace(verdict, finding=findings.get(number, verdict.finding)) for number, verdict in enumerate(verdicts)
    )


def proved(plain: Knowledge, arrays: NetworkArrays, groups: Sequence[Group], probe: Probe = ECHO) -> tuple[Group, ...]:
    """Causes without the mends that do not hold.

    Args:
        plain: the network as it is written.
        arrays: the same in arrays, with the outside where it says what leads there.
        groups: the causes, those of the most pairs first.
        probe: what was sent.
    """
    mended = [number for number, group in enumerate(groups) if group.finding.edits]
    if not mended:
        return tuple(groups)
    trial = Trial(plain, (), probe=probe, arrays=arrays)
    most = min(trial.most, MOST_TRIED)
    findings: dict[int, Finding] = {}
    for number in mended[:most]:
        finding, why, _ = settle(trial, groups[number].finding)
        findings[number] = told(finding, why or None)
    rest = [groups[number].finding for number in mended[most:]]
    if rest:
        attempt = trial.attempt([edit for finding in rest for edit in finding.edits])
        findings.update({number: told(groups[number].finding, NOT_TRIED) for number in mended[most:] if attempt.why})
    return tuple(replace(group, finding=findings.get(number, group.finding)) for number, group in enumerate(groups))
