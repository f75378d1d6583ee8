"""Whether one expectation holds."""

from __future__ import annotations

from dataclasses import dataclass

from archipelago.answer import Answer, OneLine
from archipelago.model.expectation import Expectation
from archipelago.model.finding import Finding

MOST_NAMED = 1_000
"""So many of the pairs that break an expectation are named; all are counted."""


@dataclass(frozen=True, slots=True, repr=False)
class Verdict(OneLine):
    """One expectation and whether it holds: of so many `pairs`, how many are `broken`, their names (the first
    thousand), and, where they should be reached, the mistake that cuts off the first."""

    expectation: Expectation
    pairs: int
    broken: int
    such_as: tuple[tuple[str, str], ...]
    finding: Finding | None

    @property
    def wanted(self) -> str:
        """What must hold, in words."""
        return str(self.expectation)

    @property
    def says(self) -> str:
        """What must hold and does not, with how many pairs break it, and one of them."""
        became, (a, b) = "cut off" if self.expectation.reached else "reached", self.such_as[0]
        return f"{self.wanted}; {became}: {self.count}, such as {a} to {b}"

    def promise(self, number: int) -> str:
        """The expectation of a place among all, as what a mistake breaks."""
        return f"expectation {number + 1}, {self.wanted} ({self.count} cut off)"

    @property
    def count(self) -> str:
        """How many of how many pairs break it."""
        return f"{self.broken:,} of {self.pairs:,} pair{'s' * (self.pairs != 1)}"

    @property
    def holds(self) -> bool:
        """Whether there are pairs and none is broken."""
        return self.pairs > 0 and not self.broken

    @property
    def idle(self) -> bool:
        """Whether there is nobody to check: neither kept nor broken."""
        return not self.pairs

    def __bool__(self) -> bool:
        return self.holds

    def __str__(self) -> str:
        wanted = str(self.expectation)
        if self.idle:
            return f"{wanted}: there is nobody to check"
        if not self.broken:
            return f"{wanted}: holds for {'the one pair' if self.pairs == 1 else f'all {self.pairs:,} pairs'}"
        such = ", ".join(f"{a} to {b}" for a, b in self.such_as[:3])
        text = f"{wanted}: broken by {self.count}, such as {such}"
        return f"{text}; {self.finding.says} ({self.finding.at}); {self.finding.mend}" if self.finding else text


class Verdicts(Answer, tuple[Verdict, ...]):
    """What was said of each expectation."""

    SHOWN = "matrix.EXPECTATIONS"

    @property
    def headline(self) -> str:
        """How many expectations hold, in one line."""
        broken = sum(bool(verdict.broken) for verdict in self)
        idle = sum(verdict.idle for verdict in self)
        every = f"what must hold: {len(self):,} expectation{'s' * (len(self) != 1)}"
        told = [f"{broken} broken"] * bool(broken) + [f"{idle} with nobody to check"] * bool(idle)
        return f"{every}, {', '.join(told)}" if told else f"{every}, each holds"

    def __bool__(self) -> bool:
        return all(self)
