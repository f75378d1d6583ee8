"""Designs side by side as a picture: a bar and a number for each thing that they are weighed by."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from archipelago.views import palette
from archipelago.views.palette import FAINT, INK
from archipelago.views.picture_parts import MARGIN, bar, heading
from archipelago.views.shapes import SIZE, Pattern, Picture, Shape, Text, wrapped
from archipelago.weighing.result import Weighed, Weighing

LEFT, ROW, BAR = 36.0, 44.0, 118.0
"""Where the numbers of designs end; the height of a design; the width of the longest bar, in pixels."""
FIRST, OTHER = Pattern(palette.FIRST), Pattern(palette.OTHER)
GAP = 24.0


class Column(NamedTuple):
    """One thing that designs are weighed by: what it is, which end is better, its value and its text."""

    name: str
    better: str
    value: Callable[[Weighed], float]
    text: Callable[[Weighed], str]


def weighing_picture(found: Weighing) -> Picture:
    """The designs as rows, the best first."""
    columns = _columns(found)
    width = 2 * MARGIN + LEFT + len(columns) * (BAR + GAP) + 20
    picture = Picture(found.headline, " ".join(found.recommendation), width)
    y = 26.0
    picture.shapes += heading(found.headline)
    for text in found.recommendation:
        for line in wrapped(text, width - 2 * MARGIN, SIZE + 0.5):
            y += 17
            picture.shapes.append(Text(MARGIN, y, line, SIZE + 0.5))
    y += 34
    for at, column in enumerate(columns):
        x = _x(at)
        picture.shapes += [Text(x, y, column.name, SIZE, bold=True), Text(x, y + 13, column.better, 9, FAINT)]
    y += 28
    for number, one in enumerate(found.designs, 1):
        picture.shapes += _row(found, columns, number, one, y)
        y += ROW
    y += 6
    for line in wrapped(f"Ranked so: {found.rule}.", width - 2 * MARGIN):
        picture.shapes.append(Text(MARGIN, y, line, SIZE, FAINT))
        y += 15
    picture.height = y + MARGIN / 2
    return picture


def _columns(found: Weighing) -> list[Column]:
    columns = [
        Column("pairs surviving", "more is better", lambda one: one.measures.survival, _surviving),
        Column("fullest link", "less is better", lambda one: one.measures.share, lambda o: f"{o.measures.share:.1%}"),
        Column("lines", "fewer is better", lambda one: one.measures.cost.lines, lambda o: f"{o.measures.cost.lines:,}"),
        Column("hops", "fewer is better", lambda one: one.measures.hops, lambda one: f"{one.measures.hops:.2f}"),
        Column(
            "delay", "less is better", lambda one: one.measures.delay, lambda o: f"{o.measures.delay / 1000:.1f} us"
        ),
        Column(
            "cables", "fewer is better", lambda one: one.measures.cost.cables, lambda o: str(o.measures.cost.cables)
        ),
        Column(
            "addresses",
            "fewer is better",
            lambda one: one.measures.cost.addresses,
            lambda one: str(one.measures.cost.addresses),
        ),
    ]
    if any(one.measures.steps is not None for one in found.designs):
        columns.append(Column("pairs cut on the way", "fewer is better", _cut, lambda one: f"{_cut(one):,.0f}"))
    return columns


def _surviving(one: Weighed) -> str:
    return f"{one.measures.surviving.survive:,} of {one.measures.surviving.reached:,}"


def _cut(one: Weighed) -> float:
    return float(one.measures.steps.cut) if one.measures.steps is not None else 0.0


def _row(found: Weighing, columns: list[Column], number: int, one: Weighed, y: float) -> list[Shape]:
    title = one.title if not one.supposed else f"{one.title} (with {' and '.join(one.supposed)} a layer 3 switch)"
    shapes: list[Shape] = [
        Text(MARGIN, y + 10, f"{number}.", SIZE + 1, INK, bold=True),
        Text(MARGIN + LEFT - 12, y + 10, f"{title}: {one.kind}", SIZE + 0.5, INK, bold=number == 1),
    ]
    for at, column in enumerate(columns):
        most = max((column.value(other) for other in found.designs), default=0.0)
        length = BAR * column.value(one) / most if most else 0.0
        text = column.text(one)
        pattern, inside = (FIRST, palette.PAPER) if number == 1 else (OTHER, INK)
        shapes += bar(_x(at), y + 16, length, pattern, text, inside)
    return shapes


def _x(column: int) -> float:
    return MARGIN + LEFT - 12 + column * (BAR + GAP)
