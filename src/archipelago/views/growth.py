"""What runs out as hosts become more, the first first."""

from __future__ import annotations

from typing import Any

from archipelago.load.result import rate_text
from archipelago.views.face import Face
from archipelago.views.plain import plain_fields
from archipelago.views.schema import COUNT, NUMBER, TEXT, maybe, record, several
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


def _value(limit: Limit) -> dict[str, Any]:
    return {**plain_fields(limit), "years": limit.years if limit.years < NEVER else None}


GROWTH = Face(
    name="growth",
    verb="weigh",
    shape=record(
        years=COUNT("that are planned for"),
        limits=several(
            record(
                kind=TEXT,
                what=TEXT,
                now=NUMBER("addresses, ports, or bits per second"),
                later=NUMBER("when the years are over"),
                room=NUMBER("how much there is"),
                years=maybe(NUMBER)("after which it is used up; null: it does not grow"),
                then=TEXT("what it takes then"),
            )
        )("the first first"),
    ),
    values=lambda found: {"years": found.years, "limits": [_value(limit) for limit in found.limits]},
    tables=lambda found: [running_out(found)],
    rows=lambda found: [_value(limit) for limit in found.limits],
)
