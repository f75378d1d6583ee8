"""Reading and writing whole files; nothing is ever half-written."""

from __future__ import annotations

import os
import stat
import sys
import tempfile
from io import BufferedIOBase
from pathlib import Path as FilePath
from select import select
from typing import BinaryIO

from archipelago.errors import DocumentError, OutputError, Problem
from archipelago.files.tree import LARGEST
from archipelago.progress import tell

AT_A_TIME = 1 << 20
"""So many bytes are read at a time."""
LOOKING_UP = 0.1
"""After so many seconds a wait for the next piece looks whether a signal has come."""
STANDARD = "-"
"""In place of a path: standard input, or output."""


def read_bytes(path: str | os.PathLike[str]) -> bytes:
    """The bytes of a file; `-` is standard input.

    Raises:
        DocumentError: there is no such file, it cannot be read, or it is too large to be a document.
    """
    tell("reading the file")
    if path == STANDARD:
        return _standard_input()
    file = FilePath(path)
    try:
        if file.is_file() and file.stat().st_size > LARGEST:
            size = file.stat().st_size
            raise DocumentError(
                str(path), [Problem(0, 0, f"the file has {size:,} bytes; at most {LARGEST:,} are read")]
            )
        with file.open("rb") as stream:
            return _read(stream)
    except OSError as error:
        reason = {FileNotFoundError: "there is no such file", IsADirectoryError: "this is a directory, not a file"}.get(
            type(error), f"the file cannot be read: {error.strerror}"
        )
        raise DocumentError(str(path), [Problem(0, 0, reason)]) from None


def read_beside(path: str | os.PathLike[str]) -> str | None:
    """The text of a file that nobody named by itself: one of a folder, or one that is carried on with. Only a regular
    file is read, since a pipe or a device that lies there would be waited for.

    Returns:
        The text, with what is no UTF-8 replaced; None where there is no such file.

    Raises:
        DocumentError: it is something else, cannot be read, or is too large.
    """
    try:
        mode = os.stat(path).st_mode
        if not stat.S_ISREG(mode):
            what = "this is a directory, not a file" if stat.S_ISDIR(mode) else "this is no regular file"
            raise DocumentError(str(path), [Problem(0, 0, what)])
        return read_bytes(path).decode("utf-8", errors="replace")
    except FileNotFoundError:
        return None
    except OSError as error:
        raise DocumentError(str(path), [Problem(0, 0, f"the file cannot be read: {error.strerror}")]) from None


def _read(stream: BufferedIOBase | BinaryIO) -> bytes:
    """All of a stream, up to one byte more than the largest document has. It is read piece by piece, each once there is
    something to read: a signal that comes as a read begins would else wait as long as that does."""
    assert isinstance(stream, BufferedIOBase)
    pieces: list[bytes] = []
    left = LARGEST + 1
    while left:
        while not select([stream], [], [], LOOKING_UP)[0]:
            pass
        piece = stream.read1(min(left, AT_A_TIME))
        if not piece:
            break
        pieces.append(piece)
        left -= len(piece)
    return b"".join(pieces)


def _standard_input() -> bytes:
    try:
        if sys.stdin is None:
            raise OSError("it is closed")
        return _read(sys.stdin.buffer)
    except OSError as error:
        told = f"standard input cannot be read: {error.strerror or error}"
        raise DocumentError(STANDARD, [Problem(0, 0, told)]) from None


def _standard_output(content: bytes) -> None:
    try:
        if sys.__stdout__ is None:
            raise OSError("it is closed")
        sys.__stdout__.buffer.write(content)
        sys.__stdout__.flush()
    except BrokenPipeError:
        raise
    except OSError as error:
        raise OutputError(error.strerror or str(error)) from None


def read_text(path: str | os.PathLike[str]) -> str:
    """The text of a document, as it stands: its line ends and its byte order mark are kept.

    Raises:
        DocumentError: it cannot be read, or is not UTF-8.
    """
    return decoded(read_bytes(path), str(path))


def decoded(content: bytes, name: str) -> str:
    """The text of a document that was read.

    Raises:
        DocumentError: it is not UTF-8.
    """
    try:
        return content.decode("utf-8")
    except UnicodeDecodeError as error:
        line = content.count(b"\n", 0, error.start) + 1
        told = f"byte {error.start} is not UTF-8 text; save the file as UTF-8"
        raise DocumentError(name, [Problem(line, 1, told)]) from None


def make_directory(path: str | os.PathLike[str]) -> FilePath:
    """A directory to write into, made where it is not there.

    Raises:
        DocumentError: it cannot be made.
    """
    directory = FilePath(path)
    try:
        directory.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        problem = Problem(0, 0, f"the directory cannot be made: {error.strerror}")
        raise DocumentError(str(path), [problem]) from None
    return directory


def write_whole(path: str | os.PathLike[str], content: str | bytes) -> None:
    """Write a file beside its place, then rename it there, so that it is whole or not there at all.

    Raises:
        DocumentError: the place cannot be written to.
        OutputError: standard output cannot.
    """
    if path == STANDARD:
        _standard_output(content.encode() if isinstance(content, str) else content)
        return
    target = FilePath(os.path.realpath(path))  # a symbolic link stays, and what it leads to is written
    data = content.encode() if isinstance(content, str) else content
    try:
        if target.is_dir():
            raise IsADirectoryError(21, "it is a directory")
        if target.exists() and not target.is_file():
            target.write_bytes(data)  # a device or a pipe, such as /dev/stdout, cannot be renamed over
            return
        mode = target.stat().st_mode & 0o777 if target.exists() else 0o666 & ~_umask()
        handle, name = tempfile.mkstemp(dir=target.parent, prefix=".archipelago-")
        try:
            with os.fdopen(handle, "wb") as stream:
                stream.write(data)
            os.chmod(name, mode)
            os.replace(name, target)
        except BaseException:
            os.unlink(name)
            raise
    except OSError as error:
        raise DocumentError(str(path), [Problem(0, 0, f"the file cannot be written: {error.strerror}")]) from None


def _umask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask
