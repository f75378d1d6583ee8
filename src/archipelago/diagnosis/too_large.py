"""A packet that was larger than an interface sends, or than a port passes."""

from __future__ import annotations

from archipelago.diagnosis import faults
from archipelago.diagnosis.stop import Stop
from archipelago.knowledge.devices import Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Finding


def too_large(index: NetworkIndex, node: Node, stop: Stop) -> Finding:
    """The port that dropped it in silence, or the interface that it did not fit."""
    length = stop.probe.length(stop.target.version)
    if stop.silent:
        return faults.mtu_mismatch(index, node, node.attachments[stop.interface], length)
    return faults.packet_too_large(index, node, node.nics[stop.interface], length, stop.told)
