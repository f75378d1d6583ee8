"""Results as plain JSON-ready values, and as pandas tables."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import fields, is_dataclass
from enum import Enum
from fractions import Fraction
from typing import TYPE_CHECKING, Any

from archipelago.addressing.carve import Carving
from archipelago.addressing.values import Address, InterfaceAddress, Prefix
from archipelago.model.finding import Edit, Finding
from archipelago.model.network import Network
from archipelago.model.parts import Cable, End, NextHop
from archipelago.model.plan import Design
from archipelago.views.table import Table

if TYPE_CHECKING:
    import pandas

_TEXTS = (Address, InterfaceAddress, Prefix, End, NextHop, Cable)


def plain(value: Any) -> Any:
    """Dataclasses become dictionaries of their fields, addresses their text, a network its document."""
    if value is None or isinstance(value, (bool, int, float, str)):
        return value
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


def frame(result: Any, by: str) -> pandas.DataFrame:
    """The rows of a result as a pandas table; texts where the values are addresses. `by` is for a matrix."""
    import pandas

    if hasattr(result, "between"):
        from archipelago.views.matrix import frame as matrix_frame

        return matrix_frame(result, by)
    rows: Any = result
    if hasattr(result, "single_points"):
        from archipelago.views.outages import every

        result = every(result)
    if hasattr(result, "host_links"):
        rows = list(result.rows())
    elif isinstance(result, Table):
        rows = result.records()
    elif isinstance(result, Carving):
        rows = result.allotments
    elif isinstance(result, Design):
        rows = result.decisions
    elif hasattr(result, "out") and hasattr(result, "back"):
        rows = [{"direction": way, **plain(step)} for way in ("out", "back") for step in getattr(result, way)]
    return pandas.DataFrame([row if isinstance(row, dict) else plain(row) for row in rows])


def finding_with_line(network: Network, finding: Finding) -> dict[str, Any]:
    """A finding as plain values, with the line of the file it stands on (0: not in a file)."""
    return {"line": network.line(finding.path), **plain(finding)}
