from __future__ import annotations

from archipelago.addressing.values import Address, source_for
from archipelago.diagnosis.cabling import partner_of
from archipelago.diagnosis.faults.hosts import mask_mismatch
from archipelago.diagnosis.faults.links import not_cabled, unexplained
from archipelago.diagnosis.faults.routing import next_hop_unusable
from archipelago.diagnosis.gateway_place import missing_end, without_gateway
from archipelago.diagnosis.interface_down import interface_down
from archipelago.diagnosis.kind import NEVER, Kind, finding
from archipelago.diagnosis.no_route import led_outside, no_route
from archipelago.diagnosis.outvoted import far_end_wrong, unheld_gateway
from archipelago.diagnosis.places import nic_path, unplugged
from archipelago.diagnosis.same_mac import same_mac
from archipelago.diagnosis.separated import no_answer, separated
from archipelago.diagnosis.stop import Stop
from archipelago.knowledge.devices import Node
from archipelago.knowledge.forwarding import route_to
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Finding
from archipelago.model.parts import Device, Path


def unanswered(index: NetworkIndex, node: Node, stop: Stop) -> Finding:
    """Nobody answered for the next hop, or for the target itself."""
    nic = node.nics[stop.interface]
    hop = stop.next_hop or stop.target
    source = source_for(nic.addresses, hop)
    if source is None:
        return unexplained(node.name, f"{node.name}/{nic.name} has no address to ask with")
    own = Held(node, nic, source)
    gateway = next((entry for entry in node.written.gateway if entry.address == hop), None)
    home = index.home_of(node, source) if node.kind in ("host", "switch") else None
    if (
        gateway is None
        and home is not None
        and home.address.length != source.length
        and not home.address.prefix.holds(hop)
    ):
        return mask_mismatch(own, home.address.prefix)
    if unplugged(index, node, nic):
        return _left(index, own, stop)
    holders = [other for other in index.holders(hop) if other.node is not node]
    if not holders:
        if gateway is not None and home is not None:
            return unheld_gateway(index, node, gateway, home)
        if gateway is not None:
            return without_gateway(index, node, own.address)
        return _nobody_holds(index, own, hop, stop)
    together = [other for other in holders if index.domains.together(own.endpoint, other.endpoint)]
    holder = (together or [other for other in holders if other.nic.up] or holders)[0]
    if holder.node.off or not holder.nic.up:
        return interface_down(index, holder)
    if not together:
        return separated(index, own, holder)
    twice = next(same_mac(index, node.name, holder.node.name), None)
    if twice is not None:
        return twice
    return no_answer(index, own, holder)


def _left(index: NetworkIndex, own: Held, stop: Stop) -> Finding:
    """The packet left by a port that nothing is plugged into: a cable is missing there, or a route to where it should
    have gone, or it was for the outside."""
    node = own.node
    end = node.attachments[own.nic.attachment or own.nic.name].members[0]
    partner = partner_of(index, end)
    if partner is not None:
        return not_cabled(index, end, partner)
    homes = index.homes_in(stop.target, stop.vrf)
    if homes:
        home = next((holder for holder in homes if holder.nic.up), homes[0])
        entry = route_to(index.knowledge.state(node.name), stop.target, stop.vrf)
        better = index.ways(stop.target.version).next_hop((node.name, stop.vrf), home.table)
        led = led_outside(index, node, entry, home.address.prefix, better)
        if led is not None:
            return led
    if homes or index.is_held(stop.target):
        return no_route(index, node, stop)
    return address_unheld(stop.next_hop or stop.target, node.name, own)


ADDRESS_UNHELD = Kind(
    "address-unheld", "error", "an address that nobody holds", "packets to {target} end at {device}", NEVER
)


def address_unheld(target: Address, at: str, home: Held | None) -> Finding:
    path: Path = nic_path(home) if home else ()
    where = f" in {home.address.prefix}" if home else ""
    return finding(
        ADDRESS_UNHELD,
        at=at,
        path=path,
        says=f"nobody holds {target}{where}",
        mend=f"give {target} to a host there, or ask for an address that is in use",
        target=target,
        device=at,
    )


def _nobody_holds(index: NetworkIndex, own: Held, hop: Address, stop: Stop) -> Finding:
    """The next hop of a static route, or the target itself, is held by nobody."""
    node = own.node
    missing = missing_end(index, own, index.knowledge.devices.values())
    if missing is not None:
        return missing
    wrong = far_end_wrong(index, own, hop)
    if wrong is not None:
        return wrong
    if hop != stop.target and isinstance(node.written, Device):
        for position, route in enumerate(node.written.routes):
            if route.next_hop.address == hop and route.destination.holds(stop.target):
                target = next((holder for holder in index.homes_in(stop.target, stop.vrf) if holder.nic.up), None)
                ways = index.ways(hop.version)
                better = ways.next_hop((node.name, stop.vrf), target.table) if target else None
                return next_hop_unusable(node, route, position, "nobody holds that next hop", better)
    return address_unheld(hop, node.name, own if node.kind != "host" else None)
