"""What a face is: how answers of one type are shown, as text, tables, values and a picture."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from importlib import import_module
from typing import TYPE_CHECKING, Any

from archipelago.errors import QueryError
from archipelago.views.schema import Shape
from archipelago.views.table import Table, lines

if TYPE_CHECKING:
    from archipelago.views.shapes import Picture

Part = str | Table
"""A line, or a table, of an answer."""


def _nothing(answer: Any) -> Sequence[Table]:
    return ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Face:
    """How answers of one type are shown.

    Args:
        name: the name of the answer in `format`, such as `reach`.
        verb: the verb of the command that gives it.
        shape: what its values are.
        values: its values.
        tables: its tables.
        body: what is shown below its headline; by default its tables, of long ones the first rows.
        whole: the same where somebody asks for all of it (`--all`); by default the whole tables.
        rows: what a pandas table of it has; by default the rows of its first table.
        picture: the module and function of `views/` that draw it, where it is drawn; loaded when somebody asks.
    """

    name: str
    verb: str
    shape: Shape
    values: Callable[[Any], dict[str, Any]]
    tables: Callable[[Any], Iterable[Table]] = _nothing
    body: Callable[[Any], Iterable[Part]] | None = None
    whole: Callable[[Any], Iterable[Part]] | None = None
    rows: Callable[[Any], Iterable[Any]] | None = None
    picture: str = ""

    @property
    def format(self) -> str:
        """What the answer says that it is."""
        return f"archipelago-{self.name}/1"

    def headed(self, values: dict[str, Any]) -> dict[str, Any]:
        """Values with what they are first."""
        return {"format": self.format, **values}

    def parts(self, answer: Any, *, whole: bool = False) -> Iterable[Part]:
        """What is shown below the headline; where somebody asks for all of it, whole."""
        if whole and self.whole is not None:
            return self.whole(answer)
        shown = self.body(answer) if self.body is not None else set_apart(self.tables(answer))
        return shown if whole else (part.begun() if isinstance(part, Table) else part for part in shown)

    def text(self, answer: Any) -> str:
        """The whole answer as text."""
        text = [answer.headline]
        for part in self.parts(answer):
            text += [part] if isinstance(part, str) else lines(part)
        return "\n".join(text)

    def painted(self, answer: Any, kind: str) -> bytes:
        """The answer as a picture.

        Raises:
            QueryError: it is none that is drawn, or there is no such kind.
        """
        from archipelago.views.painting import painted

        return painted(self.drawn(answer), kind)

    def drawn(self, answer: Any) -> Picture:
        """The answer as a picture that is not painted yet.

        Raises:
            QueryError: it is none that is drawn.
        """
        if not self.picture:
            raise QueryError(f"what {self.verb} answers is not drawn")
        module, _, name = self.picture.partition(".")
        picture: Picture = getattr(import_module(f"archipelago.views.{module}"), name)(answer)
        return picture


def set_apart(tables: Iterable[Table]) -> Iterable[Part]:
    """Tables with an empty line before each; those without rows are left out."""
    for table in tables:
        if table.rows:
            yield from ("", table)
