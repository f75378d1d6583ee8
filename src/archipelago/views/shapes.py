"""What a picture is made of, whoever paints it: rectangles, lines, texts and cells at places in
pixels.

The origin is the upper left corner. Later shapes lie on earlier ones.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Literal, NamedTuple

from archipelago.views.palette import FAINT, FILLS, INK, PAPER

SIZE = 10.5
"""The height of the letters of most texts, in pixels."""
HATCHES = ("", "/", "\\", "-", "x", ".", "|")
"""The hatches that tell areas apart where colours do not."""
_WIDTHS = dict.fromkeys("ijlI.,:;'|/! ", 0.34) | dict.fromkeys("tfr()[]-", 0.41) | dict.fromkeys("mwMW@%~+", 0.95)
_WIDTHS |= dict.fromkeys("ABCDEFGHKLNOPQRSTUVXYZ", 0.74)


class Pattern(NamedTuple):
    """How an area is filled: a colour, and one of the hatches."""

    fill: str
    hatch: str = ""


def pattern(number: int) -> Pattern:
    """The pattern of the so-manieth thing; the first seventy differ in colour or hatch, neighbours in both."""
    return Pattern(FILLS[number % len(FILLS)], HATCHES[(number + number // 70) % len(HATCHES)])


BLANK = Pattern(PAPER)


@dataclass(frozen=True, slots=True)
class Rectangle:
    """A rectangle; `edge` is the colour of its border, empty for none."""

    x: float
    y: float
    width: float
    height: float
    pattern: Pattern = BLANK
    edge: str = ""
    thick: float = 1.0
    rounded: float = 0.0


@dataclass(frozen=True, slots=True)
class Line:
    """A line over some points."""

    points: tuple[tuple[float, float], ...]
    colour: str = FAINT
    thick: float = 1.3
    broken: bool = False


@dataclass(frozen=True, slots=True)
class Text:
    """A text; `y` is its base line. With `ground` the paper covers what lies below it; `turned`, it reads upwards from
    its place."""

    x: float
    y: float
    text: str
    size: float = SIZE
    colour: str = INK
    bold: bool = False
    anchor: Literal["start", "middle", "end"] = "start"
    ground: bool = False
    turned: bool = False


@dataclass(frozen=True, slots=True)
class Raster:
    """Very many cells of one size, each a colour: `rows` have a byte for each cell, its place in `colours`."""

    x: float
    y: float
    width: float
    height: float
    colours: tuple[str, ...]
    rows: tuple[bytes, ...]


Shape = Rectangle | Line | Text | Raster


@dataclass(slots=True)
class Picture:
    """A whole picture: how large it is, what it is called, what it shows in words, and its shapes."""

    title: str
    description: str
    width: float = 0.0
    height: float = 0.0
    shapes: list[Shape] = field(default_factory=list)


def text_width(text: str, size: float = SIZE, bold: bool = False) -> float:
    """About how wide a text is, in pixels; rather too much than too little."""
    units = sum(_WIDTHS.get(letter, 0.635) for letter in text)
    return units * size * (1.1 if bold else 1.0)


def widest(texts: Sequence[str], size: float = SIZE) -> float:
    """The width of the widest of some texts; 0 where there is none."""
    return max((text_width(text, size) for text in texts), default=0.0)


def shortened(text: str, room: float, size: float = SIZE) -> str:
    """A text, its end left out where there is no room for the whole; empty where there is hardly any."""
    if text_width(text, size) <= room:
        return text
    while text and text_width(f"{text} ...", size) > room:
        text = text[:-1]
    return f"{text.rstrip()} ..." if len(text) > 2 else ""


def wrapped(text: str, width: float, size: float = SIZE, indent: str = "") -> list[str]:
    """A text as lines that fit a width, those after the first moved in."""
    lines = [""]
    for word in text.split(" "):
        longer = f"{lines[-1]} {word}" if lines[-1] else word
        if lines[-1] and text_width(longer, size) > width:
            lines.append(indent + word)
        else:
            lines[-1] = longer
    return lines
