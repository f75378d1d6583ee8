from __future__ import annotations

from archipelago.diagnosis import faults
from archipelago.diagnosis.stop import Stop
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Finding


def other_holder(index: NetworkIndex, stop: Stop, asked: str) -> Finding:
    """A packet that got to another holder of the address than who was asked: one address too many where both are in one
    routing table's world, else two worlds that nothing joins."""
    holders = index.holders(stop.target)
    taker = next((holder for holder in holders if holder.node.name == stop.node), None)
    meant = next((holder for holder in holders if holder.node.name == asked), None)
    if taker is not None and meant is not None and index.world_of(taker) == index.world_of(meant):
        return faults.duplicate_address(index, stop.target, (taker, meant))
    return faults.held_by_another(stop.target, stop.node, index.knowledge.nodes[asked])
