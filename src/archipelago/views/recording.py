"""What was recorded of a network."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from archipelago.files.repository import Record
from archipelago.views.face import Face
from archipelago.views.schema import FLAG, TEXT, extended, maybe, record, several
from archipelago.views.table import Table, table

HEADS = ("audit", "pairs", "expectations")
"""What is said of each record."""


def _values(one: Record) -> dict[str, Any]:
    said = {key.lower(): text for key, text in one.said.items()}
    return {"name": one.name, "when": one.when, "why": one.why, **{head: said.get(head) for head in HEADS}}


def listed(found: Sequence[Record]) -> Table:
    """A row for each record."""
    rows = [
        (one.name, one.when[:16].replace("T", " "), one.why, *(one.said.get(head.title(), "") for head in HEADS))
        for one in found
    ]
    return table("the latest first", ("record", "when", "why", *HEADS), rows)


_RECORD = record(
    name=TEXT("in git"),
    when=TEXT("RFC 3339"),
    why=TEXT,
    audit=maybe(TEXT)("what was said of it"),
    pairs=maybe(TEXT)("what was said of it"),
    expectations=maybe(TEXT)("what was said of it"),
)
RECORD = Face(
    name="record",
    verb="record",
    shape=extended(_RECORD, new=FLAG("false where the last record holds the same")),
    values=lambda kept: {**_values(kept), "new": True},
    tables=lambda kept: [listed([kept])],
    body=lambda kept: [f"{key.lower()}: {value}" for key, value in kept.said.items()],
)
RECORDS = Face(
    name="records",
    verb="record",
    shape=record(records=several(_RECORD)("the latest first")),
    values=lambda found: {"records": [_values(one) for one in found]},
    tables=lambda found: [listed(found)],
)
