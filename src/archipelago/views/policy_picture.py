"""A policy and what the network does, as a picture: a cell for each VLAN, or the outside, with each other."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from archipelago.reachability.kept import Kept
from archipelago.views import palette
from archipelago.views.palette import INK
from archipelago.views.picture_parts import MARGIN, Grid, Label, fitted, heading, legend
from archipelago.views.policy import Cell, cell
from archipelago.views.shapes import Pattern, Picture, Shape, Text, shortened, text_width

LEAST, MOST = 15.0, (110.0, 66.0)
"""How wide and high a cell is, in pixels."""
SMALL = 9.0


class Look(NamedTuple):
    """What a cell means, and how it is filled."""

    word: str
    pattern: Pattern


ALLOWED = Look("allowed", Pattern(palette.ALLOWED))
PART = Look("some services, or some hosts, allowed", Pattern(palette.ALLOWED_IN_PART, "."))
FORBIDDEN = Look("forbidden", Pattern(palette.FORBIDDEN))
OPEN = Look("wrongly open", Pattern(palette.WRONGLY_OPEN, "x"))
CLOSED = Look("wrongly closed", Pattern(palette.WRONGLY_CLOSED, "-"))
BOTH = Look("wrongly open and wrongly closed", Pattern(palette.WRONGLY_BOTH, "/"))
ANSWERS = Look("as said, but open for answers", Pattern(palette.OPEN_FOR_ANSWERS, "|"))
LOOKS = (ALLOWED, PART, FORBIDDEN, ANSWERS, OPEN, CLOSED, BOTH)


def policy_picture(found: Kept, title: str = "") -> Picture:
    """The grid, the answer above it, and how to read it."""
    picture = Picture(title or "policy", found.headline)
    reading = "from the row to the column: who may begin what; pairs of hosts within a VLAN are left out"
    picture.shapes += heading(found.verdict, f"{reading}; {found.devices}")
    picture.shapes += legend([(look.pattern, look.word) for look in LOOKS], MARGIN, 66)
    labels = [Label(at + 0.5, name) for at, name in enumerate(found.places)]
    grid = fitted(picture, 82, len(labels), labels, LEAST, MOST)
    picture.shapes += grid.labels(labels)
    for i in range(grid.count):
        for j in range(grid.count):
            picture.shapes += _cell(found, grid, i, j)
    return picture


def _cell(found: Kept, grid: Grid, i: int, j: int) -> Iterator[Shape]:
    """One cell: its pattern, and where there is room what may be begun, or what is wrong, in words."""
    if i == j or not found.pairs[i, j]:
        yield grid.blank(i, j)
        return
    one = cell(found, i, j)
    yield grid.cell(i, j, _look(one).pattern)
    lines: list[str] = []
    for word, said in (("open:", one.open), ("closed:", one.closed), ("answers:", one.answers)):
        whole = f"{word} {said}"
        if said:
            lines += [whole] if text_width(whole, SMALL) < grid.wide - 6 else [word, *said.split(", ")]
    lines = lines or one.may.replace(" (some hosts)", "").split(", ")
    room = max(int((grid.high - 4) / (SMALL + 2)), 0)
    if len(lines) > room:
        lines = [*lines[: room - 1], f"and {len(lines) - room + 1} more"] if room > 1 else lines[:room]
    first = grid.y(i + 0.5) - (len(lines) - 1) * (SMALL + 2) / 2 + 3
    for number, line in enumerate(lines):
        text = shortened(line, grid.wide - 6, SMALL)
        if text:
            y = first + number * (SMALL + 2)
            yield Text(grid.x(j + 0.5), y, text, SMALL, INK, anchor="middle", ground=True)


def _look(one: Cell) -> Look:
    if one.open or one.closed:
        return BOTH if one.open and one.closed else OPEN if one.open else CLOSED
    if one.answers:
        return ANSWERS
    return ALLOWED if one.may == "any" else FORBIDDEN if one.may == "nothing" else PART
