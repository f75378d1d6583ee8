"""Making findings of the kinds that there are."""

from __future__ import annotations

from archipelago.diagnosis.kinds import KINDS
from archipelago.model.finding import Edit, Finding, Mend
from archipelago.model.parts import Path


def finding(
    kind: str,
    *,
    at: str,
    path: Path,
    says: str,
    mend: str,
    edits: tuple[Edit, ...] = (),
    instead: tuple[Mend, ...] = (),
    **named: object,
) -> Finding:
    """A finding of a kind of the catalogue.

    Args:
        kind: its name.
        at: the device or host that holds the mistake.
        path: where in the document it stands.
        says: what is wrong there, one sentence.
        mend: the one change that mends it, in words.
        edits: the same change, applicable.
        instead: other changes, as small.
        named: what the kind's sentence of what it breaks names.

    Raises:
        KeyError: there is no such kind, or its sentence names something that is not given.
    """
    known = KINDS[kind]
    return Finding(
        kind=kind,
        severity=known.severity,
        at=at,
        path=path,
        says=says,
        breaks=known.breaks.format(**named),
        mend=mend,
        edits=edits,
        instead=instead,
    )
