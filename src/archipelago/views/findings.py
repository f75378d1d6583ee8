"""Findings as text: the answer first, then each with its place, what it breaks, and its mend."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

from archipelago.audit.result import AuditResult
from archipelago.model.finding import Finding
from archipelago.model.network import Network
from archipelago.model.problems import listed
from archipelago.views.face import Face
from archipelago.views.plain import plain_fields
from archipelago.views.schema import COUNT, FINDING, FINDING_WITH_LINE, TEXT, maybe, record, several
from archipelago.views.table import Table, table

if TYPE_CHECKING:
    from archipelago.proof.mending import MendResult


def body(found: AuditResult) -> list[str]:
    """Four lines for each finding."""
    network = found.network
    text = []
    number = 1
    for finding, *others in alike(network, found):
        line = network.line(finding.path)
        where = f" ({network.source}:{line})" if line else ""
        at = f" at {_places(finding, others)}" if finding.at else ""
        numbers = f"{number} to {number + len(others)}" if others else f"{number}"
        number += 1 + len(others)
        text += [
            "",
            f"{numbers}. {finding.severity.upper()} {finding.kind}{at}{where}",
            f"   {finding.says}{_likewise(others)}",
            f"   breaks: {finding.breaks}",
            *(f"   breaks: {promise}" for promise in finding.promises),
            f"   mend:   {finding.mend}{_likewise(others)}",
            *(f"   or:     {other.says}" for other in finding.instead),
            *(f"   choice: {choice.says}: {choice.does}" for choice in finding.choices if len(finding.choices) > 1),
        ]
    return text


def alike(network: Network, findings: Iterable[Finding]) -> list[list[Finding]]:
    """Findings, those together that are one mistake in the file: of one kind, about parts that one range of names
    makes, next to each other in the list."""
    groups: list[list[Finding]] = []
    for finding in findings:
        last = groups[-1][-1] if groups else None
        if last is not None and _of_one_range(network, last, finding):
            groups[-1].append(finding)
        else:
            groups.append([finding])
    return groups


def _of_one_range(network: Network, one: Finding, other: Finding) -> bool:
    mark = network.marks.get(one.path[:2])
    same_kind = (one.kind, one.severity, one.path[2:]) == (other.kind, other.severity, other.path[2:])
    return same_kind and mark is not None and mark == network.marks.get(other.path[:2]) and one.at != other.at


def _places(finding: Finding, others: Sequence[Finding]) -> str:
    return listed([finding.at, *(other.at for other in others)], 3)


def _likewise(others: Sequence[Finding]) -> str:
    return f"; the other {len(others):,} likewise" if len(others) > 1 else "; the other likewise" if others else ""


def left_lines(findings: AuditResult, source: str) -> list[str]:
    """What is left after a mend: a line for each error and risk with what to do, and one for all notes.

    Args:
        findings: what an audit says of the mended network.
        source: the file that it is written to.
    """
    serious = [finding for finding in findings if not finding.is_note]
    text: list[str] = []
    for title, wanted in (("left, for a person to decide", False), ("left, with a mend", True)):
        some = [finding for finding in serious if bool(finding.edits) == wanted]
        text += ["", title] if some else []
        for finding, *others in alike(findings.network, some):
            line = findings.network.line(finding.path)
            place = f" ({source}:{line})" if line else ""
            at = _places(finding, others)
            more = _likewise(others)
            text.append(f"  {finding.severity} {finding.kind} at {at}{place}: {finding.says}; {finding.mend}{more}")
    notes = [finding for finding in findings if finding.is_note]
    if notes:
        errors = any(finding.is_error for finding in findings)
        able = 0 if errors else sum(bool(finding.edits) for finding in notes)
        count = "1 note" if len(notes) == 1 else f"{len(notes):,} notes"
        text += ["", f"left: {count}; 'audit' tells more" + (f", '--notes' mends {able:,}" if able else "")]
    return text


def rows(found: AuditResult) -> list[dict[str, Any]]:
    """The findings as plain values, each with the line of the file that it stands on (0: in no file)."""
    return [{"line": found.network.line(finding.path), **plain_fields(finding)} for finding in found]


def table_of(found: AuditResult) -> Table:
    """A row for each finding."""
    told = [(one.severity, one.kind, one.at, one.says, one.breaks, one.mend) for one in found]
    return table("findings", ("severity", "kind", "at", "says", "breaks", "mend"), told, least=("breaks",))


AUDIT = Face(
    name="audit",
    verb="audit",
    shape=record(errors=COUNT, findings=several(FINDING_WITH_LINE)("worst first")),
    values=lambda found: {"errors": found.errors, "findings": rows(found)},
    tables=lambda found: [table_of(found)],
    body=body,
    rows=rows,
)


def mend_body(result: MendResult, old: str = "before", new: str = "after") -> list[str]:
    """What was mended, the lines of the document that changed, and what is left.

    Args:
        result: the mends.
        old, new: what the document is called before and after.
    """
    made = [
        f"  {finding.kind} at {_places(finding, others)}: {finding.mend}{_likewise(others)}"
        for finding, *others in alike(result.left.network, result.made)
    ]
    made += [f"  not written: {why}" for why in result.refused]
    told = [line for part in (made, result.diff(old, new)) for line in (["", *part] if part else [])]
    return [*told, *left_lines(result.left, new)]


def _mend_values(result: MendResult) -> dict[str, Any]:
    return {
        "made": [plain_fields(finding) for finding in result.made],
        "refused": list(result.refused),
        "left": rows(result.left),
        "errors": result.left.errors,
        "written": None,
    }


MEND = Face(
    name="mend",
    verb="mend",
    shape=record(
        made=several(FINDING)("what was mended"),
        refused=several(TEXT)("edits that do not fit the file, each with why"),
        left=several(FINDING_WITH_LINE),
        errors=COUNT("how many of what is left are errors"),
        written=maybe(TEXT)("the file that the command wrote"),
    ),
    values=_mend_values,
    tables=lambda result: [table_of(result.left)],
    body=mend_body,
    rows=lambda result: [plain_fields(finding) for finding in result.made],
)
