"""What something is derived from: of each kind of part the fields that are read. Declared once, beside what reads them;
whether a change has a say in it is asked of that, and tests hand each stage parts that refuse every other field."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import fields, is_dataclass
from functools import cache
from typing import Any


class Projection:
    """The fields that are read of each kind of part. A kind that is not named is read whole.

    Args:
        kinds: the names of the fields of a kind, separated by spaces, such as `Host="at off"`.
    """

    __slots__ = ("kinds",)

    def __init__(self, **kinds: str) -> None:
        self.kinds = {kind: tuple(names.split()) for kind, names in kinds.items()}

    def same(self, old: Any, new: Any) -> bool:
        """Whether two values do not differ in what is read. Mappings have an order: which port, pool or interface is
        written first decides some things."""
        if old is new:
            return True
        if isinstance(old, Mapping):
            return (
                isinstance(new, Mapping) and list(old) == list(new) and all(map(self.same, old.values(), new.values()))
            )
        if type(old) is not type(new):
            return False
        if is_dataclass(old):
            kind: type = type(old)
            names = self.kinds.get(kind.__name__) or _fields(kind)
            return all(self.same(getattr(old, name), getattr(new, name)) for name in names)
        if isinstance(old, tuple) and len(old) == len(new) and any(map(is_dataclass, old)):
            return all(map(self.same, old, new))
        return bool(old == new)

    def differing(self, old: Mapping[str, Any], new: Mapping[str, Any]) -> Iterator[str]:
        """The names under which both have something, and not the same."""
        if old is not new:
            for name, now in new.items():
                was = old.get(name)
                if was is not now and was is not None and not self.same(was, now):
                    yield name


WHOLE = Projection()
"""All of every part, its order included."""


@cache
def _fields(kind: type) -> tuple[str, ...]:
    return tuple(spec.name for spec in fields(kind) if spec.compare)
