"""One document in many styles of YAML, as people write them; edits to try on it."""

from __future__ import annotations

import json
from collections.abc import Iterator
from random import Random
from typing import Any

from archipelago import REMOVE, Edit, network_text
from archipelago.files.emit import scalar
from archipelago.files.tree import parse
from archipelago.model.network import Network


def in_styles(network: Network, random: Random) -> dict[str, str]:
    """The same network in several layouts, by what is special about each."""
    value = parse(network_text(network).encode(), "").value
    texts = {
        "ours": network_text(network),
        "JSON": json.dumps(value, indent=random.choice([None, 1, 2])),
        "block": "\n".join(_Styled(random, flow=0.0).lines(value)) + "\n",
        "mixed": "\n".join(_Styled(random, flow=0.4, comments=0.4).lines(value)) + "\n",
        "commented": "\n".join(_Styled(random, flow=0.3, comments=0.9, quotes=0.5).lines(value)),
        "anchored": "\n".join(_Styled(random, flow=0.5, anchors=0.8).lines(value)) + "\n",
    }
    texts["CRLF"] = texts["mixed"].replace("\n", "\r\n")
    texts["BOM"] = "\ufeff" + texts["commented"]
    return texts


class _Styled:
    """Writes plain data with one person's habits."""

    def __init__(
        self, random: Random, flow: float, comments: float = 0.0, quotes: float = 0.1, anchors: float = 0.0
    ) -> None:
        self._random = random
        self._flow, self._comments, self._quotes, self._anchors = flow, comments, quotes, anchors
        self._indent = random.choice([1, 2, 4])
        self._dash = random.choice([0, 2])
        self._known: dict[str, str] = {}

    def lines(self, value: Any) -> list[str]:
        """A whole document."""
        return list(self._block(value, ""))

    def _chance(self, share: float) -> bool:
        return self._random.random() < share

    def _scalar(self, value: Any) -> str:
        if value is None:
            return ""
        if self._chance(self._quotes):
            return json.dumps(value) if self._chance(0.5) else "'" + value.replace("'", "''") + "'"
        return scalar(value)

    def _comment(self) -> str:
        return (
            self._random.choice(["  # why, and since when", " # {not: yaml}", "   # - x"])
            + f" {self._random.getrandbits(24)}"
            if self._chance(self._comments)
            else ""
        )

    def _alias(self, value: Any) -> str:
        """An alias to the same value before, now and then."""
        anchor = self._known.get(json.dumps(value))
        return f"*{anchor} " if anchor and self._chance(self._anchors) else ""

    def _anchored(self, value: Any, written: str) -> str:
        """The value, now and then under an anchor."""
        key = json.dumps(value)
        if written and value and self._chance(self._anchors):
            self._known[key] = f"a{self._random.getrandbits(40)}"
            return f"&{self._known[key]} {written}"
        return written

    def _inline(self, value: Any, space: str) -> str:
        if alias := self._alias(value):
            return alias
        if isinstance(value, dict):
            parts = [f"{self._scalar(key)}: {self._inline(inner, space)}" for key, inner in value.items()]
        elif isinstance(value, list):
            parts = [self._inline(inner, space) for inner in value]
        else:
            return self._anchored(value, self._scalar(value))
        joint = f",{self._comment() or ''}\n{space}   " if self._chance(self._comments / 2) else ", "
        end = (
            self._random.choice(["", " ", f"   # last {self._random.getrandbits(24)}\n{space} "])
            if self._chance(self._comments)
            else ""
        )
        body = joint.join(parts) + ("," if parts and self._chance(0.1) else "") + end
        return self._anchored(value, "{" + body + "}" if isinstance(value, dict) else "[" + body + "]")

    def _block(self, value: Any, space: str) -> Iterator[str]:
        for key, inner in value.items() if isinstance(value, dict) else ((None, inner) for inner in value):
            if self._chance(self._comments / 2):
                yield self._random.choice(
                    ["", f"{space}# about {key}", f"# at the margin {self._random.getrandbits(24)}"]
                )
            lead = f"{space}{self._scalar(key)}:" if key is not None else f"{space}-"
            if not inner or not isinstance(inner, (dict, list)) or self._chance(self._flow):
                yield from f"{lead} {self._inline(inner, space + ' ')}{self._comment()}".split("\n")
                continue
            deeper = space + " " * (self._dash if isinstance(inner, list) and key is not None else self._indent)
            yield lead + self._comment()
            yield from self._block(inner, deeper)


def one_edit(value: Any, random: Random) -> Edit:
    """An edit somewhere in a document's data."""
    path: tuple[str | int, ...] = ()
    while isinstance(value, (dict, list)) and value and (not path or random.random() < 0.8):
        part = random.choice(list(value) if isinstance(value, dict) else list(range(len(value))))
        path, value = (*path, part), value[part]
    if random.random() < 0.3:
        return Edit(path, REMOVE)
    if isinstance(value, dict) and random.random() < 0.7:
        return Edit((*path, random.choice(["off", "new-1", "p9"])), random.choice(["yes", {"off": "yes"}, ["crew"]]))
    if isinstance(value, list) or random.random() < 0.2:
        return Edit((*path, "+"), random.choice(["crew", {"destination": "::/0", "next-hop": "fe80::1%p1"}]))
    return Edit(path, random.choice(["crew", "it's # so", "10.44.0.9", "yes"]))
