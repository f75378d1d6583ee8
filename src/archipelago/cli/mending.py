"""The verb `mend`: mends made, asked for one by one, or told why."""

from __future__ import annotations

from argparse import Namespace
from dataclasses import replace
from pathlib import Path

import archipelago
from archipelago.cli import out
from archipelago.errors import QueryError
from archipelago.model.finding import Finding, Mend
from archipelago.proof.mending import is_meant

ANSWERS = "yes, no, back, done"


def mend(words: Namespace) -> int:
    """Answer, and say by the exit code whether errors are left."""
    from archipelago.files.disk import write_whole
    from archipelago.views import findings as view

    if words.why is not None:
        return _why(words)
    if words.output is None:
        raise QueryError("--output is missing: where the mended network is written")
    chosen = _asked(words) if words.ask else None
    result = archipelago.mend(
        Path(words.network), only=words.only, notes=words.notes, accept_losses=words.accept_losses, chosen=chosen
    )
    write_whole(words.output, result.text)
    if words.as_json:
        out.say_json({**result.values(), "written": words.output})
    else:
        also = f"; written to {words.output}"
        out.answer(result, also=also, body=view.mend_body(result, words.network, words.output))
    return 0 if result else 1


def _why(words: Namespace) -> int:
    """What was tried for one finding of the audit."""
    found = archipelago.audit(archipelago.read_network(words.network), accept_losses=words.accept_losses)
    if words.why > len(found):
        raise QueryError(f"there is no finding {words.why}; the audit has {len(found)}")
    one = found[words.why - 1]
    out.head(f"{words.why}. {one.severity.upper()} {one.kind} at {one.at}: {one.says}")
    out.say(f"mend: {one.mend}")
    if not one.tried:
        why = "its mend was tried with others only" if one.edits else "the document does not tell how to mend it"
        out.say(f"nothing was tried: {why}")
    for text in one.tried:
        out.say(f"tried: {text}")
    return 0


def _asked(words: Namespace) -> list[Finding]:
    """The findings whose mends somebody wants, each with the one that was chosen."""
    network = archipelago.read_network(words.network)
    found = archipelago.audit(network, accept_losses=words.accept_losses)
    able = [one for one in found if _offered(one) and (not words.only or is_meant(one, words.only))]
    chosen: dict[int, Finding] = {}
    at = 0
    while at < len(able):
        answer = _answer(able[at], at, len(able), network.line(able[at].path))
        if answer == "done":
            break
        if answer == "back":
            at = max(at - 1, 0)
            chosen.pop(at, None)
            continue
        if isinstance(answer, Finding):
            chosen[at] = answer
        at += 1
    return list(chosen.values())


def _offered(one: Finding) -> list[Mend]:
    """The changes that can be made for a finding: its mend and those as small, else what a person can decide for, each
    with what it does beside mending."""
    if one.edits:
        return [Mend(one.mend, one.edits), *one.instead]
    return [Mend(f"{choice.says}: {choice.does}", choice.edits) for choice in one.choices]


def _answer(one: Finding, at: int, count: int, line: int) -> Finding | str:
    """What somebody says of one finding: the finding with the mend that was chosen, or a word."""
    mends = _offered(one)
    out.say()
    out.say(f"{at + 1} of {count}. {one.severity.upper()} {one.kind} at {one.at}" + (f" (line {line})" if line else ""))
    out.say(f"   {one.says}")
    for number, mend in enumerate(mends, 1):
        out.say(f"   {number}: {mend.says}")
    answers = ANSWERS if one.edits else ANSWERS.removeprefix("yes, ")
    numbers = f", or a number up to {len(mends)}" if len(mends) > 1 or not one.edits else ""
    while True:
        word = out.asked(f"   make it? {answers}{numbers}: ")
        if word in ("yes", "y") and one.edits:
            return one
        if word.isdigit() and 0 < int(word) <= len(mends):
            mend = mends[int(word) - 1]
            return replace(one, mend=mend.says, edits=mend.edits, instead=(), choices=())
        for known in ("no", "back", "done"):
            if word and known.startswith(word):
                return known
