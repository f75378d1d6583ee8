"""One thing of a network that is otherwise in another state of it, and the network with it changed."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from enum import Enum
from typing import Any

from archipelago.errors import QueryError
from archipelago.model.network import Network, with_changes


class Absent(Enum):
    """What stands where nothing is written."""

    ABSENT = "absent"


ABSENT = Absent.ABSENT
Place = tuple[str, ...]
"""Where a thing stands: names of fields and of what is filed there, such as `("devices", "core", "ports", "p1")`."""


@dataclass(frozen=True, slots=True)
class Replacement:
    """What stands at a place before and after. With `order` it is a list that some entries leave and others join:
    `before` and `after` are those, and the list is then in that order."""

    place: Place
    before: Any
    after: Any
    order: tuple[Any, ...] | None = None

    @property
    def undone(self) -> Replacement:
        """The replacement that takes it back."""
        return Replacement(self.place, self.after, self.before, self.order)


def replaced(network: Network, replacements: Iterable[Replacement]) -> Network:
    """The network with things replaced; parts that nothing touches are the same objects.

    Raises:
        QueryError: something else stands there than the replacement says.
    """
    for one in replacements:
        field, *rest = one.place
        network = with_changes(network, **{field: _within(getattr(network, field), rest, one)})
    return network


def _within(value: Any, rest: list[str], one: Replacement) -> Any:
    if not rest:
        return _changed(value, one)
    name, *deeper = rest
    if isinstance(value, Mapping):
        entry = _within(value.get(name, ABSENT), deeper, one)
        if entry is ABSENT:
            return {key: kept for key, kept in value.items() if key != name}
        return {**value, name: entry}
    if value is ABSENT:
        raise _unfit(one)
    return replace(value, **{name: _within(getattr(value, name), deeper, one)})


def _changed(value: Any, one: Replacement) -> Any:
    if one.order is None:
        if value != one.before:
            raise _unfit(one)
        return one.after
    entries = list(value or ())
    for gone in one.before:
        if gone not in entries:
            raise _unfit(one)
        entries.remove(gone)
    places = {entry: number for number, entry in enumerate(one.order)}
    return tuple(sorted((*entries, *one.after), key=lambda entry: places.get(entry, len(places))))


def _unfit(one: Replacement) -> QueryError:
    return QueryError(f"the step does not fit this network: {'/'.join(one.place)} is not as it was when it was planned")


def merged_order(old: tuple[Any, ...], new: tuple[Any, ...]) -> tuple[Any, ...] | None:
    """An order that both lists keep to; None where there is none, or one of them says something twice."""
    if len(set(old)) < len(old) or len(set(new)) < len(new):
        return None
    common = set(old) & set(new)
    if [entry for entry in old if entry in common] != [entry for entry in new if entry in common]:
        return None
    merged: list[Any] = []
    waiting = list(old)
    for entry in new:
        if entry in common:
            while waiting[0] != entry:
                merged.append(waiting.pop(0))
            waiting.pop(0)
        merged.append(entry)
    return (*merged, *waiting)
