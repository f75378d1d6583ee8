"""A packet that a filter ended."""

from __future__ import annotations

from archipelago.diagnosis import faults
from archipelago.diagnosis.outvoted import stray_address
from archipelago.diagnosis.stop import Stop
from archipelago.knowledge.devices import Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Finding
from archipelago.model.parts import Host


def filtered(index: NetworkIndex, node: Node, stop: Stop) -> Finding:
    """The line that decided. What it ends may be meant to end: whether that is a mistake is for the plan to say. Where
    an address of either end is astray, a right filter does not know it."""
    assert stop.refusal is not None
    for address in (stop.source, stop.target):
        holders = index.holders(address)
        host = holders[0].node.written if len(holders) == 1 else None
        astray = stray_address(index, host, address.version) if isinstance(host, Host) else None
        if astray is not None:
            return astray
    return faults.filtered(node, stop)
