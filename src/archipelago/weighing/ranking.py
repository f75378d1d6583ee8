"""Which design comes first, by a rule that can be told in a sentence, and at which figure another would."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from decimal import ROUND_CEILING, ROUND_FLOOR, Context
from math import ceil, inf, nextafter
from typing import NamedTuple

from archipelago.weighing.measures import Measures

RULE = (
    "first come designs whose fullest link keeps room; among them those of which more pairs survive any one failure, "
    "then those that interrupt less on the way there, with fewer devices to buy, fewer cables, fewer lines to "
    "configure, fewer hops"
)


@dataclass(frozen=True, slots=True)
class Figures:
    """What a ranking hangs on beside the measures: how often today's traffic there is, from which share of its speed on
    a link counts as full, and which share of pairs more or less surviving is no difference."""

    growth: float = 1.0
    full: float = 0.7
    tolerate: float = 0.0


class Flip(NamedTuple):
    """The figure at which the runner-up comes before the first: which one, its value, and what it means in words."""

    figure: str
    value: float
    says: str


def ranked(measures: Sequence[Measures], figures: Figures) -> list[int]:
    """The order of designs, the best first; those that are alike keep theirs.

    Args:
        measures: what each was measured at.
        figures: what the ranking hangs on.
    """
    best = max((one.survival for one in measures if not _overfull(one, figures)), default=0.0)
    unplanned = inf if any(one.steps is not None for one in measures) else 0.0  # how many they cut off is not known

    def key(number: int) -> tuple[float, ...]:
        one = measures[number]
        over = _overfull(one, figures)
        near = one.survival >= best - figures.tolerate - 1e-12
        survival = 0.0 if near else best - one.survival
        cut = float(one.steps.cut + one.steps.locked_out) if one.steps is not None else unplanned
        cost = (float(one.cost.bought), float(one.cost.cables), float(one.cost.lines))
        return (float(over), one.share if over else 0.0, survival, cut, *cost, one.hops, one.share)

    return sorted(range(len(measures)), key=key)


def _overfull(one: Measures, figures: Figures) -> bool:
    return one.share * figures.growth > figures.full


def flip(measures: Sequence[Measures], order: Sequence[int], figures: Figures) -> Flip | None:
    """The figure at which the second of an order comes before the first, put in and tried; None where none does it.

    Args:
        measures: what each was measured at.
        order: the order.
        figures: what it hangs on.
    """
    if len(order) < 2:
        return None
    first, second = order[0], order[1]
    for other, said in _candidates(measures[first], measures[second], figures):
        again = ranked(measures, other)
        if again.index(second) < again.index(first):
            return said
    return None


def _candidates(one: Measures, other: Measures, figures: Figures) -> Iterator[tuple[Figures, Flip]]:
    """What could make another design come first: more traffic, less of it, less weight on failures."""
    if 0 < other.share < one.share:
        growth = _digits(nextafter(figures.full / one.share, inf), ROUND_CEILING)
        says = f"traffic is {growth:g} times today's or more (--growth {growth:g}): then {one.fullest} is full"
        yield replace(figures, growth=growth), Flip("growth", growth, says)
    if other.share * figures.growth > figures.full:
        growth = _digits(figures.full / other.share, ROUND_FLOOR)
        says = f"traffic is {growth:g} times today's or less (--growth {growth:g}): then {other.fullest} keeps room"
        yield replace(figures, growth=growth), Flip("growth", growth, says)
    if one.survival > other.survival:
        share = ceil((one.survival - other.survival) * 1000 - 1e-9) / 1000
        says = f"{share:.1%} of pairs more or fewer that survive are no difference (--tolerate {share:.1%})"
        yield replace(figures, tolerate=share), Flip("tolerate", share, says)


def _digits(value: float, rounding: str) -> float:
    """A figure to three digits, up or down."""
    return float(Context(prec=3, rounding=rounding).create_decimal_from_float(value))
