"""Filters that do nothing (named by no interface, lines that never decide), and filters that lock everybody out."""

from __future__ import annotations

from collections.abc import Iterator

from archipelago.addressing.values import Address, Prefix
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


MOST_ENDS = 4
"""So many hosts are tried at each end of a line."""


@rule
def unmet_lines(index: NetworkIndex) -> Iterator[Finding]:
    """A line that no packet meets where its filter stands: what it names goes another way. Where gateways are shared,
    the ways change when one takes over, and nothing is said."""
    if index.knowledge.elected.any:
        return
    sources = [host for group in alike_hosts(index) for host in group[:1]]
    for device in index.network.devices.values():
        places: dict[str, list[tuple[str, bool]]] = {}
        for nic in index.knowledge.devices[device.name].nics.values():
            for inwards, filter_ in ((True, nic.filter_in), (False, nic.filter_out)):
                if filter_ is not None and nic.up:
                    places.setdefault(filter_.name, []).append((nic.name, inwards))
        for name, there in places.items():
            filter_ = device.filters[name]
            for number, line in enumerate(filter_.rules):
                ends = [_within(sources, prefixes) for prefixes in (line.source, line.destination)]
                pairs = [(a, b) for a in ends[0] for b in ends[1] if a[0] != b[0] and a[1].version == b[1].version]
                if pairs and not any(_meets(index, device.name, there, a[0], b[1]) for a, b in pairs):
                    yield faults.line_unmet(device, filter_, number, [interface for interface, _ in there])


def _within(hosts: list[Host], prefixes: tuple[Prefix, ...]) -> list[tuple[str, Address]]:
    """Some of the hosts that prefixes name, by the addresses that these hold; none where a line names none, or names
    what no host has."""
    found = [
        [(host.name, own.address) for host in hosts for own in host.addresses if prefix.holds(own)][:MOST_ENDS]
        for prefix in prefixes
    ]
    return [one for some in found for one in some] if all(found) else []


def _meets(index: NetworkIndex, device: str, places: list[tuple[str, bool]], source: str, destination: Address) -> bool:
    """Whether a packet comes in, or is forwarded out, at any of some interfaces of a device."""
    return any(
        at == device and ingress is not None and ((ingress, True) in places or (egress, False) in places)
        for at, ingress, egress in index.carrier.way(source, destination)
    )


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
