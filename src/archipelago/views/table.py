"""A table of texts: what every view makes and the command line prints."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace


@dataclass(frozen=True, slots=True)
class Table:
    """Columns and rows of text. `right` holds the columns that are numbers, to be aligned right; `values` the rows as
    they were given, numbers as numbers; `least` the columns least needed, which a narrow terminal does without, in that
    order. Of a long table the `first` rows are shown where nobody asks for all."""

    title: str
    columns: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    right: frozenset[str] = frozenset()
    values: tuple[tuple[object, ...], ...] = ()
    least: tuple[str, ...] = ()
    first: int | None = None

    def begun(self) -> Table:
        """The rows that are shown where nobody asks for all; the title counts them."""
        if self.first is None or len(self.rows) <= self.first:
            return self
        title = f"{self.title} (the first {self.first:,} of {len(self.rows):,}; --all has the others)"
        return replace(self, title=title, rows=self.rows[: self.first], values=self.values[: self.first])

    def records(self) -> list[dict[str, object]]:
        """The rows by column (in lower case, words apart by underscores): numbers as numbers, everything else as text,
        nothing as None."""
        names = [re.sub(r"[^a-z0-9]+", "_", name.lower()).strip("_") or "of" for name in self.columns]
        return [{name: _plain(cell) for name, cell in zip(names, row, strict=True)} for row in self.values]


def _plain(cell: object) -> object:
    if isinstance(cell, (int, float)):
        return cell
    return None if cell in (None, "") else str(cell)


def table(
    title: str,
    columns: Sequence[str],
    rows: Iterable[Sequence[object]],
    right: Iterable[str] = (),
    least: Sequence[str] = (),
    first: int | None = None,
) -> Table:
    """A table from any values; columns that are empty in every row are left out."""
    given = [tuple(row) for row in rows]
    texts = [tuple("" if value is None else str(value) for value in row) for row in given]
    kept = [index for index in range(len(columns)) if not texts or any(row[index] for row in texts)]
    return Table(
        title,
        tuple(columns[index] for index in kept),
        tuple(tuple(row[index] for index in kept) for row in texts),
        right=frozenset(right),
        values=tuple(tuple(row[index] for index in kept) for row in given),
        least=tuple(least),
        first=first,
    )


def chosen(wanted: Table, columns: Sequence[str]) -> Table:
    """A table with some of its columns, in the order given."""
    places = [wanted.columns.index(name) for name in columns if name in wanted.columns]
    rows = tuple(tuple(row[at] for at in places) for row in wanted.rows)
    values = tuple(tuple(row[at] for at in places) for row in wanted.values)
    return Table("", tuple(wanted.columns[place] for place in places), rows, wanted.right, values, wanted.least)


def lines(shown: Table, indent: str = "") -> list[str]:
    """The table as aligned lines: title, heads, rows."""
    widths = [
        max(len(head), *(len(row[index]) for row in shown.rows)) if shown.rows else len(head)
        for index, head in enumerate(shown.columns)
    ]

    def row_text(cells: Sequence[str]) -> str:
        parts = [
            cell.rjust(width) if head in shown.right else cell.ljust(width)
            for cell, width, head in zip(cells, widths, shown.columns, strict=True)
        ]
        return (indent + "  ".join(parts)).rstrip()

    text = [shown.title] if shown.title else []
    if shown.rows:
        text.append(row_text(shown.columns))
        text.append((indent + "  ".join("-" * width for width in widths)).rstrip())
        text += [row_text(row) for row in shown.rows]
    return text


def counted(count: int, noun: str) -> str:
    """A number with its noun: `1 pair`, `2 pairs`."""
    return f"{count:,} {noun}" + ("" if count == 1 else "s")
