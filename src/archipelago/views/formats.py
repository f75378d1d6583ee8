"""The open formats that a network is written in."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from archipelago.model.network import Network


@dataclass(frozen=True, slots=True)
class Format:
    """A format: what it is, how a network is written in it (one text, or the text of each file by its name), and
    whether that is its address list. `then` is what to do with the file, `{}` its name."""

    about: str
    made: Callable[[Network], str | Mapping[str, str]]
    table: bool = False
    then: str = ""


def _linux(network: Network) -> str:
    from archipelago.exchange.linux import script

    return script(network)


def _csv(network: Network) -> str:
    from archipelago.views.address_list import as_csv

    return as_csv(network)


def _markdown(network: Network) -> str:
    from archipelago.views.address_list import as_markdown

    return as_markdown(network)


def _zone(network: Network) -> Mapping[str, str]:
    from archipelago.exchange.zones import zone_files

    return zone_files(network)


FORMATS = {
    "linux": Format(
        "a shell script that builds it from namespaces of a Linux kernel",
        _linux,
        then="run it as root: sh {0} up, then sh {0} down",
    ),
    "csv": Format("its address list", _csv, table=True),
    "markdown": Format("its address list", _markdown, table=True),
    "zone": Format("a directory of zone files", _zone),
}
"""Every format, by its name."""
TABLES = tuple(name for name, one in FORMATS.items() if one.table)
ABOUT = "; ".join(f"{name}: {one.about}" for name, one in FORMATS.items())
"""What each is, in one line."""
