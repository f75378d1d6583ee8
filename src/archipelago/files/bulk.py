"""Hosts, ports and interfaces declared in bulk: `crew-{1..180}: {at: "quay-{1..8}/p{1..24}"}` is 180 hosts.

A range in braces stands for each of its numbers, several ranges for each combination, the last one running fastest;
`{01..24}` keeps its leading zeros, `{1..4,7}` lists what it stands for. Hosts take their places in order, as many as
there are hosts. An address is that of the first host, the others count up from it; everything else is the same for all.
What is written later of one of them, such as `crew-7: {gateway: 10.44.1.2}`, adds to what the bulk says, or says
otherwise.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from itertools import cycle
from typing import Any, NamedTuple

from archipelago.addressing.values import InterfaceAddress
from archipelago.files.codecs import LEARNED, MOST_PORTS, name
from archipelago.files.ranges import Wrong, count_of, ranged, shown, texts
from archipelago.files.sections import BAD, Fields, Reader
from archipelago.model.key import Holder
from archipelago.model.parts import End, Path

MOST = 2_000_000
"""The most hosts, ports and interfaces that the ranges of one file make."""


class Total:
    """How many things the ranges of a file make, bounded before any is made."""

    def __init__(self, reader: Reader) -> None:
        self._reader = reader
        self._made = 0

    def add(self, path: Path, count: int) -> None:
        """Count some more.

        Raises:
            DocumentError: there are too many.
        """
        self._made += count
        if self._made > MOST:
            told = (
                f"the ranges of the file make more than {MOST:,} hosts, ports and interfaces; so many are read at most"
            )
            self._reader.add(path, told)
            self._reader.finish()


class Bulk(NamedTuple):
    """Some hosts declared at once: the pattern of their names, how many there are, the pattern of their places, what
    they have in common as fields, and as it is written."""

    key: str
    size: int
    at: str
    fields: Fields
    written: Mapping[str, Any]


def take_out(reader: Reader, holder: Holder, total: Total) -> list[Bulk]:
    """Take the entries with ranges out of a document's `hosts`, so that those left are single hosts."""
    hosts = reader.tree.value.get("hosts")
    if not isinstance(hosts, dict):
        return []
    order = {key: number for number, key in enumerate(hosts)}
    keys = [key for key in hosts if ranged(key)]
    if keys:
        reader.tree.value["hosts"] = hosts = dict(hosts)  # an alias may stand for it elsewhere too
    bulks = [bulk for key in keys if (bulk := _bulk(reader, key, hosts.pop(key), holder, total)) is not None]
    for bulk in bulks if hosts else ():
        _complete(hosts, bulk, order)
    return bulks


def _bulk(reader: Reader, key: str, value: Any, holder: Holder, total: Total) -> Bulk | None:
    path: Path = ("hosts", key)
    before = len(reader.problems)
    at = value.get("at") if isinstance(value, dict) else None
    try:
        size = count_of(key)
        name(next(texts(key)))
    except Wrong as error:
        reader.add(path, str(error), key=True)
        return None
    first = value
    if isinstance(value, dict) and isinstance(at, str):
        try:
            places = count_of(at)
            first = {**value, "at": next(texts(at))}
            if "/" in at and places < size:
                told = f"{shown(at)} is {places:,} ports for the {size:,} hosts of {shown(key)}; each needs its own"
                reader.add((*path, "at"), told)
        except Wrong as error:
            reader.add((*path, "at"), str(error))
            return None
    section = reader.section((holder,), first, path)
    if section is BAD or len(reader.problems) > before:
        return None
    total.add(path, size)
    fields = section[1]
    for field in fields["addresses"]:
        if field not in LEARNED and field.value + size - 1 > field.prefix.usable()[1]:
            told = f"{size:,} hosts from {field} on do not fit into {field.prefix}; widen or move it"
            reader.add((*path, "address"), told)
    return Bulk(key, size, str(at), fields, value) if len(reader.problems) == before else None


def _complete(hosts: dict[str, Any], bulk: Bulk, order: Mapping[str, int]) -> None:
    """Give single entries that belong to a bulk the keys that they do not have of their own; where the bulk is written
    later, what it says stands."""
    for number, (host, at) in enumerate(zip(texts(bulk.key), cycle(texts(bulk.at)), strict=False)):
        own = hosts.get(host)
        if isinstance(own, dict):
            common = {**bulk.written, "at": at}
            if bulk.fields["addresses"]:
                common["address"] = [str(address) for address in _counted(bulk, number)]
            hosts[host] = {**own, **common} if order[bulk.key] > order[host] else {**common, **own}


def _counted(bulk: Bulk, number: int) -> list[InterfaceAddress | str]:
    addresses = bulk.fields["addresses"]
    return [
        address if address in LEARNED else InterfaceAddress(address.version, address.value + number, address.length)
        for address in addresses
    ]


def members(reader: Reader, bulks: list[Bulk], single: Mapping[str, Any]) -> Iterator[tuple[str, Fields]]:
    """Each host of each bulk with its fields, which are good until the next is asked for, but those that have an entry
    of their own."""
    seen: set[str] = set()
    marks = reader.tree.marks
    for bulk in bulks:
        mark = marks.get(("hosts", bulk.key))
        fields = dict(bulk.fields)
        where = "at" if "at" in fields else "place"
        counted = any(address not in LEARNED for address in fields["addresses"])
        hosts = list(texts(bulk.key))
        twice = seen.intersection(hosts)
        if twice:
            told = f"'{min(twice)}' is in another bulk too; each host has one place"
            reader.add(("hosts", bulk.key), told, key=True)
            return
        seen.update(hosts)
        if mark is not None:
            for host in hosts:
                marks.setdefault(("hosts", host), mark)
        for number, (host, place) in enumerate(zip(hosts, cycle(texts(bulk.at)), strict=False)):
            if host not in single:
                device, _, port = place.partition("/")
                fields[where] = End(device, port) if port else (device, None)
                if counted:
                    fields["addresses"] = tuple(_counted(bulk, number))
                yield host, fields


def spread(reader: Reader, total: Total) -> None:
    """Write out the ports and interfaces of devices that are declared in bulk: `p{1..24}: {access: crew}`."""
    devices = reader.tree.value.get("devices")
    with_ranges: list[tuple[str, str, dict[str, Any]]] = []
    sizes: dict[Path, int] = {}
    for device, item in devices.items() if isinstance(devices, dict) else ():
        for kind in ("ports", "interfaces"):
            parts = item.get(kind) if isinstance(item, dict) else None
            if isinstance(parts, dict) and any(map(ranged, parts)):
                with_ranges.append((device, kind, parts))
                for key in filter(ranged, parts):
                    path: Path = ("devices", device, kind, key)
                    sizes[path] = _size(reader, path)
                    total.add(path, sizes[path])
    for device, kind, parts in with_ranges:
        made: dict[str, Any] = {}
        reader.tree.value["devices"][device] = {**reader.tree.value["devices"][device], kind: made}
        for key, value in parts.items():
            path = ("devices", device, kind, key)
            _spread_one(reader, path, value, sizes.get(path), made)


def _size(reader: Reader, path: Path) -> int:
    """How many names a range makes; 0 where it cannot be read, with the problem noted."""
    key = str(path[-1])
    try:
        size = count_of(key)
        if size > MOST_PORTS:
            raise Wrong(f"{shown(key)} is {size:,} of them; at most {MOST_PORTS:,} are read")
    except Wrong as error:
        reader.add(path, str(error), key=True)
        return 0
    return size


def _spread_one(reader: Reader, path: Path, value: Any, size: int | None, into: dict[str, Any]) -> None:
    key = str(path[-1])
    if size is None:
        into[key] = {**into[key], **value} if _both_sections(into.get(key), value) else value
        return
    if not size:
        return
    marks = reader.tree.marks
    along = {word: list(texts(pattern)) for word, pattern in _running(value, size)}
    where, mark = path[:-1], marks.get(path) or marks.get(path[:-1])
    for number, part in enumerate(texts(key)):
        own = {**value, **{word: along_texts[number] for word, along_texts in along.items()}} if along else value
        into[part] = {**into[part], **own} if part in into and _both_sections(into[part], own) else own
        if mark is not None:
            marks.setdefault((*where, part), mark)


def _both_sections(first: Any, second: Any) -> bool:
    return isinstance(first, dict) and isinstance(second, dict)


def _running(value: Any, size: int) -> Iterator[tuple[str, str]]:
    """The values of a section that hold as many texts as its name, and so run along with it."""
    for word, item in value.items() if isinstance(value, dict) else ():
        try:
            if ranged(item) and count_of(item) == size:
                yield word, item
        except Wrong:
            continue
