"""Filters that no traffic comes to: the classic after a gateway has moved to another device."""

from __future__ import annotations

from collections.abc import Iterator

from archipelago.diagnosis import faults
from archipelago.errors import QueryError
from archipelago.knowledge.devices import Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import know
from archipelago.knowledge.outside import with_outside
from archipelago.model.finding import Finding
from archipelago.reachability.build import build_arrays
from archipelago.reachability.engine import decide


def idle_filters(index: NetworkIndex) -> Iterator[Finding]:
    """A finding for each filter at an interface that nothing comes to which hosts, or the outside, send each other."""
    if not any(device.filters for device in index.network.devices.values()):
        return
    try:
        knowledge = know(with_outside(index.knowledge)[0])
    except QueryError:  # somebody of ours is called as the outside is
        knowledge = index.knowledge
    arrays = build_arrays(knowledge)
    met: set[tuple[str, str, bool]] = set()
    every: dict[tuple[str, str, bool], None] = {}
    for version in arrays.families:
        crossings = decide(arrays, version).crossings
        if crossings is not None:
            seen = crossings.seen()
            for number, guard in enumerate(crossings.guards.every):
                place = guard.device, guard.interface, guard.inwards
                every[place] = None
                if number in seen:
                    met.add(place)
    for device, interface, inwards in every:
        if (device, interface, inwards) in met:
            continue
        node = index.knowledge.devices[device]
        nic = node.nics[interface]
        filter_ = nic.filter_in if inwards else nic.filter_out
        if filter_ is not None and nic.up:
            way = "in" if inwards else "out"
            yield faults.filter_idle((node, interface, way), filter_, _passes(index, node, interface))


def _passes(index: NetworkIndex, node: Node, interface: str) -> str:
    """Where hosts of the interface's own subnets send their traffic instead."""
    subnets = {address.prefix for address in node.nics[interface].addresses}
    gateways = {
        hop.address
        for host in index.knowledge.network.hosts.values()
        if any(address.prefix in subnets for address in host.addresses)
        for hop in host.gateway
    }
    for gateway in sorted(gateways):
        for holder in index.holders(gateway):
            if holder.node.kind != "host" and (holder.node.name, holder.nic.name) != (node.name, interface):
                return f", at {holder.node.name}/{holder.nic.name}"
    return ""
