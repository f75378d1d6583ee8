"""Mends applied to a document's text, round after round, until nothing is left that can be mended."""

from __future__ import annotations

import difflib
import re
from bisect import bisect_right
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from archipelago.answer import Answer
from archipelago.audit.result import AuditResult
from archipelago.errors import DocumentError, EditError, QueryError
from archipelago.files.edit import apply
from archipelago.files.network import network_from
from archipelago.files.tree import parse
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.key import Value
from archipelago.model.keys import KEYS
from archipelago.model.network import Network
from archipelago.model.parts import Path

ROUNDS = 8
"""Mending one thing can bring another to light; so many times it is looked again."""
PARTS = frozenset(key.name for key in KEYS if key.holds and key.value in (Value.NAMED, Value.LIST))
"""The keys of a document under which parts of the network stand, each with settings of its own."""
Audit = Callable[[Network], AuditResult]


@dataclass(frozen=True, slots=True, repr=False)
class MendResult(Answer):
    """A document after its mends: as it was and as it is now, the network it is, what was mended, which edits could not
    be written into the text and why, what is left."""

    SHOWN = "findings.MEND"

    before: str
    text: str
    network: Network
    made: tuple[Finding, ...]
    refused: tuple[str, ...]
    left: AuditResult

    @property
    def headline(self) -> str:
        """The answer in one line."""
        count = len(self.made)
        return f"{count:,} mend{'s' * (count != 1)} made; left: {self.left.headline}"

    def diff(self, old: str = "before", new: str = "after") -> list[str]:
        """The lines that changed, as a unified diff without context; before each change stands where in the new text
        it is, and at which device or host."""
        pair = self.before.splitlines(), self.text.splitlines()
        parts = sorted((mark.key_line, str(path[1])) for path, mark in self.network.marks.items() if _is_part(path))
        lines = []
        for line in difflib.unified_diff(*pair, old, new, lineterm="", n=0):
            place = re.match(r"@@ .*\+(\d+)", line)
            if place is None:
                lines.append(line)
                continue
            number = int(place[1])
            at = bisect_right(parts, (number, "\uffff")) - 1
            lines.append(f"@@ line {number}" + (f", {parts[at][1]} @@" if at >= 0 else " @@"))
        return lines

    def __bool__(self) -> bool:
        return not self.left.errors


def mend(text: str, source: str, only: list[str], audit: Audit, *, notes: bool = False) -> MendResult:
    """Mend a document's text, and look again until nothing that can be mended is left.

    Args:
        text: the document.
        source: how errors name it.
        only: severities, kinds of finding, devices, or KIND@DEVICE; all errors and risks where empty.
        audit: what finds the mistakes.
        notes: mend what is merely untidy, too, once no error is left.

    Raises:
        DocumentError: the text is not a network.
        QueryError: no finding is one of `only`.
    """
    before = text
    network = _network(text, source)
    result = audit(network)
    for choice in only:
        if not any(is_meant(finding, [choice]) for finding in result):
            listed = ", ".join(sorted({f"{finding.kind}@{finding.at}" for finding in result})) or "none"
            raise QueryError(f"no finding is '{choice}'; give a severity, a kind, a device or KIND@DEVICE of: {listed}")
    made: list[Finding] = []
    refused: dict[str, None] = {}
    for _ in range(ROUNDS):
        wanted = [finding for finding in result if finding.edits and (not only or is_meant(finding, only))]
        wanted = [finding for finding in wanted if not any(_same(finding, other) for other in made)]
        # What is wrong or risky comes first: a note's mend can be in the way of an error's.
        serious = _taking_last([finding for finding in wanted if not finding.is_note])
        untidy = wanted if only or (notes and not result.errors) else []
        new, applied = _apply(text, serious or untidy, refused)
        if not applied:
            break
        network_now = _network(new, source)
        result_now = audit(network_now)
        if result_now.errors > result.errors and not serious:
            break
        text, network, result = new, network_now, result_now
        made += applied
    return MendResult(before, text, network, tuple(made), tuple(refused), result)


def _taking_last(findings: list[Finding]) -> list[Finding]:
    """Of some findings those whose mends are made now: nothing is taken away while another mend can show that it is
    needed."""
    adding = [finding for finding in findings if not _takes_away(finding)]
    return adding if any(finding.is_error for finding in adding) else findings


def _takes_away(finding: Finding) -> bool:
    """Whether a mend takes a part of the network away: an interface, a route, a host, a cable, a line of a filter."""
    removed = (edit.path for edit in finding.edits if edit.value is REMOVE)
    return any(len(path) > 1 and path[-2] in PARTS for path in removed)


def make(text: str, source: str, chosen: Sequence[Finding], audit: Audit) -> MendResult:
    """Make the mends of some findings of a document's audit, no others, and look at what is left.

    Args:
        text: the document.
        source: how errors name it.
        chosen: the findings, each with the mend that is to be made.
        audit: what finds the mistakes.

    Raises:
        DocumentError: the text is not a network.
    """
    refused: dict[str, None] = {}
    new, made = _apply(text, list(chosen), refused)
    network = _network(new, source)
    return MendResult(text, new, network, tuple(made), tuple(refused), audit(network))


def _is_part(path: Path) -> bool:
    """Whether a place is that of a device or a host; what follows the last of them belongs to none."""
    return len(path) == 2 and path[0] in ("devices", "hosts", "cables", "expect")


def _same(a: Finding, b: Finding) -> bool:
    """Whether two findings are one mistake with one mend."""
    return (a.kind, a.path, a.mend, a.edits) == (b.kind, b.path, b.mend, b.edits)


def _network(text: str, source: str) -> Network:
    return network_from(parse(text.encode(), source))


def is_meant(finding: Finding, only: list[str]) -> bool:
    """Whether a finding is among those chosen: by its severity, its kind, its device, or both of these."""
    return bool({finding.severity, finding.kind, finding.at, f"{finding.kind}@{finding.at}"} & set(only))


def _apply(text: str, findings: list[Finding], refused: dict[str, None]) -> tuple[str, list[Finding]]:
    """Apply the mends of one audit, each change once; those that touch the same place wait for the next look. Why an
    edit could not be written is added to `refused`."""
    touched: set[Path] = set()
    around: set[Path] = set()
    chosen: list[Finding] = []
    for finding in findings:
        paths = {edit.path for edit in finding.edits}
        same = paths <= touched and any(finding.edits == other.edits for other in chosen)
        inside = any(path[:length] in touched for path in paths for length in range(1, len(path)))
        again = any(path in touched and path[-1] != "+" for path in paths)
        if not same and not inside and not again and not paths & around:
            touched |= paths
            around |= {path[:length] for path in paths for length in range(1, len(path))}
            chosen.append(finding)
    together = _amended(text, [edit for finding in chosen for edit in finding.edits], {})
    if together is not None:
        return together, chosen
    # Two mends that cannot stand together: each in turn, those that would spoil the document left out.
    made: list[Finding] = []
    for finding in chosen:
        if made and any(isinstance(part, int) for edit in finding.edits for part in edit.path):
            continue  # places in lists may have moved: the next look tells them anew
        alone = _amended(text, finding.edits, refused)
        if alone is not None:
            text = alone
            made.append(finding)
    return text, made


def _amended(text: str, edits: Sequence[Edit], refused: dict[str, None]) -> str | None:
    """The text with edits made, if they can be written and leave a document that reads."""
    try:
        amended = apply(text, edits)
        _network(amended, "")
    except EditError as error:
        refused[str(error)] = None
        return None
    except DocumentError:
        return None
    return amended
