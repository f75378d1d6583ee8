"""What pictures share: a heading, a legend, a bar, and a grid with a name for each row and column."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import NamedTuple

from archipelago.views.palette import FAINT, HAIRLINE, INK, PAPER
from archipelago.views.shapes import SIZE, Pattern, Picture, Rectangle, Shape, Text, text_width, widest

MARGIN = 24.0
WIDTH, HEIGHT = 1280.0, 800.0
"""A grid has so much room; where its cells cannot be small enough, the picture grows."""
TITLE = 17.0
SWATCH = 22.0
"""How wide a field of the legend is."""


def heading(title: str, subtitle: str = "", x: float = MARGIN, y: float = 26.0) -> Iterator[Text]:
    """What the picture says in one line, and what is said below it."""
    yield Text(x, y, title, TITLE, bold=True)
    if subtitle:
        yield Text(x, y + 18, subtitle, SIZE, FAINT)


def legend(entries: Iterable[tuple[Pattern, str]], x: float, y: float) -> Iterator[Shape]:
    """A field of each pattern with what it means, side by side."""
    for pattern, text in entries:
        yield Rectangle(x, y - 10, SWATCH, 13, pattern, edge=FAINT, thick=0.7)
        yield Text(x + SWATCH + 6, y, text)
        x += SWATCH + 6 + text_width(text) + 20


def bar(x: float, y: float, length: float, pattern: Pattern, text: str, inside: str = INK) -> Iterator[Shape]:
    """A bar with its text: within it in the colour `inside` where there is room, else right of it."""
    within = length > text_width(text) + 8
    yield Rectangle(x, y, max(length, 1.0), 15, pattern)
    yield Text(x + (4 if within else length + 4), y + 11, text, SIZE, inside if within else INK)


class Label(NamedTuple):
    """A name beside a grid, and where: at so many cells from the first."""

    at: float
    text: str


@dataclass(frozen=True, slots=True)
class Grid:
    """Where a grid stands and how large its cells are, in pixels. Rows and columns have the same names."""

    left: float
    top: float
    wide: float
    high: float
    count: int
    turned: bool

    def x(self, column: float) -> float:
        """Where a column begins."""
        return self.left + self.wide * column

    def y(self, row: float) -> float:
        """Where a row begins."""
        return self.top + self.high * row

    def labels(self, labels: Sequence[Label]) -> Iterator[Text]:
        """The names left of the rows and above the columns."""
        for at, text in labels:
            size = SIZE if len(labels) < 46 else SIZE - 2.5
            yield Text(self.left - 8, self.y(at) + size / 3, text, size, INK, anchor="end")
            if self.turned:
                yield Text(self.x(at) + size / 3, self.top - 6, text, size, INK, turned=True)
            else:
                yield Text(self.x(at), self.top - 6, text, size, INK, anchor="middle")

    def blank(self, row: int, column: int) -> Rectangle:
        """A cell that says nothing."""
        return self.cell(row, column, Pattern(PAPER), HAIRLINE)

    def cell(self, row: int, column: int, pattern: Pattern, edge: str = FAINT) -> Rectangle:
        """A cell."""
        return Rectangle(self.x(column), self.y(row), self.wide, self.high, pattern, edge=edge, thick=0.5)


def fitted(
    picture: Picture,
    top: float,
    count: int,
    labels: Sequence[Label],
    least: float,
    most: tuple[float, float],
    beside: float = 0.0,
) -> Grid:
    """A grid that fills what is left of a page, which it makes as large as it has to be.

    Args:
        picture: the page.
        top: below what the grid and its names stand.
        count: how many rows and columns there are.
        labels: their names.
        least: the least width and height of a cell.
        most: the most.
        beside: how much room is kept right of it.
    """
    names = widest([label.text for label in labels])
    left = MARGIN + names + 12
    wide = min(most[0], max(least, (WIDTH - left - beside - MARGIN) / max(count, 1)))
    apart = min((b.at - a.at for a, b in pairwise(labels)), default=1.0)
    turned = names + 8 > wide * apart
    top += (names if turned else SIZE) + 12
    high = min(most[1], max(least, (HEIGHT - top - MARGIN) / max(count, 1)))
    picture.width = max(WIDTH, left + wide * count + beside + MARGIN)
    picture.height = max(HEIGHT, top + high * count + MARGIN)
    return Grid(left, top, wide, high, count, turned)
