"""Where everything goes in a diagram: devices in rows, those that route above; cables run in lanes of their own between
the rows, so that no card, no label and no two cables lie on each other. Lengths are in pixels."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from archipelago.views.cards import Card, Content, Group, Link, Row
from archipelago.views.shapes import SIZE, text_width

MARGIN = 12.0
GAP = 18.0
"""Between two cards of a row, at least."""
WIDTH = 1256.0
"""The sheet is so wide at least."""
MOST = 1280.0
"""A row of cards is so wide at most; wider only for a card that is."""
STEP = 14.0
"""From one line of text to the next."""
HEAD = 22.0
"""The head of a card, with the device's name."""
PADDING = 7.0
CHIP = 16.0
"""Room for a VLAN's pattern before a line."""
CELL = 7.0
"""Between two columns of a card."""
LANE = 17.0
"""From one lane to the next."""
TAB = 13.0
"""The height of a port's name at the edge of a card."""
TOP = 54.0
"""The room for the title."""
LABEL = 9.5
"""The height of the letters of a cable's label."""
HIGHEST = 18
"""Hosts of a card stand in several columns once a column has more lines than this."""


@dataclass(slots=True)
class Column:
    """Lines of a card below each other, and how far its cells are from its left edge."""

    lines: list[Row | Group]
    cells: list[float]
    x: float = 0.0
    width: float = 0.0


@dataclass(slots=True)
class Placed:
    """A card with its place. `rows_height` is the height of its interfaces' part."""

    card: Card
    table: Column
    columns: list[Column]
    x: float = 0.0
    y: float = 0.0
    width: float = 0.0
    height: float = 0.0


@dataclass(slots=True)
class Tab:
    """The name of a port at an edge of its card, in the middle of where its cable ends."""

    port: str
    box: Placed
    below: bool
    x: float

    @property
    def edge(self) -> float:
        """The height at which the cable ends."""
        return self.box.y + self.box.height if self.below else self.box.y

    @property
    def base_line(self) -> float:
        """The height of the port's name."""
        return self.edge + 10 if self.below else self.edge - 3


@dataclass(slots=True)
class Wire:
    """A cable with its way over the sheet, from port to port, and the place of its label."""

    link: Link
    points: list[tuple[float, float]] = field(default_factory=list)
    label: tuple[float, float] = (0.0, 0.0)


@dataclass(slots=True)
class Sheet:
    """The whole diagram, placed; `bottom` is where the last row ends."""

    content: Content
    cards: list[Placed]
    wires: list[Wire]
    tabs: list[Tab]
    width: float
    bottom: float


def lay_out(content: Content) -> Sheet:
    """Place every card and every cable."""
    placed = {name: _measured(card, content) for name, card in content.cards.items()}
    ends: dict[str, float] = dict.fromkeys(placed, 0.0)
    for link in content.links:
        for end in (link.a, link.b):
            if end is not None:
                ends[end.device] += _tab_width(end.port)
    for name, box in placed.items():
        box.width = max(box.width, ends[name] + 2 * PADDING)
    near = _neighbours(content.links)
    rows = _rows(placed, near)
    width = max([WIDTH, *(sum(box.width + GAP for box in row) - GAP for row in rows)])
    _columns(rows, near, width)
    wires, channels, tabs = _Wiring(rows, content.links, width).run()
    bottom = _heights(rows, channels, wires, tabs)
    far = [x for wire in wires for x, _ in wire.points] + [box.x + box.width for box in placed.values()]
    far += [wire.label[0] + text_width(label_of(wire.link), LABEL) / 2 for wire in wires]
    return Sheet(content, list(placed.values()), wires, list(tabs.values()), max([480.0, *far]) + MARGIN, bottom)


def _tab_width(port: str) -> float:
    return text_width(port, LABEL) + 6


def _neighbours(links: Iterable[Link]) -> dict[str, list[str]]:
    near: dict[str, list[str]] = {}
    for link in links:
        if link.b is not None:
            near.setdefault(link.a.device, []).append(link.b.device)
            near.setdefault(link.b.device, []).append(link.a.device)
    return near


def _measured(card: Card, content: Content) -> Placed:
    """A card with its size, its hosts in as many columns as keep it from getting high."""
    table = _column(list(card.rows))
    lines: list[Row | Group] = []
    for group in card.groups:
        lines += [group, *group.rows]
    count = max(1, round((len(lines) / HIGHEST) ** 0.6)) if len(lines) > HIGHEST else 1
    most = -(-len(lines) // count)
    columns: list[Column] = []
    while lines:
        cut = most
        while cut < len(lines) and cut < most + 6 and not isinstance(lines[cut], Group):
            cut += 1  # hosts of one VLAN stay together where that costs little
        columns.append(_column(lines[:cut]))
        lines = lines[cut:]
    head = text_width(card.name, 12.5, bold=True) + 10 + text_width(card.heading + marks_text(card.marks))
    head = max(head, text_width(card.stops, SIZE, bold=True))
    x = PADDING
    for column in columns:
        column.x = x
        x += column.width + 2 * CELL
    table.x = PADDING
    width = max(head, table.width, x - PADDING - 2 * CELL) + 2 * PADDING
    below = max((len(column.lines) for column in columns), default=0)
    height = HEAD + STEP * (len(table.lines) + below + bool(card.stops)) + PADDING + (6 if below else 0)
    return Placed(card, table, columns, width=width, height=height)


def _column(lines: list[Row | Group]) -> Column:
    rows = [line for line in lines if isinstance(line, Row) and len(line.cells) > 1]
    count = max((len(row.cells) for row in rows), default=0)
    cells, x = [], CHIP
    for at in range(count):
        cells.append(x)
        wide = max(text_width(row.cells[at], SIZE, row.bold or bool(row.marks)) for row in rows)
        x += wide + CELL if wide else 0.0
    marks = max((text_width(marks_text(row.marks), SIZE, bold=True) for row in rows), default=0.0)
    alone = [text_width(line.heading, bold=True) for line in lines if isinstance(line, Group)]
    alone += [text_width(line.cells[0]) for line in lines if isinstance(line, Row) and len(line.cells) == 1]
    width = max([x - CELL + marks, *(CHIP + wide for wide in alone)]) if lines else 0.0
    return Column(lines, cells, width=width)


def marks_text(marks: Sequence[int]) -> str:
    """The numbers of what is wrong, as they stand beside it."""
    return "".join(f" [{number}]" for number in marks)


def _rows(placed: dict[str, Placed], near: dict[str, list[str]]) -> list[list[Placed]]:
    """Cards by depth, each depth in as many rows as it needs; the cards of a row in the order of their neighbours
    above."""
    depths: dict[int, list[str]] = {}
    for name, box in placed.items():
        depths.setdefault(box.card.depth, []).append(name)
    order: dict[str, float] = {}
    rows: list[list[Placed]] = []
    for depth in sorted(depths):
        names = depths[depth]
        wish = {name: _mean([order[far] for far in near.get(name, ()) if far in order], len(order)) for name in names}
        row: list[Placed] = []
        for name in sorted(names, key=lambda name: wish[name]):
            order[name] = wish[name] if depth else float(len(order))
            box = placed[name]
            if row and sum(other.width + GAP for other in row) + box.width > MOST:
                rows.append(row)
                row = []
            row.append(box)
        rows.append(row)
    return rows


def _mean(values: Sequence[float], otherwise: float) -> float:
    return sum(values) / len(values) if values else otherwise


def _columns(rows: list[list[Placed]], near: dict[str, list[str]], width: float) -> None:
    """Where each card of each row begins: below its neighbours where there is room."""
    middle: dict[str, float] = {}
    for row in rows:
        spare = width - sum(box.width for box in row)
        gap = min(max(GAP, spare / (len(row) + 1)), 90.0)
        wishes = [_mean([middle[far] for far in near.get(box.card.name, ()) if far in middle], -1.0) for box in row]
        if all(wish < 0 for wish in wishes):
            x = MARGIN
            for box in row:
                box.x = x
                x += box.width + gap
        else:
            x = MARGIN
            for box, wish in zip(row, wishes, strict=True):
                box.x = max(x, wish - box.width / 2)
                x = box.x + box.width + GAP
            limit = MARGIN + width
            for box in reversed(row):
                box.x = max(min(box.x, limit - box.width), MARGIN)
                limit = box.x - GAP
        for box in row:
            middle[box.card.name] = box.x + box.width / 2


@dataclass(slots=True)
class _Run:
    """The part of a wire that lies in the room above a row: from one place to another, and room for the label."""

    wire: int
    channel: int
    start: float
    end: float
    label: float = 0.0
    lane: int = 0

    @property
    def extent(self) -> tuple[float, float]:
        """What nothing else in its lane may touch."""
        low, high = self.middle - self.label / 2, self.middle + self.label / 2
        return min(low, self.start, self.end) - 8, max(high, self.start, self.end) + 8

    @property
    def middle(self) -> float:
        """Of the label, which stays on the sheet."""
        return max((self.start + self.end) / 2, MARGIN + self.label / 2)


class _Wiring:
    """Finds a way for every cable: out of the edge of a card, along a lane, into the edge of another."""

    def __init__(self, rows: list[list[Placed]], links: Sequence[Link], width: float) -> None:
        self.links = links
        self.rows = rows
        self.row_of = {box.card.name: number for number, row in enumerate(rows) for box in row}
        self.boxes = {box.card.name: box for row in rows for box in row}
        self.right = MARGIN + width
        self.tabs: dict[tuple[int, int], Tab] = {}
        self.used: dict[int, list[float]] = {}

    def run(self) -> tuple[list[Wire], list[list[_Run]], dict[tuple[int, int], Tab]]:
        """The wires without heights yet, what runs in each channel, and the names of ports."""
        self._ports()
        channels: list[list[_Run]] = [[] for _ in range(len(self.rows) + 1)]
        wires = [Wire(link) for link in self.links]
        for number, link in enumerate(self.links):
            label = text_width(label_of(link), LABEL) + 8
            a = self.tabs[number, 0].x
            upper, lower = self._ends(link)
            if link.b is None:
                channels[upper].append(_Run(number, upper, a, a, label))
            elif lower - upper <= 1:
                channels[lower].append(_Run(number, lower, a, self.tabs[number, 1].x, label))
            else:
                first, last = self._in_order(number, link)
                x = self._passage(upper, lower, (first + last) / 2)
                channels[upper + 1].append(_Run(number, upper + 1, first, x, label))
                channels[lower].append(_Run(number, lower, x, last))
        for channel in channels:
            _share_lanes(channel)
        return wires, channels, self.tabs

    def _ends(self, link: Link) -> tuple[int, int]:
        a = self.row_of[link.a.device]
        b = self.row_of[link.b.device] if link.b is not None else a
        return min(a, b), max(a, b)

    def _passage(self, upper: int, lower: int, wanted: float) -> float:
        """Where a cable can pass the rows between two: in a gap of all of them, or beside them, near where it would
        like to."""
        between = range(upper + 1, lower)
        taken = sorted((box.x - 5, box.x + box.width + 5) for row in between for box in self.rows[row])
        channels = range(upper + 1, lower + 1)
        taken += [(x - 5, x + 5) for channel in channels for x in self.used.get(channel, ())]
        free, low = [], MARGIN / 2
        for start, end in sorted(taken):
            if start > low:
                free.append((low, start))
            low = max(low, end)
        free.append((low, max(low, self.right) + 1000.0))
        x = min((min(max(wanted, start), end) for start, end in free), key=lambda x: abs(x - wanted))
        for channel in channels:
            self.used.setdefault(channel, []).append(x)
        return x

    def _in_order(self, number: int, link: Link) -> tuple[float, float]:
        """The places of the upper and of the lower end."""
        assert link.b is not None
        a, b = self.tabs[number, 0].x, self.tabs[number, 1].x
        return (a, b) if self.row_of[link.a.device] <= self.row_of[link.b.device] else (b, a)

    def _ports(self) -> None:
        """Spread the ports of each card over its upper and lower edge, in the order of where they lead."""
        edges: dict[tuple[str, bool], list[tuple[float, int, int, str]]] = {}
        for number, link in enumerate(self.links):
            for side, (here, there) in enumerate(((link.a, link.b), (link.b, link.a))):
                if here is None:
                    continue
                below = there is not None and self.row_of[there.device] > self.row_of[here.device]
                far = self.right if there is None else self._middle(there.device)
                edges.setdefault((here.device, below), []).append((far, number, side, here.port))
        for (name, below), ends in sorted(edges.items(), key=lambda item: (self.row_of[item[0][0]], item[0][1])):
            box = self.boxes[name]
            channel = self.row_of[name] + below
            step = (box.width - 2 * PADDING) / len(ends)
            for at, (_, number, side, port) in enumerate(sorted(ends)):
                x = box.x + PADDING + step * (at + 0.5)
                while any(abs(x - other) < 4 for other in self.used.setdefault(channel, [])):
                    x += 4.5  # two cables must not lie on each other
                self.used[channel].append(x)
                self.tabs[number, side] = Tab(port, box, below, x)

    def _middle(self, name: str) -> float:
        box = self.boxes[name]
        return box.x + box.width / 2


def label_of(link: Link) -> str:
    """What stands beside a cable."""
    legs = "".join(f", {direction} {number}" for direction, number in link.legs)
    return f"{link.label}{legs}{marks_text(link.marks)}"


def _share_lanes(channel: list[_Run]) -> None:
    """Give each run the first lane in which it touches nothing."""
    lanes: list[float] = []
    for run in sorted(channel, key=lambda run: run.extent):
        low, high = run.extent
        lane = next((at for at, end in enumerate(lanes) if end <= low), len(lanes))
        lanes[lane : lane + 1] = [high]
        run.lane = lane


def _heights(
    rows: list[list[Placed]], channels: list[list[_Run]], wires: list[Wire], tabs: dict[tuple[int, int], Tab]
) -> float:
    """Set the height of everything, from above; where the last card ends."""
    y = TOP
    tops: list[float] = []
    for row, channel in zip(rows, channels, strict=False):
        lanes = max((run.lane for run in channel), default=-1) + 1
        tops.append(y + TAB + 4)
        y += lanes * LANE + (2 * TAB + 8 if lanes else GAP / 2)
        for box in row:
            box.y = y
        y += max(box.height for box in row)
    parts: dict[int, list[tuple[_Run, float]]] = {}
    for number, channel in enumerate(channels):
        for run in channel:
            parts.setdefault(run.wire, []).append((run, tops[number] + LANE * (run.lane + 0.5)))
    for number, runs in parts.items():
        _draw(wires[number], runs, [tabs[number, side] for side in (0, 1) if (number, side) in tabs])
    return y


def _draw(wire: Wire, runs: list[tuple[_Run, float]], tabs: Sequence[Tab]) -> None:
    """The points of a wire and the middle of its label."""
    first, lane = runs[0]
    wire.label = (first.middle, lane + 3.5)
    upper, *others = sorted(((tab.x, tab.edge) for tab in tabs), key=lambda end: end[1])
    wire.points = [upper, (upper[0], lane)]
    for lower in others:
        if len(runs) > 1:
            last, second = runs[1]
            wire.points += [(first.end, lane), (last.start, second), (lower[0], second), lower]
        else:
            wire.points += [(lower[0], lane), lower]
