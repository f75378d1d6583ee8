"""What edits mean, on a document's plain data: mappings, lists and texts, before any text is touched."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any

from archipelago.errors import EditError, printable, quoted
from archipelago.files.bulk import Total, WrittenOut, cables_of_range, cables_without, host_of_range, written_out
from archipelago.files.ranges import Wrong, ranged, texts
from archipelago.model.finding import REMOVE, Edit
from archipelago.model.key import Holder, Value
from archipelago.model.keys import keys_of
from archipelago.model.parts import Path

_LISTS = frozenset(key.name for holder in Holder for key in keys_of(holder) if key.value is Value.LIST)
_THE_OTHERS = -1
"""In place of the number of a cable of a range: all that are left in it."""
_SWITCHES = ("off", "routed")
"""The keys of ports, interfaces and hosts that are yes or no: what a range switches on, a single name switches off."""


@dataclass(frozen=True, slots=True)
class Meant:
    """A document after its edits, and which places of the document before were taken out of their lists."""

    value: Any
    removed: frozenset[Path]


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


def meaning(before: Any, edits: Iterable[Edit], ranges: Ranges | None = None) -> Meant:
    """What a document holds after edits; its paths are those of the document before. Where a range of names gives what
    is there, one of them gets an entry of its own; what all of a range are to have is changed in the range.

    Args:
        before: the document's data; it is left as it is.
        edits: what to change. The number of a cable is that among all that ranges stand for.
        ranges: those of the document, where they are known.

    Raises:
        EditError: there is nothing at a place that should be taken away, or a range of names gives what is there.
    """
    edits = distinct(edits)
    ranges = ranges if ranges is not None else Ranges(before)
    if ranges.any:
        edits = distinct(ranges.in_one(edits))
    draft = _Draft(before, ranges)
    removals = [edit for edit in edits if edit.value is REMOVE]
    for edit in edits:
        if edit.value is not REMOVE:
            draft.put(edit.path, _plain(edit.value))
    # From the last entry of a list to the first, so that places stay what they were.
    for edit in sorted(
        removals, key=lambda edit: edit.path[-1] if isinstance(edit.path[-1], int) else -1, reverse=True
    ):
        draft.take_out(edit.path)
    if ranges.any:
        _not_overruled(draft, edits)
    return Meant(draft.value, frozenset(draft.removed))


def _not_overruled(draft: _Draft, edits: Iterable[Edit]) -> None:
    """Refuse edits that a range written later undoes.

    Raises:
        EditError: one is undone.
    """
    after = Ranges(draft.value)
    for edit in edits:
        path = edit.path if not str(edit.path[-1]).startswith("+") else edit.path[:-1]
        given = after.range_of(path)
        if given is None or path[0] == "cables" or edit.value is REMOVE:
            continue
        own = at_path(draft.value, path)
        if after.effective(path) != own and not isinstance(own, dict):
            raise EditError(f"{place(path)}: the range '{printable(given)}', written later, overrules it")


def _plain(value: Any) -> Any:
    if isinstance(value, dict):
        return {str(key): _plain(inner) for key, inner in value.items()}
    if isinstance(value, (list, tuple)):
        return [_plain(inner) for inner in value]
    return None if value is None else str(value)


class Ranges:
    """What the ranges of a document give its parts.

    Args:
        document: its plain data.
    """

    def __init__(self, document: Any) -> None:
        self._document = document if isinstance(document, dict) else {}
        out = _written_out(self._document)
        hosts = self._document.get("hosts")
        self.any = out.origins != {} or out.value != self._document or (isinstance(hosts, dict) and _ranged(hosts))
        self.cables = out.cables if any(member is not None for _, member in out.cables) else []

    def effective(self, path: Path, document: Any = None) -> Any:
        """What a part has at a path, its own or what a range gives it; None for nothing."""
        document = self._document if document is None else document
        section = document.get(path[0]) if isinstance(document, dict) else None
        if len(path) < 2 or not isinstance(section, dict):
            return at_path(document, path)
        name = str(path[1])
        own = {key: value for key, value in section.items() if key == name or (ranged(key) and name in _numbers(key))}
        if path[0] == "hosts":
            return at_path(_host(own, name), path[2:])
        return at_path(_written_out({str(path[0]): own}).value, path)

    def given(self, path: Path) -> Any:
        """What ranges alone give a part at a path; None for nothing."""
        return self.effective(path, _lacking(self._document, path))

    def range_of(self, path: Path) -> str | None:
        """The range of names that one of the parts of a path is in, the innermost and last written; None for none."""
        found = None
        section = self._document.get(path[0])
        if len(path) < 2 or not isinstance(section, dict):
            return None
        for key, value in section.items():
            in_range = ranged(key) and path[1] in _numbers(key)
            if in_range:
                found = key
            if len(path) > 3 and (in_range or key == path[1]):
                inner = value.get(path[2]) if isinstance(value, dict) else None
                for word in inner if isinstance(inner, dict) else ():
                    if ranged(word) and path[3] in _numbers(word):
                        found = word
        return found

    def in_one(self, edits: Sequence[Edit]) -> list[Edit]:
        """The edits, what all parts of a range are to have said once, of the range."""
        for depth in (1, 3):
            for where in dict.fromkeys(edit.path[:depth] for edit in edits if len(edit.path) > depth + 1):
                section = at_path(self._document, where)
                for key in filter(ranged, section if isinstance(section, dict) else ()):
                    edits = self._in_range(edits, where, key)
        return list(edits)

    def _in_range(self, edits: Sequence[Edit], where: Path, key: str) -> list[Edit]:
        depth, names = len(where), _numbers(key)
        alike: dict[Any, list[Edit]] = {}
        for edit in edits:
            if len(edit.path) > depth + 1 and edit.path[:depth] == where and edit.path[depth] in names:
                alike.setdefault((edit.path[depth + 1 :], repr(edit.value)), []).append(edit)
        made: set[int] = set()
        instead: dict[int, list[Edit]] = {}
        for (rest, _), group in alike.items():
            if len({edit.path[depth] for edit in group}) == len(names):
                own = [edit for edit in group if at_path(self._document, edit.path[: depth + 2]) is not None]
                instead[id(group[0])] = [replace(group[0], path=(*where, key, *rest)), *own]
                made.update(map(id, group))
        return [new for edit in edits for new in instead.get(id(edit), () if id(edit) in made else (edit,))]


def _written_out(document: dict[str, Any]) -> WrittenOut:
    return written_out(document, Holder.NETWORK, Total(), lambda path, told: None)


@lru_cache(maxsize=256)
def _numbers(key: str) -> dict[str, int]:
    """The names that a range stands for, each with its place."""
    try:
        return {name: number for number, name in enumerate(texts(key))}
    except Wrong:
        return {}


def _ranged(entries: Iterable[Any]) -> bool:
    return any(map(ranged, entries))


def _host(entries: dict[str, Any], name: str) -> Any:
    """What a host is said to be, by its own entry and the ranges that it is in."""
    host: dict[str, Any] = {}
    for key, value in entries.items():
        if isinstance(value, dict):
            host = {**host, **(value if key == name else host_of_range(key, value, _numbers(key)[name]))}
    return host


def at_path(value: Any, path: Path) -> Any:
    """What stands at a path in plain data; None for nothing."""
    for part in path:
        if not _stands_in(value, part):
            return None
        value = value[part]
    return value


def _lacking(value: Any, path: Path) -> Any:
    """Plain data without what stands at a path."""
    if not path or not _stands_in(value, path[0]):
        return value
    copied = value.copy()
    if len(path) == 1:
        del copied[path[0]]
    else:
        copied[path[0]] = _lacking(value[path[0]], path[1:])
    return copied


def _may_be_listed(path: Path) -> bool:
    """Whether a path leads to a list, one entry of which is written without it."""
    return path[-1] in _LISTS


class _Draft:
    """A document being changed: each container is copied when it is first changed, so that nothing shared changes."""

    def __init__(self, before: Any, ranges: Ranges) -> None:
        self.value = before
        self.removed: set[Path] = set()
        self._ranges = ranges
        self._before = before
        self._own: dict[int, Any] = {}
        self._gone: set[tuple[int, int | None]] = set()
        self._entries: list[tuple[int, int | None]] = list(dict.fromkeys((entry, None) for entry, _ in ranges.cables))

    def put(self, path: Path, value: Any) -> None:
        """Set what stands at a path, add to a list where it ends in "+", put it before an entry where in "+N"."""
        path = self._of_cable(path)
        before = re.fullmatch(r"\+(\d*)", str(path[-1]))
        if before is not None:
            path = path[:-1]
            current = self._here(self._holder(path), path)
            if isinstance(current, dict) and not _may_be_listed(path):
                raise EditError(f"{place(path)}: this is a mapping, not a list")
            entries = [] if current is None else current if isinstance(current, list) else [current]
            at = int(before[1]) if before[1] else len(entries)
            value = [*entries[:at], value, *entries[at:]]
            if path == ("cables",):
                self._entries.insert(at, (-1, None))
        holder = self._holder(path)
        if not isinstance(holder, dict) and not _stands_in(holder, path[-1]):
            raise EditError(f"{place(path)}: there is no such place")
        holder[path[-1]] = value

    def take_out(self, path: Path) -> None:
        """Take away what stands at a path; what a range of names gives is switched off."""
        path = self._of_cable(path)
        holder = self._holder(path)
        given = self._ranges.given(path) if self._ranges.any else None
        if given is not None and path[-1] in _SWITCHES:
            self.put(path, "no")
            return
        if given is not None and (given_by := self._ranges.range_of(path)) is not None:
            raise EditError(f"{place(path)}: the range '{printable(given_by)}' gives it; change that range")
        if not _stands_in(holder, path[-1]):
            raise EditError(f"{place(path)}: nothing stands there that could be removed")
        del holder[path[-1]]
        if self._ranges.cables and path[0] == "cables" and len(path) == 2:
            entry, member = self._entries.pop(int(path[1]))
            self._gone.add((entry, member))
            if member is None:
                self.removed.add(("cables", entry))
        else:
            self.removed.add(path)

    def _of_cable(self, path: Path) -> Path:
        """A path to a cable as the list of cables has it; a range that the cable stands in is taken apart."""
        if not self._ranges.cables or path[0] != "cables" or len(path) < 2 or not isinstance(path[1], int):
            return path
        number = path[1]
        if not 0 <= number < len(self._ranges.cables):
            raise EditError(f"{place(path)}: there is no such place")
        entry, member = self._ranges.cables[number]
        if member is not None and (entry, member) not in self._entries:
            self._take_apart(entry, member)
        return ("cables", self._entries.index((entry, member)), *path[2:])

    def _take_apart(self, entry: int, member: int) -> None:
        """Write a range of cables as the others and one cable, or as all its cables."""
        cables = self._holder(("cables", 0))
        at = next(at for at, (of, _) in enumerate(self._entries) if of == entry)
        written = cables[at]
        rest = cables_without(written, member)
        each = cables_of_range(written)
        assert isinstance(each, list)
        if rest is not None and (entry, None) in self._entries:
            cables[at : at + 1] = [rest, each[member]]
            self._entries[at : at + 1] = [(entry, _THE_OTHERS), (entry, member)]
            return
        # A second cable of one range: all of them, each an entry of its own.
        every = cables_of_range(at_path(self._before, ("cables", entry)) or self._before.get("cables"))
        assert isinstance(every, list)
        own = {of[1]: cables[place_of] for place_of, of in enumerate(self._entries) if of[0] == entry}
        last = max(place_of for place_of, of in enumerate(self._entries) if of[0] == entry)
        left = [number for number in range(len(every)) if (entry, number) not in self._gone]
        cables[at : last + 1] = [own.get(number, every[number]) for number in left]
        self._entries[at : last + 1] = [(entry, number) for number in left]

    def _holder(self, path: Path) -> Any:
        """The container that the last part of a path names something in, made our own."""
        here = self.value = self._ours(self.value, ())
        for depth, part in enumerate(path[:-1], 1):
            found = self._here(here, path[:depth])
            if isinstance(path[depth], int) and isinstance(found, (dict, str)) and _may_be_listed(path[:depth]):
                found = [found]  # a list of one entry, written as that entry
            here[part] = here = self._ours(found, path[:depth])
        return here

    def _here(self, holder: Any, path: Path) -> Any:
        """What stands at a path whose container is known: its own, or what a range of names gives; None for nothing."""
        part = path[-1]
        if isinstance(holder, dict) and isinstance(part, str):
            own = holder.get(part)
            if own is None and self._ranges.any and self._ranges.range_of(path) is not None:
                given = self._ranges.effective(path)
                return None if isinstance(given, dict) else given  # a section of its own adds to that of the range
            return own
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


def _stands_in(holder: Any, part: str | int) -> bool:
    """Whether a mapping has a key, or a list an entry of that number."""
    if isinstance(holder, list):
        return isinstance(part, int) and part < len(holder)
    return isinstance(holder, dict) and part in holder
