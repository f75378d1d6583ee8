"""The address space as a picture to scale: what is in use, headroom, reserved and free."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from archipelago.addressing.carve import Allotment, Carving
from archipelago.addressing.values import WIDTHS, Prefix
from archipelago.views import palette
from archipelago.views.palette import FAINT, FILLS, INK, PAPER
from archipelago.views.picture_parts import heading, legend
from archipelago.views.shapes import SIZE, Pattern, Picture, Rectangle, Shape, Text, text_width

WIDE = 1100.0
"""The width of a row of addresses."""
HIGH = 34.0
LEFT, RIGHT = 140.0, 16.0
RESERVED = Pattern(palette.RESERVED, "x")
EMPTY = Pattern(PAPER)
FREE = Pattern(palette.FREE)
LOOKS = (
    (Pattern(FILLS[0]), "in use: hosts asked for, and the gateway"),
    (Pattern(FILLS[0], "/"), "headroom asked for"),
    (EMPTY, "room beyond that in its subnet"),
    (RESERVED, "reserved"),
    (FREE, "free"),
)
SMALL = 9.0
"""The height of the letters within a block."""


@dataclass(frozen=True, slots=True)
class Block:
    """A part of the space with what it is called and how it is filled: patterns, each with its share of the block."""

    prefix: Prefix
    name: str
    shares: tuple[tuple[float, Pattern], ...]


def space_picture(carving: Carving) -> Picture:
    """Every space of a carving, each row of it as many addresses, left to right; a block is as wide as it is large.

    Only as much of a space is drawn as is given out or reserved; the rest is told.
    """
    told = carving.headline
    picture = Picture("The address space", told, LEFT + WIDE + RIGHT)
    picture.shapes += heading("The address space", told, RIGHT)
    picture.shapes += legend(LOOKS, RIGHT, 66)
    y = 86.0
    blocks = list(_blocks(carving))
    for space in sorted(carving.spaces, key=lambda space: space.version):
        inside = [block for block in blocks if space.covers(block.prefix)]
        y = _draw_space(picture, space, inside, y)
    picture.height = y
    return picture


def _blocks(carving: Carving) -> Iterator[Block]:
    names = {name: number for number, name in enumerate(dict.fromkeys(one.name for one in carving.allotments))}
    for allotment in carving.allotments:
        vlan = f" ({allotment.vlan_id})" if allotment.vlan_id else ""
        colour = FILLS[names[allotment.name] % len(FILLS)]
        yield Block(allotment.prefix, f"{allotment.name}{vlan}", tuple(_shares(allotment, colour)))
    for prefix in carving.reserved:
        yield Block(prefix, "reserved", ((1.0, RESERVED),))
    for prefix in carving.free:
        yield Block(prefix, "free", ((1.0, FREE),))


def _shares(allotment: Allotment, colour: str) -> Iterator[tuple[float, Pattern]]:
    """How much of a subnet is in use, headroom and beyond; of one for IPv6, nobody counts."""
    if allotment.prefix.version == 6:
        yield 1.0, Pattern(colour)
        return
    size = allotment.prefix.size
    asked = min(allotment.hosts + (allotment.gateway is not None), size)
    headroom = min(max(allotment.needed - asked, 0), size - asked)
    yield asked / size, Pattern(colour)
    yield headroom / size, Pattern(colour, "/")
    yield (size - asked - headroom) / size, EMPTY


def _draw_space(picture: Picture, space: Prefix, blocks: list[Block], y: float) -> float:
    """Draw one space from `y` on; where the next begins."""
    given = [block for block in blocks if block.name != "free"]
    drawn = _enclosing(space, given)
    shown = sorted((block for block in blocks if drawn.covers(block.prefix)), key=lambda block: block.prefix.value)
    bits = WIDTHS[space.version] - drawn.length
    split = min(max(2, (len(shown) // 3).bit_length()), 6, max(bits - (4 if space.version == 4 else 0), 0))
    row = drawn.size >> split
    beyond = ""
    if drawn != space:
        left = space.size - drawn.size
        share = left / space.size
        percent = "over 99%" if share > 0.99 else f"{share:.0%}"
        amount = f"{left:,} addresses" if space.version == 4 else percent
        beyond = f"; drawn is {drawn}, and the rest, {amount}, is free"
    each = f"each row {row:,} addresses" if space.version == 4 else f"each row a /{drawn.length + split}"
    picture.shapes.append(Text(RIGHT, y + 14, f"{space}: {each}{beyond}", SIZE, INK, bold=True))
    y += 24
    for number in range(1 << split):
        first = drawn.value + number * row
        start = Prefix(space.version, first, drawn.length + split)
        picture.shapes.append(Text(LEFT - 8, y + HIGH / 2 + 3, str(start), SMALL, FAINT, anchor="end"))
        for block in shown:
            picture.shapes += _part(block, first, row, y)
        y += HIGH + 4
    return y + 14


def _enclosing(space: Prefix, given: list[Block]) -> Prefix:
    """The smallest block of a space that holds everything given out."""
    if not given:
        return space
    low = min(block.prefix.value for block in given)
    high = max(block.prefix.last for block in given)
    length = max(WIDTHS[space.version] - (low ^ high).bit_length(), space.length)
    shift = WIDTHS[space.version] - length
    return Prefix(space.version, low >> shift << shift, length)


def _part(block: Block, first: int, row: int, y: float) -> Iterator[Shape]:
    """What of a block lies in a row of addresses; its name where there is room, on the first row that it has."""
    low, high = max(block.prefix.value, first), min(block.prefix.last + 1, first + row)
    if low >= high:
        return
    x, width = LEFT + (low - first) / row * WIDE, (high - low) / row * WIDE
    begin = block.prefix.value
    for share, pattern in block.shares:
        end = begin + round(share * block.prefix.size) if share < 1 else block.prefix.last + 1
        left, right = max(begin, low), min(end, high)
        if left < right:
            yield Rectangle(LEFT + (left - first) / row * WIDE, y, (right - left) / row * WIDE, HIGH, pattern)
        begin = end
    yield Rectangle(x, y, width, HIGH, Pattern("none"), edge=FAINT if block.name != "free" else palette.HAIRLINE)
    texts = [block.name, str(block.prefix)]
    if low == block.prefix.value and all(text_width(text, SMALL) < width - 6 for text in texts):
        hatched = block.shares[0][1].hatch != ""
        yield Text(x + 4, y + 14, texts[0], SMALL, INK, block.name not in ("free", "reserved"), ground=hatched)
        yield Text(x + 4, y + 27, texts[1], SMALL, INK, ground=hatched)
    elif low == block.prefix.value and text_width(block.name, SMALL) < width - 6:
        yield Text(x + 4, y + 20, block.name, SMALL, INK)
