"""From the place where a packet stopped to the one mistake that stopped it: one rule for each reason."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from archipelago.diagnosis.broadcast import broadcast
from archipelago.diagnosis.cabling import own_fault
from archipelago.diagnosis.faults.interfaces import subnet_overlap, tag_missing
from archipelago.diagnosis.faults.links import switching_loop, unexplained
from archipelago.diagnosis.filtered import filtered
from archipelago.diagnosis.leased import retold
from archipelago.diagnosis.no_address import no_address
from archipelago.diagnosis.no_route import no_route
from archipelago.diagnosis.not_routing import not_routing
from archipelago.diagnosis.other_holder import other_holder
from archipelago.diagnosis.outvoted import astray_twin, contradiction, held_by_several
from archipelago.diagnosis.places import meant_for
from archipelago.diagnosis.routing_loop import routing_loop
from archipelago.diagnosis.stop import Stop
from archipelago.diagnosis.too_large import too_large
from archipelago.diagnosis.unanswered import unanswered
from archipelago.knowledge.devices import Node
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.reasons import Reason
from archipelago.model.finding import Finding

Rule = Callable[[NetworkIndex, Node, Stop], Finding]


def explain(index: NetworkIndex, stop: Stop, asked: str = "") -> Finding:
    """The mistake behind a stop, with the change that mends it. `asked` is who was asked, where it has a name."""
    found = _explained(index, stop, asked)
    return retold(index, found) or found


def _explained(index: NetworkIndex, stop: Stop, asked: str) -> Finding:
    astray = astray_twin(index, (stop.source, stop.target)) if stop.refusal is None else None
    if astray is not None and stop.reason is not Reason.STORM:
        return astray
    if stop.reason is Reason.OTHER_HOLDER:
        return other_holder(index, stop, asked)
    node = index.knowledge.nodes[stop.node]
    if stop.refusal is not None:
        return filtered(index, node, stop)
    if stop.reason is Reason.TOO_LARGE:
        return too_large(index, node, stop)
    own = own_fault(index, node)
    if own is not None:
        return own
    wrong = contradiction(index, node, (stop.source, stop.target))
    if wrong is not None and stop.reason is not Reason.STORM:
        return wrong
    rule = RULES.get(stop.reason)
    if rule is None:
        return unexplained(stop.node, f"the packet for {stop.target} ends at {stop.node}")
    return rule(index, node, stop)


def storm(index: NetworkIndex, node: Node, stop: Stop) -> Finding:
    """A broadcast that never ends."""
    loop = index.domains.loop_at((node.name, stop.interface))
    if loop is not None:
        return switching_loop(index, loop)
    return unexplained(node.name, "a broadcast never ended")


def cannot_send(index: NetworkIndex, node: Node, stop: Stop) -> Finding:
    """An interface that no frame leaves by."""
    nic = node.nics.get(stop.interface)
    towards = (own for own in node.nics.values() if any(held.prefix.holds(stop.target) for held in own.addresses))
    for mute in (own for own in (nic, *towards) if own is not None and not own.speaks):
        return tag_missing(index, node, mute, meant_for(index, mute))
    if nic is not None and nic.kind == "loopback":
        for own in (address for address in nic.addresses if address.prefix.holds(stop.target)):
            holders = index.holders(own.address)
            if len(holders) > 1:
                return held_by_several(index, own.address, holders)
            home = next((home for home in index.homes(stop.target) if home.node is not node), None)
            if home is not None:
                return subnet_overlap(Held(node, nic, own), home)
    return unexplained(stop.node, f"the packet for {stop.target} ends at {stop.node}")


RULES: Mapping[Reason, Rule] = {
    Reason.NO_ADDRESS: no_address,
    Reason.NO_ROUTE: no_route,
    Reason.UNANSWERED: unanswered,
    Reason.LOST: unanswered,
    Reason.NOT_ROUTING: not_routing,
    Reason.TTL_EXPIRED: routing_loop,
    Reason.BROADCAST: broadcast,
    Reason.CANNOT_SEND: cannot_send,
    Reason.STORM: storm,
}
"""What is behind each reason."""
