"""States of a network, recorded and restored."""

from __future__ import annotations

from argparse import Namespace

import archipelago
from archipelago.cli import out
from archipelago.errors import QueryError


def record(words: Namespace) -> int:
    """One of four: record, list, compare, restore."""
    asked = [words.why is not None, words.listed, words.compared is not None, words.restored is not None]
    if sum(asked) != 1:
        raise QueryError("write one of -m WHY, --list, --compare A B and --restore A")
    if words.listed:
        return _list(words)
    if words.compared is not None:
        return _compare(words)
    if words.restored is not None:
        archipelago.restore(words.network, words.restored)
        out.head(f"restored: {words.network} is as it was recorded in {words.restored}")
        return 0
    before = archipelago.records(words.network)
    made = archipelago.record(words.network, words.why)
    again = bool(before) and before[0] == made
    if words.as_json:
        out.say_json(
            {"record": made.name, "when": made.when, "why": made.why, "said": dict(made.said), "new": not again}
        )
    elif again:
        out.head(f"commit {made.name} holds it, {made.why}: nothing was recorded")
    else:
        out.head(f"recorded: {made.name}, {made.why}")
        for key, value in made.said.items():
            out.say(f"{key.lower()}: {value}")
    return 0


def _values(one: archipelago.Record) -> dict[str, object]:
    return {"record": one.name, "when": one.when, "why": one.why, "said": dict(one.said)}


def _list(words: Namespace) -> int:
    from archipelago.views.table import counted, table

    found = archipelago.records(words.network)
    if words.as_json:
        out.say_json([_values(one) for one in found])
        return 0
    out.head(f"{counted(len(found), 'record')} of {words.network}")
    heads = ("record", "when", "why", "audit", "pairs", "expectations")
    rows = [
        (one.name, one.when[:16].replace("T", " "), one.why, *(one.said.get(head.title(), "") for head in heads[3:]))
        for one in found
    ]
    out.say_tables([one for one in [table("the latest first", heads, rows)] if one.rows])
    return 0


def _compare(words: Namespace) -> int:
    from archipelago.views import comparison as view

    old, new = (archipelago.recorded(words.network, name) for name in words.compared)
    found = archipelago.compare(old, new)
    if words.as_json:
        out.say_json(view.values(found))
    else:
        out.head(found.headline)
        out.say_tables(view.tables(found))
    return 1 if found.loses else 0
