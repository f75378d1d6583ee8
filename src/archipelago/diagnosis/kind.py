"""What a kind of finding is, and making a finding of it. Each kind stands beside what makes its findings."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, NamedTuple

from archipelago.model.finding import Edit, Finding, Mend, Severity
from archipelago.model.parts import Path

Mended = Literal["always", "where the network tells how", "by a person"]
"""Whether findings of a kind carry edits."""
ALWAYS: Mended = "always"
OFTEN: Mended = "where the network tells how"
NEVER: Mended = "by a person"


class Example(NamedTuple):
    """What a mistake looks like: lines that are laid over a sound network of docs/samples, where `~` takes away what
    stands there and a list stands for the whole list."""

    sample: str
    lines: str


@dataclass(frozen=True, slots=True)
class Kind:
    """One kind of finding. `breaks` is one sentence, with the named arguments of `finding` in braces; `example` is None
    where only a question shows it, not a document alone."""

    name: str
    severity: Severity
    about: str
    breaks: str
    mended: Mended
    example: Example | None = None


def finding(
    kind: Kind,
    *,
    at: str,
    path: Path,
    says: str,
    mend: str,
    edits: tuple[Edit, ...] = (),
    instead: tuple[Mend, ...] = (),
    **named: object,
) -> Finding:
    """A finding of a kind.

    Args:
        kind: what it is.
        at: the device or host that holds the mistake.
        path: where in the document it stands.
        says: what is wrong there, one sentence.
        mend: the one change that mends it, in words.
        edits: the same change, applicable.
        instead: other changes, as small.
        named: what the kind's sentence of what it breaks names.

    Raises:
        KeyError: the kind's sentence names something that is not given.
    """
    return Finding(
        kind=kind.name,
        severity=kind.severity,
        at=at,
        path=path,
        says=says,
        breaks=kind.breaks.format(**named),
        mend=mend,
        edits=edits,
        instead=instead,
    )
