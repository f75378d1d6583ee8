"""What is expected and does not hold, told with the mistakes that break it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace
from typing import NamedTuple

from archipelago.answer import spelled_out
from archipelago.model.finding import Finding


class Broken(NamedTuple):
    """An expectation that does not hold: in words, as what a mistake breaks; as a finding of its own; and the mistakes
    behind it, as far as they are known."""

    promise: str
    finding: Finding
    causes: Sequence[Finding]


def with_promises(known: Sequence[Finding], broken: Iterable[Broken]) -> tuple[Finding, ...]:
    """Findings, each with the expectations that it breaks; an expectation that something else breaks, too, or nothing
    that is known, is a finding of its own.

    Args:
        known: the findings.
        broken: the expectations that do not hold.
    """
    by_place: dict[int, list[str]] = {}
    others: list[Finding] = []
    for promise, finding, causes in broken:
        places = [place for cause in causes if (place := _place(cause, known)) is not None]
        if not causes or len(places) < len(causes):
            others.append(finding)
            continue
        for place in dict.fromkeys(places):
            by_place.setdefault(place, []).append(promise)
    said = [replace(one, promises=tuple(by_place.get(place, ()))) for place, one in enumerate(known)]
    return (*said, *others)


def _place(cause: Finding, known: Sequence[Finding]) -> int | None:
    """Which of some findings is about a mistake: of its kind at its place, or with its mend, or an error at its place;
    None where none is."""
    edits = set(map(spelled_out, cause.edits))
    for place, one in enumerate(known):
        if (one.kind, one.path) == (cause.kind, cause.path):
            return place
    for place, one in enumerate(known):
        mended = bool(edits) and edits <= set(map(spelled_out, one.edits))
        if mended or (one.is_error and one.at == cause.at and one.path[:4] == cause.path[:4]):
            return place
    return None
