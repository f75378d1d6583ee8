"""YAML text to plain mappings, lists and texts, with the place of each; hostile input ends in one clear error.

Works on libyaml's stream of events, not on its tree, so that depth and size are bounded while reading.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

import yaml

from archipelago.errors import DocumentError, Problem
from archipelago.model.parts import Mark, Path
from archipelago.progress import tell

LARGEST = 64 * 1024 * 1024
"""The largest file read, in bytes."""
DEEPEST = 24
"""The deepest nesting read, in levels."""
MOST = 1_000_000
"""The most values that aliases may stand for."""
TELL_EVERY = 5_000
"""Whoever listens is told after so many events how far the reading is."""

TOO_DEEP = f"values are nested more than {DEEPEST} levels deep; no document needs that"
_FLOW = re.compile(r"""(?P<quiet>"(?:\\.|[^"\\])*"|'[^']*'|(?:^|\s)\#[^\n]*)|(?P<opens>[\[{])|[\]}]""", re.VERBOSE)
"""What brackets are counted by: those in quotes and comments are text."""

_Loader: Any = getattr(yaml, "CSafeLoader", yaml.SafeLoader)


@dataclass(slots=True)
class Tree:
    """What a file holds: mappings, lists, texts (None for an empty value), and the mark of each path."""

    source: str
    value: Any
    marks: dict[Path, Mark]
    problems: list[Problem] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class _Anchored:
    value: Any
    count: int


def parse(content: bytes, source: str) -> Tree:
    """Read YAML.

    Args:
        content: the file's bytes, UTF-8.
        source: how errors name the file.

    Raises:
        DocumentError: the bytes are not text, not YAML, or too large or deep. A key written twice is not raised but
            left in the tree's `problems`, to be told beside all others.
    """
    text = _decode(content, source)
    tree = Tree(source, None, {})
    reader = _Reader(tree, _events(text, source))
    tree.value = reader.document()
    return tree


def _decode(content: bytes, source: str) -> str:
    if len(content) > LARGEST:
        raise DocumentError(
            source, [Problem(0, 0, f"the file has {len(content):,} bytes; at most {LARGEST:,} are read")]
        )
    try:
        text = content.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = content.count(b"\n", 0, error.start) + 1
        raise DocumentError(
            source, [Problem(line, 1, f"byte {error.start} is not UTF-8 text; save the file as UTF-8")]
        ) from None
    zero = text.find("\0")
    if zero >= 0:
        line = text.count("\n", 0, zero) + 1
        raise DocumentError(source, [Problem(line, 1, "the file holds binary data; a YAML text is expected")])
    return text


def _events(text: str, source: str) -> Iterator[Any]:
    loader = None
    try:
        loader = _Loader(text)
        event = loader.get_event()
        count = 0
        while event is not None:
            if not count % TELL_EVERY:
                tell("reading the file", event.start_mark.index, len(text))
            count += 1
            yield event
            event = loader.get_event()
    except yaml.reader.ReaderError as error:
        line = text.count("\n", 0, error.position) + 1 if isinstance(error.position, int) else 0
        raise DocumentError(source, [Problem(line, 1, "a control character is not text; remove it")]) from None
    except yaml.MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        line, column = (mark.line + 1, mark.column + 1) if mark else (0, 0)
        deep = _too_deep(text[: mark.index]) if mark else None
        if deep is not None:
            raise DocumentError(source, [Problem(*deep, TOO_DEEP)]) from None
        row = text.split("\n")[line - 1] if 0 < line <= text.count("\n") + 1 else ""
        indent = row[: len(row) - len(row.lstrip())]
        if "\t" in indent:
            message = "a tab indents this line; YAML takes spaces only"
        else:
            shown = row.strip()[:60]
            message = f"this is not YAML: {error.problem or error.context}" + (f" in '{shown}'" if shown else "")
        raise DocumentError(source, [Problem(line, column, message)]) from None
    except yaml.YAMLError as error:
        raise DocumentError(source, [Problem(0, 0, f"this is not YAML: {error}")]) from None
    finally:
        if loader is not None:
            loader.dispose()


def _too_deep(text: str) -> tuple[int, int] | None:
    """The line and column where the brackets of a text first nest too deep. The library looks far ahead for the end of
    what may be a key, and gives up on deep nesting before our own reader has seen any of it."""
    depth = 0
    for bracket in _FLOW.finditer(text):
        if not bracket["quiet"]:
            depth += 1 if bracket["opens"] else -1
        if depth > DEEPEST:
            line = text.count("\n", 0, bracket.start()) + 1
            return line, bracket.start() - text.rfind("\n", 0, bracket.start())
    return None


class _Reader:
    """Walks the events once, filling the tree. Recursion is bounded by DEEPEST."""

    def __init__(self, tree: Tree, events: Iterator[Any]) -> None:
        self._tree = tree
        self._marks = tree.marks
        self._next = events.__next__
        self._anchors: dict[str, _Anchored] = {}
        self._count = self._aliased = 0

    def document(self) -> Any:
        self._next()  # stream start
        event = self._next()
        if isinstance(event, yaml.StreamEndEvent):
            self._fail(event, "the file is empty; it starts with 'format: archipelago-network/1' or '-brief/1'")
        value = self._value(self._next(), (), None)
        self._next()  # document end
        event = self._next()
        if not isinstance(event, yaml.StreamEndEvent):
            self._fail(event, "a second document starts here; a file holds one")
        return value

    def _fail(self, event: Any, message: str) -> None:
        mark = event.start_mark
        raise DocumentError(self._tree.source, [Problem(mark.line + 1, mark.column + 1, message)])

    def _value(self, event: Any, path: Path, key: Any) -> Any:
        mark = event.start_mark
        line, column = mark.line + 1, mark.column + 1
        self._marks[path] = (
            Mark(key.line + 1, key.column + 1, line, column) if key else Mark(line, column, line, column)
        )
        self._count += 1
        kind = type(event)
        if kind is yaml.AliasEvent:
            return self._alias(event)
        before = self._count
        value: Any
        if kind is yaml.ScalarEvent:
            value = event.value if event.value or event.style else None
        elif len(path) >= DEEPEST:
            self._fail(event, TOO_DEEP)
        elif kind is yaml.SequenceStartEvent:
            value = []
            while not isinstance(event_in := self._next(), yaml.SequenceEndEvent):
                value.append(self._value(event_in, (*path, len(value)), None))
        else:
            value = self._mapping(path)
        if event.anchor:
            self._anchors[event.anchor] = _Anchored(value, self._count - before + 1)
        return value

    def _mapping(self, path: Path) -> dict[str, Any]:
        value: dict[str, Any] = {}
        while not isinstance(event := self._next(), yaml.MappingEndEvent):
            if not isinstance(event, yaml.ScalarEvent):
                self._fail(event, "a key must be a plain name")
            name = event.value
            where = event.start_mark
            if name in value:
                first = self._marks[(*path, name)]
                self._tree.problems.append(
                    Problem(
                        where.line + 1,
                        where.column + 1,
                        f"'{name}' is written twice here; the first is on line {first.key_line}",
                    )
                )
                kept = self._marks[(*path, name)]
                self._value(self._next(), (*path, name), where)
                self._marks[(*path, name)] = kept
                continue
            value[name] = self._value(self._next(), (*path, name), where)
        return value

    def _alias(self, event: Any) -> Any:
        anchored = self._anchors.get(event.anchor)
        if anchored is None:
            self._fail(event, f"'*{event.anchor}' stands for nothing before it; anchor a value with '&{event.anchor}'")
            return None
        self._count += anchored.count
        self._aliased += anchored.count
        if self._aliased > MOST:
            self._fail(event, f"the aliases stand for more than {MOST:,} values; write the file without them")
        return anchored.value
