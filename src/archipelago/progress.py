"""How far long work is: told to whoever listens, step by step, and to nobody where nobody does."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sized
from contextlib import contextmanager
from contextvars import ContextVar
from typing import NamedTuple, TypeVar

Item = TypeVar("Item")


TOLD = 500
"""A stage of many steps is told about so often, or a little more often."""


class Stage(NamedTuple):
    """A stage of the work ("proving mends"), and how many of its steps are done, of how many."""

    work: str
    done: int
    total: int


Listener = Callable[[Stage], None]
AT_WORK = Stage("at work", 0, 0)
"""Nothing more is known."""

_listener: ContextVar[Listener | None] = ContextVar("listener", default=None)
_stage: ContextVar[Stage] = ContextVar("stage", default=AT_WORK)


@contextmanager
def listening(listener: Listener) -> Iterator[None]:
    """Have a listener told how far the work is that is done meanwhile.

    Args:
        listener: called often, in the thread that works; it should return at once.

    Example:
        >>> with listening(print):
        ...     for host in steps(["purser", "lamp"], "counting hosts"):
        ...         pass
        Stage(work='counting hosts', done=0, total=2)
        Stage(work='counting hosts', done=1, total=2)
        Stage(work='at work', done=0, total=0)
    """
    before = _listener.set(listener)
    try:
        yield
    finally:
        _listener.reset(before)


def tell(work: str, done: int = 0, total: int = 0) -> None:
    """Tell whoever listens what is done from now on, and how far it is."""
    listener = _listener.get()
    if listener is not None:
        stage = Stage(work, done, total)
        _stage.set(stage)
        listener(stage)


def steps(items: Iterable[Item], work: str, total: int | None = None) -> Iterable[Item]:
    """The items, each a step of a stage that whoever listens is told about; then the stage before goes on.

    Args:
        items: what is gone through.
        work: what is done with them: "proving mends".
        total: how many they are, where they do not know it themselves.
    """
    if total is None:
        total = len(items) if isinstance(items, Sized) else 0
    # That a single step is under way or done tells nothing.
    return items if _listener.get() is None or total <= 1 else _told(items, work, total)


def _told(items: Iterable[Item], work: str, total: int) -> Iterator[Item]:
    before = _stage.get()
    often = max(total // TOLD, 1)
    for done, item in enumerate(items):
        if not done % often:
            tell(work, done, total)
        yield item
    tell(*before)
