"""What edits mean, on a document's plain data: mappings, lists and texts, before any text is touched."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Any

from archipelago.errors import EditError, printable, quoted
from archipelago.files.ranges import Wrong, ranged, texts
from archipelago.model.finding import REMOVE, Edit
from archipelago.model.parts import Path

_SWITCHES = ("off", "routed")
"""The keys of ports, interfaces and hosts that are yes or no: what a range switches on, a single name switches off."""


@dataclass(frozen=True, slots=True)
class Meant:
    """A document after its edits, and which places of the document before were taken out of their lists."""

    value: Any
    removed: frozenset[Path]


@dataclass(frozen=True, slots=True)
class _Given:
    """A range of names that gives a key its value, the value, and whether it overrules the name's own entry."""

    key: str
    value: Any
    later: bool


def place(path: Path) -> str:
    """A path as messages tell it."""
    return printable("/".join(map(str, path)))


def distinct(edits: Iterable[Edit]) -> list[Edit]:
    """The edits, what several of them say alike once, where the last of them says it."""
    wanted: dict[tuple[Path, str], Edit] = {}
    for edit in edits:
        key = (edit.path, repr(edit.value))
        wanted.pop(key, None)
        wanted[key] = edit
    return list(wanted.values())


def meaning(before: Any, edits: Iterable[Edit]) -> Meant:
    """What a document holds after edits; its paths are those of the document before.

    Args:
        before: the document's data; it is left as it is.
        edits: what to change.

    Raises:
        EditError: there is nothing at a place that should be taken away, or a range of names gives what is there.
    """
    edits = distinct(edits)
    draft = _Draft(before)
    removals = [edit for edit in edits if edit.value is REMOVE]
    for edit in edits:
        if edit.value is not REMOVE:
            draft.put(edit.path, _plain(edit.value))
    # From the last entry of a list to the first, so that places stay what they were.
    for edit in sorted(
        removals, key=lambda edit: edit.path[-1] if isinstance(edit.path[-1], int) else -1, reverse=True
    ):
        draft.take_out(edit.path)
    return Meant(draft.value, frozenset(edit.path for edit in removals))


def _plain(value: Any) -> Any:
    if isinstance(value, dict):
        return {str(key): _plain(inner) for key, inner in value.items()}
    if isinstance(value, (list, tuple)):
        return [_plain(inner) for inner in value]
    return None if value is None else str(value)


class _Draft:
    """A document being changed: each container is copied when it is first changed, so that nothing shared changes."""

    def __init__(self, before: Any) -> None:
        self.value = before
        self._own: dict[int, Any] = {}
        self._members: dict[Path, dict[str, int]] = {}

    def put(self, path: Path, value: Any) -> None:
        """Set what stands at a path, add to a list where it ends in "+", put it before an entry where in "+N"."""
        self._not_overruled(path)
        before = re.fullmatch(r"\+(\d*)", str(path[-1]))
        if before is not None:
            path = path[:-1]
            current = self._here(self._holder(path), path)
            if isinstance(current, dict):
                raise EditError(f"{place(path)}: this is a mapping, not a list")
            entries = [] if current is None else current if isinstance(current, list) else [current]
            at = int(before[1]) if before[1] else len(entries)
            value = [*entries[:at], value, *entries[at:]]
        holder = self._holder(path)
        if not isinstance(holder, dict) and not _stands_in(holder, path[-1]):
            raise EditError(f"{place(path)}: there is no such place")
        holder[path[-1]] = value

    def take_out(self, path: Path) -> None:
        """Take away what stands at a path; what a range of names gives is switched off."""
        given = self._given(path)
        if given is not None:
            if path[-1] not in _SWITCHES:
                raise EditError(f"{place(path)}: the range '{printable(given.key)}' gives it; change that range")
            self.put(path, "no")
            return
        holder = self._holder(path)
        if not _stands_in(holder, path[-1]):
            raise EditError(f"{place(path)}: nothing stands there that could be removed")
        del holder[path[-1]]

    def _holder(self, path: Path) -> Any:
        """The container that the last part of a path names something in, made our own."""
        here = self.value = self._ours(self.value, ())
        for depth, part in enumerate(path[:-1], 1):
            found = self._here(here, path[:depth])
            here[part] = here = self._ours(found, path[:depth])
        return here

    def _here(self, holder: Any, path: Path) -> Any:
        """What stands at a path whose container is known: its own, or what a range of names gives; None for nothing."""
        part = path[-1]
        if isinstance(holder, dict) and isinstance(part, str):
            own = holder.get(part)
            given = self._given(path) if own is None else None
            return own if given is None else given.value
        if _stands_in(holder, part):
            return holder[part]
        raise EditError(f"{place(path)}: there is no such place")

    def _ours(self, value: Any, path: Path) -> Any:
        if id(value) in self._own:
            return value
        if value is not None and not isinstance(value, (dict, list)):
            raise EditError(f"{place(path)}: {quoted(value)} stands where the edit needs a mapping or a list")
        copied = {} if value is None else value.copy()
        self._own[id(copied)] = copied
        return copied

    def _given(self, path: Path) -> _Given | None:
        """What the last range of names that has a key gives it, for a path that leads to a key of a named part."""
        depth = 3 if path[0] == "devices" and len(path) == 5 and path[2] in ("ports", "interfaces") else 1
        if depth == 1 and (path[0] != "hosts" or len(path) != 3):
            return None
        section = self.value
        for part in path[:depth]:
            section = section.get(part) if isinstance(section, dict) else None
        name, word = str(path[depth]), path[-1]
        found = None
        for key, value in section.items() if isinstance(section, dict) else ():
            if key == name:
                found = replace(found, later=False) if found is not None else None
            elif ranged(key) and isinstance(value, dict) and word in value:
                number = self._numbers((*path[:depth], key)).get(name)
                if number is not None:
                    found = _Given(key, _for_member(value, str(word), number, depth == 1), name in section)
        return found

    def _numbers(self, path: Path) -> dict[str, int]:
        """The names that a range makes, each with its place."""
        if path not in self._members:
            try:
                self._members[path] = {name: number for number, name in enumerate(texts(str(path[-1])))}
            except Wrong:
                self._members[path] = {}
        return self._members[path]

    def _not_overruled(self, path: Path) -> None:
        given = self._given(path[:5] if path[0] == "devices" else path[:3])
        if given is not None and given.later:
            raise EditError(f"{place(path)}: the range '{printable(given.key)}', written later, overrules it")


def _stands_in(holder: Any, part: str | int) -> bool:
    """Whether a mapping has a key, or a list an entry of that number."""
    if isinstance(holder, list):
        return isinstance(part, int) and part < len(holder)
    return isinstance(holder, dict) and part in holder


def _for_member(value: dict[str, Any], word: str, number: int, host: bool) -> Any:
    """What a range gives one key of one of its members."""
    if host and word in ("at", "address"):
        return None  # counted: each has its own
    one = value[word]
    return list(texts(one))[number] if ranged(one) else one
