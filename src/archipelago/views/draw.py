"""A network as a picture: its diagram."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from archipelago.knowledge.index import NetworkIndex, index_network
from archipelago.model.finding import Finding
from archipelago.model.network import Network
from archipelago.simulation.reach import ReachResult
from archipelago.views import palette
from archipelago.views.cards import Content, Group, Row, content_of
from archipelago.views.diagram import (
    CHIP,
    HEAD,
    LABEL,
    MARGIN,
    PADDING,
    STEP,
    Column,
    Placed,
    Sheet,
    Wire,
    label_of,
    lay_out,
    marks_text,
)
from archipelago.views.palette import FAINT, INK, WRONG
from archipelago.views.picture_parts import heading
from archipelago.views.shapes import SIZE, Line, Pattern, Picture, Rectangle, Shape, Text, pattern, text_width, wrapped

ASIDE = 440.0
"""Notes stand beside the lower rows where so much room is there."""
SHADES: Sequence[Pattern] = tuple(map(Pattern, palette.HANGS))
"""The fills of what more and more hangs on, or goes over; the first is for nothing."""
NONE = Pattern(palette.NOTHING)
"""What is in no VLAN."""


def diagram(
    index: NetworkIndex,
    findings: Sequence[Finding] = (),
    way: ReachResult | None = None,
    tell: Callable[[Content], None] | None = None,
) -> Picture:
    """The diagram of a network.

    Args:
        index: the network.
        findings: what is wrong, worst first; each is marked where it stands and told below.
        way: an answer whose way is drawn.
        tell: adds to what the diagram says: what hangs on parts, what is otherwise, what cables carry.
    """
    content = content_of(index, findings, way)
    if tell is not None:
        tell(content)
    sheet = lay_out(content)
    described = ". ".join([content.subtitle, *(text for text, _ in content.notes)])
    picture = Picture(content.title, described, sheet.width)
    picture.shapes += heading(content.title, content.subtitle, MARGIN)
    for wire in sheet.wires:
        if wire.link.shade:
            picture.shapes.append(Line(tuple(wire.points), SHADES[wire.link.shade].fill, wire.link.broad))
        picture.shapes += _way(wire)
    picture.shapes += [_line(wire) for wire in sheet.wires]
    patterns = {vlan: pattern(number) for number, vlan in enumerate(content.vlans)}
    for box in sheet.cards:
        picture.shapes += _card(box, patterns)
    picture.shapes += [Text(tab.x, tab.base_line, tab.port, LABEL, anchor="middle", ground=True) for tab in sheet.tabs]
    picture.shapes += [_label(wire) for wire in sheet.wires]
    x, y = _free_corner(sheet)
    for text, wrong in content.notes:
        for line in wrapped(text, sheet.width - MARGIN - x, indent="    "):
            picture.shapes.append(Text(x, y, line, SIZE, WRONG if wrong else INK))
            y += STEP + 1
        y += 3
    picture.height = max(y, sheet.bottom) + MARGIN
    return picture


def _free_corner(sheet: Sheet) -> tuple[float, float]:
    """Where the notes begin: right of the lower rows where there is room, else below everything."""
    best = MARGIN, sheet.bottom + 24
    for top in sorted({box.y for box in sheet.cards}, reverse=True):
        right = max(box.x + box.width for box in sheet.cards if box.y + box.height > top)
        right = max([right, *(x for wire in sheet.wires for x, y in wire.points if y >= top - 8)])
        if sheet.width - right < ASIDE:
            break
        best = right + 2 * MARGIN, top + 12
    return best


def _line(wire: Wire) -> Line:
    if wire.link.live:
        return Line(tuple(wire.points), FAINT, 1.4, broken=wire.link.reserve)
    return Line(tuple(wire.points), WRONG, 1.4, broken=True)


def _way(wire: Wire) -> Iterator[Line]:
    """A broad line below a cable for each direction that it carries."""
    for number, direction in enumerate(dict.fromkeys(direction for direction, _ in wire.link.legs)):
        shift = 3.0 if number else -3.0
        yield Line(tuple((x + shift, y + shift) for x, y in wire.points), palette.WAY[direction], 4.0)


def _label(wire: Wire) -> Text:
    colour = WRONG if not wire.link.live or wire.link.marks else INK
    x, y = wire.label
    return Text(x, y, label_of(wire.link), LABEL, colour, bold=bool(wire.link.legs), anchor="middle", ground=True)


def _card(box: Placed, patterns: dict[int, Pattern]) -> Iterator[Shape]:
    card, edge = box.card, palette.EDGES[box.card.kind]
    quiet = INK if card.shade else FAINT
    head = SHADES[card.shade] if card.shade else Pattern(palette.HEADS[card.kind])
    rounded = 8.0 if card.kind == "router" else 0.0
    yield Rectangle(box.x, box.y, box.width, box.height, edge=WRONG if card.stops else edge, thick=1.8, rounded=rounded)
    yield Rectangle(box.x + 2, box.y + 2, box.width - 4, HEAD - 5, head, rounded=rounded / 2)
    yield Text(box.x + PADDING, box.y + 14, card.name, 12.5, edge, bold=True)
    x = box.x + PADDING + text_width(card.name, 12.5, bold=True) + 8
    marks = marks_text(card.marks)
    yield Text(x, box.y + 14, card.heading + marks, SIZE, WRONG if marks else quiet, bold=bool(marks))
    y = box.y + HEAD + STEP - 3
    if card.stops:
        yield Text(box.x + PADDING, y, card.stops, SIZE, WRONG, bold=True)
        y += STEP
    yield from _lines(box.x, y, box.table, patterns)
    y += STEP * len(box.table.lines)
    if box.columns:
        if box.table.lines:
            line = y - STEP + 7.0
            yield Line(((box.x + PADDING, line), (box.x + box.width - PADDING, line)), palette.HAIRLINE, 0.8)
        for column in box.columns:
            yield from _lines(box.x, y + 4, column, patterns)


def _lines(left: float, y: float, column: Column, patterns: dict[int, Pattern]) -> Iterator[Shape]:
    x = left + column.x
    for line in column.lines:
        if isinstance(line, Group):
            yield _chip(x, y, patterns.get(line.vlan, NONE) if line.vlan is not None else NONE)
            yield Text(x + CHIP, y, line.heading, SIZE, bold=True)
        else:
            yield from _row(x, y, line, column.cells, patterns)
        y += STEP


def _row(x: float, y: float, row: Row, cells: list[float], patterns: dict[int, Pattern]) -> Iterator[Shape]:
    if row.vlan is not None:
        yield _chip(x, y, patterns.get(row.vlan, NONE))
    marks = marks_text(row.marks)
    colour = WRONG if marks else INK
    if len(row.cells) == 1:
        yield Text(x + CHIP, y, row.cells[0], SIZE, FAINT)
        return
    end = x + CHIP
    for at, cell in zip(cells, row.cells, strict=False):
        if cell:
            loud = cell in ("DOWN", "OFF", "not cabled")
            bold = row.bold or bool(marks) or loud
            yield Text(x + at, y, cell, SIZE, WRONG if loud else colour, bold=bold)
            end = x + at + text_width(cell, SIZE, bold)
    if marks:
        yield Text(end + 2, y, marks, SIZE, WRONG, bold=True)


def _chip(x: float, y: float, filled: Pattern) -> Rectangle:
    return Rectangle(x, y - 9, 11, 11, filled, edge=FAINT, thick=0.6)


def told_on_diagram(network: Network, tell: Callable[[Content], None]) -> Picture:
    """The diagram of a network with what somebody tells on it."""
    return diagram(index_network(network), tell=tell)
