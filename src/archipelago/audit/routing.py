"""Mistakes in routing: forwarding off, routes missing, dead, hidden or going round."""

from __future__ import annotations

from collections.abc import Iterator

from archipelago.addressing.values import Address, Prefix, is_link_local
from archipelago.audit.registry import rule
from archipelago.diagnosis import faults
from archipelago.diagnosis.culprit import dead_route, neighbours, next_hop
from archipelago.diagnosis.picture import Held, Picture, every_address, port_path
from archipelago.knowledge.devices import Node
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.network import Device


def routing_nodes(view: Picture) -> list[Node]:
    return [node for node in view.knowledge.nodes.values() if node.kind in ("router", "l3switch") and not node.off]


@rule
def forwarding_off(view: Picture) -> Iterator[Finding]:
    """A device that hosts use as their gateway, or that holds several subnets, but does not forward the family."""
    used = {
        hop.address
        for node in view.knowledge.nodes.values()
        for hop in node.written.gateway
        if node.kind in ("host", "switch")
    }
    for node in routing_nodes(view):
        for version in (4, 6):
            if version in node.forwards:
                continue
            held = [
                a for nic in node.nics.values() for a in nic.addresses if a.version == version and not is_link_local(a)
            ]
            if any(address.address in used for address in held) or len({a.prefix for a in held}) > 1:
                yield faults.routing_off(node, version)


@rule
def dead_routes(view: Picture) -> Iterator[Finding]:
    """A static route whose next hop cannot be used: on no live connected subnet, the device itself, or held by
    nobody on a link whose far end is known."""
    for node in routing_nodes(view):
        written = node.written
        if not isinstance(written, Device):
            continue
        for unused in node.routes.unused:
            if unused.route in written.routes and not _beyond(node, unused.route.next_hop.address):
                yield dead_route(view, node, unused.route.next_hop, _sample(unused.route.destination), unused.reason)
        for table in node.routes.tables.values():
            for entry in table.entries():
                if entry.route is None or entry.route not in written.routes or entry.next_hop is None:
                    continue
                holders = view.holders.get(entry.next_hop, ())
                others = [held for held in holders if held.node is not node]
                if is_link_local(entry.next_hop) or any(held.node.kind in ("router", "l3switch") for held in others):
                    continue
                target = _sample(entry.prefix)
                home = next((held for held in view.homes(target) if held.nic.up and held.node is not node), None)
                via = next_hop(view, node, home.node, entry.prefix.version) if home else None
                why = f"{others[0].node.name} there does not route" if others else "nobody holds that next hop"
                yield faults.route_dead(node, entry.route, written.routes.index(entry.route), why, via)


def _beyond(node: Node, hop: Address) -> bool:
    """Whether a next hop lies behind a routed port that is not cabled here: the outside."""
    return any(
        address.prefix.holds(hop)
        for nic in node.nics.values()
        if nic.kind in ("port", "aggregate") and nic.uncabled
        for address in nic.addresses
    )


def _sample(prefix: Prefix) -> Address:
    """An address that stands for a whole subnet."""
    return Address(prefix.version, prefix.usable()[0])


@rule
def ways(view: Picture) -> Iterator[Finding]:
    """A device without a route to a subnet that its neighbours lead to, or with one that goes round."""
    subnets: dict[tuple[Prefix, str], list[Held]] = {}
    for held in every_address(view.knowledge):
        if held.node.kind in ("router", "l3switch") and held.nic.up and not is_link_local(held.address):
            subnets.setdefault((held.address.prefix, held.nic.vrf), []).append(held)
    nodes = routing_nodes(view)
    for version in (4, 6):
        able = [node for node in nodes if version in node.forwards]
        parts = _parts(view, able, version)
        owners = {address: held[0].node.name for address, held in view.holders.items() if address.version == version}
        missing: dict[tuple[str, Address | None], list[Prefix]] = {}
        for (prefix, vrf), holders in subnets.items():
            if prefix.version != version or vrf:
                continue
            homes = {held.node.name for held in holders}
            yield from _towards(view, prefix, homes, able, parts, owners, missing)
        for (name, via), prefixes in missing.items():
            yield faults.routes_missing(view.knowledge.nodes[name], sorted(prefixes), via)


def _parts(view: Picture, nodes: list[Node], version: int) -> dict[str, int]:
    """Which routing devices can be joined by routes at all."""
    near = {node.name: [name for name, _ in neighbours(view, node, version)] for node in nodes}
    part: dict[str, int] = {}
    for number, start in enumerate(near):
        stack = [start]
        while stack:
            name = stack.pop()
            if name not in part:
                part[name] = number
                stack.extend(near.get(name, ()))
    return part


def _towards(
    view: Picture,
    prefix: Prefix,
    homes: set[str],
    nodes: list[Node],
    parts: dict[str, int],
    owners: dict[Address, str],
    missing: dict[tuple[str, Address | None], list[Prefix]],
) -> Iterator[Finding]:
    """Follow every device's way to one subnet; who has none goes to `missing`, by next hop."""
    target = _sample(prefix)
    reachable = {parts[name] for name in homes if name in parts}
    onward: dict[str, str | None] = {}
    for node in nodes:
        if node.name in homes or parts.get(node.name) not in reachable:
            continue
        entry = node.routes.lookup("", target)
        lost = entry is None or (entry.next_hop is not None and entry.next_hop not in owners)
        if lost:
            home = next(view.knowledge.nodes[name] for name in sorted(homes) if parts.get(name) == parts[node.name])
            via = next_hop(view, node, home, prefix.version)
            missing.setdefault((node.name, via), []).append(prefix)
        elif entry is not None and entry.next_hop is not None:
            onward[node.name] = owners.get(entry.next_hop)
    settled: set[str] = set()
    for start in onward:
        trail: list[str] = []
        name: str | None = start
        while name is not None and name in onward and name not in settled and name not in trail:
            trail.append(name)
            name = onward[name]
        if name in trail:
            yield from _circle(view, prefix, trail[trail.index(name) :], homes)
        settled.update(trail)


def _circle(view: Picture, prefix: Prefix, names: list[str], homes: set[str]) -> Iterator[Finding]:
    """Devices that send a subnet's packets round: the first whose route leads away from the subnet is to blame."""
    target = _sample(prefix)
    for name in sorted(names):
        node = view.knowledge.nodes[name]
        entry = node.routes.lookup("", target)
        home = view.knowledge.nodes[sorted(homes)[0]]
        via = next_hop(view, node, home, prefix.version)
        if entry is None or via is None or via == entry.next_hop:
            continue
        if entry.prefix.length < prefix.length or entry.route is None:
            yield faults.route_missing(node, prefix, via, f"packets to {prefix} go round between {' and '.join(names)}")
        elif isinstance(node.written, Device) and entry.route in node.written.routes:
            yield faults.routing_loop(node, entry.route, node.written.routes.index(entry.route), names, via)
        return


@rule
def hidden_routes(view: Picture) -> Iterator[Finding]:
    """A static route that is never used: another of the same prefix always wins, and is no backup's first choice."""
    for node in routing_nodes(view):
        written = node.written
        if not isinstance(written, Device):
            continue
        for route in node.routes.beaten:
            table = node.routes.tables[route.vrf or "", route.destination.version]
            winner = next(entry for entry in table.entries() if entry.prefix == route.destination)
            backup = (
                winner.route is not None and winner.metric < route.metric and winner.next_hop != route.next_hop.address
            )
            if backup or route not in written.routes:
                continue
            path = ("devices", node.name, "routes", written.routes.index(route))
            why = (
                f"is connected on {winner.interface}" if winner.route is None else f"via {winner.next_hop} comes first"
            )
            yield Finding(
                "route-never-used",
                "note",
                node.name,
                path,
                f"the route to {route.destination} via {route.next_hop} on {node.name} is never used: its subnet {why}",
                "nothing; it misleads whoever reads it",
                f"remove the route to {route.destination} via {route.next_hop} from {node.name}",
                (Edit(path, REMOVE),),
            )


@rule
def captured_subnets(view: Picture) -> Iterator[Finding]:
    """A static route that is longer than a connected subnet, and so takes part of it away."""
    for node in routing_nodes(view):
        written = node.written
        for table in node.routes.tables.values():
            entries = table.entries()
            connected = [entry.prefix for entry in entries if entry.route is None]
            for entry in entries:
                if entry.route is None or not isinstance(written, Device) or entry.route not in written.routes:
                    continue
                wider = next((p for p in connected if p.length < entry.prefix.length and p.covers(entry.prefix)), None)
                if wider is not None:
                    path = ("devices", node.name, "routes", written.routes.index(entry.route))
                    yield Finding(
                        "more-specific-route",
                        "error",
                        node.name,
                        path,
                        f"the route to {entry.prefix} via {entry.next_hop} on {node.name} hides part of {wider}",
                        f"packets for hosts in {entry.prefix} leave {node.name} again",
                        f"remove the route to {entry.prefix} from {node.name}",
                        (Edit(path, REMOVE),),
                    )


@rule
def unlike_links(view: Picture) -> Iterator[Finding]:
    """Two routing interfaces on one link of their own whose subnets differ."""
    for node in routing_nodes(view):
        for one in node.attachments.values():
            if one.switched or not one.carrier:
                continue
            far = view.knowledge.links[one.members[0]].peer
            if far is None or (node.name, one.name) > (far.device, view.knowledge.attachment_at(far).name):
                continue
            far_node = view.knowledge.nodes[far.device]
            mine = [
                a for nic in node.nics_on(one.name) if nic.tag is None for a in nic.addresses if not is_link_local(a)
            ]
            theirs = [
                a
                for nic in far_node.nics_on(view.knowledge.attachment_at(far).name)
                if nic.tag is None and far_node.kind != "host"
                for a in nic.addresses
                if not is_link_local(a)
            ]
            for version in (4, 6):
                here = [a for a in mine if a.version == version]
                there = [a for a in theirs if a.version == version]
                if here and there and not any(a.prefix.overlaps(b.prefix) for a in here for b in there):
                    path = ("devices", far.device, "ports", far.port, "address")
                    yield Finding(
                        "link-subnets-differ",
                        "error",
                        far.device,
                        path,
                        f"{node.name}/{one.name} has {here[0]} and {far} at the other end of the link has {there[0]}",
                        "neither can be the other's next hop",
                        f"give {far} an address of {here[0].prefix}",
                    )


@rule
def unlike_pairs(view: Picture) -> Iterator[Finding]:
    """Two devices that are gateways of the same host subnets, but not of all of them."""
    served: dict[str, dict[Prefix, Held]] = {}
    inhabited = {a.prefix for host in view.network.hosts.values() for a in host.addresses}
    for node in routing_nodes(view):
        for nic in node.nics.values():
            for address in nic.addresses:
                if address.prefix in inhabited:
                    served.setdefault(node.name, {})[address.prefix] = Held(node, nic, address)
    names = sorted(served)
    for index, one in enumerate(names):
        for other in names[index + 1 :]:
            shared = served[one].keys() & served[other].keys()
            if len(shared) < 2:
                continue
            for prefix in sorted(served[one].keys() ^ served[other].keys()):
                has, lacks = (one, other) if prefix in served[one] else (other, one)
                held = served[has][prefix]
                yield Finding(
                    "pair-differs",
                    "risk",
                    lacks,
                    ("devices", lacks),
                    f"{has} and {lacks} share {len(shared)} subnets, but {prefix} is only at {faults.label(held)}",
                    f"when {has} fails, {prefix} has no gateway",
                    f"give {lacks} an address in {prefix} too, or keep the pair for the others on purpose",
                )


@rule
def leaks(view: Picture) -> Iterator[Finding]:
    """A trunk towards a router that sends a VLAN untagged which the router has no untagged interface for."""
    for node in view.knowledge.nodes.values():
        for one in node.attachments.values():
            if not one.switched or one.written.trunk is None or one.untagged is None or not one.carrier:
                continue
            peer = view.knowledge.links[one.members[0]].peer
            far = view.knowledge.attachment_at(peer) if peer else None
            if peer is None or far is None or far.switched or peer.device in view.network.hosts:
                continue
            fellows = view.knowledge.nodes[peer.device].nics_on(far.name)
            if any(nic.speaks and nic.tag is None for nic in fellows) or any(
                nic.tag == one.untagged for nic in fellows
            ):
                continue
            path = (*port_path(view.knowledge, node.name, one.name), "untagged")
            yield Finding(
                "untagged-leaks",
                "note",
                node.name,
                path,
                f"trunk {node.name}/{one.name} sends {view.vlan_name(one.untagged)} untagged to {peer}, which takes no "
                "untagged frames",
                f"broadcasts of {view.vlan_name(one.untagged)} cross the link for nothing",
                f"write 'untagged: none' at {node.name}/{one.name}",
                (Edit(path, "none"),),
            )
