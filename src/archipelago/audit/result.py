"""What an audit found."""

from __future__ import annotations

from archipelago.model.finding import SEVERITIES, Finding

BROKEN = "expectation-broken"
"""What is expected and does not hold: the mistakes behind it are findings of their own."""


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
        broken = sum(finding.slug == BROKEN for finding in self)
        own = [finding.severity for finding in self if finding.slug != BROKEN]
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

    def __str__(self) -> str:
        return "\n".join([self.headline, *map(str, self)])

    def __repr__(self) -> str:
        return f"<AuditResult: {self.headline}>"
