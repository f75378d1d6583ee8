"""What an audit found."""

from __future__ import annotations

from archipelago.model.finding import SEVERITIES, Finding


class AuditResult(tuple[Finding, ...]):
    """The findings, worst first; an empty tuple where there are none. Printed, it is a few lines for each."""

    __slots__ = ()

    @property
    def errors(self) -> int:
        """How many of them are errors."""
        return sum(finding.severity == "error" for finding in self)

    @property
    def headline(self) -> str:
        """How many of each severity, or that there is nothing."""
        if not self:
            return "no findings: nothing wrong or risky was found"
        counts = [(severity, sum(finding.severity == severity for finding in self)) for severity in SEVERITIES]
        return ", ".join(f"{count:,} {severity}{'s' * (count != 1)}" for severity, count in counts if count)

    def __str__(self) -> str:
        return "\n".join([self.headline, *map(str, self)])

    def __repr__(self) -> str:
        return f"<AuditResult: {self.headline}>"
