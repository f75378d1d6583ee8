"""Every error that Archipelago raises on purpose, as one family."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple


class ArchipelagoError(Exception):
    """The root of the family: something the caller gave cannot be used, and the message says what would be."""


class ArgumentError(ArchipelagoError, TypeError, ValueError):
    """An argument of a call is none that it takes; the message names it and says what is accepted. What names something
    that is not there, or reads as nothing, is of the same family."""


class TrafficError(ArgumentError):
    """A text is no kind of traffic, no port and no probe; the message says what would be."""


class DurationError(ArgumentError):
    """A text is no length of time."""


class AddressError(ArgumentError):
    """A text is not an address, a prefix or an address with its prefix length."""


class CarveError(ArchipelagoError):
    """The subnets asked for cannot be allocated. `reasons` holds every reason found, one sentence each."""

    def __init__(self, reasons: list[str]) -> None:
        super().__init__("\n".join(reasons))
        self.reasons = reasons


class DesignError(ArchipelagoError):
    """A brief cannot be built. `reasons` holds every reason found, each naming its remedy."""

    def __init__(self, reasons: list[str]) -> None:
        super().__init__("\n".join(reasons))
        self.reasons = reasons


class EditError(ArchipelagoError):
    """An edit cannot be made in a document's text; the message names its place and says why."""


class KernelError(ArchipelagoError):
    """No kernel can be used here, or it did not finish; the message says what to install or what it said last."""


class OutputError(ArchipelagoError):
    """The answer cannot be written to standard output."""


class QueryError(ArgumentError):
    """A question names something that the network does not have."""


def printable(text: str) -> str:
    """Text from a file as it may be shown: control characters and the like are told by their escapes, not obeyed."""
    if text.isprintable():
        return text
    return "".join(
        character if character.isprintable() else character.encode("unicode_escape").decode() for character in text
    )


def quoted(text: str) -> str:
    """A text from a file or call as a message quotes it: short, on one line, control characters told."""
    return f"'{printable(text[:57])}...'" if len(text) > 60 else f"'{printable(text)}'"


class ModelProblem(NamedTuple):
    """One thing wrong in a network or brief: the keys and list positions that lead to it in its document, whether the
    key itself is meant, and what is wrong."""

    path: tuple[str | int, ...]
    message: str
    key: bool = False


class ModelError(ArchipelagoError):
    """A network or brief was built that no document could describe. `problems` holds everything found."""

    def __init__(self, problems: list[ModelProblem]) -> None:
        self.problems = tuple(problems)
        super().__init__(
            "\n".join(f"{'/'.join(map(str, problem.path)) or 'all'}: {problem.message}" for problem in problems)
        )


@dataclass(frozen=True, slots=True)
class Problem:
    """One thing wrong in a file. Lines and columns count from 1; both are 0 where a place makes no sense."""

    line: int
    column: int
    message: str


class DocumentError(ArchipelagoError):
    """A file cannot be read as the document it should be. `problems` holds all of them, in file order."""

    def __init__(self, source: str, problems: list[Problem]) -> None:
        self.source = source
        self.problems = sorted(problems, key=lambda problem: (problem.line, problem.column))
        super().__init__("\n".join(self.lines()))

    def lines(self) -> list[str]:
        """One line of text for each problem: `file:line:column: message`."""
        return [
            f"{self.source}:{problem.line}:{problem.column}: {problem.message}"
            if problem.line
            else f"{self.source}: {problem.message}"
            for problem in self.problems
        ]
