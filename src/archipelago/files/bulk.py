"""Hosts and ports declared in bulk: `crew-{1..180}: {vlan: crew, at: quay-{1..8}/p{1..24}}` is 180 hosts.

A range in braces stands for each of its numbers, several ranges for each combination, the last one running fastest;
`{01..24}` keeps its leading zeros. The hosts take the places in order, as many as there are hosts. An address is that
of the first host, the others count up from it; everything else is the same for all. An entry of its own for one of
the hosts, such as `crew-7: {gateway: 10.44.1.2}`, adds to what the bulk says of it, or says otherwise.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from itertools import cycle, product
from types import SimpleNamespace
from typing import Any, NamedTuple

from archipelago.addressing.values import InterfaceAddress
from archipelago.files import fields
from archipelago.files.check import Checker
from archipelago.files.shape import BAD, Field, Section, Wrong, read, shown
from archipelago.model.network import End, Path

RANGE = re.compile(r"\{(\d{1,7})\.\.(\d{1,7})\}")
MOST_PORTS = 4096
"""The most ports that one entry declares."""
MOST = 2_000_000
"""The most hosts that one file declares."""


def ranged(value: Any) -> bool:
    """Whether a text holds a range."""
    return isinstance(value, str) and "{" in value


def count_of(text: str) -> int:
    """How many texts a pattern stands for.

    Raises:
        Wrong: a range is not `{FIRST..LAST}` or runs backwards.
    """
    if text.count("{") != len(RANGE.findall(text)) or text.count("}") != text.count("{"):
        raise Wrong(f"{shown(text)} holds a brace that is no range; a range is written like {{1..24}}")
    total = 1
    for first, last in RANGE.findall(text):
        if int(last) < int(first):
            raise Wrong(f"'{{{first}..{last}}}' in {shown(text)} runs backwards; write {{{last}..{first}}}")
        total *= int(last) - int(first) + 1
    return total


def texts(pattern: str) -> Iterator[str]:
    """The texts that a pattern stands for, the last range running fastest."""
    parts = RANGE.split(pattern)
    fixed, ranges = parts[::3], list(zip(parts[1::3], parts[2::3], strict=True))
    choices = [[str(number).zfill(len(first)) for number in range(int(first), int(last) + 1)] for first, last in ranges]
    for numbers in product(*choices):
        yield "".join(a + b for a, b in zip(fixed, (*numbers, ""), strict=True))


class Bulk(NamedTuple):
    """Some hosts declared at once: the pattern of their names, how many there are, and what they have in common, as
    their section reads, and as it is written; `at` is a pattern too, `address` those of the first."""

    key: str
    size: int
    section: SimpleNamespace
    written: Mapping[str, Any]


def take_out(check: Checker, shape: Section) -> list[Bulk]:
    """Take the entries with ranges out of a document's `hosts`, so that those left are single hosts.

    Args:
        check: the document.
        shape: the keys of a single host.
    """
    hosts = check.tree.value.get("hosts") if isinstance(check.tree.value, dict) else None
    if not isinstance(hosts, dict):
        return []
    keys = [key for key in hosts if ranged(key)]
    found = [bulk for key in keys if (bulk := _bulk(check, key, hosts.pop(key), shape)) is not None]
    if sum(bulk.size for bulk in found) > MOST:
        check.add(("hosts",), f"more than {MOST:,} hosts are declared; so many are read at most")
        check.finish()
    for bulk in found if hosts else ():
        _complete(hosts, bulk)
    return found


def _complete(hosts: dict[str, Any], bulk: Bulk) -> None:
    """Give single entries that belong to a bulk the keys that they do not have of their own."""
    for number, (name, seat) in enumerate(zip(texts(bulk.key), cycle(texts(bulk.section.at)), strict=False)):
        if isinstance(one := hosts.get(name), dict):
            own = {**bulk.written, "at": seat}
            if bulk.section.address:
                own["address"] = [str(held) for held in _counted(bulk, number)]
            hosts[name] = {**own, **one}


def _counted(bulk: Bulk, number: int) -> list[InterfaceAddress | str]:
    return [one if one == fields.AUTO else one._replace(value=one.value + number) for one in bulk.section.address]


def spread_ports(check: Checker) -> None:
    """Write out the ports of devices that are declared in bulk: `p{1..24}: {access: crew}`."""
    devices = check.tree.value.get("devices") if isinstance(check.tree.value, dict) else None
    for device, one in devices.items() if isinstance(devices, dict) else ():
        ports = one.get("ports") if isinstance(one, dict) else None
        if not isinstance(ports, dict):
            continue
        for key in [key for key in ports if ranged(key)]:
            path: Path = ("devices", device, "ports", key)
            value = ports.pop(key)
            try:
                if count_of(key) > MOST_PORTS:
                    raise Wrong(f"'{key}' is {count_of(key):,} ports; at most {MOST_PORTS:,} are read")
            except Wrong as error:
                check.add(path, str(error), key=True)
                continue
            for name in texts(key):
                own = ports.get(name, {})
                both = isinstance(value, dict) and isinstance(own, dict)
                ports[name] = {**value, **own} if both and own else own or value
                check.tree.marks.setdefault((*path[:-1], name), check.tree.marks[path])


def _bulk(check: Checker, key: str, value: Any, shape: Section) -> Bulk | None:
    path: Path = ("hosts", key)
    before = len(check.problems)
    section = read(Section({**shape.fields, "at": Field(fields.text, required=True)}), value, path, check)
    if section is BAD:
        return None
    try:
        count = count_of(key)
        fields.name(next(texts(key)))
    except Wrong as error:
        check.add(path, str(error), key=True)
        return None
    try:
        places = count_of(section.at)
        shape.fields["at"].read(next(texts(section.at)))  # type: ignore[operator]
        if "/" in section.at and places < count:
            raise Wrong(f"'{section.at}' is {places:,} ports for the {count:,} hosts of '{key}'; each needs its own")
    except Wrong as error:
        check.add((*path, "at"), str(error))
    for held in fields.held(section.address):
        if held.value + count - 1 > held.prefix.usable()[1]:
            check.add(
                (*path, "address"), f"{count:,} hosts from {held} on do not fit into {held.prefix}; widen or move it"
            )
    return Bulk(key, count, section, value) if len(check.problems) == before else None


def members(check: Checker, bulks: list[Bulk], single: Mapping[str, Any]) -> Iterator[tuple[str, SimpleNamespace]]:
    """Each host of each bulk with its section, but those that have an entry of their own."""
    seen: set[str] = set()
    for bulk in bulks:
        common, mark = vars(bulk.section), check.tree.marks.get(("hosts", bulk.key))
        seats = cycle(texts(bulk.section.at))
        for number, name in enumerate(texts(bulk.key)):
            device, _, port = next(seats).partition("/")
            if name in seen and len(bulks) > 1:
                check.add(("hosts", bulk.key), f"'{name}' is in another bulk too; each host has one place", key=True)
                return
            seen.add(name)
            if mark is not None:
                check.tree.marks.setdefault(("hosts", name), mark)
            if name not in single:
                at = End(device, port) if port else (device, None)
                yield name, SimpleNamespace(**{**common, "at": at, "address": _counted(bulk, number)})
