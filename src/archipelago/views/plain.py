"""Results as plain JSON-ready values, and as pandas tables."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import fields, is_dataclass
from enum import Enum
from fractions import Fraction
from typing import TYPE_CHECKING, Any

from archipelago.addressing.values import Address, InterfaceAddress, Prefix
from archipelago.answer import Answer, face_of
from archipelago.model.finding import Edit
from archipelago.model.network import Network
from archipelago.model.parts import Cable, End, NextHop
from archipelago.views.table import Table

if TYPE_CHECKING:
    import pandas

_TEXTS = (Address, InterfaceAddress, Prefix, End, NextHop, Cable)


def plain(value: Any) -> Any:
    """Dataclasses become dictionaries of their fields, addresses their text, a network its document."""
    if value is None or isinstance(value, (bool, int, float, str)):
        return value
    if isinstance(value, Answer):
        return value.values()
    if isinstance(value, _TEXTS):
        return str(value)
    if isinstance(value, Fraction):
        return float(value)
    if isinstance(value, Network):
        from archipelago.files.write import document_of

        return document_of(value)
    if isinstance(value, Edit):
        removed = isinstance(value.value, Enum)
        return (
            {"path": list(value.path), "remove": True} if removed else {"path": list(value.path), "value": value.value}
        )
    if isinstance(value, Enum):
        return value.value
    if hasattr(value, "_asdict"):
        return {name: plain(item) for name, item in value._asdict().items()}
    if is_dataclass(value) and not isinstance(value, type):
        return {field.name: plain(getattr(value, field.name)) for field in fields(value)}
    if isinstance(value, Mapping):
        return {str(key): plain(item) for key, item in value.items()}
    if isinstance(value, (list, tuple, set, frozenset)):
        return [plain(item) for item in value]
    return str(value)


def plain_fields(value: Any) -> dict[str, Any]:
    """A dataclass as a dictionary of its fields, each a plain value."""
    return {field.name: plain(getattr(value, field.name)) for field in fields(value)}


def frame(result: Any, by: str) -> pandas.DataFrame:
    """Anything as a pandas table; texts where the values are addresses. `by` is for a matrix."""
    import pandas

    from archipelago.reachability.matrix import Matrix

    if isinstance(result, Matrix):
        from archipelago.views.matrix import frame as matrix_frame

        return matrix_frame(result, by)
    return pandas.DataFrame([row if isinstance(row, dict) else plain(row) for row in _rows(result)])


def _rows(result: Any) -> Iterable[Any]:
    """What the rows of a table of something are: of an answer those that its face has, of a network its address
    list, of parts by name each with its name; of one value just that."""
    if isinstance(result, Answer):
        rows = face_of(result).rows
        first = next(iter(result.tables()), None) if rows is None else None
        return rows(result) if rows is not None else first.records() if first is not None else ()
    if isinstance(result, Network):
        from archipelago.files.address_list import COLUMNS
        from archipelago.views.address_list import rows_of

        return [dict(zip(COLUMNS, row, strict=True)) for row in rows_of(result)]
    if isinstance(result, Table):
        return result.records()
    if isinstance(result, Mapping):
        return [{"name": name, **_fields(part)} for name, part in result.items()]
    several = isinstance(result, Iterable) and not isinstance(result, (str, *_TEXTS)) and not hasattr(result, "_asdict")
    return map(_fields, result) if several else [_fields(result)]


def _fields(value: Any) -> dict[str, Any]:
    values = plain(value)
    return values if isinstance(values, dict) else {"value": values}
