"""Pictures as the bytes of a file, or into given axes."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from archipelago.errors import QueryError
from archipelago.views.shapes import Picture


def _svg(picture: Picture) -> bytes:
    from archipelago.views.svg import svg

    return svg(picture).encode()


def _png(picture: Picture) -> bytes:
    from archipelago.views.plot import png

    return png(picture)


PAINTERS: Mapping[str, Callable[[Picture], bytes]] = {"svg": _svg, "png": _png}
"""The kinds of picture files, by the endings of their names."""


def painted(picture: Picture, kind: str) -> bytes:
    """The bytes of a picture as that kind of file.

    Raises:
        QueryError: there is no such kind.
    """
    if kind not in PAINTERS:
        raise QueryError(f"'{kind}' is no kind of picture; there are: {', '.join(PAINTERS)}")
    return PAINTERS[kind](picture)


def ending(name: str) -> str:
    """What kind of picture a file is by its name: svg or png.

    Raises:
        QueryError: neither.
    """
    kind = name.rpartition(".")[2].lower()
    if kind not in PAINTERS:
        endings = " nor ".join(f".{kind}" for kind in PAINTERS)
        raise QueryError(f"'{name}' ends in neither {endings}; a picture is drawn as one of the two")
    return kind
