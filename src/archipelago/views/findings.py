"""Findings as text: the answer first, then each with its place, what it breaks, and its mend."""

from __future__ import annotations

from collections.abc import Sequence

from archipelago.model.finding import Finding
from archipelago.model.network import Network


def lines(network: Network, findings: Sequence[Finding]) -> list[str]:
    """Four lines for each finding."""
    text = []
    for number, finding in enumerate(findings, 1):
        line = network.line(finding.path)
        where = f" ({network.source}:{line})" if line else ""
        at = f" at {finding.at}" if finding.at else ""
        text += [
            "",
            f"{number}. {finding.severity.upper()} {finding.slug}{at}{where}",
            f"   {finding.says}",
            f"   breaks: {finding.breaks}",
            f"   mend:   {finding.mend}",
            *(f"   or:     {other.says}" for other in finding.instead),
        ]
    return text


def left_lines(network: Network, findings: Sequence[Finding], source: str) -> list[str]:
    """What is left after a mend: a line for each error and risk with what to do, and one for all notes.

    Args:
        network: the mended network.
        findings: what an audit says of it.
        source: the file that it is written to.
    """
    text = []
    for finding in findings:
        if finding.severity == "note":
            continue
        line = network.line(finding.path)
        place = f" ({source}:{line})" if line else ""
        do = f"mend: {finding.mend}" if finding.edits else f"a person decides: {finding.mend}"
        text.append(f"  {finding.severity} {finding.slug} at {finding.at}{place}: {finding.says}; {do}")
    notes = [finding for finding in findings if finding.severity == "note"]
    if notes:
        errors = any(finding.severity == "error" for finding in findings)
        able = 0 if errors else sum(bool(finding.edits) for finding in notes)
        count = "1 note" if len(notes) == 1 else f"{len(notes):,} notes"
        text.append(f"  {count}: 'audit' tells more" + (f"; '--notes' mends {able:,}" if able else ""))
    return ["", "left", *text] if text else []
