from __future__ import annotations

from archipelago.addressing.values import Address
from archipelago.diagnosis.faults.words import node_path
from archipelago.diagnosis.kind import NEVER, Kind, finding
from archipelago.diagnosis.outvoted import held_by_several
from archipelago.diagnosis.stop import Stop
from archipelago.knowledge.devices import Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Finding


def other_holder(index: NetworkIndex, stop: Stop, asked: str) -> Finding:
    """A packet that got to another holder of the address than who was asked: one address too many where both are in one
    routing table's world, else two worlds that nothing joins."""
    holders = index.holders(stop.target)
    taker = next((holder for holder in holders if holder.node.name == stop.node), None)
    meant = next((holder for holder in holders if holder.node.name == asked), None)
    if taker is not None and meant is not None and index.world_of(taker) == index.world_of(meant):
        world = index.world_of(taker)
        return held_by_several(index, stop.target, tuple(one for one in holders if index.world_of(one) == world))
    return held_by_another(stop.target, stop.node, index.knowledge.nodes[asked])


HELD_BY_ANOTHER = Kind(
    "held-by-another",
    "error",
    "an address that another holds in the routing table that it was asked for in",
    "{name} is never asked",
    NEVER,
)


def held_by_another(address: Address, holder: str, asked: Node) -> Finding:
    """An address that is somebody else's in the routing table that it was asked for in."""
    return finding(
        HELD_BY_ANOTHER,
        at=asked.name,
        path=node_path(asked),
        says=f"where the packet is, {address} is {holder}'s; {asked.name} holds it elsewhere",
        mend=f"give {asked.name} an address that {holder} does not hold, and join their routing tables",
        name=asked.name,
    )
