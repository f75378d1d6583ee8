"""What an audit found."""

from __future__ import annotations

from collections.abc import Iterable

from archipelago.answer import Answer
from archipelago.model.finding import SEVERITIES, Finding
from archipelago.model.network import Network

BROKEN = "expectation-broken"
"""What is expected and does not hold: the mistakes behind it are findings of their own."""


class AuditResult(Answer, tuple[Finding, ...]):
    """The findings, worst first; none where there are none. True where none of them is an error.

    Args:
        findings: what was found.
        network: what was audited.
        quick: neither pairs nor mends were tried.
    """

    SHOWN = "findings.AUDIT"
    network: Network
    quick: bool

    def __new__(cls, findings: Iterable[Finding], network: Network, *, quick: bool = False) -> AuditResult:
        made = super().__new__(cls, findings)
        made.network, made.quick = network, quick
        return made

    @property
    def errors(self) -> int:
        """How many of them are errors."""
        return sum(finding.is_error for finding in self)

    @property
    def headline(self) -> str:
        """How many of each severity, or that there is nothing."""
        return self._counted + ("; quick: neither pairs nor mends were tried" if self.quick else "")

    @property
    def _counted(self) -> str:
        if not len(self):
            return "no findings: nothing wrong or risky was found"
        broken = sum(finding.kind == BROKEN for finding in self)
        own = [finding.severity for finding in self if finding.kind != BROKEN]
        counts = [(severity, own.count(severity)) for severity in SEVERITIES]
        text = ", ".join(f"{count:,} {severity}{'s' * (count != 1)}" for severity, count in counts if count)
        if not broken:
            return text
        told = f"{broken:,} expectation{'s' * (broken != 1)} broken"
        return (
            f"{text}; {told} by {'it' if own == ['error'] else 'them'}"
            if "error" in own
            else f"{text}; {told}".lstrip("; ")
        )

    def __bool__(self) -> bool:
        return not self.errors
