"""A packet that a filter ended."""

from __future__ import annotations

from archipelago.diagnosis import faults
from archipelago.diagnosis.stop import Stop
from archipelago.knowledge.devices import Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Finding


def filtered(index: NetworkIndex, node: Node, stop: Stop) -> Finding:
    """The line that decided. What it ends may be meant to end: whether that is a mistake is for the plan to say."""
    assert stop.refusal is not None
    return faults.filtered(node, stop)
