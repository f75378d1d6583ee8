"""JSON that somebody else wrote, held to what is read of it: the first thing that is otherwise is told, and where."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple


class Whole(NamedTuple):
    """A whole number within bounds, also as a text of digits."""

    least: int
    most: int

    def __str__(self) -> str:
        return f"a whole number from {self.least:,} to {self.most:,}"


TEXT_OR_NUMBER = "a text or a number"
"""A name that may be a number."""


class ShapeError(ValueError):
    """A value that is not as it should be: where in the document, and what is expected there."""


Shape = Any
"""`str`, `bool`, TEXT_OR_NUMBER, a `Whole`, a list of one shape, or a mapping of names to shapes: those that end in `?`
may be missing or null, others are not looked at."""


def shaped(value: Any, shape: Shape, place: str = "") -> Any:
    """A value with what is read of it and nothing else.

    Args:
        value: what was read.
        shape: what is expected.
        place: where it stands.

    Raises:
        ShapeError: something in it is not as expected.
    """
    if shape is TEXT_OR_NUMBER:
        return value if isinstance(value, int) else shaped(value, str, place)
    if isinstance(shape, Whole):
        return _number(value, shape, place)
    if isinstance(shape, list):
        if not isinstance(value, list):
            raise _other(place, "a list", value)
        return [shaped(one, shape[0], f"{place}[{number}]") for number, one in enumerate(value)]
    if isinstance(shape, Mapping):
        return _mapping(value, shape, place)
    if not isinstance(value, shape) or (shape is str and len(value) > MOST_LETTERS):
        raise _other(place, {str: "a text", bool: "true or false"}[shape], value)
    return value


MOST_LETTERS = 1000
"""A name, an address or a word is no longer than that."""


def _number(value: Any, shape: Whole, place: str) -> int:
    digits = isinstance(value, str) and value.isascii() and value.isdigit() and len(value) < 20
    if (isinstance(value, int) and not isinstance(value, bool)) or digits:
        number = int(value)
        if shape.least <= number <= shape.most:
            return number
    raise _other(place, str(shape), value)


def _mapping(value: Any, shape: Mapping[str, Shape], place: str) -> dict[str, Any]:
    if not isinstance(value, dict):
        raise _other(place, "a mapping", value)
    found = {}
    for key, inner in shape.items():
        name = key.removesuffix("?")
        if value.get(name) is not None:
            found[name] = shaped(value[name], inner, f"{place}.{name}".lstrip("."))
        elif not key.endswith("?"):
            raise ShapeError(f"'{f'{place}.{name}'.lstrip('.')}' is missing")
    return found


def _other(place: str, wanted: str, value: Any) -> ShapeError:
    text = repr(value)
    shown = text if len(text) <= 40 else f"{text[:37]}..."
    return ShapeError(f"{place or 'the file'}: {wanted} is expected, not {shown}")
