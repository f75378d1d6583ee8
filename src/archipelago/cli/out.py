"""How answers reach the terminal: plain text anywhere, a little emphasis where there is a terminal."""

from __future__ import annotations

import os
import sys
import time
from argparse import Namespace
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, suppress
from functools import partial
from threading import Event, Thread
from typing import Any

from archipelago.answer import Answer, face_of
from archipelago.errors import OutputError, printable
from archipelago.progress import AT_WORK, Stage, listening
from archipelago.views.table import Table, lines

FIRST_NOTICE = 2.0
"""Seconds after which a terminal is told that work goes on."""


class _Work:
    """How far a verb is. A terminal's standard error shows it once that takes a while, until there is an answer."""

    def __init__(self, verb: str) -> None:
        self.stage = AT_WORK
        self._verb = verb
        self._over = Event()
        self._thread = None if _plain or not sys.stderr.isatty() else Thread(target=self._show, daemon=True)
        if self._thread is not None:
            self._thread.start()

    def told(self, stage: Stage) -> None:
        """The work is so far."""
        self.stage = stage

    def over(self) -> None:
        """There is an answer, or none will come: what was shown goes away."""
        self._over.set()
        if self._thread is not None:
            self._thread.join()

    def _show(self) -> None:
        began = stage_began = time.monotonic()
        if self._over.wait(FIRST_NOTICE):
            return
        from archipelago.cli import terminal

        work = self.stage.work
        with terminal.one_line() as show:
            while not self._over.wait(0.1):
                now = time.monotonic()
                if self.stage.work != work:
                    work, stage_began = self.stage.work, now
                show(terminal.progress_line(self._verb, self.stage, now - began, now - stage_began))


_at_work: list[_Work] = []


@contextmanager
def at_work(verb: str) -> Iterator[None]:
    """Meanwhile the terminal is kept informed, until something is said; where it is stopped before, it is told how far
    it was."""
    work = _Work(verb)
    _at_work.append(work)
    try:
        with listening(work.told):
            yield
    except KeyboardInterrupt:
        if _at_work:
            doing, done, total = work.stage
            far = f", {done / total:.0%} done" if total else ""
            note(f"{verb}: stopped while {doing}{far}; there is no answer, and nothing was written")
        raise
    finally:
        answered()


def answered() -> None:
    """What keeps the terminal informed goes away."""
    while _at_work:
        _at_work.pop().over()


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
    if sys.__stdout__ is not None:  # not what stands in its place where a document goes there
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.__stdout__.fileno())


def leave() -> None:
    """What standard error does not take goes nowhere, so that the interpreter does not end with a code of its own."""
    try:
        sys.stderr.flush()
    except (OSError, ValueError):
        with suppress(OSError, ValueError):
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stderr.fileno())


def flush() -> None:
    """Everything said is out.

    Raises:
        OutputError: standard output does not take it.
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
        raise OutputError(error.strerror) from None


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


def answer(found: Answer, *, also: str = "", body: Iterable[str | Table] | None = None, whole: bool = False) -> None:
    """An answer as people read it.

    Args:
        found: the answer.
        also: what is said with its headline.
        body: what is shown below it; by default what the answer has.
        whole: all of it, long tables too.
    """
    head(found.headline + also)
    for part in face_of(found).parts(found, whole=whole) if body is None else body:
        if isinstance(part, str):
            say(part)
        else:
            _say_table(part)


def reply(found: Answer, words: Namespace, *, also: str = "") -> int:
    """An answer as the call asks for it, as JSON or for people, with where its picture is; the exit code, by whether it
    says yes."""
    if words.as_json:
        say_json(found.values())
    else:
        answer(found, also=also, whole=getattr(words, "all", False))
        drawn(getattr(words, "output", None) if face_of(found).picture else None)
    return 0 if found else 1


def drawn(path: str | None) -> None:
    """Say where a picture was drawn to, where one was."""
    if path:
        say()
        say(f"drawn: {path}")


def say(text: str = "") -> None:
    shown = [printable(text)]
    if _fitting():
        from archipelago.cli import terminal

        shown = terminal.wrapped(shown[0], terminal.width())
        shown = [terminal.emphasised(line) for line in shown] if _colours() else shown
    _writing(lambda: print("\n".join(shown)))


def asked(question: str) -> str:
    """What somebody answers, in lower case; `done` where nothing more comes in."""
    answered()
    _writing(lambda: print(printable(question), end="", flush=True))
    line = sys.stdin.readline()
    if not line or not sys.stdin.isatty():
        say()
    return line.strip().lower() if line else "done"


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


def _say_table(table: Table) -> None:
    if _fitting():
        from archipelago.cli import terminal

        _writing(partial(terminal.show, table, sys.stdout, _colours()))
        return
    say_lines(lines(table))


def say_json(value: Any) -> None:
    import json

    _writing(lambda: print(json.dumps(value, indent=2)))
