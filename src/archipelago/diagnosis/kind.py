"""What a kind of finding is."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from archipelago.model.finding import Severity

Mended = Literal["always", "where the network tells how", "by a person"]
"""Whether findings of a kind carry edits."""
ALWAYS: Mended = "always"
OFTEN: Mended = "where the network tells how"
NEVER: Mended = "by a person"


@dataclass(frozen=True, slots=True)
class Kind:
    """One kind of finding. `breaks` is one sentence, with the named arguments of `finding` in braces."""

    name: str
    severity: Severity
    about: str
    breaks: str
    mended: Mended
