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
LONGEST_WORD = 24
"""So many characters of a word stand on one line at least, where the word has them."""
RULED = 10
"""Tables of more rows than this have a rule after every fifth."""
STYLES = {"NOT REACHED": "bold red", "REACHED": "bold green", "ERROR": "bold red", "RISK": "bold yellow"}
"""How the words that decide are set off, beside what they say."""
_CODES = {"bold red": "1;31", "bold green": "1;32", "bold yellow": "1;33"}
_TRAILING = re.compile(r"(?:\s|\x1b\[1m )+((?:\x1b\[0m)?)$")
_DECIDING = re.compile(r"\b(NOT REACHED|REACHED|ERROR|RISK)\b")


class Fitted(NamedTuple):
    """The columns of a table that fit a width, by their places, how wide each is, and the names of those left out."""

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
    hanging = " " * min(len(label[0]) if label else indent + 2, columns // 2)
    return textwrap.wrap(text, columns, subsequent_indent=hanging, break_on_hyphens=False, drop_whitespace=True) or [
        text
    ]


def fitted(table: Table, columns: int) -> Fitted:
    """Choose the columns of a table and their widths: as wide as they are where all fit, else cells are folded, and
    where that is not enough the columns least needed are left out."""
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
    return Fitted(places, _shared(places, natural, narrow, columns - GAP * (len(places) - 1)), left_out)


def _narrowest(table: Table, at: int) -> int:
    """How narrow a column can be: its longest word, and its head."""
    words = (len(word) for row in table.rows for word in row[at].split())
    return max(min(max(words, default=0), LONGEST_WORD), *(len(word) for word in table.columns[at].split()), 1)


def _shared(places: Sequence[int], natural: Sequence[int], narrow: Sequence[int], room: int) -> list[int]:
    """The room shared out: each column as narrow as it can be, then those that need least more get it first."""
    widths = {at: narrow[at] for at in places}
    if sum(widths.values()) > room:  # nothing more can go: all give way alike
        return [max(widths[at] * room // max(sum(widths.values()), 1), 3) for at in places]
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
    ruled = Box("    \n    \n -  \n    \n -  \n -  \n    \n    \n", ascii=True)
    drawn = RichTable(box=ruled, show_edge=False, pad_edge=False, padding=(0, 1, 0, 0), expand=False)
    for at, wide in zip(fits.places, fits.widths, strict=True):
        head = table.columns[at]
        number = head in table.right
        # A column's padding is the space before the next one; what the last one has is stripped again.
        drawn.add_column(Text(head), width=wide, justify="right" if number else "left", overflow="fold")
    for count, row in enumerate(table.rows, 1):
        drawn.add_row(*(_cell(row[at], colours) for at in fits.places))
        if len(table.rows) > RULED and count % 5 == 0 and count < len(table.rows):
            drawn.add_section()
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
