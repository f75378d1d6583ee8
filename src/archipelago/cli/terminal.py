"""Answers in a terminal: tables and lines that fit its width, the words that decide set off.

Loaded only where an answer goes to a terminal; piped, it stays plain and unfolded.
"""

from __future__ import annotations

import re
import shutil
import sys
import textwrap
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, NamedTuple, TextIO

from archipelago.errors import printable
from archipelago.progress import Stage
from archipelago.views.table import Table

if TYPE_CHECKING:
    from rich.text import Text

GAP = 2
"""Spaces between columns."""
RULED = 10
"""Tables of more rows than this have a rule between the groups of their first column."""
STYLES = {"NOT REACHED": "bold red", "REACHED": "bold green", "ERROR": "bold red", "RISK": "bold yellow"}
"""How the words that decide are set off, beside what they say."""
_CODES = {"bold red": "1;31", "bold green": "1;32", "bold yellow": "1;33"}
_TRAILING = re.compile(r"(?:\s|\x1b\[1m )+((?:\x1b\[0m)?)$")
_DECIDING = re.compile(r"\b(NOT REACHED|REACHED|ERROR|RISK)\b")


class Fitted(NamedTuple):
    """The columns of a table that fit a width, by their places, how wide each is, and the names of those left out. No
    widths where they do not fit however narrow they are: an address, a name or a number is never broken."""

    places: list[int]
    widths: list[int]
    left_out: list[str]


def width() -> int:
    """The columns of the terminal."""
    return max(shutil.get_terminal_size((80, 24)).columns, 20)


def emphasised(text: str) -> str:
    """A line with the words that decide set off."""
    return _DECIDING.sub(lambda word: f"\033[{_CODES[STYLES[word[0]]]}m{word[0]}\033[0m", text)


def wrapped(text: str, columns: int) -> list[str]:
    """A line as several that fit, those after the first set in."""
    if len(text) <= columns:
        return [text]
    indent = len(text) - len(text.lstrip())
    label = re.match(r"\s*[a-z ]{1,12}: +", text)
    longest = max(map(len, text.split()))
    hanging = " " * max(min(len(label[0]) if label else indent + 2, columns // 2, columns - longest), 0)
    lines = textwrap.wrap(
        text, columns, subsequent_indent=hanging, break_on_hyphens=False, break_long_words=False, drop_whitespace=True
    )
    return lines or [text]


def fitted(table: Table, columns: int) -> Fitted:
    """Choose the columns of a table and their widths: as wide as they are where all fit, else cells are folded between
    words, and where that is not enough the columns least needed are left out."""
    natural = [max([len(head), *(len(row[at]) for row in table.rows)]) for at, head in enumerate(table.columns)]
    narrow = [min(natural[at], _narrowest(table, at)) for at in range(len(natural))]
    places = list(range(len(natural)))
    left_out: list[str] = []
    for name in (*table.least, None):
        room = columns - GAP * (len(places) - 1)
        if name is None or sum(narrow[at] for at in places) <= room:
            break
        if name in table.columns and len(places) > 1:
            places.remove(table.columns.index(name))
            left_out.append(name)
    room = columns - GAP * (len(places) - 1)
    if sum(narrow[at] for at in places) > room:
        return Fitted(list(range(len(natural))), [], [])
    return Fitted(places, _shared(places, natural, narrow, room), left_out)


def _narrowest(table: Table, at: int) -> int:
    """How narrow a column can be: its longest word, and its head."""
    words = (len(word) for row in table.rows for word in row[at].split())
    return max(max(words, default=0), *(len(word) for word in table.columns[at].split()), 1)


def _shared(places: Sequence[int], natural: Sequence[int], narrow: Sequence[int], room: int) -> list[int]:
    """The room shared out: each column as narrow as it can be, then those that need least more get it first."""
    widths = {at: narrow[at] for at in places}
    left = room - sum(widths.values())
    needy = sorted(places, key=lambda at: natural[at] - narrow[at])
    for number, at in enumerate(needy):
        more = min(natural[at] - narrow[at], left // (len(needy) - number))
        widths[at] += more
        left -= more
    return [widths[at] for at in places]


def show(table: Table, stream: TextIO, colours: bool) -> None:
    """Print a table, as wide as the terminal at most."""
    from rich.box import Box
    from rich.console import Console
    from rich.table import Table as RichTable
    from rich.text import Text

    columns = width()
    fits = fitted(table, columns)
    if table.rows and not fits.widths:
        print("\n".join(map(printable, blocks(table, columns))), file=stream)
        return
    ruled = Box("    \n    \n -  \n    \n -  \n -  \n    \n    \n", ascii=True)
    drawn = RichTable(box=ruled, show_edge=False, pad_edge=False, padding=(0, 1, 0, 0), expand=False)
    for at, wide in zip(fits.places, fits.widths, strict=True):
        head = table.columns[at]
        counts = head in table.right
        # A column's padding is the space before the next one; what the last one has is stripped again.
        drawn.add_column(Text(head), width=wide, justify="right" if counts else "left", overflow="fold")
    ruled_before = _groups(table) if len(table.rows) > RULED else frozenset()
    for number, row in enumerate(table.rows):
        if number in ruled_before:
            drawn.add_section()
        drawn.add_row(*(_cell(row[at], colours) for at in fits.places))
    console = Console(
        file=stream,
        width=columns + 1,
        color_system="standard" if colours else None,
        force_terminal=colours,
        highlight=False,
        markup=False,
        emoji=False,
    )
    if table.title:
        print(printable(table.title), file=stream)
    if table.rows:
        with console.capture() as drawing:
            console.print(drawn)
        lines = (_TRAILING.sub(r"\1", line) for line in drawing.get().splitlines())
        print("\n".join(line if line.strip("- ") else line[:columns] for line in lines), file=stream)
    if fits.left_out:
        told = f"(left out to fit: {', '.join(fits.left_out)}; --plain or --json show all)"
        print("\n".join(wrapped(told, columns)), file=stream)


def blocks(table: Table, columns: int) -> list[str]:
    """A table that no width of its columns makes fit: for each row its first cell, and below it the others with their
    heads, as many on a line as fit."""
    lines = [table.title] if table.title else []
    for row in table.rows:
        first, *others = ((head, cell) for head, cell in zip(table.columns, row, strict=True))
        lines += wrapped(first[1] or "-", columns)
        line = ""
        for item in (f"{head}: {cell}" if head else cell for head, cell in others if cell):
            if line and len(line) + 3 + len(item) > columns:
                lines.append(line)
                line = ""
            line = f"{line}   {item}" if line else f"  {item}"
            if len(line) > columns:
                *whole, line = wrapped(line, columns)
                lines += whole
        lines += [line] if line else []
    return lines


def _groups(table: Table) -> frozenset[int]:
    """Where groups of rows begin that have one first cell (or none but in the first row), if any group has several."""
    starts = [
        number for number, row in enumerate(table.rows) if number and row[0] and row[0] != table.rows[number - 1][0]
    ]
    return frozenset(starts) if len(starts) + 1 < len(table.rows) else frozenset()


def _cell(text: str, colours: bool) -> Text:
    from rich.text import Text as RichText

    cell = RichText(printable(text))
    if colours and text in STYLES:
        cell.stylize(STYLES[text])
    return cell


def progress_line(verb: str, stage: Stage, passed: float, in_stage: float) -> str:
    """How far a verb is, as one line.

    Args:
        passed: seconds since it began.
        in_stage: seconds since this stage of it began.
    """
    text = f"{verb}: {stage.work}, {passed:.0f} s so far"
    if not stage.total:
        return text
    share = stage.done / stage.total
    filled = "#" * int(20 * share)
    left = f", about {in_stage * (1 - share) / share:.0f} s left of this" if share > 0.02 and in_stage > 1 else ""
    return f"{verb}: {stage.work} [{filled:<20}] {share:.0%}, {passed:.0f} s so far{left}"


@contextmanager
def one_line() -> Iterator[Callable[[str], None]]:
    """What shows a line on standard error in the place of the one before, and leaves none in the end."""
    try:
        yield lambda text: print(f"\r{text[: width() - 1]}\033[K", end="", file=sys.stderr, flush=True)
    finally:
        print("\r\033[K", end="", file=sys.stderr, flush=True)
