"""What runs out as hosts become more, the first first."""

from __future__ import annotations

from archipelago.load.result import rate_text
from archipelago.views.table import Table, table
from archipelago.weighing.growth import NEVER, Foreseen, Limit, when

MOST = 12
"""So many things are listed."""


def running_out(found: Foreseen, most: int | None = MOST) -> Table:
    """What runs out, when, and what it takes then.

    Args:
        found: what is foreseen.
        most: so many rows at most.
    """
    every = [limit for limit in found.limits if limit.years < NEVER]
    rows = [_row(limit) for limit in every[:most]]
    more = len(every) - len(rows)
    title = f"what runs out first{f' ({more} more later)' if more else ''}"
    columns = ("kind", "of", "today", f"in {found.years} years", "there is", "used up", "what it takes then")
    return table(title, columns, rows, columns[2:5], ("what it takes then",))


def _row(limit: Limit) -> tuple[str, ...]:
    amounts = (_amount(limit, value) for value in (limit.now, limit.later, limit.room))
    return (limit.kind, limit.what, *amounts, when(limit.years), limit.then)


def _amount(limit: Limit, value: float) -> str:
    return rate_text(value) if limit.kind == "link" else f"{value:,.0f}"
