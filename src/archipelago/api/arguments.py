"""What public calls accept: every argument is checked by its annotation, and by its name, before anything is done."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping
from functools import cache, wraps
from inspect import Parameter, signature
from os import PathLike
from typing import Any, NamedTuple, ParamSpec, TypeVar

from archipelago.errors import ArgumentError

P = ParamSpec("P")
R = TypeVar("R")


class Range(NamedTuple):
    """The numbers that an argument takes; the least itself where it is `inclusive`."""

    least: float
    most: float = math.inf
    inclusive: bool = True

    def holds(self, number: float) -> bool:
        """Whether a number is in it."""
        return self.least <= number <= self.most and (self.inclusive or number > self.least)

    def __str__(self) -> str:
        if self.most < math.inf:
            return f"{self.least:,} to {self.most:,}"
        return f"{self.least:,} or more" if self.inclusive else f"more than {self.least:,}"


RANGES: Mapping[str, Range] = {
    "probes": Range(1, 1_000_000),
    "workers": Range(1, 1024),
    "every": Range(0, inclusive=False),
    "restore": Range(0),
    "seconds": Range(0, inclusive=False),
    "headroom": Range(0),
    "growth": Range(0, inclusive=False),
    "full": Range(0, 1),
    "tolerate": Range(0, 1),
    "each": Range(0),
    "others": Range(0),
    "outside": Range(0),
    "answers": Range(0),
}
"""The numbers that arguments of these names take, in every call."""
FAMILIES = (4, 6)
READERS: Mapping[str, str] = {"Network": "read_network", "Brief": "read_brief"}
"""What makes a thing of the path that somebody gave in its place."""
MARKS: Mapping[str, str] = {"PathLike": "__fspath__", "IO": "read", "Axes": "figure"}
"""What tells values of types that are not ours."""
WORDS: Mapping[str, str] = {
    "None": "None",
    "bool": "True or False",
    "int": "a whole number",
    "float": "a number",
    "str": "a text",
    "PathLike[str]": "a path",
    "IO[str]": "an open file",
    "IO[bytes]": "an open file",
    "tuple[str, str]": "two texts",
}
"""What a type is called in a message; a class is called as it is."""


def checked(call: Callable[P, R]) -> Callable[P, R]:
    """A public call that refuses what it does not accept. A lone text where a list of texts is taken is a list of it.

    Raises:
        ArgumentError: an argument is of another type, or out of range; the message says what is accepted.
    """

    @wraps(call)
    def asked(*args: P.args, **kwargs: P.kwargs) -> R:
        parameters = _parameters(call)
        names = list(parameters)
        positional: list[Any] = [
            _accepted(call, parameters[name], value) for name, value in zip(names, args, strict=False)
        ]
        named = {
            name: _accepted(call, parameters[name], value) if name in parameters else value
            for name, value in kwargs.items()
        }
        return call(*positional, *args[len(positional) :], **named)  # type: ignore[arg-type]

    return asked


@cache
def _parameters(call: Callable[..., Any]) -> Mapping[str, Parameter]:
    return signature(call).parameters


def _accepted(call: Callable[..., Any], parameter: Parameter, value: Any) -> Any:
    """A value as the call takes it.

    Raises:
        ArgumentError: it takes none such.
    """
    kinds = _alternatives(str(parameter.annotation))
    for kind in kinds:
        fitting, taken = _fits(kind, parameter.name, value)
        if fitting:
            return taken
    wanted = list(dict.fromkeys(_in_words(kind, parameter.name) for kind in kinds))
    given = f"'{value}'" if isinstance(value, str) else repr(value)[:60]
    if not isinstance(value, (str, int, float, type(None))):
        given = f"a {type(value).__name__}"
    reader = READERS.get(kinds[0]) if isinstance(value, (str, PathLike)) else None
    hint = f"; read it first: archipelago.{reader}(...)" if reader else ""
    raise ArgumentError(
        f"{getattr(call, '__name__', 'the call')}: '{parameter.name}' takes {' or '.join(wanted)}, not {given}{hint}"
    )


def _alternatives(annotation: str, between: str = "|") -> list[str]:
    """The parts of a union, or of a list, those within brackets left together."""
    parts, depth, last = [], 0, 0
    for at, letter in enumerate(annotation):
        depth += (letter == "[") - (letter == "]")
        if letter == between and not depth:
            parts.append(annotation[last:at])
            last = at + 1
    return [part.strip() for part in (*parts, annotation[last:])]


def _fits(kind: str, name: str, value: Any) -> tuple[bool, Any]:
    """Whether a value is of a kind, and the value as it is taken then."""
    outer, _, inner = kind.partition("[")
    inner = inner.removesuffix("]")
    if outer in ("Sequence", "Iterable"):
        return _several(inner, name, value)
    return _is_of(kind, outer, inner, name, value), value


def _is_of(kind: str, outer: str, inner: str, name: str, value: Any) -> bool:
    if kind in ("int", "float"):
        return _is_number(kind, name, value)
    if kind == "str":
        return isinstance(value, str) and "\0" not in value
    if kind == "Source":
        text = isinstance(value, str) and ("\0" not in value or "\n" in value)
        return text or isinstance(value, PathLike) or hasattr(value, "read")
    if outer == "Mapping":
        of_key, of_value = _alternatives(inner, ",")
        return isinstance(value, Mapping) and all(
            _is_one_of(of_key, name, key) and _is_one_of(of_value, name, own) for key, own in value.items()
        )
    if outer == "tuple":
        kinds = _alternatives(inner, ",")
        fitting = isinstance(value, (tuple, list)) and len(value) == len(kinds)
        return fitting and all(_is_one_of(one, name, own) for one, own in zip(kinds, value, strict=True))
    if outer in MARKS:
        return hasattr(value, MARKS[outer])
    if kind in ("None", "bool"):
        return value is None if kind == "None" else isinstance(value, bool)
    expected = _class(outer)
    return expected is None or isinstance(value, expected)


def _is_number(kind: str, name: str, value: Any) -> bool:
    if isinstance(value, bool) or not isinstance(value, int if kind == "int" else (int, float)):
        return False
    if not math.isfinite(value):
        return False
    return value in FAMILIES if name == "family" else name not in RANGES or RANGES[name].holds(value)


def _several(inner: str, name: str, value: Any) -> tuple[bool, Any]:
    if isinstance(value, str) and "str" in _alternatives(inner):
        return True, (value,)
    if not isinstance(value, Iterable) or isinstance(value, (str, bytes, Mapping)):
        return False, value
    taken = tuple(value)
    return all(_is_one_of(inner, name, one) for one in taken), taken


def _is_one_of(annotation: str, name: str, value: Any) -> bool:
    return any(_fits(kind, name, value)[0] for kind in _alternatives(annotation))


def _class(name: str) -> type | None:
    """A public class by its name; None where the annotation names something else."""
    import archipelago

    found = getattr(archipelago, name, None)
    return found if isinstance(found, type) else None


def _in_words(kind: str, name: str) -> str:
    if kind in ("int", "float"):
        if name == "family":
            return " or ".join(map(str, FAMILIES))
        return f"{WORDS[kind]}, {RANGES[name]}" if name in RANGES else WORDS[kind]
    if kind == "Source":
        return "a path, an open file or a text with a newline in it"
    outer, _, inner = kind.partition("[")
    if outer in ("Sequence", "Iterable"):
        kinds = [_in_words(one, name) for one in _alternatives(inner.removesuffix("]"))]
        return f"a list of {' or '.join(one.removeprefix('a ') for one in kinds)}"
    if outer == "Mapping":
        return "a mapping by name"
    return WORDS.get(kind, f"a {outer}" if outer[:1].isupper() else kind)
