"""What is done already of long work, kept in a file, so that it can go on where it was stopped."""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Iterator, Sequence
from os import PathLike
from pathlib import Path
from types import TracebackType
from typing import IO, Any

from archipelago.answer import spelled_out
from archipelago.errors import DocumentError, Problem
from archipelago.failures.double import Piece, Row, Work
from archipelago.failures.result import DevicesLost
from archipelago.files.disk import read_beside

FORMAT = "archipelago-double-failures/1"


class KeptWork:
    """A file of pieces that are done: a line that says of which network, then a line of JSON for each piece. A line
    that was not written whole counts as not written.

    Args:
        path: the file; made where it is not there.
        work: the work that it is kept of.

    Raises:
        DocumentError: the file is of other work, or cannot be read or written.
    """

    def __init__(self, path: str | PathLike[str], work: Work) -> None:
        self._path = Path(path)
        self._pieces = {str(piece): piece for piece in work.pieces()}
        parts = json.dumps([part.name for part in work.parts])
        state = spelled_out((work.network, sorted(work.stands_for.items()), parts, work.devices))
        self._devices = work.devices
        self._head = {"format": FORMAT, "network": hashlib.sha256(state.encode()).hexdigest()}
        self.done: dict[Piece, list[Row]] = dict(self._read())
        self._file: IO[str] | None = None

    def __enter__(self) -> KeptWork:
        try:
            fresh = not self._path.exists() or self._path.stat().st_size == 0
            if not fresh:
                _cut_torn_line(self._path)
            self._file = open(self._path, "a", encoding="utf-8")
            if fresh:
                self._write(self._head)
        except OSError as error:
            raise self._refused(f"it cannot be written: {error.strerror}") from None
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        assert self._file is not None
        self._file.close()

    def keep(self, piece: Piece, rows: Sequence[Row]) -> None:
        """Note down that a piece is done."""
        self._write({"piece": str(piece), "rows": rows})

    def _write(self, line: dict[str, Any]) -> None:
        assert self._file is not None
        self._file.write(json.dumps(line) + "\n")
        self._file.flush()
        os.fsync(self._file.fileno())

    def _read(self) -> Iterator[tuple[Piece, list[Row]]]:
        text = read_beside(self._path) or ""
        lines = text.split("\n")[:-1]
        if not lines and text:
            raise self._refused("it is no file of double failures; give one that was made so, or a new name")
        for number, line in enumerate(lines):
            try:
                told = json.loads(line)
                if number:
                    piece = self._pieces[told["piece"]]
                    yield piece, list(self._rows(piece, told["rows"]))
                elif told != self._head:
                    raise self._refused("it was begun for another network, or counts something else; give a new name")
            except (ValueError, KeyError, TypeError, IndexError, RecursionError):
                says = (
                    f"line {number + 1} is none of a file of double failures; give one that was made so, or a new name"
                )
                raise self._refused(says) from None

    def _rows(self, piece: Piece, rows: Sequence[Sequence[Any]]) -> Iterator[Row]:
        for second, row in zip(piece.second, rows, strict=True):
            yield _row(piece, second, self._devices, *row)

    def _refused(self, says: str) -> DocumentError:
        return DocumentError(str(self._path), [Problem(0, 0, says)])


def _row(piece: Piece, second: int, with_devices: bool, first: int, other: int, *rest: Any) -> Row:
    """A double failure as it was written down.

    Raises:
        ValueError: it is not the one that comes there.
        TypeError: something is missing, or more.
    """
    lost, elsewhere, one_family, hosts, gained, example, expectations, devices = rest
    if (devices is not None) != with_devices:
        raise ValueError("devices' addresses are counted, or not")
    lost_devices = _devices_lost(*devices) if devices is not None else None
    counts = (lost, elsewhere, one_family, hosts, gained)
    names = [*(example or ()), *expectations]
    if (first, other) != (piece.first, second) or not all(type(count) is int and count >= 0 for count in counts):
        raise ValueError("another failure")
    if not all(isinstance(name, str) for name in names):
        raise ValueError("no names")
    return (first, other, *counts, _pair(example), tuple(expectations), lost_devices)


def _devices_lost(pairs: int, example: Sequence[Any] | None) -> DevicesLost:
    if type(pairs) is not int or pairs < 0:
        raise ValueError("no count")
    return DevicesLost(pairs, _pair(example))


def _pair(names: Sequence[Any] | None) -> tuple[str, str] | None:
    """A pair of names as it was written down, or none."""
    if not names:
        return None
    source, target = names
    if not (isinstance(source, str) and isinstance(target, str)):
        raise ValueError("no names")
    return source, target


def _cut_torn_line(path: Path) -> None:
    """Take a last line away that was not written whole."""
    with open(path, "r+b") as file:
        text = file.read()
        file.truncate(text.rfind(b"\n") + 1)
