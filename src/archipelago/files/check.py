"""From a tree of texts to a checked document: every problem with its place, its text and what would be accepted."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from copy import deepcopy
from difflib import get_close_matches
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

from archipelago.errors import DocumentError, Problem
from archipelago.files.tree import Tree
from archipelago.model.network import DEFAULT_VLAN, Path

Document = TypeVar("Document", bound=BaseModel)
Entry = TypeVar("Entry")


def close(word: str, accepted: Iterable[str]) -> str:
    """`; did you mean 'x'?` where one accepted name is close, else nothing."""
    found = get_close_matches(word, list(accepted), n=1, cutoff=0.6)
    return f"; did you mean '{found[0]}'?" if found else ""


def options(accepted: Iterable[str], most: int = 12) -> str:
    """The accepted names as text, cut where there are very many."""
    names = list(accepted)
    if not names:
        return "none"
    return ", ".join(names[:most]) + (f" and {len(names) - most} more" if len(names) > most else "")


class Checker:
    """Gathers the problems of one file, so that all are told together."""

    def __init__(self, tree: Tree) -> None:
        self.tree = tree
        self.problems = list(tree.problems)
        self._forgiven: set[str] = set()
        self._refused: list[Path] = []

    def shape(self, document: type[Document]) -> Document | None:
        """The tree as that document, problems noted. What does not fit is left out of it, so that the references
        of the rest are still checked; None where nothing is left to check."""
        if not isinstance(self.tree.value, dict):
            self.add((), "the file is not a mapping; it starts with a line 'format: ...' and goes on with 'KEY: ...'")
            return None
        value = self.tree.value
        for attempt in range(8):
            try:
                return document.model_validate(value)
            except ValidationError as error:
                if not attempt:
                    value = deepcopy(value)
                for one in error.errors(include_url=False):
                    if not attempt:
                        self._translate(document, one)
                    self._leave_out(value, [part for part in one["loc"] if part != "[key]"], one["type"])
        return None

    def _leave_out(self, value: Any, path: list[str | int], kind: str) -> None:
        """Take the thing that does not fit out of the tree; references to its name are not held against others."""
        self._refused.append(tuple(path))
        if kind == "missing":
            path = path[:-1]
        holder: Any = None
        for depth, part in enumerate(path):
            inside = value.get(part) if isinstance(value, dict) else None
            if isinstance(value, list) and isinstance(part, int) and part < len(value):
                inside = value[part]
            holder, last = value, part
            if depth < len(path) - 1 and isinstance(inside, (dict, list)):
                value = inside
            else:
                break
        if isinstance(holder, dict):
            holder.pop(last, None)
            self._forgiven.add(str(last))
        elif isinstance(holder, list) and isinstance(last, int) and last < len(holder):
            holder[last] = None  # kept as a gap, so that the entries after it keep their places

    def add(self, path: Path, message: str, *, key: bool = False) -> None:
        """Note a problem with the value (or the key) at `path`."""
        for length in range(len(path), -1, -1):
            mark = self.tree.marks.get(path[:length])
            if mark is not None:
                exact = length == len(path)
                line, column = mark[:2] if key and exact else mark[2:]
                self.problems.append(Problem(line, column, message))
                return
        self.problems.append(Problem(0, 0, message))

    def finish(self) -> None:
        """Raise what was gathered, if anything."""
        if self.problems:
            raise DocumentError(self.tree.source, self.problems)

    def entries(self, path: Path, items: Iterable[Entry | None]) -> Iterator[tuple[Path, Entry]]:
        """The entries of a list with their places; one that is written but empty is a problem."""
        for index, item in enumerate(items):
            if item is not None:
                yield (*path, index), item
            elif not any(problem for problem in self._refused if problem[: len(path) + 1] == (*path, index)):
                self.add((*path, index), "this entry of the list is empty")

    def name(self, path: Path, value: str, accepted: Iterable[str], what: str) -> bool:
        """Whether `value` is among the accepted names; if not, a problem is noted."""
        names = accepted if isinstance(accepted, (dict, set, frozenset)) else list(accepted)
        if value in names or value in self._forgiven:
            return value in names
        self.add(path, f"there is no {what} '{value}'{close(value, names)}; there are: {options(names)}")
        return False

    def vlan(self, path: Path, value: str, catalogue: dict[str, int]) -> int:
        """The id of a VLAN given by name or id; 0, with a problem noted, where there is none such."""
        if value in catalogue:
            return catalogue[value]
        if value in self._forgiven:
            return 0
        if value.isascii() and value.isdigit():
            number = int(value[:9])
            if number == DEFAULT_VLAN or number in catalogue.values():
                return number
            if not 1 <= number <= 4094:
                self.add(path, f"'{value}' is not a VLAN id; ids go from 1 to 4094 (IEEE 802.1Q)")
                return 0
        self.add(
            path,
            f"there is no VLAN '{value}' in the catalogue{close(value, catalogue)}; "
            f"'vlans' holds: {options(catalogue)}",
        )
        return 0

    def _translate(self, document: type[BaseModel], error: Any) -> None:
        path: Path = tuple(part for part in error["loc"] if part != "[key]")
        kind = error["type"]
        if kind == "extra_forbidden":
            accepted = _keys(document, path[:-1])
            key = str(path[-1])
            self.add(
                path, f"unknown key '{key}'{close(key, accepted)}; accepted here: {options(accepted, 40)}", key=True
            )
        elif kind == "missing":
            listed = len(path) > 2 and isinstance(path[-2], int)
            what = f"this entry of '{path[-3]}'" if listed else f"'{path[-2]}'" if len(path) > 1 else "the file"
            self.add(path[:-1], f"{what} lacks the key '{path[-1]}'", key=True)
        elif kind in ("model_type", "model_attributes_type", "dict_type"):
            accepted = _keys(document, path)
            given = error["input"]
            shown = f"'{given}'" if isinstance(given, str) else "a list"
            self.add(path, f"{shown} stands where a mapping is expected; its keys: {options(accepted, 40)}")
        else:
            self.add(path, error.get("ctx", {}).get("message") or error["msg"], key=error["loc"][-1] == "[key]")


def _keys(document: type[BaseModel], path: Sequence[str | int]) -> list[str]:
    """The keys that a document accepts at a path, found by following its fields' types."""
    current: Any = document
    for part in path:
        current = _step(current, part)
    for candidate in _alternatives(current):
        if isinstance(candidate, type) and issubclass(candidate, BaseModel):
            return [field.alias or name for name, field in candidate.model_fields.items()]
    return []


def _alternatives(annotation: Any) -> list[Any]:
    arguments = [argument for argument in getattr(annotation, "__args__", ()) if argument is not type(None)]
    origin = getattr(annotation, "__origin__", None)
    if hasattr(annotation, "__metadata__"):
        return _alternatives(origin)
    if origin in (dict, list, tuple):
        return [annotation]
    return [inner for argument in arguments for inner in _alternatives(argument)] if arguments else [annotation]


def _step(annotation: Any, part: str | int) -> Any:
    for candidate in _alternatives(annotation):
        if isinstance(candidate, type) and issubclass(candidate, BaseModel):
            for name, field in candidate.model_fields.items():
                if part == (field.alias or name):
                    return field.annotation
        elif getattr(candidate, "__origin__", None) in (dict, list):
            return candidate.__args__[-1]
    return None
