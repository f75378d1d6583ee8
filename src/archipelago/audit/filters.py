"""Filters that do nothing: named by no interface, or with lines that never decide."""

from __future__ import annotations

from collections.abc import Iterator

from archipelago.audit.registry import rule
from archipelago.diagnosis import faults
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.covering import takes_all
from archipelago.model.filter_rules import unnamed_filters
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
                earlier = next((at for at, other in enumerate(filter_.rules[:number]) if takes_all(other, line)), None)
                if earlier is not None:
                    yield faults.line_hidden(device, filter_, earlier, number)
