"""Subnets for named needs out of given spaces: the smallest that hold what is asked, never overlapping.

Pinned subnets come first, then those whose VLAN id can be made readable (where that is the convention), then the rest:
largest first, each out of the smallest free block that holds it, so that large blocks stay whole.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from functools import lru_cache
from typing import TypeVar

from archipelago.addressing.convention import FIRST, GatewayConvention, by_convention
from archipelago.addressing.free import FreeSpace, gaps
from archipelago.addressing.values import WIDTHS, Address, Prefix, parse_prefix
from archipelago.answer import Answer, OneLine
from archipelago.errors import CarveError

Label = TypeVar("Label")


@dataclass(frozen=True, slots=True, repr=False)
class Need(OneLine):
    """What one VLAN or link asks for.

    Args:
        name: how the need is called; unique.
        hosts: addresses for hosts, apart from gateways and headroom; `later`: how many there will be, where foreseen.
        vlan_id: 1 to 4094, or None where the need is no VLAN.
        gateways: addresses for gateways (0 for a link between routers).
        pinned: subnets that are decided already, at most one of each family.
        gateway: gateway addresses that are decided already, at most one of each family.
        lengths: prefix length by family where it is fixed (31 for a link, 64 for an IPv6 subnet).
        versions: the families wanted; by default all that the spaces have.
    """

    name: str
    hosts: int
    vlan_id: int | None = None
    gateways: int = 1
    pinned: tuple[Prefix, ...] = ()
    gateway: tuple[Address, ...] = ()
    lengths: Mapping[int, int] = field(default_factory=lambda: {6: 64})
    versions: tuple[int, ...] = (4, 6)
    later: int = 0


@dataclass(frozen=True, slots=True, repr=False)
class Allotment(OneLine):
    """One need's subnet in one family, with every figure a person asks of it. Counts are in addresses."""

    name: str
    vlan_id: int | None
    prefix: Prefix
    gateway: Address | None
    first: Address
    last: Address
    broadcast: Address | None
    usable: int
    hosts: int
    needed: int
    spare: int
    static: tuple[Address, Address] | None
    leases: tuple[Address, Address] | None
    reason: str


@dataclass(frozen=True, slots=True, repr=False)
class Carving(Answer):
    """The result: an allotment for each need and family in the order asked, and what stays free."""

    SHOWN = "carving.CARVE"

    spaces: tuple[Prefix, ...]
    allotments: tuple[Allotment, ...]
    reserved: tuple[Prefix, ...]
    free: tuple[Prefix, ...]

    @property
    def headline(self) -> str:
        """The answer in one line."""
        parts = []
        for version in (4, 6):
            spaces = [space for space in self.spaces if space.version == version]
            if not spaces:
                continue
            total = sum(space.size for space in spaces)
            left = sum(block.size for block in self.free if block.version == version)
            names = " and ".join(str(space) for space in spaces)
            count = sum(allotment.prefix.version == version for allotment in self.allotments)
            share = "over 99%" if 0.99 < left / total < 1 else f"{left / total:.0%}"
            addresses = f", {left:,} addresses" if version == 4 else ""
            parts.append(f"{count} subnet{'s' * (count != 1)} from {names}: {share} free{addresses}")
        return "; ".join(parts)


def carve(
    spaces: Sequence[Prefix],
    needs: Sequence[Need],
    *,
    reserved: Sequence[Prefix] = (),
    headroom: Fraction | float = Fraction(1, 4),
    gateway: GatewayConvention = FIRST,
    by_vlan_id: bool = False,
    leases: Fraction | float = Fraction(1, 2),
) -> Carving:
    """Allocate a subnet for each need in each family that the spaces have.

    Args:
        spaces: blocks to allocate from; IPv4 and IPv6 may be mixed.
        needs: what is asked for.
        reserved: blocks that must not be given out.
        headroom: free room kept in each subnet, as a share of the hosts asked for, rounded up.
        gateway: where a gateway's address sits.
        by_vlan_id: make the VLAN id readable in the subnet where it fits.
        leases: share of a subnet's usable addresses kept, at its upper end, for dynamic leases.

    Raises:
        CarveError: with every contradiction in what was asked, or with what does not fit and what would.
    """
    reasons = _contradictions(spaces, needs, reserved)
    if reasons:
        raise CarveError(reasons)
    given: dict[tuple[str, int], tuple[Prefix, str]] = {}
    free: list[Prefix] = []
    for version in sorted({space.version for space in spaces} | {p.version for need in needs for p in need.pinned}):
        own_spaces = [space for space in spaces if space.version == version]
        wanted = [need for need in needs if version in need.versions]
        left = _place(
            version=version,
            spaces=own_spaces,
            needs=wanted,
            reserved=reserved,
            headroom=headroom,
            by_vlan_id=by_vlan_id,
            given=given,
            reasons=reasons,
        )
        free.extend(left)
    if reasons:
        raise CarveError(reasons)
    allotments = [
        _allotment(need, *given[need.name, version], headroom, gateway, leases, reasons)
        for need in needs
        for version in (4, 6)
        if (need.name, version) in given
    ]
    if reasons:
        raise CarveError(reasons)
    return Carving(tuple(spaces), tuple(allotments), tuple(reserved), tuple(free))


def addresses_needed(need: Need, headroom: Fraction | float) -> int:
    """Addresses that interfaces will hold, headroom included; a need whose size is fixed (a link) has no headroom."""
    share = _exact(0 if 4 in need.lengths else headroom)
    return (hosts := max(need.hosts, need.later)) + need.gateways + -(-share.numerator * hosts // share.denominator)


@lru_cache(maxsize=64)
def _exact(share: Fraction | float) -> Fraction:
    return Fraction(share).limit_denominator(10_000)


def smallest_length(version: int, count: int) -> int:
    """The longest prefix length whose subnet holds `count` interfaces beside its unusable ends (RFC 1122)."""
    ends = 2 if version == 4 else 1
    return WIDTHS[version] - max((count + ends - 1).bit_length(), 2)


def _place(
    version: int,
    spaces: Sequence[Prefix],
    needs: Sequence[Need],
    reserved: Sequence[Prefix],
    headroom: Fraction | float,
    by_vlan_id: bool,
    given: dict[tuple[str, int], tuple[Prefix, str]],
    reasons: list[str],
) -> list[Prefix]:
    """Fill `given` for one family; what does not fit goes to `reasons`. Returns the blocks left free."""
    taken = [block for block in reserved if block.version == version]
    open_needs: list[tuple[int, int, Need]] = []
    for order, need in enumerate(needs):
        pin = next((prefix for prefix in need.pinned if prefix.version == version), None)
        if pin is not None:
            given[need.name, version] = pin, "pinned"
            taken.append(pin)
        elif spaces:
            length = need.lengths.get(version) or smallest_length(version, addresses_needed(need, headroom))
            open_needs.append((length, order, need))
    space = FreeSpace(version, gaps(spaces, taken))
    open_needs.sort(key=lambda item: (item[0], item[1]))
    remaining = []
    for length, order, need in open_needs:
        block = _readable(spaces, need.vlan_id, length, space) if by_vlan_id and need.vlan_id else None
        if block is None:
            remaining.append((length, order, need))
        else:
            given[need.name, version] = block, "VLAN id readable"
    failed: list[tuple[int, Need]] = []
    for length, _, need in remaining:
        block = space.take(length)
        if block is None:
            failed.append((length, need))
            continue
        why = "by size: the VLAN id does not fit here" if by_vlan_id and need.vlan_id else "by size"
        given[need.name, version] = block, why
    if failed:
        lengths = [length for length, _, _ in open_needs]
        reasons.extend(_shortage(version, spaces, taken, failed, lengths, space.largest()))
        return []
    return gaps(spaces, taken + [given[need.name, version][0] for _, _, need in open_needs])


def _readable(spaces: Sequence[Prefix], vlan_id: int, length: int, space: FreeSpace) -> Prefix | None:
    """A free block whose text shows the VLAN id: in IPv6 the digits of the subnet id; in IPv4 the third octet, or
    the second and third for an id over 255 (1210 becomes x.12.10.0)."""
    width = WIDTHS[space.version]
    if space.version == 6:
        if length != 64:
            return None
        shown = int(str(vlan_id), 16) << 64
    elif vlan_id <= 255:
        shown = vlan_id << 8
    else:
        shown = (vlan_id // 100) << 16 | (vlan_id % 100) << 8
    for holder in spaces:
        span = (1 << (width - holder.length)) - 1
        if shown & ~span:
            continue
        start = (holder.value & ~(0xFFFF << 64 if space.version == 6 else 0xFF00)) | shown
        wanted = Prefix(space.version, start, length)
        if wanted == wanted.supernet(length) and holder.covers(wanted) and space.take_exactly(wanted):
            return wanted
    if space.version == 4 and vlan_id <= 255:
        # A space smaller than a /16 fixes high bits of the third octet: the id is readable where they agree.
        for holder in spaces:
            wanted = Prefix(4, holder.value & ~0xFFFF | vlan_id << 8, length)
            if wanted == wanted.supernet(length) and holder.covers(wanted) and space.take_exactly(wanted):
                return wanted
    return None


def _shortage(
    version: int,
    spaces: Sequence[Prefix],
    taken: Sequence[Prefix],
    failed: Sequence[tuple[int, Need]],
    lengths: Sequence[int],
    largest: Prefix | None,
) -> list[str]:
    """Which needs found no room, how many addresses short, the largest free block, and what space would do."""
    width = WIDTHS[version]
    room = largest.size if largest else 0
    largest_text = f"the largest free block is {largest} ({room} addresses)" if largest else "nothing is free"
    reasons = [
        f"no room for '{need.name}': it needs a /{length} of {1 << (width - length)} addresses, "
        f"{(1 << (width - length)) - room} more than there is in one piece; {largest_text}"
        for length, need in failed[:5]
    ]
    if len(failed) > 5:
        short = sum(1 << (width - length) for length, _ in failed)
        reasons.append(f"and no room for {len(failed) - 5} more needs; {short} addresses short in all")
    reasons.append(_remedy(version, spaces, taken, lengths))
    return reasons


def _remedy(version: int, spaces: Sequence[Prefix], taken: Sequence[Prefix], lengths: Sequence[int]) -> str:
    total = sum(1 << (WIDTHS[version] - length) for length in lengths)
    fresh = WIDTHS[version] - (total - 1).bit_length()
    if fresh < 0:
        return f"no IPv{version} space is large enough for what is asked"
    for length in range(spaces[0].length - 1, -1, -1):
        grown = spaces[0].supernet(length)
        space = FreeSpace(version, gaps([grown, *(s for s in spaces[1:] if not grown.covers(s))], taken))
        if all(space.take(wanted) is not None for wanted in sorted(lengths)):
            return f"the smallest space that would do is {grown} in place of {spaces[0]}, or any free /{fresh}"
    return f"the smallest space that would do is any free /{fresh}"


def _allotment(
    need: Need,
    prefix: Prefix,
    reason: str,
    headroom: Fraction | float,
    convention: GatewayConvention,
    leases: Fraction | float,
    reasons: list[str],
) -> Allotment:
    version = prefix.version
    first, last = prefix.usable()
    usable = last - first + 1
    needed = addresses_needed(need, headroom)
    if need.hosts + need.gateways > usable:
        reasons.append(
            f"'{need.name}' is pinned to {prefix} with {usable} usable addresses, but needs "
            f"{need.hosts + need.gateways}: {need.hosts + need.gateways - usable} short; "
            f"pin it to a /{smallest_length(version, needed)} or leave it to be carved"
        )
    gateway = None
    if need.gateways:
        gateway = next((a for a in need.gateway if a.version == version), None) or by_convention(prefix, convention)
        if not first <= gateway.value <= last:
            asked = f"gateway {gateway}" if gateway in need.gateway else f"convention 'gateway: {convention.text}'"
            reasons.append(
                f"'{need.name}': {asked} falls outside the usable addresses of {prefix}, "
                f"{Address(version, first)} to {Address(version, last)}"
            )
    taken = None
    if gateway is not None:  # those that share it stand beside it
        along = (need.gateways - 1) * (1 if convention.offset > 0 else -1)
        taken = (min(gateway.value, gateway.value + along), max(gateway.value, gateway.value + along))
    static, lease = _ranges(version, first, last, taken, leases) if need.gateways else (None, None)
    return Allotment(
        name=need.name,
        vlan_id=need.vlan_id,
        prefix=prefix,
        gateway=gateway,
        first=Address(version, first),
        last=Address(version, last),
        broadcast=Address(4, prefix.last) if prefix.reserved_ends() else None,
        usable=usable,
        hosts=need.hosts,
        needed=needed,
        spare=usable - needed,
        static=static,
        leases=lease,
        reason=reason,
    )


def _ranges(
    version: int, first: int, last: int, gateways: tuple[int, int] | None, leases: Fraction | float
) -> tuple[tuple[Address, Address] | None, tuple[Address, Address] | None]:
    """The longest run beside the gateways, its lower part for static hosts and its upper part for leases."""
    if gateways is not None:
        below, above = (first, gateways[0] - 1), (gateways[1] + 1, last)
        first, last = max(below, above, key=lambda run: run[1] - run[0])
    count = last - first + 1
    if count <= 0:
        return None, None
    share = _exact(leases)
    leased = count * share.numerator // share.denominator
    border = last - leased
    return (
        (Address(version, first), Address(version, border)) if border >= first else None,
        (Address(version, border + 1), Address(version, last)) if leased else None,
    )


_NEVER_SPACE = (
    ("127.0.0.0/8", "the loopback addresses"),
    ("224.0.0.0/4", "the multicast addresses"),
    ("169.254.0.0/16", "the link-local addresses"),
    ("::1/128", "the loopback address"),
    ("ff00::/8", "the multicast addresses"),
    ("fe80::/10", "the link-local addresses"),
)
"""Blocks whose addresses are not for subnets (RFC 6890), and what they are. The whole of a family holds them too."""


def _contradictions(spaces: Sequence[Prefix], needs: Sequence[Need], reserved: Sequence[Prefix]) -> list[str]:
    """Everything in the question that cannot be meant, each as a sentence."""
    reasons = []
    if not spaces and any(not need.pinned for need in needs):
        reasons.append("there is no space to carve from; give at least one prefix such as 10.44.0.0/20")
    for space in spaces:
        for text, what in _NEVER_SPACE:
            if space.overlaps(parse_prefix(text)):
                reasons.append(f"space {space} holds {what}, {text}, which no subnet is given; name a block without it")
                break
    for name, count in Counter(need.name for need in needs).items():
        if count > 1:
            reasons.append(f"'{name}' is asked for {count} times; each need has a name of its own")
    by_id: dict[int, list[str]] = {}
    for need in needs:
        if need.vlan_id is not None:
            by_id.setdefault(need.vlan_id, []).append(need.name)
            if not 1 <= need.vlan_id <= 4094:
                reasons.append(f"'{need.name}' has VLAN id {need.vlan_id}; ids go from 1 to 4094 (IEEE 802.1Q)")
        if need.hosts < 0:
            reasons.append(f"'{need.name}' asks for {need.hosts} hosts; a count is 0 or more")
    reasons.extend(
        f"VLAN id {vlan_id} is used by {' and '.join(repr(name) for name in names)}; each VLAN has an id of its own"
        for vlan_id, names in by_id.items()
        if len(set(names)) > 1
    )
    pins = [(pin, f"subnet {pin} of '{need.name}'") for need in needs for pin in need.pinned]
    pins += [(block, f"reserved block {block}") for block in reserved]
    reasons += [
        f"{b} overlaps {a}; move one of them"
        for a, b in overlapping(pins)
        if not (a.startswith("reserved") and b.startswith("reserved"))
    ]
    reasons += [
        f"{b} overlaps {a}; write the larger alone"
        for a, b in overlapping((space, f"space {space}") for space in spaces)
    ]
    return reasons


def overlapping(blocks: Iterable[tuple[Prefix, Label]]) -> list[tuple[Label, Label]]:
    """The pairs of labels whose blocks share addresses, each block against the last wider one: n log n."""
    pairs = []
    open_blocks: list[tuple[Prefix, Label]] = []
    for prefix, label in sorted(blocks, key=lambda item: (item[0].version, item[0].value, item[0].length)):
        while open_blocks and not open_blocks[-1][0].overlaps(prefix):
            open_blocks.pop()
        if open_blocks:
            pairs.append((open_blocks[-1][1], label))
        open_blocks.append((prefix, label))
    return pairs
