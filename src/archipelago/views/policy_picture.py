"""A policy and what the network does, as a picture: a cell for each VLAN, or the outside, with each other."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from archipelago.reachability.kept import Kept
from archipelago.views import palette
from archipelago.views.palette import FAINT, INK, PAPER
from archipelago.views.policy import Cell, cell
from archipelago.views.shapes import SIZE, Line, Pattern, Picture, Rectangle, Shape, Text, text_width, widest

MARGIN, TOP = 24.0, 110.0
WIDTH, HEIGHT = 1280.0, 800.0
LEAST, MOST = 15.0, 110.0
"""How wide a cell is, in pixels."""
SMALL = 9.0
STEP = 16.0
"""How far names above columns stand above each other that have no room side by side."""


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
    count = len(found.places)
    left = MARGIN + widest(found.places, SIZE) + 12
    wide = min(MOST, max(LEAST, (WIDTH - left - MARGIN) / max(count, 1)))
    high = min(MOST * 0.6, max(LEAST, (HEIGHT - TOP - 60) / max(count, 1)))
    steps = int((widest(found.places, SIZE) + 8) / wide) + 1
    top = TOP + STEP * steps
    picture = Picture(title or "policy", found.headline)
    picture.width = max(WIDTH, left + wide * count + MARGIN)
    picture.height = max(HEIGHT, top + high * count + MARGIN)
    picture.shapes.append(Text(MARGIN, 36, found.headline, 17, INK, bold=True))
    reading = "from the row to the column: who may begin what; pairs of hosts within a VLAN are left out"
    picture.shapes.append(Text(MARGIN, 58, reading, SIZE, FAINT))
    picture.shapes += _legend(MARGIN, 84)
    for i, name in enumerate(found.places):
        picture.shapes.append(Text(left - 8, top + high * (i + 0.5) + 4, name, min(SIZE, high + 1), INK, anchor="end"))
        picture.shapes += _head(name, left + wide * i, top, STEP * (i % steps))
        for j in range(count):
            picture.shapes += _cell(found, (i, j), (left + wide * j, top + high * i), (wide, high))
    return picture


def _head(name: str, x: float, y: float, lift: float) -> Iterator[Shape]:
    """The name above a column; where names are wider than columns, in steps, each with a line down to its own."""
    if lift:
        yield Line(((x + 0.5, y - 2), (x + 0.5, y - 4 - lift)), palette.HAIRLINE, 0.8)
    yield Text(x + 3, y - 6 - lift, name, SIZE, INK)


def _legend(x: float, y: float) -> Iterator[Shape]:
    for look in LOOKS:
        yield Rectangle(x, y - 10, 22, 13, look.pattern, edge=FAINT, thick=0.7)
        yield Text(x + 28, y, look.word, SIZE)
        x += 28 + text_width(look.word, SIZE) + 20


def _cell(found: Kept, at: tuple[int, int], place: tuple[float, float], size: tuple[float, float]) -> Iterator[Shape]:
    """One cell: its pattern, and where there is room what may be begun, or what is wrong, in words."""
    (i, j), (x, y), (wide, high) = at, place, size
    if i == j or not found.pairs[i, j]:
        yield Rectangle(x, y, wide, high, Pattern(PAPER), edge=palette.HAIRLINE, thick=0.5)
        return
    one = cell(found, i, j)
    yield Rectangle(x, y, wide, high, _look(one).pattern, edge=FAINT, thick=0.5)
    lines: list[str] = []
    for word, said in (("open:", one.open), ("closed:", one.closed), ("answers:", one.answers)):
        whole = f"{word} {said}"
        if said:
            lines += [whole] if text_width(whole, SMALL) < wide - 6 else [word, *said.split(", ")]
    lines = lines or one.may.replace(" (some hosts)", "").split(", ")
    room = max(int((high - 4) / (SMALL + 2)), 0)
    if len(lines) > room:
        lines = [*lines[: room - 1], f"and {len(lines) - room + 1} more"] if room > 1 else lines[:room]
    first = y + high / 2 - (len(lines) - 1) * (SMALL + 2) / 2 + 3
    for number, line in enumerate(lines):
        text = _fitting(line, wide - 6)
        if text:
            yield Text(x + wide / 2, first + number * (SMALL + 2), text, SMALL, INK, anchor="middle", ground=True)


def _look(one: Cell) -> Look:
    if one.open or one.closed:
        return BOTH if one.open and one.closed else OPEN if one.open else CLOSED
    if one.answers:
        return ANSWERS
    return ALLOWED if one.may == "any" else FORBIDDEN if one.may == "nothing" else PART


def _fitting(text: str, wide: float) -> str:
    """A text, cut off where there is no room for the whole; nothing where there is hardly any."""
    while text and text_width(text, SMALL) > wide:
        text = text[:-2].rstrip("…") + "…" if len(text) > 4 else ""
    return text
