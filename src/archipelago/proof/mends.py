"""A mend is proved: tried on the network, decided again by the engines, kept only if it helps and harms nothing. Where
the first does not hold, others are tried, then it and another together."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import NamedTuple

from archipelago.model.finding import Choice, Finding, Mend
from archipelago.progress import steps
from archipelago.proof.trial import Attempt, Trial, Tried

MOST_INSTEAD = 3
"""So many other mends of one mistake are tried."""
NOT_TRIED = "it was not tried for itself"
CHANGES_NOTHING = "it changes nothing"


class Proved(NamedTuple):
    """Findings without the mends that do not hold, and the network once all others are made."""

    findings: list[Finding]
    after: Tried


def prove(trial: Trial, findings: Sequence[Finding]) -> Proved:
    """Try the mends of findings, each for itself and then all together. What has no mend of its own and is gone by then
    was a symptom of the others, and is left out."""
    chosen = [number for number, finding in enumerate(findings) if finding.edits]
    if not chosen:
        return Proved(list(findings), trial.before)
    refused: dict[int, str] = {}
    gains: dict[int, int] = {}
    settled = dict(enumerate(findings))
    for number in steps(chosen[: trial.most], "proving mends one by one"):
        settled[number], why, gains[number] = settle(trial, findings[number])
        if why:
            refused[number] = why
    able = [number for number in chosen if number not in refused]
    kept, last = _together(trial, settled, [n for n in able if not findings[n].is_note], refused)
    notes = [number for number in able if findings[number].is_note]
    aside: list[int] = []
    if notes:  # what is merely untidy is mended last, and not where that would undo a mend
        tidy = trial.judge([settled[number] for number in (*kept, *notes)])
        if not tidy.why and tidy.gained >= last.gained:
            kept, last = [*kept, *notes], tidy
        else:
            aside, _ = _together(trial, settled, notes, refused)
    still = {(finding.kind, finding.path) for finding in last.found}
    said = {(finding.kind, finding.path, finding.says) for finding in last.found}
    for number in kept:
        finding = findings[number]
        if not gains.get(number) and (finding.kind, finding.path, finding.says) in said:
            refused[number] = CHANGES_NOTHING
    symptoms = _symptoms(trial, settled, kept, gains, last)
    mended = {number for number in (*kept, *aside) if number not in refused and number not in symptoms}
    left = [
        number
        for number, finding in enumerate(findings)
        if number not in symptoms
        if finding.is_note
        or not mended
        or number in mended
        or (finding.kind, finding.path) in still
        or (finding.edits and number not in refused)
    ]
    after = last.after or trial.before
    return Proved([told(settled[number], refused.get(number)) for number in left], after)


def _symptoms(
    trial: Trial, settled: dict[int, Finding], kept: list[int], gains: dict[int, int], last: Attempt
) -> set[int]:
    """Those of some mends that gain nothing, and whose findings are gone without them once the others are made; what is
    merely untidy is no mistake behind others."""
    idle = [number for number in kept if gains.get(number) == 0 and not settled[number].is_note]
    others = [number for number in kept if number not in idle and not settled[number].is_note]
    if not idle or not others:
        return set()
    attempt = trial.judge([settled[number] for number in others])
    if attempt.why or attempt.gained < last.gained:
        return set()
    still = {(finding.kind, finding.path) for finding in attempt.found}
    return {number for number in idle if (settled[number].kind, settled[number].path) not in still}


def settle(trial: Trial, finding: Finding) -> tuple[Finding, str, int]:
    """A finding with the mend that holds by itself (the one that gains most first, those that gain as much beside it),
    or with two that hold together; why none does; and how many pairs it gains."""
    mends = (Mend(finding.mend, finding.edits), *finding.instead[:MOST_INSTEAD])
    attempts = [trial.attempt(mend.edits) for mend in mends]
    finding = replace(finding, tried=tuple(map(_came_of, mends, attempts)))
    good = [(attempt.gained, mend) for mend, attempt in zip(mends, attempts, strict=True) if not attempt.why]
    if good:
        best = max(gained for gained, _ in good)
        first, *others = (mend for gained, mend in good if gained == best)
        return replace(finding, mend=first.says, edits=first.edits, instead=tuple(others)), "", best
    both, gained = _with_remedy(trial, finding, attempts[0])
    if both is None:
        each = zip(mends, attempts, strict=True)
        choices = (Choice(mend.says, mend.edits, attempt.why) for mend, attempt in each if attempt.after is not None)
        return replace(finding, choices=tuple(choices)), attempts[0].why, 0
    return replace(both, tried=(*finding.tried, f"{both.mend}: {_gain(gained)}")), "", gained


def _came_of(mend: Mend, attempt: Attempt) -> str:
    return f"{mend.says}: {attempt.why or _gain(attempt.gained)}"


def _gain(pairs: int) -> str:
    """What a mend that holds brings, in words."""
    return f"it holds; {pairs:,} more reached (pairs, by family and kind of traffic)" if pairs else "it holds"


def _with_remedy(trial: Trial, finding: Finding, attempt: Attempt) -> tuple[Finding | None, int]:
    """A mend that does harm, together with what makes that good; None where they do not hold either."""
    remedy = trial.remedy(attempt)
    places = {edit.path for edit in finding.edits if not str(edit.path[-1]).startswith("+")}
    if remedy is None or any(edit in finding.edits or edit.path in places for edit in remedy.edits):
        return None, 0
    both = replace(finding, mend=f"{finding.mend}; and {remedy.mend}", edits=(*finding.edits, *remedy.edits))
    again = trial.attempt(both.edits)
    return (None, 0) if again.why else (replace(both, instead=()), again.gained)


def _together(
    trial: Trial, settled: dict[int, Finding], numbers: list[int], refused: dict[int, str]
) -> tuple[list[int], Attempt]:
    """Those of some mends that hold together: all, or as many as can be made one after another."""
    last = trial.judge([settled[number] for number in numbers])
    if not last.why:
        return numbers, last
    chosen: list[int] = []
    last = Attempt(trial.before, "", 0)
    for number in steps(numbers[: trial.most], "proving mends together"):
        before = [settled[other] for other in chosen]
        why = ""
        harmful: list[Choice] = []
        for finding in _choices(settled[number]):
            attempt = trial.judge([*before, finding])
            if attempt.why and attempt.made:
                both, _ = _with_remedy(trial, finding, attempt)
                if both is not None:
                    finding, attempt = both, trial.judge([*before, both])
            if not attempt.why:
                settled[number], last, why = finding, attempt, ""
                chosen.append(number)
                break
            why = why or attempt.why
            if attempt.after is not None:
                harmful.append(Choice(finding.mend, finding.edits, attempt.why))
        if why:
            refused[number] = why
            settled[number] = replace(settled[number], choices=tuple(harmful))
    refused.update(dict.fromkeys(numbers[trial.most :], NOT_TRIED))
    return chosen, last


def _choices(finding: Finding) -> list[Finding]:
    """A finding with its mend, and with each that would do instead."""
    return [finding, *(replace(finding, mend=mend.says, edits=mend.edits, instead=()) for mend in finding.instead)]


def told(finding: Finding, why: str | None) -> Finding:
    """A finding whose mend does not hold says so, and has no edits: what a person can decide for are its choices."""
    if why is None:
        return finding
    if len(finding.choices) > 1:
        return replace(finding, mend=f"decide by hand: {len(finding.choices)} choices", edits=(), instead=())
    mend = f"decide by hand ({finding.mend}: {why})"
    return replace(finding, mend=mend, edits=(), instead=())
