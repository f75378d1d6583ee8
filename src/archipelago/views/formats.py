"""The open formats that a network is written in."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from archipelago.model.network import Network


@dataclass(frozen=True, slots=True)
class Format:
    """A format: what it is, how a network is written in it (one text, a file's bytes, or the text of each file by its
    name), and whether that is its address list. `then` is what to do with the file, `{}` its name."""

    about: str
    made: Callable[[Network], str | bytes | Mapping[str, str]]
    table: bool = False
    then: str = ""
    lacks: Callable[[Network, str | bytes], Iterable[str]] | None = None


def _linux(network: Network) -> str:
    from archipelago.exchange.linux import script

    return script(network)


def _csv(network: Network) -> str:
    from archipelago.views.address_list import separated

    return separated(network)


def _tsv(network: Network) -> str:
    from archipelago.views.address_list import separated

    return separated(network, "\t")


def _workbook(network: Network) -> bytes:
    from archipelago.views.address_list import as_workbook

    return as_workbook(network)


def _markdown(network: Network) -> str:
    from archipelago.views.address_list import as_markdown

    return as_markdown(network)


def _left_out(network: Network, made: str | bytes) -> Iterable[str]:
    from archipelago.views.address_list import left_out

    return left_out(network, made)


def _zone(network: Network) -> Mapping[str, str]:
    from archipelago.exchange.zones import zone_files

    return zone_files(network)


FORMATS = {
    "linux": Format(
        "a shell script that builds it from namespaces of a Linux kernel",
        _linux,
        then="run it as root: sh {0} up, then sh {0} down",
    ),
    "csv": Format("its address list", _csv, table=True, lacks=_left_out),
    "tsv": Format("its address list", _tsv, table=True, lacks=_left_out),
    "markdown": Format("its address list", _markdown, table=True, lacks=_left_out),
    "xlsx": Format("its address list and its cables as a workbook", _workbook, lacks=_left_out),
    "zone": Format("a directory of zone files", _zone),
}
"""Every format, by its name."""
TABLES = tuple(name for name, one in FORMATS.items() if one.table)
ABOUT = "; ".join(f"{name}: {one.about}" for name, one in FORMATS.items())
"""What each is, in one line."""
