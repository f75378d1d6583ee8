from __future__ import annotations

from archipelago.diagnosis import faults
from archipelago.diagnosis.faults import redundancy
from archipelago.diagnosis.no_home import no_home
from archipelago.diagnosis.stop import Stop
from archipelago.knowledge.devices import Node
from archipelago.knowledge.elected import Member
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Finding
from archipelago.model.parts import Device


def routing_off(index: NetworkIndex, node: Node, version: int) -> Finding:
    """A device that could route does not forward a family; where it is active in a virtual router, that is told."""
    elected = index.knowledge.elected
    for member in elected.members(node.name):
        if member.written.family == version and elected.active(member):
            return active_not_routing(index, member)
    return faults.routing_off(node, version)


def active_not_routing(index: NetworkIndex, active: Member) -> Finding:
    """The active member of a virtual router does not route its family."""
    families = sorted({*index.knowledge.devices[active.device].forwards, active.written.family})
    return redundancy.active_not_routing(active, [f"ipv{version}" for version in families])


def not_routing(index: NetworkIndex, node: Node, stop: Stop) -> Finding:
    """A packet for somebody else came to a station that does not forward its family."""
    version = stop.target.version
    if node.can_route:
        return routing_off(index, node, version)
    sender = index.knowledge.nodes[stop.passed[-2]] if len(stop.passed) > 1 else node
    for hop in sender.written.gateway:
        holders = index.holders(hop.address)
        if any(holder.node is node for holder in holders):
            if any(holder.node.can_route for holder in holders):
                return faults.duplicate_address(index, hop.address, holders)
            own = next((h for nic in sender.nics.values() for h in nic.addresses if h.version == version), None)
            home = index.home_of(sender, own) if own else None
            return faults.gateway_wrong(sender, hop, home, f"is {node.name}, which does not route")
    if isinstance(sender.written, Device):
        missing = no_home(index, stop.target, stop.vrf)
        if missing is not None:
            return missing
        for position, route in enumerate(sender.written.routes):
            if route.destination.holds(stop.target) and any(
                holder.node is node for holder in index.holders(route.next_hop.address)
            ):
                home = next(iter(index.homes_in(stop.target, stop.vrf)), None)
                better = index.ways(version).next_hop((sender.name, stop.vrf), home.table) if home else None
                return faults.next_hop_unusable(sender, route, position, f"{node.name} there does not route", better)
    return faults.unexplained(node.name, f"{node.name} does not route")
