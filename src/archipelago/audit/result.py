"""What an audit found."""

from __future__ import annotations

from collections.abc import Iterable

from archipelago.answer import Answer
from archipelago.model.finding import SEVERITIES, Finding
from archipelago.model.network import Network


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
    def broken(self) -> int:
        """How many expectations do not hold, by a mistake that is found or by none that is known."""
        promises = {promise for finding in self for promise in finding.promises}
        return len(promises) + sum(finding.kind == "expectation-broken" for finding in self)

    @property
    def _counted(self) -> str:
        expected = len(self.network.expect)
        holding = f"{expected - self.broken:,} of {expected:,} expectation{'s' * (expected != 1)}"
        holding += " holds" if expected == 1 else " hold"
        said = f"; {holding}" if expected and not self.quick else ""
        if not len(self):
            return f"no findings: nothing wrong or risky was found{said}"
        own = [finding.severity for finding in self]
        counts = [(severity, own.count(severity)) for severity in SEVERITIES]
        text = ", ".join(f"{count:,} {severity}{'s' * (count != 1)}" for severity, count in counts if count)
        return f"{text}{said}"

    def __bool__(self) -> bool:
        return not self.errors
