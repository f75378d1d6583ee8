"""How answers reach the terminal: plain text anywhere, a little emphasis where there is a terminal."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, suppress
from functools import partial
from threading import Event, Thread
from typing import Any

from archipelago.errors import printable
from archipelago.views.table import Table, lines

FIRST_NOTICE = 2.0
"""Seconds after which a terminal is told that work goes on."""


class ProgressNotice:
    """Tells a terminal, on standard error, that a verb is still at work, and for how long, until it answers."""

    def __init__(self, verb: str) -> None:
        self._verb = verb
        self._over = Event()
        self._thread = Thread(target=self._tell, daemon=True)
        if sys.stderr.isatty():
            self._thread.start()

    def _tell(self) -> None:
        waited = FIRST_NOTICE
        shown = False
        while not self._over.wait(FIRST_NOTICE if not shown else 0.5):
            ahead = "." * (int(2 * waited) % 8)
            print(f"\r{self._verb}: at work for {waited:.1f} s {ahead:<8}", end="", file=sys.stderr, flush=True)
            shown = True
            waited += 0.5
        if shown:
            print("\r\033[K", end="", file=sys.stderr, flush=True)

    def over(self) -> None:
        """The answer is there."""
        self._over.set()
        if self._thread.is_alive():
            self._thread.join()


@contextmanager
def bar(what: str, seconds: float) -> Iterator[Callable[[int, int], None]]:
    """A bar on a terminal's standard error while something counts what it has done."""
    started = time.monotonic()
    shown = False

    def progress(done: int, total: int) -> None:
        nonlocal shown
        passed = time.monotonic() - started
        if sys.stderr.isatty() and passed > FIRST_NOTICE:
            shown = True
            filled = "#" * int(20 * done / max(total, 1))
            text = f"\r{what} [{filled:<20}] {passed:.0f} of at most {seconds:.0f} s"
            print(text, end="", file=sys.stderr, flush=True)

    yield progress
    if shown:
        print("\r\033[K", end="", file=sys.stderr, flush=True)


_waiting: list[ProgressNotice] = []


def wait(verb: str) -> None:
    """From now on the terminal is kept informed, until something is said."""
    _waiting.append(ProgressNotice(verb))


def answered() -> None:
    """The line that keeps the terminal informed goes away."""
    while _waiting:
        _waiting.pop().over()


class Unwritable(Exception):
    """The answer cannot be written to standard output."""


def prepare() -> None:
    """Make standard output and error fit for anything: what their encoding lacks is shown as escapes, and one that is
    closed swallows what is said, so that the exit code still tells the answer."""
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is None:
            setattr(sys, name, os.fdopen(os.open(os.devnull, os.O_WRONLY), "w"))
        elif hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")


def abandon() -> None:
    """What is still to be written to standard output goes nowhere: there is no place for it."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def flush() -> None:
    """Everything said is out.

    Raises:
        Unwritable: standard output does not take it.
        BrokenPipeError: whoever read it is gone.
    """
    _writing(sys.stdout.flush)


def _writing(action: Callable[[], object]) -> None:
    answered()
    try:
        action()
    except BrokenPipeError:
        raise
    except OSError as error:
        raise Unwritable(error.strerror) from None


_plain: list[bool] = []


def plainly() -> None:
    """From now on answers look as they do where they are piped."""
    _plain.append(True)


def _fitting() -> bool:
    """Whether answers are made to fit a terminal."""
    return not _plain and sys.stdout.isatty()


def _colours() -> bool:
    """Whether the terminal takes emphasis, and nobody has asked for none (no-color.org)."""
    return not os.environ.get("NO_COLOR") and os.environ.get("TERM", "dumb") != "dumb"


def say(text: str = "") -> None:
    shown = [printable(text)]
    if _fitting():
        from archipelago.cli import terminal

        shown = terminal.wrapped(shown[0], terminal.width())
        shown = [terminal.emphasised(line) for line in shown] if _colours() else shown
    _writing(lambda: print("\n".join(shown)))


def head(text: str) -> None:
    """The answer: bold in a terminal."""
    shown = printable(text)
    if not _fitting():
        _writing(lambda: print(shown))
        return
    from archipelago.cli import terminal

    lines = terminal.wrapped(shown, terminal.width())
    marked = [terminal.emphasised(line) for line in lines]
    if marked == lines:
        marked = [f"\033[1m{line}\033[0m" for line in lines]
    _writing(lambda: print("\n".join(marked if _colours() else lines)))


def note(text: str) -> None:
    """Something beside the answer, on standard error; where that is closed or full, the answer stands without it."""
    answered()
    with suppress(OSError):
        print("\n".join(map(printable, text.split("\n"))), file=sys.stderr)


def say_lines(texts: Iterable[str]) -> None:
    for text in texts:
        say(text)


def say_tables(tables: Iterable[Table]) -> None:
    for table in tables:
        say()
        _say_table(table)


def say_parts(parts: Iterable[str | Table]) -> None:
    """Lines, and tables set in below their titles."""
    for part in parts:
        if isinstance(part, str):
            say(part)
        else:
            _say_table(part, "  ")


def _say_table(table: Table, indent: str = "") -> None:
    if _fitting():
        from archipelago.cli import terminal

        _writing(partial(terminal.show, table, sys.stdout, _colours()))
        return
    title, *rest = lines(table) or [""]
    say_lines([title, *(indent + line for line in rest)])


def say_json(value: Any) -> None:
    import json

    _writing(lambda: print(json.dumps(value, indent=2)))
