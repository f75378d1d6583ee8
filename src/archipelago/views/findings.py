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
