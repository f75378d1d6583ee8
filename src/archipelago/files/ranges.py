"""Ranges in texts: `p{1..24}` stands for `p1` to `p24`, `{01..24}` keeps its zeros, `{1..4,7}` and `{north,south}`
list; how a text walks along with the range in a name; and what is said of a text that is none."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from itertools import chain, product
from math import prod
from typing import Any

from archipelago.errors import quoted

_WORD = r"[A-Za-z0-9](?:[A-Za-z0-9_-]|\.(?!\.))*"
_ITEM = rf"(?:\d{{1,7}}\.\.\d{{1,7}}|{_WORD})"
RANGE = re.compile(rf"\{{(\d{{1,7}}\.\.\d{{1,7}}(?:,{_ITEM})*|{_ITEM}(?:,{_ITEM})+)\}}")
Nth = Callable[[int], str]
"""The text of the member of a number, from 0 on."""


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


def _ends(item: str) -> tuple[int, int] | None:
    """The first and the last number of an item of a range; None of a single word.

    Raises:
        Wrong: it runs backwards.
    """
    first, dots, last = item.partition("..")
    if not dots:
        return None
    if int(last) < int(first):
        raise Wrong(f"'{{{item}}}' runs backwards; write {{{last}..{first}}}")
    return int(first), int(last)


def _size(listed: str) -> int:
    """How many texts a pair of braces stands for."""
    return sum(1 if (ends := _ends(item)) is None else ends[1] - ends[0] + 1 for item in listed.split(","))


def _choices(listed: str) -> Iterator[str]:
    """The texts that a pair of braces stands for."""
    for item in listed.split(","):
        ends = _ends(item)
        if ends is None:
            yield item
        elif item.startswith("0"):
            width = item.index(".")
            yield from [str(number).zfill(width) for number in range(ends[0], ends[1] + 1)]
        else:
            yield from [str(number) for number in range(ends[0], ends[1] + 1)]


def sizes_of(pattern: str) -> list[int]:
    """How many texts each pair of braces of a pattern stands for.

    Raises:
        Wrong: one is not `{FIRST..LAST}` or `{ONE,OTHER}`, or runs backwards.
    """
    listed = RANGE.findall(pattern)
    if pattern.count("{") != len(listed) or pattern.count("}") != len(listed):
        raise Wrong(
            f"{shown(pattern)} holds a brace that is no range; a range is written like {{1..24}}, {{1..4,7}} or "
            "{north,south}"
        )
    return [_size(items) for items in listed]


def count_of(pattern: str) -> int:
    """How many texts a pattern stands for.

    Raises:
        Wrong: a range is none, or runs backwards.
    """
    return prod(sizes_of(pattern))


def texts(pattern: str) -> Iterator[str]:
    """The texts that a pattern stands for, the last range running fastest."""
    parts = RANGE.split(pattern)
    if len(parts) == 3:  # nearly all
        before, listed, after = parts
        yield from [f"{before}{choice}{after}" for choice in _choices(listed)]
        return
    choices = [list(_choices(listed)) for listed in parts[1::2]]
    for chosen in product(*choices):
        yield "".join(chain.from_iterable(zip(parts[::2], (*chosen, ""), strict=True)))


def walking(text: str, name: str) -> Nth | None:
    """How a text with ranges walks along with a name that has some: each pair of braces with the name's of the same
    number of texts, or with all names; else the whole text, where it stands for as many texts as the name.

    Returns:
        The text for the member of each number; None where it does not walk along, or a brace is no range.
    """
    try:
        own, names = sizes_of(text), sizes_of(name)
    except Wrong:
        return None
    total = prod(names)
    if own != names and all(size == total or size in names for size in own):
        parts = RANGE.split(text)
        choices = [list(_choices(listed)) for listed in parts[1::2]]
        strides = [_stride(size, names, total) for size in own]
        return lambda number: "".join(_filled(parts, choices, strides, number))
    return list(texts(text)).__getitem__ if prod(own) == total else None


def _stride(size: int, names: Sequence[int], total: int) -> int:
    """After how many members the next text of a brace comes."""
    if size == total:
        return 1
    place = names.index(size)
    return prod(names[place + 1 :])


def _filled(
    parts: Sequence[str], choices: Sequence[Sequence[str]], strides: Sequence[int], number: int
) -> Iterator[str]:
    yield parts[0]
    for listed, stride, after in zip(choices, strides, parts[2::2], strict=True):
        yield listed[number // stride % len(listed)]
        yield after


def without_member(pattern: str, number: int) -> str | None:
    """A pattern with one range, without its member of a number: `p{1..9}` without the third is `p{1..2,4..9}`.

    Returns:
        The pattern of the others, plain where one is left; None where there is more than one range, or nothing is left.
    """
    parts = RANGE.split(pattern)
    if len(parts) != 3:
        return None
    left = [choice for place, choice in enumerate(_choices(parts[1])) if place != number]
    if len(left) < 2:
        return f"{parts[0]}{left[0]}{parts[2]}" if left else None
    items: list[list[str]] = []
    for choice in left:
        follows = choice.isdigit() and items and items[-1][-1].isdigit() and int(choice) == int(items[-1][-1]) + 1
        if follows and len(choice) == len(str(int(choice)).zfill(len(items[-1][0]))):
            items[-1].append(choice)
        else:
            items.append([choice])
    runs = [",".join(run) if len(run) < 3 else f"{run[0]}..{run[-1]}" for run in items]
    return f"{parts[0]}{{{','.join(runs)}}}{parts[2]}"
