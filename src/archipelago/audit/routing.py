"""Mistakes in routing: forwarding off, routes missing, dead, hidden or going round."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from archipelago.addressing.values import Address, InterfaceAddress, Prefix, is_link_local
from archipelago.audit.registry import rule
from archipelago.diagnosis.faults.routing import does_not_route, more_specific_route, next_hop_unusable
from archipelago.diagnosis.faults.words import label
from archipelago.diagnosis.gateway_place import missing_end
from archipelago.diagnosis.kind import ALWAYS, NEVER, Example, Kind, finding
from archipelago.diagnosis.no_route import dead_route, way_outside
from archipelago.diagnosis.outvoted import off_link
from archipelago.diagnosis.places import hosts_by_vlan, nic_path, port_path, sample, unplugged
from archipelago.knowledge.alike import alike_hosts
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.parts import Device


def routing_nodes(index: NetworkIndex) -> list[Node]:
    return [node for node in index.knowledge.devices.values() if node.can_route and not node.off]


@rule
def forwarding_off(index: NetworkIndex) -> Iterator[Finding]:
    """A device that hosts use as their gateway, or that holds several subnets, but does not forward the family."""
    network = index.network
    used = {hop.address for host in network.hosts.values() for hop in host.gateway}
    used |= {hop.address for device in network.devices.values() if device.kind == "switch" for hop in device.gateway}
    for node in routing_nodes(index):
        for version in (4, 6):
            shared = [one for one in index.knowledge.elected.members(node.name) if one.written.family == version]
            if version in node.forwards or any(map(index.knowledge.elected.active, shared)):
                continue  # where it is active for others too, that is told
            addresses = [
                a for nic in node.nics.values() for a in nic.addresses if a.version == version and not is_link_local(a)
            ]
            if any(address.address in used for address in addresses) or len({a.prefix for a in addresses}) > 1:
                yield does_not_route(node, version)


@rule
def dead_routes(index: NetworkIndex) -> Iterator[Finding]:
    """A static route whose next hop cannot be used: on no live connected subnet, the device itself, or held by
    nobody on a link whose far end is known."""
    for node in routing_nodes(index):
        written = node.written
        if not isinstance(written, Device):
            continue
        tables = index.knowledge.routes(node.name)
        for unused in tables.unused:
            beyond = _beyond(index, node, unused.route.next_hop.address)
            if index.route_number(node.name, unused.route) is not None and not beyond:
                yield dead_route(index, node, unused.route, sample(unused.route.destination), unused.reason)
        for (vrf, version), table in tables.tables.items():
            sound: set[Address] = set()  # next hops that a router holds: most routes of a device have the same few
            for entry in table.entries():
                hop = entry.next_hop
                if hop is None or hop in sound:
                    continue
                others = [holder for holder in index.holders(hop) if holder.node is not node]
                if is_link_local(hop) or any(other.node.can_route for other in others):
                    sound.add(hop)
                    continue
                number = index.route_number(node.name, entry.route)
                if entry.route is None or number is None:
                    continue
                if unplugged(index, node, node.nics[entry.interface]):
                    continue  # it leads outside, or to a cable that is missing, which is a finding of its own
                homes = index.homes_in(sample(entry.prefix), vrf)
                home = next((holder for holder in homes if holder.nic.up and holder.node is not node), None)
                better = index.ways(version).next_hop((node.name, vrf), home.table) if home else None
                if home is None and entry.prefix.length == 0:
                    better = way_outside(index, (node.name, vrf), version)
                missing = None
                if not others:
                    nic = node.nics[entry.interface]
                    own = next(address for address in nic.addresses if address.prefix.holds(hop))
                    missing = missing_end(index, Held(node, nic, own), index.knowledge.devices.values())
                if missing is not None:
                    yield missing
                    continue
                why = f"{others[0].node.name} there does not route" if others else "nobody holds that next hop"
                yield next_hop_unusable(node, entry.route, number, why, better, bool(others))


def _beyond(index: NetworkIndex, node: Node, hop: Address) -> bool:
    """Whether a next hop lies behind a routed port that is not cabled here: the outside."""
    return any(
        address.prefix.holds(hop)
        for nic in node.nics.values()
        if unplugged(index, node, nic)
        for address in nic.addresses
    )


ROUTE_NEVER_USED = Kind(
    "route-never-used",
    "note",
    "a static route that another of the same prefix always beats",
    "nothing; it misleads whoever reads it",
    ALWAYS,
    example=Example(
        "pier",
        """
        devices:
          landing:
            routes:
            - {destination: 10.44.2.0/24, next-hop: 10.44.15.1}
            - {destination: 10.44.3.0/24, next-hop: 10.44.15.1}
            - {destination: 10.44.1.0/24, next-hop: 10.44.15.1}
        """,
    ),
)


@rule
def hidden_routes(index: NetworkIndex) -> Iterator[Finding]:
    """A static route that is never used: another of the same prefix always wins, and is no backup's first choice."""
    for node in routing_nodes(index):
        written = node.written
        if not isinstance(written, Device):
            continue
        for route in index.knowledge.routes(node.name).shadowed:
            table = index.knowledge.routes(node.name).tables[route.vrf or "", route.destination.version]
            winner = table.exact(route.destination)
            number = index.route_number(node.name, route)
            if winner is None or number is None:
                continue
            backup = (
                winner.route is not None and winner.metric < route.metric and winner.next_hop != route.next_hop.address
            )
            if backup:
                continue
            path = ("devices", node.name, "routes", number)
            why = f"is connected on {winner.interface}" if winner.route is None else f"is shadowed by {winner.next_hop}"
            yield finding(
                ROUTE_NEVER_USED,
                at=node.name,
                path=path,
                says=f"the route to {route.destination} via {route.next_hop} on {node.name} is never used: it {why}",
                mend=f"remove the route to {route.destination} via {route.next_hop} from {node.name}",
                edits=(Edit(path, REMOVE),),
            )


@rule
def captured_subnets(index: NetworkIndex) -> Iterator[Finding]:
    """A static route that is longer than a connected subnet, and so takes part of it away."""
    for node in routing_nodes(index):
        for table in index.knowledge.routes(node.name).tables.values():
            entries = table.entries()
            connected = {entry.prefix for entry in entries if entry.route is None}
            lengths = sorted({prefix.length for prefix in connected})
            for entry in entries:
                number = index.route_number(node.name, entry.route)
                if number is None:
                    continue
                wide = (entry.prefix.supernet(length) for length in lengths if length < entry.prefix.length)
                wider = next((prefix for prefix in wide if prefix in connected), None)
                if wider is not None:
                    yield more_specific_route(node, entry, number, wider)


@rule
def tables_alone(index: NetworkIndex) -> Iterator[Finding]:
    """A gateway of hosts that is alone in a routing table (`vrf`) which leads nowhere, though nothing that overlaps
    with its subnet calls for a table of its own."""
    hosts = index.once(hosts_by_vlan)
    for node in routing_nodes(index):
        tables: dict[str, list[Nic]] = {}
        for nic in node.nics.values():
            if nic.addresses:
                tables.setdefault(nic.vrf, []).append(nic)
        others = [vrf for vrf, nics in tables.items() if len(nics) > 1]
        for vrf, nics in tables.items():
            (nic, *more) = nics
            if not vrf or more or not nic.up or len(others) != 1 or not hosts.get(nic.vlan or 0):
                continue
            own = [address for address in nic.addresses if not is_link_local(address)]
            leads = any(index.ways(address.version).neighbours((node.name, vrf)) for address in own)
            static = node.written.routes if isinstance(node.written, Device) else ()
            routed = any(route.vrf == vrf for route in static)
            apart = any(one.prefix.overlaps(two.prefix) for one in own for two in _of_others(index, node, nic))
            if not (leads or routed or apart):
                found = vrf_alone(index, node, nic, others[0])
                meant = index.network.policy is not None
                yield replace(found, severity="error") if meant else found


VRF_ALONE = Kind(
    "vrf-alone",
    "risk",
    "a gateway that is alone in a routing table (vrf) which leads nowhere",
    "{vlan} is cut off from all other VLANs",
    ALWAYS,
    example=Example("pier", "devices: {core: {interfaces: {cameras-gw: {vrf: watch}}}}"),
)


def vrf_alone(index: NetworkIndex, node: Node, nic: Nic, other: str) -> Finding:
    """A gateway that is alone in a routing table, while all others of its device are in another."""
    path = (*nic_path((node, nic)), "vrf")
    name, vlan = f"{node.name}/{nic.name}", index.vlan_name(nic.vlan or 0)
    where = f"vrf {other}" if other else "no vrf"
    return finding(
        VRF_ALONE,
        at=node.name,
        path=path,
        says=f"{name} is alone in vrf {nic.vrf}, which has no route: hosts of {vlan} reach nobody outside their VLAN",
        mend=f"put {name} in {where}, as the other interfaces of {node.name} are",
        edits=(Edit(path, other or REMOVE),),
        vlan=vlan,
    )


def _of_others(index: NetworkIndex, node: Node, nic: Nic) -> Iterator[InterfaceAddress]:
    """The addresses of all other interfaces of routing devices."""
    return (held.address for held in index.routed() if not (held.node is node and held.nic is nic))


@rule
def unlike_links(index: NetworkIndex) -> Iterator[Finding]:
    """Two routing devices joined by a link whose ends are in different subnets."""
    for node in routing_nodes(index):
        yield from off_link(index, node)


PAIR_DIFFERS = Kind(
    "pair-differs",
    "risk",
    "two devices that are gateways of the same subnets, but not of all",
    "when {device} fails, {prefix} has no gateway",
    NEVER,
    example=Example(
        "pier",
        """
        devices:
          quay:
            ports:
              p8:
                trunk: [tickets, crew]
                untagged: none
          core:
            ports:
              p3:
                trunk: [tickets, crew]
                untagged: none
            interfaces:
              crew-2: {vlan: crew, address: 10.44.1.3/24}
              tickets-2: {vlan: tickets, address: 10.44.0.4/24}
            routes: []
        cables: [landing/p1 ~ quay/p9, landing/p2 ~ core/p9, core/p8 ~ shed/p9, core/p3 ~ quay/p8]
        """,
    ),
)


@rule
def unlike_pairs(index: NetworkIndex) -> Iterator[Finding]:
    """Two devices that are gateways of the same host subnets, but not of all of them."""
    served: dict[str, dict[Prefix, Held]] = {}
    examples = [hosts[0] for hosts in index.once(alike_hosts)]
    inhabited = {address.prefix for host in examples for address in host.addresses}
    used = {hop.address for host in examples for hop in host.gateway}
    for node in routing_nodes(index):
        for nic in node.nics.values():
            for address in nic.addresses:
                if address.prefix in inhabited:
                    served.setdefault(node.name, {})[address.prefix] = Held(node, nic, address)
    names = sorted(served)
    for number, name in enumerate(names):
        for other in names[number + 1 :]:
            shared = served[name].keys() & served[other].keys()
            serve = [any(served[end][prefix].address.address in used for prefix in shared) for end in (name, other)]
            if len({served[name][prefix].nic.name for prefix in shared}) < 2 or all(serve):
                continue  # too few; or each is a gateway of some and only managed in the others: no pair
            if index.knowledge.elected.members(name) and index.knowledge.elected.members(other):
                continue  # what they share is written, and judged by that
            for prefix in sorted(served[name].keys() ^ served[other].keys()):
                has, lacks = (name, other) if prefix in served[name] else (other, name)
                held_by = served[has][prefix]
                yield finding(
                    PAIR_DIFFERS,
                    at=lacks,
                    path=("devices", lacks),
                    says=(f"{has} and {lacks} share {len(shared)} subnets, but {prefix} is only at {label(held_by)}"),
                    mend=f"give {lacks} an address in {prefix} too, or keep the pair for the others on purpose",
                    device=has,
                    prefix=prefix,
                )


UNTAGGED_LEAKS = Kind(
    "untagged-leaks",
    "note",
    "a trunk that sends a VLAN untagged to a router that takes no untagged frames",
    "broadcasts of {vlan} cross the link for nothing",
    ALWAYS,
    example=Example("pier", "devices: {quay: {ports: {p9: {untagged: cameras}}}}"),
)


@rule
def leaks(index: NetworkIndex) -> Iterator[Finding]:
    """A trunk towards a router that sends a VLAN untagged which the router has no untagged interface for."""
    for node in index.knowledge.devices.values():
        for attachment in node.attachments.values():
            if (
                not attachment.switched
                or attachment.written.trunk is None
                or attachment.untagged is None
                or not attachment.carrier
            ):
                continue
            peer = index.knowledge.links[attachment.members[0]].peer
            far = index.knowledge.attachment_at(peer) if peer else None
            if peer is None or far is None or far.switched or peer.device in index.network.hosts:
                continue
            others_there = index.knowledge.nodes[peer.device].nics_on(far.name)
            if any(nic.speaks and nic.tag is None for nic in others_there) or any(
                nic.tag == attachment.untagged for nic in others_there
            ):
                continue
            path = (*port_path(index.knowledge, node.name, attachment.name), "untagged")
            yield finding(
                UNTAGGED_LEAKS,
                at=node.name,
                path=path,
                says=(
                    f"trunk {node.name}/{attachment.name} sends {index.vlan_name(attachment.untagged)} untagged to "
                    f"{peer}, which takes no untagged frames"
                ),
                mend=f"write 'untagged: none' at {node.name}/{attachment.name}",
                edits=(Edit(path, "none"),),
                vlan=index.vlan_name(attachment.untagged),
            )
