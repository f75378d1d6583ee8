"""What devices know, as tables."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from archipelago.answer import Answer
from archipelago.views.face import Face
from archipelago.views.schema import ROW, TEXT, record, several
from archipelago.views.table import Table


@dataclass(frozen=True, slots=True, repr=False)
class View(Answer):
    """What was looked at: a line that sums it up, and what is shown."""

    SHOWN = "view.VIEW"

    said: str
    shown: tuple[Table, ...]

    @property
    def headline(self) -> str:
        """What sums it up."""
        return self.said


def rows(view: View) -> list[dict[str, Any]]:
    """The rows of all tables; of several, each with the table that it is of."""
    if len(view.shown) == 1:
        return view.shown[0].records()
    return [{"table": table.title, **row} for table in view.shown for row in table.records()]


VIEW = Face(
    name="view",
    verb="view",
    shape=record(tables=several(record(title=TEXT, rows=several(ROW)))),
    values=lambda view: {"tables": [{"title": table.title, "rows": table.records()} for table in view.shown]},
    tables=lambda view: view.shown,
    rows=rows,
)
