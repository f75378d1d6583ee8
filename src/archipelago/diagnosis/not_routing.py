from __future__ import annotations

from archipelago.diagnosis.faults.hosts import gateway_wrong
from archipelago.diagnosis.faults.links import unexplained
from archipelago.diagnosis.faults.redundancy import addresses_text
from archipelago.diagnosis.faults.routing import does_not_route, next_hop_unusable
from archipelago.diagnosis.kind import OFTEN, Example, Kind, finding
from archipelago.diagnosis.no_home import no_home
from archipelago.diagnosis.outvoted import held_by_several
from archipelago.diagnosis.stop import Stop
from archipelago.knowledge.devices import Node
from archipelago.knowledge.elected import Member
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Edit, Finding
from archipelago.model.parts import Device, Path


def routing_off(index: NetworkIndex, node: Node, version: int) -> Finding:
    """A device that could route does not forward a family; where it is active in a virtual router, that is told."""
    elected = index.knowledge.elected
    for member in elected.members(node.name):
        if member.written.family == version and elected.active(member):
            return active_not_routing(index, member)
    return does_not_route(node, version)


ACTIVE_NOT_ROUTING = Kind(
    "active-not-routing",
    "error",
    "the active member of a virtual router does not route",
    "nobody gets beyond {address}",
    OFTEN,
    example=Example("pair", "devices: {core-1: {routing: [ipv4]}}"),
)


def active_not_routing(index: NetworkIndex, active: Member) -> Finding:
    """The active member of a virtual router does not route its family."""
    versions = sorted({*index.knowledge.devices[active.device].forwards, active.written.family})
    families = [f"ipv{version}" for version in versions]
    path: Path = ("devices", active.device, "routing")
    return finding(
        ACTIVE_NOT_ROUTING,
        at=active.device,
        path=path,
        says=f"{active} is active in {active.written}, and {active.device} does not route IPv{active.written.family}",
        mend=f"write 'routing: [{', '.join(families)}]' at {active.device}",
        edits=(Edit(path, families),),
        address=addresses_text(active),
    )


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
                return held_by_several(index, hop.address, holders)
            own = next((h for nic in sender.nics.values() for h in nic.addresses if h.version == version), None)
            home = index.home_of(sender, own) if own else None
            return gateway_wrong(sender, hop, home, f"is {node.name}, which does not route")
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
                return next_hop_unusable(sender, route, position, f"{node.name} there does not route", better)
    return unexplained(node.name, f"{node.name} does not route")
