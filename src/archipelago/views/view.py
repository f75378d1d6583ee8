"""What devices know, as tables."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

from archipelago.addressing.values import parse_address, parse_interface_address
from archipelago.answer import Answer
from archipelago.errors import AddressError
from archipelago.model.problems import listed
from archipelago.views.face import Face, Part
from archipelago.views.schema import ROW, TEXT, record, several
from archipelago.views.table import Table, counted

MOST_LISTED = 6
"""Of a list with more addresses in a cell the first few are shown."""
CUT = "long lists of addresses are cut; --all shows them whole"


@dataclass(frozen=True, slots=True, repr=False)
class View(Answer):
    """What was looked at: a line that sums it up, what is shown, and what else there is, which is counted when it is
    printed, unless all is asked for."""

    SHOWN = "view.VIEW"

    said: str
    shown: tuple[Table, ...]
    more: tuple[Table, ...] = field(default=(), kw_only=True)

    @property
    def headline(self) -> str:
        """What sums it up."""
        return self.said


def rows(view: View) -> list[dict[str, Any]]:
    """The rows of all tables; of several, each with the table that it is of."""
    every = tables(view)
    if len(every) == 1:
        return every[0].records()
    return [{"table": table.title, **row} for table in every for row in table.records()]


def tables(view: View) -> tuple[Table, ...]:
    """Every table, those that are only counted too."""
    return (*view.shown, *view.more)


def body(view: View) -> list[Part]:
    """The tables that are shown, long lists in them cut, and how long the others are."""
    counts = ", ".join(f"{table.title} ({counted(len(table.rows), 'row')})" for table in view.more)
    more = ["", f"also, of one device by its name, of all with --all: {counts}"] if view.more else []
    shown = [_cut(table) for table in view.shown]
    cut = ["", CUT] if not view.more and any(a.rows != b.rows for a, b in zip(shown, view.shown, strict=True)) else []
    return [*(part for table in shown for part in ("", table)), *more, *cut]


def _cut(table: Table) -> Table:
    """A table without the rest of lists of addresses that are too long to be read in a cell."""
    rows = tuple(tuple(_listed(cell) if isinstance(cell, str) else cell for cell in row) for row in table.rows)
    return replace(table, rows=rows)


def _listed(cell: str) -> str:
    items = cell.split(", ")
    return listed(items, MOST_LISTED - 2) if len(items) > MOST_LISTED and _is_address(items[0]) else cell


def _is_address(text: str) -> bool:
    try:
        parse_interface_address(text) if "/" in text else parse_address(text)
    except AddressError:
        return False
    return True


VIEW = Face(
    name="view",
    verb="view",
    shape=record(tables=several(record(title=TEXT, rows=several(ROW)))),
    values=lambda view: {"tables": [{"title": table.title, "rows": table.records()} for table in tables(view)]},
    tables=tables,
    body=body,
    whole=lambda view: [part for table in tables(view) for part in ("", table)],
    rows=rows,
)
