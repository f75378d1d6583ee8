"""Documents in random YAML styles, with comments everywhere and a mistake: mended, they say what the same document in
our style says once mended, every comment is kept, and no line is touched but those of what changed.

python tests/styles_referee.py FIRST-SEED COUNT      prints what falls short, then the figures
"""

from __future__ import annotations

import json
import re
import sys
from collections import Counter
from collections.abc import Iterator
from difflib import SequenceMatcher
from random import Random
from typing import Any

import yaml

import archipelago
from drawn import drawn
from slips_referee import slips, sound
from styles import in_styles

STYLES = ("block", "mixed", "commented", "anchored", "CRLF", "BOM")
_COMMENT = re.compile(r"(?:^|\s)(#[^\n\r]*)")


def changed(before: Any, after: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """The paths of a document at which something is otherwise: a value, a key that is gone; of a new one the path of
    what it is put into."""
    if isinstance(before, dict) and isinstance(after, dict):
        for key in {**before, **after}:
            if key in before and key in after:
                yield from changed(before[key], after[key], (*path, key))
            else:
                yield (*path, key) if key in before and after else path  # what is left empty is written anew
    elif isinstance(before, list) and isinstance(after, list):
        texts = [[json.dumps(entry) for entry in entries] for entries in (before, after)]
        for kind, start, end, first, last in SequenceMatcher(None, *texts, autojunk=False).get_opcodes():
            if kind == "replace" and end - start == last - first:
                for number in range(end - start):
                    yield from changed(before[start + number], after[first + number], (*path, start + number))
            elif kind != "equal":
                yield from [(*path, number) for number in range(start, end)] or [path]
    elif before != after:
        yield path


def lines_of(text: str, paths: list[tuple[Any, ...]]) -> set[int]:
    """The lines that values stand on, from their keys on; aliases as what they stand for."""
    touched: set[int] = set()
    root = yaml.compose(text, yaml.CSafeLoader)
    for path in paths:
        node, first = root, root.start_mark.line
        for part in path:
            if isinstance(node, yaml.MappingNode):
                key, node = next((key, value) for key, value in node.value if key.value == str(part))
                first = key.start_mark.line
            else:
                node = node.value[part]
                first = node.start_mark.line
        last = node.end_mark.line + (1 if node.end_mark.column or node.flow_style else 0)
        touched |= set(range(first, max(last, first + 1)))
    return touched


def shortfall(text: str, meant: dict[str, Any]) -> str:
    """What a mended text falls short of, in words; empty where it is as it should be."""
    after = archipelago.mend(text).text
    plain, mended = (yaml.load(one.lstrip("\ufeff"), yaml.BaseLoader) for one in (text, after))
    if mended != meant:
        return "it means something else than in our style"
    old, new = (one.splitlines(keepends=True) for one in (text, after))
    opcodes = SequenceMatcher(None, old, new, autojunk=False).get_opcodes()
    gone = "".join(line for kind, start, end, *_ in opcodes if kind == "delete" for line in old[start:end])
    lost = Counter(_COMMENT.findall(text)) - Counter(_COMMENT.findall(after)) - Counter(_COMMENT.findall(gone))
    if lost:
        return f"comments are lost: {sorted(lost)}"
    if "*" in text:
        return ""  # an alias that changes is its own line's business; whose it is, a parser does not tell
    allowed = lines_of(text.lstrip("\ufeff"), list(changed(plain, mended)))
    for kind, start, end, first, last in opcodes:
        if kind in ("replace", "delete") and not set(range(start, end)) <= allowed:
            return f"lines {start + 1} to {end} are otherwise: {old[start:end]} -> {new[first:last]}"
    return ""


def main() -> None:
    first, count = map(int, sys.argv[1:3])
    figures: Counter[str] = Counter()
    for seed in range(first, first + count):
        random = Random(seed)
        network = drawn(random) if seed % 2 else sound(seed)
        if network is None or not network.hosts:
            continue
        slip = next(slips(network, random), None)
        if slip is None:
            continue
        meant = yaml.load(archipelago.mend(archipelago.network_text(slip.network)).text, yaml.BaseLoader)
        for style, text in in_styles(slip.network, random).items():
            if style in STYLES:
                figures["documents"] += 1
                short = shortfall(text, meant)
                if short:
                    figures[style] += 1
                    print(seed, style, slip.how, slip.path, short, flush=True)
    print(dict(figures))


if __name__ == "__main__":
    main()
