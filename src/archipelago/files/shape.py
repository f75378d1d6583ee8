"""The shape of a document: which keys a section takes, how each value is converted, and reading a tree by it.

A table of fields and one short walk, instead of a validation library: loading one took longer than all the rest of a
`reach`, and every problem of a file must come out of one pass, in our own words, with its place.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from types import SimpleNamespace
from typing import Any, NamedTuple

from archipelago.model.network import Path

Convert = Callable[[Any], Any]


class Wrong(ValueError):
    """A value is not what its field takes; the message says what would be."""


class Field(NamedTuple):
    """One key of a section: how its value is read, and what stands for it when it is not written."""

    read: Convert | Section | Each | Several
    default: Any = None
    required: bool = False


class Section(NamedTuple):
    """A mapping with known keys."""

    fields: Mapping[str, Field]


class Each(NamedTuple):
    """A mapping from names to values of one kind (`name` checks the names), or, without `name`, a list of them.

    `lift` turns a short form of an entry into its section.
    """

    inner: Convert | Section
    name: Convert | None = None
    lift: Convert | None = None


class Several(NamedTuple):
    """A list of values, where a single value is accepted too."""

    inner: Convert


class _Bad:
    """Stands for what could not be read; whatever refers to it is not held against the file."""


BAD = _Bad()
EMPTY = (None, "~", "null")
"""How YAML and JSON write a value that is not there, where a section or a mapping is expected."""


class Problems:
    """What the walk reports to: `add(path, message, key=...)`, and the names of what was left out."""

    def add(self, path: Path, message: str, *, key: bool = False) -> None:
        raise NotImplementedError

    def forgive(self, name: str) -> None:
        raise NotImplementedError

    def unknown(self, path: Path, key: str, accepted: list[str]) -> None:
        raise NotImplementedError


def read(shape: Any, value: Any, path: Path, problems: Problems) -> Any:
    """A value by its shape; BAD where it does not fit, with the problem noted."""
    if isinstance(shape, Section):
        return _section(shape, value, path, problems)
    if isinstance(shape, Each):
        return _mapping(shape, value, path, problems) if shape.name else _list(shape, value, path, problems)
    if isinstance(shape, Several):
        if isinstance(value, list):
            found = [read(shape.inner, one, (*path, index), problems) for index, one in enumerate(value)]
        else:
            found = [] if value is None else [read(shape.inner, value, path, problems)]
        return tuple(one for one in found if one is not BAD)
    try:
        return shape(value)
    except Wrong as error:
        problems.add(path, str(error))
        return BAD


def _section(shape: Section, value: Any, path: Path, problems: Problems) -> Any:
    value = {} if value in EMPTY else value
    if not isinstance(value, dict):
        problems.add(path, f"{shown(value)} stands where a mapping is expected; its keys: {', '.join(shape.fields)}")
        return BAD
    for key in value:
        if key not in shape.fields:
            problems.unknown((*path, key), key, list(shape.fields))
    found = {}
    whole = True
    for key, field in shape.fields.items():
        if key in value:
            one = read(field.read, value[key], (*path, key), problems)
            whole = whole and not (one is BAD and field.required)
            found[key] = field.default if one is BAD else one
        elif field.required:
            listed = len(path) > 1 and isinstance(path[-1], int)
            what = f"this entry of '{path[-2]}'" if listed else f"'{path[-1]}'" if path else "the file"
            problems.add(path, f"{what} lacks the key '{key}'", key=True)
            whole = False
        else:
            found[key] = field.default
    return SimpleNamespace(**{key.replace("-", "_"): one for key, one in found.items()}) if whole else BAD


def _mapping(shape: Each, value: Any, path: Path, problems: Problems) -> dict[str, Any]:
    value = {} if value in EMPTY else value
    if not isinstance(value, dict):
        problems.add(path, f"{shown(value)} stands where a mapping (name: ...) is expected")
        return {}
    found = {}
    for key, one in value.items():
        try:
            assert shape.name is not None
            shape.name(key)
        except Wrong as error:
            problems.add((*path, key), str(error), key=True)
        got = read(shape.inner, one, (*path, key), problems)
        if got is BAD:
            problems.forgive(key)
        else:
            found[key] = got
    return found


def _list(shape: Each, value: Any, path: Path, problems: Problems) -> list[tuple[Path, Any]]:
    """The entries with their places."""
    value = [] if value is None else value
    if not isinstance(value, list):
        problems.add(path, f"{shown(value)} stands where a list is expected")
        return []
    found = []
    for index, one in enumerate(value):
        where: Path = (*path, index)
        if one is None:
            problems.add(where, "this entry of the list is empty")
            continue
        got = read(shape.inner, shape.lift(one) if shape.lift else one, where, problems)
        if got is not BAD:
            found.append((where, got))
    return found


def shown(value: Any) -> str:
    """A value as a message quotes it."""
    if value is None:
        return "an empty value"
    if isinstance(value, (dict, list)):
        return "a mapping" if isinstance(value, dict) else "a list"
    return f"'{value[:57]}...'" if len(value) > 60 else f"'{value}'"
