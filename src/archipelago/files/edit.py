"""Edits applied to a document's text: only what changes is touched; comments, order, quoting and anchors stay.

What an edit means is settled on plain data first (`files/meant`). Then the text is changed where the data differ, read
back, and compared with what was meant. Where that fails another way of writing is tried, and else the edit is refused.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Sequence
from difflib import SequenceMatcher
from itertools import groupby
from typing import Any

from archipelago.errors import DocumentError, EditError
from archipelago.files.emit import inline, scalar
from archipelago.files.layout import Entry, Node, lay_out
from archipelago.files.meant import Meant, distinct, meaning, place
from archipelago.files.tree import parse
from archipelago.model.finding import REMOVE, Edit
from archipelago.model.parts import Path

_LINE_END = re.compile(r"\r\n|\n|\r")
_COMMA = re.compile(r"(?:\s|\#[^\r\n]*)*,")
_COMMENT = re.compile(r"""(?:"(?:\\.|[^"\\])*"|'[^']*'|(?P<comment>(?:^|(?<=\s))\#))""", re.MULTILINE)


def apply(text: str, edits: Iterable[Edit]) -> str:
    """The text with the edits made.

    Args:
        text: a document that reads without errors.
        edits: what to change. Paths are those of the text as it is. Mappings that a path leads through are made where
            they are missing.

    Returns:
        The new text, which reads back as what was meant.

    Raises:
        EditError: one cannot be made; the message names it and says why.
        DocumentError: the text is not YAML.
    """
    wanted = distinct(edits)
    mark = "\ufeff" if text.startswith("\ufeff") else ""
    body = text[len(mark) :]
    together = _written(body, wanted)
    if together is None:
        # One of them stands in another's way: each alone, list entries removed from the last to the first.
        together = body
        last = [edit for edit in wanted if edit.value is REMOVE and isinstance(edit.path[-1], int)]
        first = [edit for edit in wanted if edit not in last]
        for edit in (*first, *sorted(last, key=lambda edit: int(edit.path[-1]), reverse=True)):
            together = _alone(together, edit)
    return mark + together


def _alone(text: str, edit: Edit) -> str:
    """One edit, in the first way of writing that reads back right: in place, or the block around it anew."""
    inside = [edit.path[:length] for length in range(len(edit.path) - 1, 1, -1)]
    for anew in (None, *inside[:3]):
        written = _written(text, [edit], anew)
        if written is not None:
            return written
    raise EditError(f"{place(edit.path)}: the text is laid out in a way that this edit does not fit; make it by hand")


def _written(text: str, edits: Sequence[Edit], anew: Path | None = None) -> str | None:
    """The text with the edits made and read back; None where it does not read back as what was meant."""
    before = parse(text.encode(), "the text").value
    meant = meaning(before, edits)
    written = _Writer(text, meant, anew).text(before)
    try:
        same = written is not None and parse(written.encode(), "the text")
    except DocumentError:
        return None
    return written if same and not same.problems and same.value == meant.value else None


class _CannotError(Exception):
    """This way of writing does not serve."""


class _Writer:
    """Collects what to cut and what to put in, where a text differs from what is meant."""

    def __init__(self, text: str, meant: Meant, anew: Path | None) -> None:
        self._text = text
        self._meant = meant
        self._anew = anew
        self._root, self._aliased = lay_out(text)
        self._cuts: list[tuple[int, int, str]] = []
        self._aliases: list[tuple[Node, Any]] = []
        self._kept: dict[int, Any] = {}
        ends = _LINE_END.findall(text)
        self._line_end = max(set(ends), key=ends.count) if ends else "\n"
        keys = self._root.entries
        self._json = self._root.kind == "mapping" and self._root.flow and bool(keys) and keys[0].quote == '"'

    def text(self, before: Any) -> str | None:
        """The whole text, changed; None where two changes overlap or something has no place."""
        try:
            self._value(self._root, before, self._meant.value, (), None)
            for alias, meant in self._aliases:
                stays = id(alias.owner) in self._kept and self._kept[id(alias.owner)] == meant
                if not stays:
                    self._cut(alias.start, alias.end, self._inline(meant))
        except _CannotError:
            return None
        parts, done = [], 0
        for start, end, new in sorted(self._cuts, key=lambda cut: cut[:2]):
            if start < done:
                return None
            parts += [self._text[done:start], new]
            done = end
        return "".join([*parts, self._text[done:]])

    def _cut(self, start: int, end: int, new: str) -> None:
        self._cuts.append((start, end, new))

    def _inline(self, value: Any) -> str:
        return json.dumps(value, ensure_ascii=False) if self._json else inline("" if value is None else value)

    def _word(self, text: str) -> str:
        return json.dumps(text, ensure_ascii=False) if self._json else scalar(text)

    def _value(self, node: Node, before: Any, meant: Any, path: Path, holder: Entry | None) -> None:
        """Change what stands at a node into what is meant there. `holder` is the entry of the mapping it is in."""
        if node.kind == "alias":
            self._aliases.append((node, meant))
            return
        self._kept[id(node)] = meant
        if before is meant and not self._aliased:
            return
        if node.kind == "scalar":
            if node.value != meant:
                self._scalar(node, meant)
        elif path == self._anew and before != meant:
            if any(found["comment"] for found in _COMMENT.finditer(self._text[node.start : node.end])):
                raise _CannotError  # a comment would be lost
            self._whole(node, meant, holder)
        elif node.kind == "mapping" and isinstance(meant, dict) and (meant or not node.entries):
            self._mapping(node, before, meant, path, holder)
        elif node.kind == "list" and isinstance(meant, list) and (meant or not node.entries):
            self._list(node, before, meant, path, holder)
        elif node.flow and node.entries and meant == ({} if node.kind == "mapping" else []):
            self._empty(node)
        else:
            self._whole(node, meant, holder)

    def _empty(self, node: Node) -> None:
        """Take all entries of a flow away; comments between its brackets stay."""
        if "#" not in self._text[node.start : node.end]:
            self._cut(node.start + 1, node.end - 1, "")
            return
        for entry, following in zip(node.entries, [*node.entries[1:], None], strict=True):
            comma = _COMMA.match(self._text, entry.node.end)
            self._cut(entry.start, entry.node.end, "")
            if comma is not None and (following is not None or comma.end() < node.end):
                self._cut(comma.end() - 1, comma.end(), "")

    def _scalar(self, node: Node, meant: Any) -> None:
        lead = " " if node.start == node.end and self._text[node.start - 1 : node.start] in (":", "-") else ""
        if isinstance(meant, str) and node.quote == '"':
            new = json.dumps(meant, ensure_ascii=False)
        elif isinstance(meant, str) and node.quote == "'" and meant.isprintable():
            new = "'" + meant.replace("'", "''") + "'"
        else:
            new = self._inline(meant)
        self._cut(node.start, node.end, lead + new)

    def _mapping(self, node: Node, before: Any, meant: dict[str, Any], path: Path, holder: Entry | None) -> None:
        stays = [entry.key in meant for entry in node.entries]
        for entry in node.entries:
            if entry.key in meant:
                self._value(entry.node, before[entry.key], meant[entry.key], (*path, str(entry.key)), entry)
        new = [f"{self._word(key)}: {self._inline(value)}" for key, value in meant.items() if key not in before]
        self._entries(node, stays, {len(stays): new} if new else {}, meant, holder)

    def _list(self, node: Node, before: Any, meant: list[Any], path: Path, holder: Entry | None) -> None:
        """Keep the entries that are to be there still, each on its line; change, take out and put in the others."""
        stays = [(*path, number) not in self._meant.removed for number in range(len(node.entries))]
        left = [number for number, stay in enumerate(stays) if stay]
        new: dict[int, list[str]] = {}
        for first, after, low, high in _aligned([before[number] for number in left], meant):
            both = min(after - first, high - low)
            for number, value in zip(left[first : first + both], meant[low : low + both], strict=True):
                self._value(node.entries[number].node, before[number], value, (*path, number), None)
            for number in left[first + both : after]:
                stays[number] = False
            if high - low > both:
                at = left[after] if after < len(left) else len(stays)
                new[at] = [("" if node.flow else "- ") + self._inline(value) for value in meant[low + both : high]]
        self._entries(node, stays, new, meant, holder)

    def _entries(
        self, node: Node, stays: list[bool], new: dict[int, list[str]], meant: Any, holder: Entry | None
    ) -> None:
        """Take entries out of a mapping or list, and put new ones in, each before the entry of its number."""
        if node.entries and not any(stays):
            self._whole(node, meant, holder)
            return
        number = 0
        for stay, run in groupby(stays):
            length = len(list(run))
            if not stay:
                (self._out_of_flow if node.flow else self._out_of_block)(node, number, number + length)
            number += length
        for before, entries in new.items():
            self._put_in(node, stays, before, entries)

    def _put_in(self, node: Node, stays: list[bool], before: int, new: list[str]) -> None:
        """Put entries behind the last one that stays before a place; where none does, before the first that stays."""
        if not node.entries:
            self._cut(node.start + 1, node.start + 1, ", ".join(new))
            return
        last = next((number for number in range(before - 1, -1, -1) if stays[number]), None)
        if last is None:
            self._put_first(node, stays.index(True), new)
            return
        end = node.entries[last].node.end
        if node.flow:
            self._cut(end, end, "".join(f", {entry}" for entry in new))
            return
        indent = self._indent(node)
        if self._text[end - 1 : end] in ("\n", "\r"):  # a block of text ends behind its line
            self._cut(end, end, "".join(f"{indent}{entry}{self._line_end}" for entry in new))
            return
        end = self._end_of_line(end)
        self._cut(end, end, "".join(f"{self._line_end}{indent}{entry}" for entry in new))

    def _put_first(self, node: Node, first: int, new: list[str]) -> None:
        if node.flow:
            start = node.entries[first].start
            self._cut(start, start, "".join(f"{entry}, " for entry in new))
            return
        start = self._first(node, first)
        line = self._start_of_line(start)
        if self._text[line:start].strip():  # it shares its line with what it belongs to
            raise _CannotError
        self._cut(line, line, "".join(f"{self._indent(node)}{entry}{self._line_end}" for entry in new))

    def _indent(self, node: Node) -> str:
        first = self._first(node, 0)
        start = self._start_of_line(first)
        lead = self._text[start:first]
        return lead if not lead.strip() else " " * (first - start)

    def _first(self, node: Node, number: int) -> int:
        """Where an entry of a block starts: at its key, or at the dash before it."""
        start = node.entries[number].start
        if node.kind == "mapping":
            return start
        floor = node.entries[number - 1].node.end if number else node.start
        dash = start if self._text[start : start + 1] == "-" and start == node.start else -1
        dash = self._text.rfind("-", floor, start) if dash < 0 else dash
        if dash < 0:
            raise _CannotError
        return dash

    def _out_of_block(self, node: Node, first: int, after: int) -> None:
        start, end = self._first(node, first), node.entries[after - 1].node.end
        line = self._start_of_line(start)
        if self._text[line:start].strip():  # it shares its line with what it belongs to: `- off: yes`
            if after == len(node.entries):
                raise _CannotError
            self._cut(start, self._first(node, after), "")
            return
        self._cut(line, self._next_line(end), "")

    def _out_of_flow(self, node: Node, first: int, after: int) -> None:
        start = node.entries[first].start
        if after < len(node.entries):
            end, following = node.entries[after - 1].node.end, node.entries[after].start
            comma = _COMMA.match(self._text, end)
            if comma is None or "#" not in self._text[end:following]:
                self._cut(start, following, "")
                return
            self._cut(start, end, "")  # what is said of it stays
            self._cut(comma.end() - 1, comma.end(), "")
            return
        comma, end = _COMMA.match(self._text, node.entries[first - 1].node.end), node.entries[after - 1].node.end
        if comma is None:
            raise _CannotError
        if "\n" in self._text[comma.end() : start] and not self._json:
            self._out_of_own_line(start, end)  # a comma before the end is right there: the line before stays as it is
            return
        self._cut(comma.end() - 1, comma.end(), "")
        while start > comma.end() and self._text[start - 1] in " \t":
            start -= 1
        self._cut(start, end, "")

    def _out_of_own_line(self, start: int, end: int) -> None:
        """Take the last entries of a flow away that begin on a line of their own; the line too, where nothing else is
        on it."""
        comma = _COMMA.match(self._text, end)
        if comma is not None and "\n" not in comma[0]:
            end = comma.end()
        line, after = self._start_of_line(start), self._next_line(end)
        if not self._text[line:start].strip() and not self._text[end:after].strip():
            start, end = line, after
        self._cut(start, end, "")

    def _whole(self, node: Node, meant: Any, holder: Entry | None) -> None:
        """Write a mapping or list anew, on one line."""
        if node.flow or holder is None:
            self._cut(node.start, node.end, self._inline(meant))
            return
        first = self._first(node, 0)
        colon = self._text.find(":", holder.key_end)
        between = self._text[colon + 1 : first]
        line = self._start_of_line(first)
        if colon < 0 or line <= colon or self._text[line:first].strip():
            raise _CannotError
        lead = re.match(r"(?:[ \t]+[&!]\S+)*", between)
        at = colon + 1 + (lead.end() if lead else 0)
        self._cut(at, at, " " + self._inline(meant))
        self._cut(line, self._next_line(node.end), "")

    def _start_of_line(self, at: int) -> int:
        return max(self._text.rfind("\n", 0, at), self._text.rfind("\r", 0, at)) + 1

    def _end_of_line(self, at: int) -> int:
        found = _LINE_END.search(self._text, at)
        return found.start() if found else len(self._text)

    def _next_line(self, at: int) -> int:
        if self._text[at - 1 : at] in ("\n", "\r"):
            return at
        found = _LINE_END.search(self._text, at)
        return found.end() if found else len(self._text)


def _aligned(before: list[Any], after: list[Any]) -> list[tuple[int, int, int, int]]:
    """Which entries of two lists stand for each other: runs of the first (from, to) and of the second (from, to), those
    that are equal alone."""
    same = 0
    while same < min(len(before), len(after)) and before[same] == after[same]:
        same += 1
    ends = 0
    while ends < min(len(before), len(after)) - same and before[-1 - ends] == after[-1 - ends]:
        ends += 1
    middles = [
        [json.dumps(value, sort_keys=True, default=str) for value in values[same : len(values) - ends]]
        for values in (before, after)
    ]
    runs = [(0, same, 0, same)]
    for _, first, last, low, high in SequenceMatcher(None, middles[0], middles[1], autojunk=False).get_opcodes():
        runs.append((first + same, last + same, low + same, high + same))
    return [*runs, (len(before) - ends, len(before), len(after) - ends, len(after))]
