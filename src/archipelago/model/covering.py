"""Lines of a filter that leave nothing to others."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from archipelago.addressing.values import WIDTHS, Prefix
from archipelago.model.filters import FilterRule, Ports, Traffic


def taker(line: FilterRule) -> Callable[[FilterRule], bool]:
    """What says of later lines whether one matches nothing that this line does not match. It is worked out once for
    all of them, since lines can name many prefixes."""
    of_source, of_destination = _holder(line.source), _holder(line.destination)

    def takes_all(later: FilterRule) -> bool:
        return (
            line.icmp_type in (None, later.icmp_type)
            and (later.answering or not line.answering)
            and of_destination(later.destination)
            and of_source(later.source)
            and all(any(_covers_kind(line, kind, later, other) for kind in line.traffic) for other in later.traffic)
            and _covers_ports(line.source_port, later.source_port)
        )

    return takes_all


def _covers_kind(line: FilterRule, kind: Traffic, later: FilterRule, other: Traffic) -> bool:
    """Whether a kind of traffic of a line takes all of another, destination ports included."""
    if kind.protocol != "any" and not (other.numbers and set(other.numbers) <= set(kind.numbers)):
        return False
    wanted = (other.ports,) if other.ports else later.destination_port
    return _covers_ports((kind.ports,) if kind.ports else line.destination_port, wanted)


def _holder(prefixes: Sequence[Prefix]) -> Callable[[Sequence[Prefix]], bool]:
    """What says whether every address of some prefixes is in these; none named stands for all."""
    if not prefixes:
        return lambda some: True
    held: dict[tuple[int, int], set[int]] = {}
    for prefix in prefixes:
        shift = WIDTHS[prefix.version] - prefix.length
        held.setdefault((prefix.version, shift), set()).add(prefix.value >> shift)

    def holds(some: Sequence[Prefix]) -> bool:
        return bool(some) and all(map(is_in, some))

    def is_in(prefix: Prefix) -> bool:
        own = WIDTHS[prefix.version] - prefix.length
        return any(
            version == prefix.version and shift >= own and prefix.value >> shift in values
            for (version, shift), values in held.items()
        )

    return holds


def _covers_ports(ranges: Sequence[Ports], later: Sequence[Ports]) -> bool:
    if not ranges:
        return True
    return bool(later) and all(any(a.first <= b.first and b.last <= a.last for a in ranges) for b in later)
