"""What every answer can do: say itself in one line and in full, as tables, as plain values and, where people would
rather look, as a picture. How it looks is in `views/`, which is loaded by name when somebody asks for it: nothing that
computes an answer depends on how it is shown."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import MISSING, Field, fields, is_dataclass
from importlib import import_module
from typing import TYPE_CHECKING, Any, ClassVar, NoReturn

if TYPE_CHECKING:
    from archipelago.views.face import Face
    from archipelago.views.table import Table

WIDTH = 100
"""So many characters a `repr` has at most."""


class OneLine:
    """A value whose `repr` is one short line: its type, and what of it is not as it is by default."""

    __slots__ = ()

    def __repr__(self) -> str:
        return one_line(self)


def one_line(value: Any) -> str:
    """A dataclass in one short line: its text where it has one; else its name, and what is not as it is by default, of
    what holds several how many."""
    if "__str__" in vars(type(value)):
        return _within(f"<{type(value).__name__}: {value}", WIDTH - 1) + ">"
    name = getattr(value, "name", "")
    texts = []
    for field in fields(value):
        given = getattr(value, field.name)
        if field.repr and field.name != "name" and not _is_usual(given, field):
            texts.append(_field_text(field.name, given))
    head = f"<{type(value).__name__}{f' {name}' if name else ''}{': ' * bool(texts)}"
    return _within(head + ", ".join(texts), WIDTH - 1) + ">"


def spelled_out(value: Any) -> str:
    """A value with everything in it, the same in every process: what tells it from others."""
    if is_dataclass(value):
        compared = (field.name for field in fields(value) if field.compare)
        texts = ", ".join(f"{name}={spelled_out(getattr(value, name))}" for name in compared)
        return f"{type(value).__name__}({texts})"
    if isinstance(value, Mapping):
        return f"{{{', '.join(f'{key!r}: {spelled_out(part)}' for key, part in value.items())}}}"
    if isinstance(value, (set, frozenset)):
        return f"{{{', '.join(sorted(map(spelled_out, value)))}}}"
    if isinstance(value, (tuple, list)):
        return f"{type(value).__name__}({', '.join(map(spelled_out, value))})"
    return repr(value)


def _is_usual(given: Any, field: Field[Any]) -> bool:
    if field.default_factory is not MISSING:
        return isinstance(given, Mapping) and not given
    return field.default is not MISSING and given is field.default


def _field_text(name: str, given: Any) -> str:
    words = name.replace("_", " ")
    if isinstance(given, (Mapping, list, set, frozenset)) or type(given) is tuple:
        return f"{len(given)} {words.removesuffix('s') if len(given) == 1 else words}"
    return f"{words} {_within(str(given), 40)}"


def _within(text: str, width: int) -> str:
    text = " ".join(text.split())
    return text if len(text) <= width else f"{text[: width - 3]}..."


class Parts(dict[str, Any]):
    """Parts by their names, as a document lists them. It is made once and not changed: `with_changes` and
    `dataclasses.replace` make another network. Its `repr` is one short line."""

    __slots__ = ()

    def __repr__(self) -> str:
        return _within(f"<{len(self):,} by name: {', '.join(self)}", WIDTH - 1) + ">"

    def __reduce__(self) -> tuple[Any, ...]:
        return type(self), (dict(self),)

    def _changed(self, *_: object, **__: object) -> NoReturn:
        raise TypeError("the parts of a network are not changed in place; make another with dataclasses.replace")

    __setitem__ = __delitem__ = __ior__ = _changed
    clear = pop = popitem = setdefault = update = _changed


NO_PARTS = Parts()


def name_parts(whole: Any) -> None:
    """Let every plain mapping that a new dataclass holds be one that is named in one short line; those aside that say
    where something stands, and do not count when two are compared."""
    for field in fields(whole):
        parts = getattr(whole, field.name)
        if type(parts) is dict and field.compare:
            object.__setattr__(whole, field.name, Parts(parts) if parts else NO_PARTS)


class Answer:
    """An answer. Printed, it is what the command prints; `bool` of it is the answer where the question has a yes and a
    no, else True. `SHOWN` names the face that `views/` gives it."""

    __slots__ = ()
    SHOWN: ClassVar[str] = ""

    @property
    def headline(self) -> str:
        """The answer in one line."""
        raise NotImplementedError

    def tables(self) -> tuple[Table, ...]:
        """The answer as tables; a table without rows is left out."""
        return tuple(table for table in self._face.tables(self) if table.rows)

    def values(self) -> dict[str, Any]:
        """The answer as plain values, with the keys of `--json`; `archipelago.schema` says what each is."""
        return self._face.headed(self._face.values(self))

    def picture(self, kind: str = "svg") -> bytes:
        """The answer as a picture.

        Args:
            kind: "svg" or "png".

        Raises:
            QueryError: it is none that is drawn, or there is no such kind.
        """
        return self._face.painted(self, kind)

    @property
    def _face(self) -> Face:
        return face_of(self)

    def __str__(self) -> str:
        return self._face.text(self)

    def __repr__(self) -> str:
        return _within(f"<{type(self).__name__}: {self.headline}", WIDTH - 1) + ">"

    def __bool__(self) -> bool:
        return True


def face_of(answer: Answer | type[Answer]) -> Face:
    """How an answer, or a type of answers, is shown."""
    module, _, name = answer.SHOWN.partition(".")
    face: Face = getattr(import_module(f"archipelago.views.{module}"), name)
    return face
