"""Filters that do nothing (named by no interface, lines that never decide), and filters that lock everybody out."""

from __future__ import annotations

from collections.abc import Iterator

from archipelago.audit.registry import rule
from archipelago.diagnosis import faults
from archipelago.knowledge.alike import alike_hosts
from archipelago.knowledge.devices import Nic
from archipelago.knowledge.forwarding import refused
from archipelago.knowledge.header import probe_header
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.covering import taker
from archipelago.model.filter_rules import unnamed_filters
from archipelago.model.filters import Probe
from archipelago.model.finding import Finding
from archipelago.model.parts import Host


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
            takers = [taker(line) for line in filter_.rules]
            for number, line in enumerate(filter_.rules):
                earlier = next((at for at, takes_all in enumerate(takers[:number]) if takes_all(line)), None)
                if earlier is not None:
                    yield faults.line_hidden(device, filter_, earlier, number)


MANAGED_BY = (Probe("tcp", 22), Probe("tcp", 443), Probe("udp", 161))
"""How a device is managed over the network (RFC 4253 4.1, RFC 8040 2.1, RFC 3417 3.2)."""


@rule
def locked_out(index: NetworkIndex) -> Iterator[Finding]:
    """A device that no host can manage any more, since a filter at each of its interfaces ends all that is for itself.
    Where there is a policy, that says who may."""
    if index.network.policy is not None or not any(device.filters for device in index.network.devices.values()):
        return
    sources = [group[0] for group in alike_hosts(index)]
    for name, device in index.network.devices.items():
        nics = [nic for nic in index.knowledge.devices[name].nics.values() if nic.up and nic.addresses]
        names = [nic.filter_in.name for nic in nics if nic.filter_in is not None]
        if names and sources and len(names) == len(nics) and not any(_lets_in(nic, sources) for nic in nics):
            yield faults.management_filtered(device, names)


def _lets_in(nic: Nic, sources: list[Host]) -> bool:
    """Whether the filter of an interface lets any of some hosts begin to manage its device by it."""
    return any(
        refused(nic, "in", probe_header(sender.address, own.address, probe)) is None
        for own in nic.addresses
        for host in sources
        for sender in host.addresses
        if sender.version == own.version
        for probe in MANAGED_BY
    )
