"""How answers reach the terminal: plain text anywhere, a little emphasis where there is a terminal."""

from __future__ import annotations

import sys
from collections.abc import Iterable
from typing import Any

from archipelago.views.table import Table, lines


def say(text: str = "") -> None:
    print(text)


def head(text: str) -> None:
    """The answer: bold in a terminal."""
    print(f"\033[1m{text}\033[0m" if sys.stdout.isatty() else text)


def note(text: str) -> None:
    """Something beside the answer, on standard error."""
    print(text, file=sys.stderr)


def say_lines(texts: Iterable[str]) -> None:
    for text in texts:
        print(text)


def say_tables(tables: Iterable[Table]) -> None:
    for one in tables:
        print()
        say_lines(lines(one))


def say_json(value: Any) -> None:
    import json

    json.dump(value, sys.stdout, indent=2)
    print()
