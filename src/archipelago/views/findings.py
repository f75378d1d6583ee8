"""Findings as text: the answer first, then each with its place, what it breaks, and its mend."""

from __future__ import annotations

from collections.abc import Sequence

from archipelago.model.finding import Finding
from archipelago.model.network import Network


def lines(network: Network, findings: Sequence[Finding]) -> list[str]:
    """Four lines for each finding."""
    found = []
    for number, one in enumerate(findings, 1):
        line = network.line(one.path)
        where = f"{network.source}:{line}" if line else one.at
        found += [
            "",
            f"{number}. {one.severity.upper()} {one.slug} at {one.at} ({where})",
            f"   {one.says}",
            f"   breaks: {one.breaks}",
            f"   mend:   {one.mend}",
        ]
    return found
