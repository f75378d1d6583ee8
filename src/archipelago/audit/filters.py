"""Filters that do nothing: named by no interface, or with lines that never decide."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from archipelago.addressing.values import Prefix
from archipelago.audit.registry import rule
from archipelago.diagnosis import faults
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.filter_rules import unnamed_filters
from archipelago.model.filters import FilterRule, Ports, Traffic
from archipelago.model.finding import Finding


@rule
def unnamed(index: NetworkIndex) -> Iterator[Finding]:
    """A filter that no interface names sees nothing."""
    for device in index.network.devices.values():
        for filter_ in unnamed_filters(device) if device.filters else ():
            yield faults.filter_unnamed(device, filter_)


@rule
def hidden_lines(index: NetworkIndex) -> Iterator[Finding]:
    """A line that never decides, because an earlier one takes all that it speaks of."""
    for device in index.network.devices.values():
        for filter_ in device.filters.values():
            for number, line in enumerate(filter_.rules):
                earlier = next((at for at, other in enumerate(filter_.rules[:number]) if _takes_all(other, line)), None)
                if earlier is not None:
                    yield faults.line_hidden(device, filter_, earlier, number)


def _takes_all(line: FilterRule, later: FilterRule) -> bool:
    """Whether a line matches everything that a later one does."""
    return (
        all(any(_covers_kind(line, kind, later, other) for kind in line.traffic) for other in later.traffic)
        and _covers_prefixes(line.source, later.source)
        and _covers_prefixes(line.destination, later.destination)
        and _covers_ports(line.source_port, later.source_port)
        and line.icmp_type in (None, later.icmp_type)
        and (later.answering or not line.answering)
    )


def _covers_kind(line: FilterRule, kind: Traffic, later: FilterRule, other: Traffic) -> bool:
    """Whether a kind of traffic of a line takes all of another, destination ports included."""
    if kind.protocol != "any" and not (other.numbers and set(other.numbers) <= set(kind.numbers)):
        return False
    wanted = (other.ports,) if other.ports else later.destination_port
    return _covers_ports((kind.ports,) if kind.ports else line.destination_port, wanted)


def _covers_prefixes(prefixes: Sequence[Prefix], later: Sequence[Prefix]) -> bool:
    """Whether every address of some prefixes is in others; none named stands for all."""
    if not prefixes:
        return True
    return bool(later) and all(any(prefix.covers(other) for prefix in prefixes) for other in later)


def _covers_ports(ranges: Sequence[Ports], later: Sequence[Ports]) -> bool:
    if not ranges:
        return True
    return bool(later) and all(any(a.first <= b.first and b.last <= a.last for a in ranges) for b in later)
