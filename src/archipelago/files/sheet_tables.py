"""The tables of a sheet: what the columns of people's sheets are called, which kind of table a row of heads begins, and
the rows below it."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from itertools import zip_longest
from typing import Any, NamedTuple

from archipelago.files.sheet import Sheet

HEADS: Mapping[str, tuple[str, ...]] = {
    "holder": ("holder", "device", "name", "device name", "hostname", "node", "equipment", "system"),
    "host": ("host", "host name", "pc", "client", "computer", "end device", "station", "server"),
    "kind": ("kind", "type", "device type", "role", "kind of device"),
    "interface": ("interface", "nic", "interface name", "network card", "card", "adapter", "if"),
    "plugged into": (
        *("plugged into", "port", "at", "switch port", "parent", "connected to", "connected port", "access port"),
        *("plugged in at", "socket"),
    ),
    "switch": ("switch", "connected switch", "access switch", "switch name"),
    "VLAN": ("vlan", "vlan id", "vid", "vlan number", "vlan no", "id", "tag"),
    "VLAN name": ("vlan name", "segment", "department", "network name"),
    "address": (
        *("address", "ip", "ip address", "ipv4", "ipv4 address", "ip address prefix", "ip prefix"),
        *("ip addr", "addr", "ipv4 address prefix", "addresses"),
    ),
    "IPv6 address": ("ipv6", "ipv6 address", "ipv6 addr", "ipv6 address prefix"),
    "prefix": (
        *("prefix", "mask", "prefix length", "netmask", "subnet mask", "length", "ipv4 mask", "ipv4 prefix", "cidr"),
        *("ipv4 prefix length", "ipv4 subnet mask", "mask or prefix length", "net mask"),
    ),
    "IPv6 prefix": ("ipv6 prefix", "ipv6 prefix length", "ipv6 length", "ipv6 mask"),
    "gateway": ("gateway", "default gateway", "ipv4 gateway", "ipv4 default gateway", "gw", "gateway address"),
    "IPv6 gateway": ("ipv6 gateway", "ipv6 default gateway"),
    "description": ("description", "notes", "note", "comment", "comments", "remark", "remarks", "purpose"),
    "end": ("end", "from", "end a", "end 1", "one end", "near end", "side a", "a", "local end", "cable from"),
    "other end": ("other end", "to", "end b", "end 2", "far end", "side b", "b", "remote end", "cable to"),
    "end device": ("device a", "from device", "device 1", "local device", "near device"),
    "end port": ("port a", "from port", "port 1", "local port", "near port", "from interface", "interface a"),
    "other device": ("device b", "to device", "device 2", "remote device", "far device"),
    "other port": ("port b", "to port", "port 2", "remote port", "far port", "to interface", "interface b"),
}
"""What a column may be called, in any case, with or without what stands between its words."""
_COLUMNS = {word: column for column, words in HEADS.items() for word in words}


class Heads(NamedTuple):
    """The columns of a table: what kind it is (`addresses`, `cables`, `VLANs` or `ports`), the place of each column,
    the heads that are not known."""

    kind: str
    places: Mapping[str, int]
    unknown: tuple[str, ...]


def heads_of(cells: Sequence[str]) -> Heads | None:
    """The columns that a row of heads names; None where it is none."""
    places: dict[str, int] = {}
    unknown: list[str] = []
    for place, cell in enumerate(cells):
        column = _COLUMNS.get(" ".join(re.findall(r"[a-z0-9]+", cell.lower())))
        if column == "end" and column in places:
            column = "other end"
        if column is not None:
            places.setdefault(column, place)
        elif cell:
            unknown.append(cell)
    if "host" in places and "holder" not in places and "interface" in places:
        places["holder"] = places.pop("host")  # devices are called hosts there, too
    kind = _kind(places)
    return None if kind is None else Heads(kind, places, tuple(unknown))


def _kind(places: Mapping[str, int]) -> str | None:
    """The kind of table that its columns make; None where they make none."""
    addressed = "address" in places or "IPv6 address" in places
    holder = "holder" in places or "host" in places
    if addressed and holder:
        return "addresses"
    ends = ({"end", "other end"}, {"end device", "end port", "other device", "other port"})
    if any(columns <= places.keys() for columns in ends):
        return "cables"
    switch = "holder" in places or "switch" in places
    if switch and "plugged into" in places and ("VLAN" in places or "host" in places):
        return "ports"
    if "VLAN" in places and ("VLAN name" in places or "holder" in places):
        return "VLANs"
    return None


_NOTHING = frozenset({"n/a", "na", "-", "--", "\N{EM DASH}", "\N{EN DASH}", "none", "tbd", "?"})
"""What stands in cells that hold nothing."""
_FREE = ("holder", "host", "interface", "description")
"""The columns in which such a word is a name, or what people say."""


class Place(NamedTuple):
    """Where a row stands: its number, its sheet, and the place of each column."""

    number: int
    sheet: str
    columns: Mapping[str, int]


def tables_of(sheet: Sheet) -> Iterator[tuple[Heads, Place, list[tuple[Place, list[str]]]]]:
    """The tables of a sheet: a row of heads, and the rows below it up to the next one. Titles are passed over."""
    tables: list[tuple[Heads, Place, list[tuple[Place, list[str]]]]] = []
    rows = [(number, [" ".join(cell.split()) for cell in cells]) for number, cells in sheet.rows]
    filled = [(at, number, cells) for at, (number, cells) in enumerate(rows) if any(cells)]
    titled = False
    for (at, number, cells), (_, _, following) in zip_longest(filled, filled[1:], fillvalue=(0, 0, [])):
        heads = _heads_in(cells)
        # Within a table a row with anything but heads is a row, whatever its names are.
        begins = not tables or titled or not any(rows[at - 1][1])
        titled = sum(map(bool, cells)) == 1 and _heads_in(following) is not None
        if heads is not None and (begins or not heads.unknown):
            tables.append((heads, Place(number, sheet.name, heads.places), []))
        elif tables and not titled:
            tables[-1][2].append((Place(number, sheet.name, tables[-1][0].places), cells))
    yield from tables


def _heads_in(cells: Sequence[str]) -> Heads | None:
    """The columns that a row names, where it has more than one cell."""
    return heads_of(cells) if sum(map(bool, cells)) > 1 else None


def cell_of(place: Place, cells: list[str]) -> Any:
    """Gives a row's cell by its column."""

    def cell(column: str) -> str:
        at = place.columns.get(column, len(cells))
        text = cells[at] if at < len(cells) else ""
        return "" if says_nothing(text) and column not in _FREE else text

    return cell


def says_nothing(text: str) -> bool:
    """Whether it is a word that stands in cells that hold nothing."""
    return text.lower() in _NOTHING


def row_text(place: Place) -> str:
    return f"sheet '{place.sheet}', row {place.number}" if place.sheet else f"row {place.number}"
