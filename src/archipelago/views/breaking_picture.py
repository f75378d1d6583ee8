"""One failure over time as a picture: what happened in order, each with its mark on a clock, over the probes that were
lost."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from archipelago.simulation.breaking import Broken
from archipelago.simulation.station import SECOND
from archipelago.views import palette
from archipelago.views.breaking import noticed, standing
from archipelago.views.palette import FAINT, INK, WRONG
from archipelago.views.picture_parts import heading
from archipelago.views.shapes import SIZE, Line, Pattern, Picture, Rectangle, Shape, Text, shortened, text_width, widest

WIDTH = 1256.0
MARGIN = 12.0
STEP = 17.0
TOP = 74.0
"""Where the rows begin: below the title, the clock's hours and the strip of probes."""
MOST_ROWS = 200
"""So many things that happened are drawn; the others are counted."""
ANSWERED, LOST = Pattern(palette.ANSWERED), Pattern(palette.LOST, "/")
_STEPS = (1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600)
"""How many seconds there can be between two lines of the clock."""


def breaking_picture(broken: Broken) -> Picture:
    """Draw what became of probes while a part broke."""
    rows = [(float(time), shortened(where, 330), shortened(what, 420)) for time, where, what in noticed(broken).rows]
    shown, more = rows[:MOST_ROWS], len(rows) - MOST_ROWS
    picture = Picture(broken.headline, f"{broken.source} probes {broken.target} while {broken.part} breaks", WIDTH)
    where = MARGIN + max(widest([f"{time:+.3f} s" for time, _, _ in shown]), 40) + 12
    what = where + 1.1 * widest([place for _, place, _ in shown]) + 14
    clock = _Clock(min(what + widest([told for _, _, told in shown]) + 24, WIDTH * 0.66), broken)
    bottom = TOP + STEP * (len(shown) + 1)
    picture.shapes += heading(broken.headline, x=MARGIN)
    picture.shapes += clock.lines(bottom)
    picture.shapes += clock.probes()
    for number, (time, place, told) in enumerate(shown):
        y = TOP + STEP * (number + 1)
        colour = WRONG if "gets no answer" in told else INK
        picture.shapes.append(Text(where - 12, y, f"{time:+.3f} s", SIZE, FAINT, anchor="end"))
        picture.shapes += [Text(where, y, place, SIZE, colour, bold=True), Text(what, y, told, SIZE, colour)]
        picture.shapes += clock.mark(time, y, colour)
    y = bottom + STEP
    notes = [f"and {more:,} more things that happened"] if more > 0 else []
    for note in [*notes, *(f"{time} s: {told}" for time, told in standing(broken).rows), *broken.lasting]:
        picture.shapes.append(Text(MARGIN, y, note))
        y += STEP
    picture.height = y + MARGIN
    return picture


class _Clock:
    """The seconds from left to right, from just before the break until watching ended."""

    def __init__(self, left: float, broken: Broken) -> None:
        self.left, self.right = left, WIDTH - MARGIN - 8
        self._broken = broken
        self._first = min([-2.0, *(gap.first / SECOND for gap in broken.lost)])
        self._last = max(broken.until / SECOND, 1.0)

    def x(self, time: float) -> float:
        """Where a second stands."""
        share = (time - self._first) / (self._last - self._first)
        return self.left + (self.right - self.left) * min(max(share, 0.0), 1.0)

    def lines(self, bottom: float) -> Iterator[Shape]:
        """A line for every so many seconds, with its number."""
        room = (self.right - self.left) / 46
        step = next((step for step in _STEPS if (self._last - self._first) / step <= room), _STEPS[-1])
        for number in range(int(self._first // step) + 1, int(self._last // step) + 1):
            x = self.x(number * step)
            yield Line(((x, TOP - 8), (x, bottom)), palette.GRID, 0.8)
            yield Text(x, TOP - 34, f"{number * step:+d} s" if number else "0 s", 9.5, FAINT, anchor="middle")

    def probes(self) -> Iterator[Shape]:
        """A strip that says which probes were answered."""
        yield Text(self.left - 6, TOP - 15, "probes", SIZE, FAINT, anchor="end")
        yield Rectangle(self.left, TOP - 26, self.right - self.left, 15, ANSWERED, edge=FAINT, thick=0.6)
        for gap in self._broken.lost:
            start = self.x(gap.first / SECOND)
            end = self.x((gap.last + self._broken.every) / SECOND) if gap.ended else self.right
            yield Rectangle(start, TOP - 26, max(end - start, 2.0), 15, LOST, edge=WRONG, thick=0.8)
            told = f"{gap.count:,} lost"
            if end - start > text_width(told) + 6:
                yield Text((start + end) / 2, TOP - 15, told, SIZE, WRONG, bold=True, anchor="middle", ground=True)

    def mark(self, time: float, y: float, colour: str) -> Sequence[Shape]:
        """The mark of something that happened."""
        x = self.x(time)
        return (
            Line(((self.left, y - 4), (x, y - 4)), palette.GRID, 0.8),
            Rectangle(x - 3, y - 8, 6, 8, Pattern(colour)),
        )
