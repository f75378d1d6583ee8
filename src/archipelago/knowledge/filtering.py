"""What a filter says of a packet: one function for both engines, the diagnosis and the audit."""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Iterator
from typing import Literal, NamedTuple

from archipelago.addressing.values import WIDTHS, Address, Prefix
from archipelago.knowledge.header import Header
from archipelago.model.filters import ICMP, ICMP_V6, TCP, VRRP, Action, Filter, FilterRule, IcmpType, Ports

Way = Literal["in", "out"]
"""Whether a filter sees what comes in by its interface, or what is forwarded out by it."""
NEIGHBOURS = range(133, 138)
"""The ICMPv6 types of router advertisement, neighbour discovery and redirects (RFC 4861 4)."""
_ERRORS = frozenset({3, 4, 5, 11, 12})
"""ICMP's errors (RFC 792); in ICMPv6 those below 128 are (RFC 4443 2.1)."""
_ECHO = {"request": {ICMP: 8, ICMP_V6: 128}, "reply": {ICMP: 0, ICMP_V6: 129}}


class Judged(NamedTuple):
    """What a filter does with a packet, and the number of the line that says so, from 1; None for `otherwise`."""

    action: Action
    line: int | None

    @property
    def passes(self) -> bool:
        return self.action == "accept"


class Refusal(NamedTuple):
    """A packet that a filter ended: at which interface, which way, by which filter and which of its lines."""

    interface: str
    way: Way
    filter: str
    judged: Judged

    @property
    def line_text(self) -> str:
        """The line as people call it: `line 3`, or `otherwise`."""
        return f"line {self.judged.line}" if self.judged.line is not None else "otherwise"

    def __str__(self) -> str:
        return f"filter {self.filter} at {self.interface} ({self.way}), {self.line_text}: {self.judged.action}"


def judge(filter_: Filter, header: Header) -> Judged:
    """The first line that matches decides; after the last, `otherwise`. What neighbours and routers need to find each
    other is never filtered."""
    if never_filtered(header):
        return Judged("accept", None)
    for number, rule in enumerate(filter_.rules, 1):
        if (
            speaks_of(rule, header)
            and _holds(rule.source, header.source)
            and _holds(rule.destination, header.destination)
            and both_families_named(rule, header.destination.version)
        ):
            return Judged(rule.action, number)
    return Judged(filter_.otherwise, None)


def never_filtered(header: Header) -> bool:
    """VRRP, neighbour discovery and router advertisement pass every filter."""
    return header.protocol == VRRP or (header.protocol == ICMP_V6 and header.icmp_type in NEIGHBOURS)


def speaks_of(rule: FilterRule, header: Header) -> bool:
    """Whether all conditions of a rule hold but those on addresses."""
    return (
        any(_is_kind(kind.protocol, kind.numbers, kind.ports, header) for kind in rule.traffic)
        and _in_ranges(rule.destination_port, header.destination_port)
        and _in_ranges(rule.source_port, header.source_port)
        and (rule.icmp_type is None or _is_type(rule.icmp_type, header))
        and (not rule.answering or (header.protocol == TCP and header.answering))
    )


def but_addresses(rule: FilterRule) -> Hashable:
    """All conditions of a rule but those on addresses: rules with the same speak of the same packets, as `speaks_of`
    says."""
    return rule.traffic, rule.destination_port, rule.source_port, rule.icmp_type, rule.answering


def both_families_named(rule: FilterRule, version: int) -> bool:
    """Whether a rule speaks of a family: one that names prefixes speaks of their families only."""
    return all(
        not prefixes or any(prefix.version == version for prefix in prefixes)
        for prefixes in (rule.source, rule.destination)
    )


def of_family(prefixes: tuple[Prefix, ...], version: int) -> Iterator[Prefix]:
    """The entries of a list that are of a family."""
    return (prefix for prefix in prefixes if prefix.version == version)


def address_pieces(lists: Iterable[tuple[Prefix, ...]], version: int) -> list[int]:
    """The first address of each piece of the address space that some lists of prefixes tell apart."""
    named = {prefix for prefixes in lists for prefix in of_family(prefixes, version)}
    end = 1 << WIDTHS[version]
    return sorted({0, *(at for prefix in named for at in (prefix.value, prefix.last + 1) if at < end)})


def _holds(prefixes: tuple[Prefix, ...], address: Address) -> bool:
    return not prefixes or any(prefix.holds(address) for prefix in prefixes)


def _is_kind(protocol: str, numbers: tuple[int, ...], ports: Ports | None, header: Header) -> bool:
    """Whether a packet is of a kind of traffic. Protocol 1 is ICMP in IPv4 only, 58 in IPv6 only."""
    if protocol == "any":
        return True
    if header.protocol not in numbers:
        return False
    if header.protocol == ICMP and header.destination.version != 4:
        return False
    if header.protocol == ICMP_V6 and header.destination.version != 6:
        return False
    return ports is None or ports.first <= header.destination_port <= ports.last


def _in_ranges(ranges: tuple[Ports, ...], port: int) -> bool:
    return not ranges or any(ports.first <= port <= ports.last for ports in ranges)


def _is_type(wanted: IcmpType, header: Header) -> bool:
    if header.protocol not in (ICMP, ICMP_V6):
        return False
    if wanted == "error":
        return header.icmp_type in _ERRORS if header.protocol == ICMP else header.icmp_type < 128
    return header.icmp_type == _ECHO[wanted][header.protocol]
