"""A mend is proved: tried on the network, decided again by the engines, kept only if it helps and harms nothing. Where
the first does not hold, others are tried, then it and another together."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from typing import NamedTuple

from archipelago.model.finding import Choice, Finding, Mend
from archipelago.progress import steps, tell
from archipelago.proof.trial import Attempt, Trial, Tried

MOST_GROUPS = 4
"""So many groups of mends are tried together, for each that is tried for itself."""
MOST_OF_A_KIND = 6
"""More mends of a kind than these are tried together first."""
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
    harm: dict[int, Attempt] = {}
    settled = dict(enumerate(findings))
    alike = _many_alike(trial, findings, settled, chosen, gains)
    samples = _samples(findings, [number for number in chosen if number not in alike], trial.most)
    for number in steps(samples, "proving mends one by one"):
        settled[number], gains[number], attempt = _by_itself(trial, findings[number])
        if attempt is not None:
            refused[number], harm[number] = attempt.why, attempt
    for number in chosen:
        if number not in gains:
            settled[number] = _as_its_kind(findings, settled, samples, number)
    _try_kinds(trial, findings, settled, chosen, refused)
    for number, attempt in harm.items():
        if number in refused:
            settled[number], why, gains[number] = _with_help(trial, settled[number], attempt)
            if not why:
                del refused[number]
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


def _by_kind(findings: Sequence[Finding] | Mapping[int, Finding], numbers: Iterable[int]) -> list[list[int]]:
    """The numbers of findings, those of a kind together."""
    kinds: dict[str, list[int]] = {}
    for number in numbers:
        kinds.setdefault(findings[number].kind, []).append(number)
    return list(kinds.values())


def _many_alike(
    trial: Trial, findings: Sequence[Finding], settled: dict[int, Finding], chosen: list[int], gains: dict[int, int]
) -> set[int]:
    """Those of many mends of one kind, each with one way to make it, that hold made together: none is tried alone."""
    hold: set[int] = set()
    for numbers in _by_kind(findings, [number for number in chosen if not findings[number].instead]):
        if len(numbers) <= MOST_OF_A_KIND:
            continue
        attempt = trial.attempt([edit for number in numbers for edit in findings[number].edits])
        if not attempt.why:
            hold.update(numbers)
            gains.update(dict.fromkeys(numbers, attempt.gained))
            came = f"all {len(numbers):,} mends of its kind together: {_gain(attempt.gained)}"
            settled.update({number: replace(findings[number], tried=(came,)) for number in numbers})
    return hold


def _try_kinds(
    trial: Trial, findings: Sequence[Finding], settled: dict[int, Finding], chosen: list[int], refused: dict[int, str]
) -> None:
    """Where one of many equal mends does harm for itself, try all of its kind together: hosts wrong alike reach
    each other, and lose that where one alone is mended."""
    for numbers in _by_kind(findings, chosen):
        harmful = [number for number in numbers if number in refused]
        if not harmful or len(numbers) < 2:
            continue
        tried = [findings[number] if number in refused else settled[number] for number in numbers]
        if not trial.attempt([edit for finding in tried for edit in finding.edits]).why:
            for number in harmful:
                del refused[number]
                settled[number] = replace(findings[number], instead=())


def _samples(findings: Sequence[Finding], chosen: list[int], most: int) -> list[int]:
    """So many findings whose mends are tried each for itself, of every kind as many as of others, in their order."""
    turns: Counter[str] = Counter()
    turn: dict[int, int] = {}
    for number in chosen:
        turn[number] = turns[findings[number].kind]
        turns[findings[number].kind] += 1
    return sorted(sorted(chosen, key=lambda number: turn[number])[:most])


def _as_its_kind(findings: Sequence[Finding], settled: dict[int, Finding], samples: list[int], number: int) -> Finding:
    """A finding whose mends were not tried, with the one of them that held of the last of its kind that was: of equal
    mistakes the same is the right one."""
    finding = findings[number]
    alike = [other for other in samples if findings[other].kind == finding.kind and settled[other].edits]
    if not alike:
        return finding
    tried = findings[alike[-1]]
    held = [mend.says for mend in tried.instead[:MOST_INSTEAD]]
    if settled[alike[-1]].mend not in held or len(finding.instead) != len(tried.instead):
        return finding
    place = held.index(settled[alike[-1]].mend)
    mend = finding.instead[place]
    others = (Mend(finding.mend, finding.edits), *finding.instead[:place], *finding.instead[place + 1 :])
    return replace(finding, mend=mend.says, edits=mend.edits, instead=others)


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
    alone, gained, attempt = _by_itself(trial, finding)
    return (alone, "", gained) if attempt is None else _with_help(trial, alone, attempt)


def _by_itself(trial: Trial, finding: Finding) -> tuple[Finding, int, Attempt | None]:
    """A finding with the mend that holds by itself, and how many pairs that gains; where none does with its mends as
    choices, and what came of the first."""
    mends = (Mend(finding.mend, finding.edits), *finding.instead[:MOST_INSTEAD])
    attempts = [trial.attempt(mend.edits) for mend in mends]
    finding = replace(finding, tried=tuple(map(_came_of, mends, attempts)))
    good = [(attempt.gained, mend) for mend, attempt in zip(mends, attempts, strict=True) if not attempt.why]
    if not good:
        each = zip(mends, attempts, strict=True)
        choices = (Choice(mend.says, mend.edits, attempt.why) for mend, attempt in each if attempt.after is not None)
        return replace(finding, choices=tuple(choices)), 0, attempts[0]
    best = max(gained for gained, _ in good)
    first, *others = (mend for gained, mend in good if gained == best)
    return replace(finding, mend=first.says, edits=first.edits, instead=tuple(others)), best, None


def _with_help(trial: Trial, finding: Finding, attempt: Attempt) -> tuple[Finding, str, int]:
    """A finding whose mend does harm, with what makes that good."""
    both, gained = _with_remedy(trial, finding, attempt)
    if both is None:
        return finding, attempt.why, 0
    told_too = f"{both.mend}: {_gain(gained)}"
    return replace(both, tried=(*finding.tried, told_too), choices=()), "", gained


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
    """Those of some mends that hold together: all, or as many as can be made one group after another. A group that does
    not hold is parted, so that few that do not hold are found among many in few trials."""
    chosen: list[int] = []
    last = Attempt(trial.before, "", 0)
    groups = [list(numbers)] if numbers else []
    left = MOST_GROUPS * max(trial.most, 1)
    while groups:
        group = groups.pop()
        if not left:
            refused.update(dict.fromkeys(group, NOT_TRIED))
            continue
        left -= 1
        tell("proving mends together", len(chosen), len(numbers))
        attempt = trial.judge([settled[number] for number in (*chosen, *group)])
        if not attempt.why:
            chosen += group
            last = attempt
        elif len(group) > 1:
            groups += _parted(settled, group)[::-1]
        else:
            last = _alone(trial, settled, chosen, group[0], attempt, refused) or last
    return chosen, last if chosen else trial.judge([])


def _parted(settled: dict[int, Finding], group: list[int]) -> list[list[int]]:
    """A group of mends by their kinds; one of a single kind in two halves."""
    kinds = _by_kind(settled, group)
    half = (len(group) + 1) // 2
    return kinds if len(kinds) > 1 else [group[:half], group[half:]]


def _alone(
    trial: Trial, settled: dict[int, Finding], chosen: list[int], number: int, first: Attempt, refused: dict[int, str]
) -> Attempt | None:
    """Add a mend that does not hold with those chosen, by what would do instead or with what makes it good; why none
    does is noted. `first` is what came of it as it stands."""
    before = [settled[other] for other in chosen]
    harmful: list[Choice] = []
    for place, finding in enumerate(_choices(settled[number])):
        attempt = first if not place else trial.judge([*before, finding])
        if attempt.why and attempt.made:
            both, _ = _with_remedy(trial, finding, attempt)
            if both is not None:
                finding, attempt = both, trial.judge([*before, both])
        if not attempt.why:
            settled[number] = finding
            chosen.append(number)
            return attempt
        if attempt.after is not None:
            harmful.append(Choice(finding.mend, finding.edits, attempt.why))
    refused[number] = first.why
    settled[number] = replace(settled[number], choices=tuple(harmful))
    return None


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
