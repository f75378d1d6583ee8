"""Lines of a filter that leave nothing to others."""

from __future__ import annotations

from collections.abc import Sequence

from archipelago.addressing.values import Prefix
from archipelago.model.filters import FilterRule, Ports, Traffic


def takes_all(line: FilterRule, later: FilterRule) -> bool:
    """Whether a line matches everything that a later one does."""
    return (
        line.icmp_type in (None, later.icmp_type)
        and (later.answering or not line.answering)
        and all(any(_covers_kind(line, kind, later, other) for kind in line.traffic) for other in later.traffic)
        and _covers_prefixes(line.source, later.source)
        and _covers_prefixes(line.destination, later.destination)
        and _covers_ports(line.source_port, later.source_port)
    )


def _covers_kind(line: FilterRule, kind: Traffic, later: FilterRule, other: Traffic) -> bool:
    """Whether a kind of traffic of a line takes all of another, destination ports included."""
    if kind.protocol != "any" and not (other.numbers and set(other.numbers) <= set(kind.numbers)):
        return False
    wanted = (other.ports,) if other.ports else later.destination_port
    return _covers_ports((kind.ports,) if kind.ports else line.destination_port, wanted)


def _covers_prefixes(prefixes: Sequence[Prefix], later: Sequence[Prefix]) -> bool:
    """Whether every address of some prefixes is in others; none named stands for all."""
    if not prefixes or prefixes == later:
        return True
    return bool(later) and all(any(prefix.covers(other) for prefix in prefixes) for other in later)


def _covers_ports(ranges: Sequence[Ports], later: Sequence[Ports]) -> bool:
    if not ranges:
        return True
    return bool(later) and all(any(a.first <= b.first and b.last <= a.last for a in ranges) for b in later)
