"""Where a way ends, from the number that the arrays give it to what the diagnosis is told."""

from __future__ import annotations

from dataclasses import replace
from typing import NamedTuple

from archipelago.addressing.values import source_for
from archipelago.diagnosis.stop import Direction, Stop
from archipelago.knowledge.devices import Node
from archipelago.knowledge.ends import first_address
from archipelago.knowledge.forwarding import asking_address
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.reasons import Reason
from archipelago.knowledge.routes import Entry
from archipelago.reachability.families import Decided


class Code(NamedTuple):
    """The end of a way: the family, its number, and whether it is the way back."""

    version: int
    code: int
    back: bool


def stop_of(index: NetworkIndex, answer: Decided, end: Code, source: Node, target: Node) -> Stop:
    """Where a packet from one host to another stops, as the simulation would tell it."""
    outcome = answer.outcomes[end.version]
    codes, family = outcome.codes, outcome.family
    to, own = first_address(target, end.version), first_address(source, end.version)
    assert to is not None and own is not None
    if end.back:  # a reply goes to the address that the question came from
        to = source_for(next(iter(target.nics.values())).addresses, own).address  # type: ignore[union-attr]
    else:
        own = source_for(next(iter(source.nics.values())).addresses, to).address  # type: ignore[union-attr]
    rows, code = list(family.rows), end.code

    def stop(place: int, reason: Reason, interface: str = "") -> Stop:
        name, vrf = rows[place] if place < len(rows) else (source.name, "")
        direction: Direction = "back" if end.back else "out"
        return Stop(direction, name, reason, source=own, target=to, interface=interface, vrf=vrf)

    if code < codes.states:
        return stop(codes.row(code), Reason.TTL_EXPIRED)
    if code < codes.broadcast:
        return stop(code - codes.no_route, Reason.NO_ROUTE)
    if code < codes.delivered:
        return stop(code - codes.broadcast, Reason.BROADCAST)
    if code >= outcome.refused_code and outcome.crossings is not None:
        guard, refusal = outcome.crossings.guards.refusal(code - outcome.refused_code)
        reason = Reason.REJECTED if refusal.judged.action == "reject" else Reason.FILTERED
        stopped = Stop("back" if end.back else "out", guard.device, reason, source=own, target=to)
        return replace(stopped, interface=guard.interface, refusal=refusal, probe=answer.probe)
    at = code - codes.entry
    entry = family.entries.written[at]
    return _beyond(index, stop(int(family.entries.place[at]), Reason.UNANSWERED, entry.interface), entry)


def _beyond(index: NetworkIndex, stop: Stop, entry: Entry) -> Stop:
    """Where a packet that left by a route stopped: nothing can leave there, broadcasts never end there, whoever
    it was delivered to does not forward it, or nobody answered."""
    next_hop = entry.next_hop or stop.target
    if asking_address(index.knowledge.nodes[stop.node].nics[entry.interface], next_hop) is None:
        return replace(stop, reason=Reason.CANNOT_SEND)
    endpoint = (stop.node, entry.interface)
    if index.domains.loop_at(endpoint) is not None:
        return replace(stop, reason=Reason.STORM)
    holder = index.neighbour(endpoint, entry.next_hop) if entry.next_hop is not None else None
    if holder is not None and holder.node.name != stop.node:
        return replace(
            stop,
            node=holder.node.name,
            reason=Reason.NOT_ROUTING,
            interface=holder.nic.name,
            vrf=holder.nic.vrf,
            passed=(stop.node, holder.node.name),
        )
    return replace(stop, next_hop=next_hop, passed=(stop.node,))
