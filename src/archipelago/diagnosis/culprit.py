"""From the place where a packet stopped to the one mistake that stopped it."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass
from typing import Literal

from archipelago.addressing.values import WIDTHS, Address, InterfaceAddress, Prefix, source_for
from archipelago.diagnosis import faults
from archipelago.diagnosis.cut import attachment_fault, cut, link_fault
from archipelago.diagnosis.picture import (
    Held,
    Picture,
    host_attachment,
    host_end,
    meant_vlan,
    nic_path,
    plugged_vlan,
    sits_in,
    wanted_vlan,
)
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.routes import Entry
from archipelago.model.finding import Finding
from archipelago.model.network import Device, Host, NextHop

Why = Literal[
    "no-address", "no-route", "unanswered", "not-routing", "ttl-expired", "broadcast", "mute", "storm", "lost"
]


@dataclass(frozen=True, slots=True)
class Stop:
    """Where a packet stopped. `hop` is whom the node asked for; `passed` the stations it had passed, in order."""

    direction: Literal["out", "back"]
    node: str
    why: Why
    source: Address
    target: Address
    interface: str = ""
    hop: Address | None = None
    passed: tuple[str, ...] = ()


def culprit(view: Picture, stop: Stop) -> Finding:
    """The mistake behind a stop, with the change that mends it."""
    node = view.knowledge.nodes[stop.node]
    if node.off:
        return faults.switched_off(
            faults.node_path(node), node.name, node.name, f"nothing gets in or out of {node.name}"
        )
    if node.kind == "host":
        blocked = link_fault(view, host_end(node.name))
        if blocked is not None:
            return blocked
    if stop.why == "storm":
        return _storm(view, node, stop)
    if stop.why in ("no-route", "no-address"):
        return _no_route(view, node, stop)
    if stop.why in ("unanswered", "lost"):
        return _unanswered(view, node, stop)
    if stop.why == "not-routing":
        return _not_routing(view, node, stop)
    if stop.why == "ttl-expired":
        return _circling(view, stop)
    if stop.why == "broadcast":
        wrong = _own_mask(view, node, stop.target)
        if wrong is not None:
            return wrong
        holder = next((held for held in view.holders.get(stop.target, ()) if held.node.kind == "host"), None)
        home = next(iter(view.homes(stop.target)), None)
        if holder and home and holder.address.length != home.address.length:
            return faults.mask_differs(holder, home.address.prefix)
        entry = node.routes.lookup(vrf_of(node, stop.interface), stop.target)
        return faults.address_broadcast(view, stop.target, entry.prefix if entry else Prefix(4, stop.target.value, 32))
    if stop.why == "mute":
        nic = node.nics.get(stop.interface)
        if nic is not None and not nic.speaks:
            return faults.tag_missing(view, node, nic, meant_for(view, nic))
    return faults.unexplained(stop.node, f"the packet for {stop.target} ends at {stop.node}")


def _own_mask(view: Picture, node: Node, target: Address) -> Finding | None:
    """The mistake in the sender's own mask, where that makes it take the target for a broadcast address."""
    for nic in node.nics.values() if node.kind in ("host", "switch") else ():
        for held in nic.addresses:
            home = view.home_of(node, held)
            if held.prefix.holds(target) and home is not None and home.address.length != held.length:
                return faults.mask_differs(Held(node, nic, held), home.address.prefix)
    return None


def vrf_of(node: Node, interface: str) -> str:
    nic = node.nics.get(interface)
    return nic.vrf if nic else ""


def _storm(view: Picture, node: Node, stop: Stop) -> Finding:
    number = view.domains.of.get((node.name, stop.interface))
    if number is not None and number in view.domains.loops:
        return faults.switching_loop(view, view.domains.loops[number])
    return faults.unexplained(node.name, "a broadcast never ended")


def meant_for(view: Picture, nic: Nic) -> int | None:
    """The VLAN that an interface belongs in: where the hosts of its subnet are, else where another interface of the
    same subnet stands."""
    for held in nic.addresses:
        vlan = meant_vlan(view, held.prefix)
        if vlan is not None:
            return vlan
        for other in view.homes(held):
            if other.nic is not nic and other.nic.vlan is not None and other.address.prefix == held.prefix:
                return other.nic.vlan
    return None


# No route


def _no_route(view: Picture, node: Node, stop: Stop) -> Finding:
    version = stop.target.version
    if node.kind == "host" or version not in node.forwards:
        return _stuck_at_home(view, node, stop)
    homes = view.homes(stop.target)
    here = next((held for held in homes if held.node is node), None)
    if here is not None and not here.nic.up:
        return interface_down(view, here)
    away = next((held for held in homes if held.nic.up), None) or next(iter(homes), None)
    if away is not None and not away.nic.up:
        return interface_down(view, away)
    host = next((held for held in view.holders.get(stop.target, ()) if held.node.kind == "host"), None)
    beyond = host is not None and host.address.length == WIDTHS[version]  # it stands for the outside
    if host is not None and not homes and not beyond:
        return unplaced(view, host.node, host.address)
    idle = _idle_route(view, node, stop.target, None)
    if idle is not None:
        return idle
    if beyond and host is not None and isinstance(host.node.written, Host):
        edge = view.knowledge.nodes[host.node.written.at.device]
        breaks = f"packets from {stop.source} to the outside end at {node.name}"
        return faults.route_missing(node, Prefix(version, 0, 0), _way_out(view, node, edge, host.node, version), breaks)
    if away is not None:
        breaks = f"packets from {stop.source} to {stop.target} end at {node.name}"
        return faults.route_missing(node, away.address.prefix, next_hop(view, node, away.node, version), breaks)
    outside = Prefix(version, 0, 0)
    return faults.route_missing(node, outside, None, f"packets to {stop.target} end at {node.name}")


def _way_out(view: Picture, node: Node, edge: Node, outside: Node, version: int) -> Address | None:
    """The next hop towards the outside: beyond the edge's port at the edge itself, else the way to the edge."""
    if node is not edge:
        return next_hop(view, node, edge, version)
    held = [one for nic in outside.nics.values() for one in nic.addresses if one.version == version]
    return next((one.address for one in held if one.length < WIDTHS[version]), None)


def _idle_route(view: Picture, node: Node, target: Address, used: Entry | None) -> Finding | None:
    """Why a device does not use a static route that comes before the one it used, if it has one for the target."""
    least = (used.prefix.length, -used.metric) if used is not None else (-1, 0)
    matching = [unused for unused in node.routes.unused if unused.route.destination.holds(target)]
    first = max(matching, key=lambda one: (one.route.destination.length, -one.route.metric), default=None)
    if first is None or (first.route.destination.length, -first.route.metric) <= least:
        return None
    return dead_route(view, node, first.route.next_hop, target, first.reason)


def dead_route(view: Picture, node: Node, via: NextHop, target: Address, why: str) -> Finding:
    """A static route that matches but whose next hop is on no live connected subnet."""
    for nic in node.nics.values():
        for held in nic.addresses:
            if held.prefix.holds(via.address) and not nic.up:
                return interface_down(view, Held(node, nic, held))
    device = node.written
    assert isinstance(device, Device)
    for index, route in enumerate(device.routes):
        if route.next_hop == via and route.destination.holds(target):
            home = next((held for held in view.homes(target) if held.nic.up), None)
            hop = next_hop(view, node, home.node, target.version) if home else None
            return faults.route_dead(node, route, index, why, hop)
    return faults.gateway_wrong(node, via, None, "is on no connected subnet")


def next_hop(view: Picture, start: Node, goal: Node, version: int) -> Address | None:
    """The next hop of the shortest way from one routing device to another, over subnets that both share."""
    queue: deque[tuple[str, Address | None]] = deque([(start.name, None)])
    seen = {start.name}
    while queue:
        name, first = queue.popleft()
        if name == goal.name:
            return first
        for far, address in neighbours(view, view.knowledge.nodes[name], version):
            if far not in seen:
                seen.add(far)
                queue.append((far, first or address))
    return None


def neighbours(view: Picture, node: Node, version: int) -> list[tuple[str, Address]]:
    """The routing devices that share a live subnet and broadcast domain with one, and their addresses there."""
    found = []
    for nic in node.nics.values():
        for held in nic.addresses if nic.up else ():
            if held.version == version:
                for other in view.homes(held):
                    if (
                        other.node is not node
                        and version in other.node.forwards
                        and other.nic.up
                        and held.prefix.holds(other.address.address)
                        and view.domains.together((node.name, nic.name), other.foot)
                    ):
                        found.append((other.node.name, other.address.address))
    return found


def _stuck_at_home(view: Picture, node: Node, stop: Stop) -> Finding:
    """A host, or a device that does not route, knows no way: no address, no gateway, or one it cannot use."""
    version = stop.target.version
    own = [Held(node, nic, held) for nic in node.nics.values() for held in nic.addresses if held.version == version]
    if not own:
        if isinstance(node.written, Host):
            if node.written.auto and version == 6:
                return unadvertised(view, node, node.written)
            return faults.host_unaddressed(view, node.written, version)
        return faults.unexplained(node.name, f"{node.name} has no IPv{version} address")
    held = own[0]
    if not held.nic.up:
        return interface_down(view, held)
    home = view.home_of(node, held.address)
    gateways = [hop for hop in node.written.gateway if hop.address.version == version]
    if not gateways:
        return faults.gateway_missing(node, version, home)
    for hop in gateways:
        for other in view.holders.get(hop.address, ()):
            if other.address.prefix.holds(held.address) and other.address.length != held.address.length:
                return faults.mask_differs(held, other.address.prefix)
    return faults.gateway_wrong(node, gateways[0], home, f"lies outside its subnet {held.address.prefix}")


def unadvertised(view: Picture, node: Node, host: Host) -> Finding:
    """Why a host hears no router: its VLAN's has no /64 to tell of, is down, does not forward IPv6, or is cut off."""
    nic = next(iter(node.nics.values()))
    blocked = link_fault(view, host_end(host.name))
    if blocked is not None:
        return blocked
    vlan = plugged_vlan(view.knowledge, host)
    told = [held for held in view.routed if vlan is not None and held.nic.vlan == vlan]
    six = [held for held in told if held.address.version == 6 and held.address.length == 64]
    for held in sorted(six, key=lambda held: not held.nic.up):
        if not held.nic.up:
            return interface_down(view, held)
        if 6 not in held.node.forwards:
            return faults.routing_off(held.node, 6)
        wrong = cut(view, vlan, (node, nic), (held.node, held.nic)) if vlan is not None else []
        if wrong:
            return wrong[0]
    return faults.prefix_unadvertised(view, host, vlan, next(iter(told), None))


# Nobody answered


def _unanswered(view: Picture, node: Node, stop: Stop) -> Finding:
    nic = node.nics[stop.interface]
    hop = stop.hop or stop.target
    held = source_for(nic.addresses, hop)
    if held is None:
        return faults.unexplained(node.name, f"{node.name}/{nic.name} has no address to ask with")
    own = Held(node, nic, held)
    gateway = next((one for one in node.written.gateway if one.address == hop), None)
    home = view.home_of(node, held) if node.kind in ("host", "switch") else None
    if (
        gateway is None
        and home is not None
        and home.address.length != held.length
        and not home.address.prefix.holds(hop)
    ):
        return faults.mask_differs(own, home.address.prefix)
    holders = [other for other in view.holders.get(hop, ()) if other.node is not node]
    if not holders:
        return _nobody_holds(view, own, hop, gateway, home, stop)
    together = [other for other in holders if view.domains.together(own.foot, other.foot)]
    holder = (together or [other for other in holders if other.nic.up] or holders)[0]
    if holder.node.off or not holder.nic.up:
        return interface_down(view, holder)
    if not together:
        return parted(view, own, holder)
    return _deaf(view, own, holder)


def _nobody_holds(
    view: Picture, own: Held, hop: Address, gateway: NextHop | None, home: Held | None, stop: Stop
) -> Finding:
    node = own.node
    if gateway is not None:
        if home is not None:
            return faults.gateway_wrong(node, gateway, home, "is held by nobody")
        return unplaced(view, node, own.address)
    if hop != stop.target and isinstance(node.written, Device):
        for index, route in enumerate(node.written.routes):
            if route.next_hop.address == hop and route.destination.holds(stop.target):
                target = next((held for held in view.homes(stop.target) if held.nic.up), None)
                via = next_hop(view, node, target.node, hop.version) if target else None
                return faults.route_dead(node, route, index, "nobody holds that next hop", via)
    return faults.address_unheld(hop, node.name, own if node.kind != "host" else None)


def unplaced(view: Picture, node: Node, held: InterfaceAddress) -> Finding:
    """No routing device has an interface in a host's subnet: the one that serves most other VLANs should."""
    vlan = sits_in(view, node, next(iter(node.nics.values())))
    addresses = [
        InterfaceAddress(*hop.address, own.length)
        for hop in node.written.gateway
        for own in (one for nic in node.nics.values() for one in nic.addresses)
        if own.prefix.holds(hop.address) and not view.holders.get(hop.address)
    ]
    best = _seat(view, node, vlan)
    if best is None or vlan is None:
        return faults.gateway_absent(node, held.prefix)
    stray = next(
        (o for o in best[0].nics.values() if o.kind == "subinterface" and not o.speaks and not o.addresses), None
    )
    if stray is not None:
        return faults.tag_missing(view, best[0], stray, vlan)
    return faults.gateway_unplaced(view, vlan, best[0], best[1], tuple(dict.fromkeys(addresses)))


def _seat(view: Picture, node: Node, vlan: int | None) -> tuple[Node, str | None] | None:
    """Where the gateway of a host's VLAN belongs: a routing device that the VLAN gets to already, best one that has
    other gateways there; on a router the port too."""
    own = (node.name, next(iter(node.nics)))
    best: tuple[tuple[bool, int], Node, str | None] | None = None
    for other in view.knowledge.nodes.values():
        if other.kind not in ("router", "l3switch"):
            continue
        counts: dict[str | None, int] = {}
        for nic in other.nics.values():
            if nic.kind in ("subinterface", "vlan"):
                counts[nic.attachment] = counts.get(nic.attachment, 0) + bool(nic.addresses)
        if other.kind == "l3switch":
            counts.setdefault(None, 0)
        else:
            for port in other.attachments.values():
                if not port.written.addresses and view.knowledge.links[port.members[0]].peer is not None:
                    counts.setdefault(port.name, 0)
        for parent, count in counts.items():
            peer = view.knowledge.links[other.attachments[parent].members[0]].peer if parent else None
            device = peer.device if peer else other.name
            score = (vlan is not None and view.domains.together(own, (device, vlan)), count)
            if best is None or score > best[0]:
                best = (score, other, parent)
    return (best[1], best[2]) if best else None


def parted(view: Picture, a: Held, b: Held) -> Finding:
    """Two interfaces of one subnet that do not hear each other: a host in the wrong VLAN, a gateway with the wrong
    tag, or a cut on the way."""
    for held in (a, b):
        if held.node.kind != "host" and not held.nic.speaks:
            return faults.tag_missing(view, held.node, held.nic, meant_for(view, held.nic))
    for held in (a, b):
        if held.node.kind == "host":
            continue
        right = meant_vlan(view, held.address.prefix)
        if held.nic.kind == "subinterface":
            fellows = held.node.nics_on(held.nic.attachment or "")
            first = next(one for one in fellows if one.speaks and one.tag == held.nic.tag)
            if first is not held.nic:
                return faults.tag_repeated(view, held.node, held.nic, first, right if right != held.nic.vlan else None)
        hosts = [one for one in (a, b) if one.node.kind == "host"]
        if (
            right is not None
            and held.nic.vlan is not None
            and right != held.nic.vlan
            and held.nic.kind in ("subinterface", "vlan")
            and (len(hosts) != 1 or _tag_to_blame(view, held, right))
        ):
            return faults.tag_wrong(view, held, right)
    for held, other in ((a, b), (b, a)):
        if isinstance(held.node.written, Host):
            right = _right_vlan(view, held, other)
            attachment = host_attachment(view.knowledge, held.node.written)
            if right is not None and attachment.switched and wanted_vlan(attachment) != right:
                return faults.vlan_wrong(view, held.node.written, attachment, right, wanted_vlan(attachment))
    vlan = sits_in(view, a.node, a.nic) or sits_in(view, b.node, b.nic)
    if vlan is None:
        return faults.unexplained(a.node.name, f"{faults.label(a)} and {faults.label(b)} are not on one link")
    found = cut(view, vlan, (a.node, a.nic), (b.node, b.nic))
    return found[0] if found else _deaf(view, a, b)


def _tag_to_blame(view: Picture, held: Held, right: int) -> bool:
    """Of a gateway and a host in two VLANs, whether the gateway is the one misplaced: another gateway has its VLAN
    already, or several hosts agree on theirs."""
    hosts = [
        host for host in view.network.hosts.values() if any(held.address.prefix.holds(one) for one in host.addresses)
    ]
    agreed = [host for host in hosts if wanted_vlan(host_attachment(view.knowledge, host)) == right]
    rival = any(
        nic is not held.nic and nic.vlan == held.nic.vlan and nic.addresses
        for node in view.knowledge.nodes.values()
        if node.kind in ("router", "l3switch")
        for nic in node.nics.values()
    )
    return (rival and len(agreed) >= len(hosts) - len(agreed)) or len(agreed) > 1


def _right_vlan(view: Picture, held: Held, other: Held) -> int | None:
    """The VLAN that a host belongs in: that of its subnet's gateway, else where most hosts of the subnet are."""
    home = next((one for one in view.homes(held.address) if one.nic.vlan is not None), None)
    if home is not None:
        return home.nic.vlan
    return meant_vlan(view, held.address.prefix) or sits_in(view, other.node, other.nic)


def _deaf(view: Picture, own: Held, holder: Held) -> Finding:
    """Both stand in one domain and still no answer came."""
    number = view.domains.of.get(own.foot)
    if number is not None and number in view.domains.loops:
        return faults.switching_loop(view, view.domains.loops[number])
    holders = view.holders[holder.address.address]
    if len(holders) > 1:
        return faults.address_repeated(view, holder.address.address, holders)
    return faults.unexplained(
        own.node.name, f"{faults.label(holder)} did not answer {own.node.name} for {holder.address.address}"
    )


def interface_down(view: Picture, held: Held) -> Finding:
    """Why an interface is down."""
    node, nic = held.node, held.nic
    if node.off:
        return faults.switched_off(
            faults.node_path(node), node.name, node.name, f"nothing gets in or out of {node.name}"
        )
    if isinstance(node.written, Device):
        interface = node.written.interfaces.get(nic.name)
        if interface is not None and interface.off:
            breaks = f"{held.address.prefix} is not connected"
            return faults.switched_off(nic_path(held), f"{node.name}/{nic.name}", node.name, breaks)
    if nic.attachment is not None:
        found = attachment_fault(view, node.attachments[nic.attachment])
        if found is not None:
            return found
    if nic.kind == "vlan" and nic.vlan is not None and isinstance(node.written, Device):
        if nic.vlan not in node.vlans:
            return faults.vlan_absent(view, node.written, nic.vlan)
        for attachment in node.attachments.values():
            if nic.vlan in attachment.vlans:
                found = attachment_fault(view, attachment)
                if found is not None:
                    return found
        for other in view.subnet_fellows(held):
            wrong = cut(view, nic.vlan, (other.node, other.nic), (node, nic))
            if wrong:
                return wrong[0]
        return faults.vlan_unported(view, node, nic)
    return faults.unexplained(node.name, f"{node.name}/{nic.name} is down: {nic.down}")


# Forwarded to the wrong place


def _not_routing(view: Picture, node: Node, stop: Stop) -> Finding:
    version = stop.target.version
    if node.kind in ("router", "l3switch"):
        return faults.routing_off(node, version)
    sender = view.knowledge.nodes[stop.passed[-2]] if len(stop.passed) > 1 else node
    for hop in sender.written.gateway:
        if any(held.node is node for held in view.holders.get(hop.address, ())):
            own = next((h for nic in sender.nics.values() for h in nic.addresses if h.version == version), None)
            home = view.home_of(sender, own) if own else None
            return faults.gateway_wrong(sender, hop, home, f"is {node.name}, which does not route")
    if isinstance(sender.written, Device):
        for index, route in enumerate(sender.written.routes):
            if route.destination.holds(stop.target) and any(
                held.node is node for held in view.holders.get(route.next_hop.address, ())
            ):
                home = next(iter(view.homes(stop.target)), None)
                via = next_hop(view, sender, home.node, version) if home else None
                return faults.route_dead(sender, route, index, f"{node.name} there does not route", via)
    return faults.unexplained(node.name, f"{node.name} does not route")


def _circling(view: Picture, stop: Stop) -> Finding:
    """Routers that send to each other: the one whose way to the target's home leads elsewhere is to blame."""
    circle = list(dict.fromkeys(reversed(stop.passed)))
    last = stop.passed[-1]
    if last in stop.passed[:-1]:
        back = len(stop.passed) - 2 - stop.passed[:-1][::-1].index(last)
        circle = list(dict.fromkeys(stop.passed[back:]))
        first = min(circle, key=list(view.network.devices).index)  # wherever the packet came into it
        circle = [*circle[circle.index(first) :], *circle[: circle.index(first)]]
    home = next((held for held in view.homes(stop.target) if held.nic.up), None)
    fallback: Finding | None = None
    for name in circle:
        node = view.knowledge.nodes[name]
        if not isinstance(node.written, Device):
            continue
        entry = node.routes.lookup("", stop.target)
        idle = _idle_route(view, node, stop.target, entry)
        if idle is not None:
            return idle
        if entry is None or entry.route is None or entry.route not in node.written.routes:
            continue
        index = node.written.routes.index(entry.route)
        via = next_hop(view, node, home.node, stop.target.version) if home else None
        if via is not None and via != entry.next_hop:
            if entry.prefix.length == 0 and home is not None:
                breaks = f"packets to {stop.target} go round between {' and '.join(circle)}"
                return faults.route_missing(node, home.address.prefix, via, breaks)
            return faults.routing_loop(node, entry.route, index, circle, via)
        if home is not None and not home.nic.up:
            return interface_down(view, home)
        fallback = fallback or faults.routing_loop(node, entry.route, index, circle, None)
    down = next(iter(view.homes(stop.target)), None)
    if down is not None and not down.nic.up:
        return interface_down(view, down)
    return fallback or faults.unexplained(
        stop.node, f"packets to {stop.target} go round until their TTL or hop limit runs out"
    )
