"""Ranges in texts: `p{1..24}` stands for `p1` to `p24`, `{01..24}` keeps its zeros, `{1..4,7}` lists; and what is said
of a text that is none."""

from __future__ import annotations

import re
from collections.abc import Iterator
from itertools import chain, product
from typing import Any

from archipelago.errors import quoted

_ITEM = r"\d{1,7}(?:\.\.\d{1,7})?"
RANGE = re.compile(rf"\{{(\d{{1,7}}\.\.\d{{1,7}}(?:,{_ITEM})*|{_ITEM}(?:,{_ITEM})+)\}}")


class Wrong(ValueError):
    """A value is not what its key takes; the message says what would be."""


def shown(value: Any) -> str:
    """A value as a message quotes it: short, on one line, control characters shown and not obeyed."""
    if value is None:
        return "an empty value"
    if isinstance(value, (dict, list)):
        return "a mapping" if isinstance(value, dict) else "a list"
    return quoted(str(value))


def ranged(value: Any) -> bool:
    """Whether a text holds a range."""
    return isinstance(value, str) and "{" in value


def _spans(listed: str) -> list[tuple[str, int, int]]:
    """The ranges of one pair of braces: the first as it is written, and both ends.

    Raises:
        Wrong: one runs backwards.
    """
    spans = []
    for item in listed.split(","):
        first, _, last = item.partition("..")
        last = last or first
        if int(last) < int(first):
            raise Wrong(f"'{{{item}}}' runs backwards; write {{{last}..{first}}}")
        spans.append((first, int(first), int(last)))
    return spans


def count_of(text: str) -> int:
    """How many texts a pattern stands for.

    Raises:
        Wrong: a range is not `{FIRST..LAST}`, or runs backwards.
    """
    if text.count("{") != len(RANGE.findall(text)) or text.count("}") != text.count("{"):
        raise Wrong(f"{shown(text)} holds a brace that is no range; a range is written like {{1..24}} or {{1..4,7}}")
    total = 1
    for listed in RANGE.findall(text):
        total *= sum(last - first + 1 for _, first, last in _spans(listed))
    return total


def texts(pattern: str) -> Iterator[str]:
    """The texts that a pattern stands for, the last range running fastest."""
    parts = RANGE.split(pattern)
    if len(parts) == 3 and "{0" not in pattern and ",0" not in pattern:  # nearly all: one range, no leading zeros
        before, listed, after = parts
        for _, first, last in _spans(listed):
            yield from [f"{before}{number}{after}" for number in range(first, last + 1)]
        return
    choices = [
        [str(number).zfill(len(word)) for word, first, last in _spans(listed) for number in range(first, last + 1)]
        for listed in parts[1::2]
    ]
    for numbers in product(*choices):
        yield "".join(chain.from_iterable(zip(parts[::2], (*numbers, ""), strict=True)))
