"""Designs beside each other, as plain data."""

from __future__ import annotations

from dataclasses import dataclass

from archipelago.answer import Answer, OneLine
from archipelago.model.plan import Design
from archipelago.weighing.measures import Measures
from archipelago.weighing.places import Kind
from archipelago.weighing.ranking import RULE, Figures, Flip


@dataclass(frozen=True, slots=True, repr=False)
class Weighed(OneLine):
    """One design: what is otherwise than the brief has it, which kind it is of, where the gateways of each group are,
    the switches that it takes layer 3 switches for, its measures, and the design itself."""

    title: str
    kind: Kind
    places: tuple[str, ...]
    supposed: tuple[str, ...]
    measures: Measures
    design: Design


@dataclass(frozen=True, slots=True, repr=False)
class Refused(OneLine):
    """A choice that cannot be built, or is built and would not work, and why."""

    title: str
    why: str
    built: bool


@dataclass(frozen=True, slots=True, repr=False)
class Weighing(Answer):
    """Every design that a brief's devices allow, the best first.

    Args:
        groups: the VLANs of each group of gateways, as the brief has them together.
        designs: those that work, the best first.
        refused: those that do not.
        figures: what the ranking hangs on.
        flip: at which figure the second comes before the first; None where no figure does it.
        left_out: how many more choices were not looked at.
        host: where the person sits whose steps are counted; None where none are.
    """

    SHOWN = "weighing.WEIGH"

    groups: tuple[str, ...]
    designs: tuple[Weighed, ...]
    refused: tuple[Refused, ...]
    figures: Figures
    flip: Flip | None
    left_out: int
    host: str | None = None

    @property
    def rule(self) -> str:
        """What is ranked by, in words."""
        return RULE

    @property
    def recommendation(self) -> tuple[str, str]:
        """Which design to take and why; and what would make the second come first."""
        first, *others = self.designs
        one = first.measures
        share = one.share * self.figures.growth
        room = f"its fullest link, {one.fullest}, is {share:.1%} full"
        survives = f"{one.surviving.survive:,} of {one.surviving.reached:,} pairs survive any one failure"
        if not one.surviving.reached:
            room, survives = "no host is placed", "it is proved to work"
        buys = f" (with {' and '.join(first.supposed)} a layer 3 switch)" if first.supposed else ""
        why = f"Take '{first.title}'{buys}: {survives}, {room}, and it takes {one.cost.lines:,} lines"
        if not others:
            return f"{why}.", "There is no other design to weigh it against."
        second = others[0]
        beside = _beside(first, second, self.figures.growth)
        if self.flip is None:
            return f"{why}.", f"The second, '{second.title}', {beside}; no figure here makes it come first."
        return f"{why}.", f"The second, '{second.title}', {beside}; it comes first once {self.flip.says}."

    @property
    def headline(self) -> str:
        """The answer in one line."""
        count = len(self.designs)
        return (
            f"{count} design{'s' * (count != 1)} weighed, {len(self.refused)} refused: take '{self.designs[0].title}'"
        )


def _beside(first: Weighed, second: Weighed, growth: float) -> str:
    """What the second has otherwise, as far as it is."""
    one, other = first.measures, second.measures
    told = []
    if one.surviving.survive != other.surviving.survive:
        told.append(f"keeps {other.surviving.survive:,} pairs")
    if one.steps and other.steps and one.steps.cut != other.steps.cut:
        told.append(f"cuts off {other.steps.cut:,} pairs on the way there")
    if one.cost.cables != other.cost.cables:
        told.append(f"takes {other.cost.cables:,} cables where the first takes {one.cost.cables:,}")
    if one.cost.lines != other.cost.lines:
        told.append(f"takes {other.cost.lines:,} lines")
    if round(one.share, 4) != round(other.share, 4):
        told.append(f"has its fullest link {other.share * growth:.1%} full")
    if round(one.hops, 2) != round(other.hops, 2):
        told.append(f"has {other.hops:.2f} hops between VLANs where the first has {one.hops:.2f}")
    return ", ".join(told) or "is alike in everything weighed"
