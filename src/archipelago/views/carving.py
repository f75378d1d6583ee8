"""A carving as a table of subnets and as a picture of the space."""

from __future__ import annotations

from archipelago.addressing.carve import Allotment, Carving
from archipelago.addressing.values import Address, Prefix, inverse_mask_text, mask_text
from archipelago.views.face import Face, Part, set_apart
from archipelago.views.plain import plain_fields
from archipelago.views.schema import COUNT, PAIR, TEXT, maybe, record, several
from archipelago.views.table import Table, table


def subnets(carving: Carving) -> Table:
    """One row for each need, both families in it; in the order in which they were allotted."""
    names = list(dict.fromkeys(allotment.name for allotment in carving.allotments))
    by_need = {(allotment.name, allotment.prefix.version): allotment for allotment in carving.allotments}
    rows = [_row(name, by_need.get((name, 4)), by_need.get((name, 6))) for name in names]
    return table("subnets", COLUMNS, rows, ("VLAN", "usable", "needed", "spare"), LEAST)


FREE = "free"
LEAST = (
    "inverse mask",
    "broadcast",
    "mask",
    "IPv6 gateway",
    "static hosts",
    "DHCP range",
    "first",
    "last",
    "how",
    "usable",
    "spare",
)
"""The columns that a narrow terminal does without, in that order."""
COLUMNS = (
    "name",
    "VLAN",
    "subnet",
    "mask",
    "inverse mask",
    "gateway",
    "first",
    "last",
    "broadcast",
    "usable",
    "needed",
    "spare",
    "static hosts",
    "DHCP range",
    "IPv6 subnet",
    "IPv6 gateway",
    "how",
)


def _row(name: str, four: Allotment | None, six: Allotment | None) -> tuple[object, ...]:
    either = four or six
    assert either is not None
    reasons = dict.fromkeys(prefix.reason for prefix in (four, six) if prefix is not None)
    how = either.reason if len(reasons) < 2 else f"IPv4 {four.reason if four else ''}; IPv6 {six.reason if six else ''}"
    ours: tuple[object, ...] = ("", "", "", "", "", "", "", "", either.needed, "", "", "")
    if four is not None:
        ours = (
            four.prefix,
            mask_text(four.prefix),
            inverse_mask_text(four.prefix),
            four.gateway,
            four.first,
            four.last,
            four.broadcast,
            four.usable,
            four.needed,
            four.spare,
            _range(four.static),
            _range(four.leases),
        )
    return (name, either.vlan_id, *ours, *((six.prefix, six.gateway) if six else ("", "")), how)


def _range(ends: tuple[Address, Address] | None) -> str:
    """A range of addresses, its end shortened to what differs."""
    if ends is None:
        return "none"
    first, last = str(ends[0]), str(ends[1])
    if first == last:
        return first
    if ends[0].version == 4 and ends[0].value >> 8 == ends[1].value >> 8:
        return f"{first} to .{last.rpartition('.')[2]}"
    return f"{first} to {last}"


def picture(carving: Carving, most: int = 400) -> list[str]:
    """Each block of the space in order, given, reserved or free, with a bar whose length shows its size.

    Bars grow with the logarithm of the size: each character more is a block twice as large, from a single address.
    """
    rows: list[str] = []
    for version in (4, 6):
        blocks: list[tuple[Prefix, str]] = [
            (allotment.prefix, _label(allotment))
            for allotment in carving.allotments
            if allotment.prefix.version == version
        ]
        blocks += [(block, "reserved") for block in carving.reserved if block.version == version]
        blocks += [(block, FREE) for block in carving.free if block.version == version]
        if not blocks:
            continue
        blocks.sort(key=lambda item: (item[0].value, item[0].length))
        if version == 6:
            blocks = _thinned(blocks)
        width = max(len(str(prefix)) for prefix, _ in blocks)
        longest = max(_bar(prefix) for prefix, _ in blocks)
        for prefix, label in blocks[:most]:
            mark = {FREE: ".", "reserved": "x"}.get(label, "#")
            rows.append(f"{prefix!s:<{width}}  {mark * _bar(prefix):<{longest}}  {label}")
        if len(blocks) > most:
            rows.append(f"and {len(blocks) - most} more blocks")
    return rows


def _thinned(blocks: list[tuple[Prefix, str]]) -> list[tuple[Prefix, str]]:
    """Free blocks that follow one another, told as the largest of them: what an IPv6 space leaves free is no news."""
    kept: list[tuple[Prefix, str]] = []
    for prefix, label in blocks:
        if label == FREE and kept and kept[-1][1] == FREE:
            kept[-1] = (min(kept[-1][0], prefix, key=lambda block: block.length), FREE)
        else:
            kept.append((prefix, label))
    return kept


def _bar(prefix: Prefix) -> int:
    bits = prefix.size.bit_length()
    return max(1, bits if prefix.version == 4 else bits // 4)


def _label(allotment: Allotment) -> str:
    return f"{allotment.name} ({allotment.vlan_id})" if allotment.vlan_id else allotment.name


def _body(carving: Carving) -> list[Part]:
    return [*set_apart([subnets(carving)]), "", *picture(carving)]


SHAPE = record(
    spaces=several(TEXT)("prefixes"),
    allotments=several(
        record(
            name=TEXT,
            vlan_id=maybe(COUNT),
            prefix=TEXT,
            gateway=maybe(TEXT),
            first=TEXT,
            last=TEXT,
            broadcast=maybe(TEXT),
            usable=COUNT("addresses"),
            hosts=COUNT,
            needed=COUNT("hosts, gateways and headroom"),
            spare=COUNT("usable less needed"),
            static=maybe(PAIR)("first and last address"),
            leases=maybe(PAIR)("first and last address"),
            reason=TEXT,
        )
    ),
    reserved=several(TEXT)("prefixes"),
    free=several(TEXT)("prefixes"),
)


CARVE = Face(
    name="carve",
    verb="carve",
    shape=SHAPE,
    values=plain_fields,
    tables=lambda carving: [subnets(carving)],
    body=_body,
    rows=lambda carving: carving.allotments,
    picture="space.space_picture",
)
