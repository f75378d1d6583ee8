"""States of a network, recorded and restored."""

from __future__ import annotations

from argparse import Namespace

import archipelago
from archipelago.cli import out
from archipelago.errors import QueryError


def record(words: Namespace) -> int:
    """One of four: record, list, compare, restore; which go together, `cli.together` says."""
    asked = [words.why is not None, words.listed, words.compared is not None, words.restored is not None]
    if not any(asked):
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
    made = archipelago.record(words.network, words.why, devices=words.devices)
    again = bool(before) and before[0] == made
    if words.as_json:
        out.say_json({**made.values(), "new": not again})
    elif again:
        out.head(f"commit {made.name} holds it, {made.why}: nothing was recorded")
    else:
        out.head(f"recorded: {made.name}, {made.why}")
        out.say_lines(str(made).splitlines()[1:])
    return 0


def _list(words: Namespace) -> int:
    found = archipelago.records(words.network)
    if words.as_json:
        out.say_json(found.values())
    else:
        out.answer(found, also=f" of {words.network}")
    return 0


def _compare(words: Namespace) -> int:
    old, new = (archipelago.recorded(words.network, name) for name in words.compared)
    found = archipelago.compare(old, new, devices=words.devices)
    return out.reply(found, words)
