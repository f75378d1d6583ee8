"""A finding: something wrong or risky in a network, with the change that mends it as edits that can be applied."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum
from typing import Any, Literal

from archipelago.answer import OneLine
from archipelago.model.parts import Path

Severity = Literal["error", "risk", "note"]
SEVERITIES: tuple[Severity, ...] = ("error", "risk", "note")


class Removal(Enum):
    """The value of an edit that takes the thing away."""

    REMOVE = "remove"


REMOVE = Removal.REMOVE


@dataclass(frozen=True, slots=True, repr=False)
class Edit(OneLine):
    """One change to a document: the thing at `path` becomes `value` (text, a list or a mapping of text, as the file
    would hold it), or goes away where the value is REMOVE. A path that ends in "+" adds `value` to a list, one
    that ends in "+N" puts it before the entry N (from 0)."""

    path: Path
    value: Any


@dataclass(frozen=True, slots=True, repr=False)
class Mend(OneLine):
    """One way to mend a mistake: the change in words, and the same change, applicable."""

    says: str
    edits: tuple[Edit, ...]


@dataclass(frozen=True, slots=True, repr=False)
class Choice(OneLine):
    """A change that a person can decide for, where no mend does only good: in words, applicable, and in words what it
    does beside mending."""

    says: str
    edits: tuple[Edit, ...]
    does: str


@dataclass(frozen=True, slots=True, repr=False)
class Finding(OneLine):
    """One mistake.

    Args:
        kind: the kind of mistake, the same in every output.
        severity: "error" breaks traffic, "risk" may or does harm unseen, "note" is worth knowing.
        at: the device or host that holds the mistake.
        path: where in the document it stands.
        says: what is wrong there, one sentence.
        breaks: what it breaks, one sentence.
        mend: the one change that mends it, in words.
        edits: the same change, applicable; empty where only a person can decide.
        instead: other changes, as small, that mend it too.
        promises: the expectations that are broken by it, in words.
        tried: the mends that were tried, in words, each with what came of it.
        choices: where no mend does only good, those that a person can decide for.
    """

    kind: str
    severity: Severity
    at: str
    path: Path
    says: str
    breaks: str
    mend: str
    edits: tuple[Edit, ...] = ()
    instead: tuple[Mend, ...] = ()
    promises: tuple[str, ...] = ()
    tried: tuple[str, ...] = ()
    choices: tuple[Choice, ...] = ()

    @property
    def is_error(self) -> bool:
        """Whether it breaks traffic."""
        return self.severity == "error"

    @property
    def is_note(self) -> bool:
        """Whether it is only worth knowing."""
        return self.severity == "note"

    def __str__(self) -> str:
        mends = " or ".join([self.mend, *(other.says for other in self.instead)])
        return f"{self.severity.upper()} {self.kind} at {self.at}: {self.says}; breaks: {self.breaks}; mend: {mends}"
