"""A carving as a table of subnets and as a picture of the space."""

from __future__ import annotations

from archipelago.addressing.carve import Allotment, Carving
from archipelago.addressing.values import Address, Prefix, inverse_mask_text, mask_text
from archipelago.views.table import Table, table


def subnets(carving: Carving) -> list[Table]:
    """One row for each VLAN; a table for each family."""
    found = []
    for version in (4, 6):
        rows = [one for one in carving.allotments if one.prefix.version == version]
        if not rows:
            continue
        columns: tuple[str, ...]
        cells: list[tuple[object, ...]]
        if version == 4:
            columns = (
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
                "leases",
                "how",
            )
            cells = [
                (
                    one.name,
                    one.vlan_id,
                    one.prefix,
                    mask_text(one.prefix),
                    inverse_mask_text(one.prefix),
                    one.gateway,
                    one.first,
                    one.last,
                    one.broadcast,
                    one.usable,
                    one.needed,
                    one.spare,
                    _range(one.static),
                    _range(one.leases),
                    one.reason,
                )
                for one in rows
            ]
        else:
            columns = ("name", "VLAN", "subnet", "gateway", "needed", "how")
            cells = [(one.name, one.vlan_id, one.prefix, one.gateway, one.needed, one.reason) for one in rows]
        found.append(table(f"IPv{version}", columns, cells, ("VLAN", "usable", "needed", "spare")))
    return found


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


def headline(carving: Carving) -> str:
    """The answer in one line."""
    parts = []
    for version in (4, 6):
        spaces = [space for space in carving.spaces if space.version == version]
        if not spaces:
            continue
        total = sum(space.size for space in spaces)
        left = sum(block.size for block in carving.free if block.version == version)
        names = " and ".join(str(space) for space in spaces)
        count = sum(one.prefix.version == version for one in carving.allotments)
        share = "over 99%" if 0.99 < left / total < 1 else f"{left / total:.0%}"
        parts.append(f"{count} subnets from {names}: {share} free" + (f", {left:,} addresses" if version == 4 else ""))
    return "; ".join(parts)


def picture(carving: Carving, most: int = 400) -> list[str]:
    """Each block of the space in order, given, reserved or free, with a bar whose length shows its size.

    Bars grow with the logarithm of the size: each character more is a block twice as large, from a single address.
    """
    found: list[str] = []
    for version in (4, 6):
        blocks: list[tuple[Prefix, str]] = [
            (one.prefix, _label(one)) for one in carving.allotments if one.prefix.version == version
        ]
        blocks += [(block, "reserved") for block in carving.reserved if block.version == version]
        blocks += [(block, "free") for block in carving.free if block.version == version]
        if not blocks:
            continue
        blocks.sort(key=lambda item: (item[0].value, item[0].length))
        width = max(len(str(prefix)) for prefix, _ in blocks)
        longest = max(_bar(prefix) for prefix, _ in blocks)
        for prefix, label in blocks[:most]:
            mark = {"free": ".", "reserved": "x"}.get(label, "#")
            found.append(f"{prefix!s:<{width}}  {mark * _bar(prefix):<{longest}}  {label}")
        if len(blocks) > most:
            found.append(f"and {len(blocks) - most} more blocks")
    return found


def _bar(prefix: Prefix) -> int:
    bits = prefix.size.bit_length()
    return max(1, bits if prefix.version == 4 else bits // 4)


def _label(one: Allotment) -> str:
    return f"{one.name} ({one.vlan_id})" if one.vlan_id else one.name
