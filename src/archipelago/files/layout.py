"""How a YAML text is laid out: each value with where it stands, so that an edit can touch it and nothing else."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any, Literal

import yaml

_Loader: Any = getattr(yaml, "CSafeLoader", yaml.SafeLoader)
_PROPERTIES = re.compile(r"(?:[&!][^\s,\[\]{}]*(?:\s+|$))*")
"""An anchor and a tag, before the value that they belong to."""


@dataclass(slots=True)
class Node:
    """A value of a text. `start` and `end` hold what it stands on without its anchor, and for a block without the
    blank lines and comments after it; `owner` is what an alias stands for."""

    kind: Literal["scalar", "mapping", "list", "alias"]
    start: int
    end: int
    column: int
    value: str | None = None
    quote: str = ""
    flow: bool = True
    owner: Node | None = None
    entries: list[Entry] = field(default_factory=list)


@dataclass(slots=True)
class Entry:
    """One entry of a mapping or list: its key, from where to where it is written, and its value."""

    key: str | None
    start: int
    key_end: int
    quote: str
    node: Node


def lay_out(text: str) -> tuple[Node, bool]:
    """The layout of a text that reads without errors, and whether it has aliases.

    Args:
        text: YAML without a byte order mark.
    """
    reader = _Layout(text)
    return reader.document(), reader.aliased


class _Layout:
    def __init__(self, text: str) -> None:
        self._text = text
        self._next = iter(_events(text)).__next__
        self._anchors: dict[str, Node] = {}
        self.aliased = False

    def document(self) -> Node:
        self._next()
        self._next()
        return self._node(self._next())

    def _node(self, event: Any) -> Node:
        start, end, column = event.start_mark.index, event.end_mark.index, event.start_mark.column
        if isinstance(event, yaml.AliasEvent):
            self.aliased = True
            return Node("alias", start, end, column, owner=self._anchors.get(str(event.anchor)))
        if event.anchor or event.tag:
            found = _PROPERTIES.match(self._text, start)
            start = found.end() if found else start
            start = min(start, end) if isinstance(event, yaml.ScalarEvent) else start
        if isinstance(event, yaml.ScalarEvent):
            quiet = event.value or event.style
            node = Node("scalar", start, end, column, event.value if quiet else None, event.style or "")
        elif isinstance(event, yaml.SequenceStartEvent):
            node = Node("list", start, end, column, flow=bool(event.flow_style))
            while not isinstance(inside := self._next(), yaml.SequenceEndEvent):
                at = inside.start_mark.index
                node.entries.append(Entry(None, at, at, "", self._node(inside)))
            self._close(node, inside)
        else:
            node = Node("mapping", start, end, column, flow=bool(event.flow_style))
            while not isinstance(key := self._next(), yaml.MappingEndEvent):
                where = key.start_mark.index
                value = self._node(self._next())
                node.entries.append(Entry(key.value, where, key.end_mark.index, key.style or "", value))
            self._close(node, key)
        if event.anchor:
            self._anchors[event.anchor] = node
        return node

    @staticmethod
    def _close(node: Node, event: Any) -> None:
        node.end = event.end_mark.index if node.flow else node.entries[-1].node.end
        if not node.flow and node.kind == "mapping":
            node.start = node.entries[0].start


def _events(text: str) -> Iterator[Any]:
    return iter(yaml.parse(text, Loader=_Loader))
