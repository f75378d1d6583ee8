"""Mistakes in what there is two of: the spanning tree, and gateways that several devices share."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import combinations

from archipelago.addressing.values import Address, InterfaceAddress, Prefix, is_link_local
from archipelago.audit.registry import rule
from archipelago.audit.switching import facing_attachments, users
from archipelago.diagnosis.cut import cut
from archipelago.diagnosis.faults import redundancy as faults
from archipelago.diagnosis.faults.words import free_address
from archipelago.diagnosis.not_routing import active_not_routing
from archipelago.diagnosis.places import port_path
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.elected import Member
from archipelago.knowledge.forwarding import Dropped, decide_own
from archipelago.knowledge.held import Held, TableName
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.links import facing
from archipelago.knowledge.reasons import Reason
from archipelago.model.finding import REMOVE, Edit, Finding

Group = tuple[list[Member], Member]
"""The members of a virtual router that are up in one broadcast domain, and the active one."""


def groups(index: NetworkIndex) -> list[Group]:
    """Every virtual router in each broadcast domain that has an active member."""
    return [(members, active) for members, active in index.knowledge.elected.routers() if active is not None]


def preferred(group: Group) -> Member:
    """The member that is active while all that it tracks is there."""
    return max(group[0], key=lambda member: (member.owns, member.written.priority, member.rank))


def _nic(index: NetworkIndex, member: Member) -> Nic:
    return index.knowledge.devices[member.device].nics[member.interface]


def _vlan(index: NetworkIndex, member: Member) -> str:
    vlan = _nic(index, member).vlan
    return index.vlan_key(vlan) if vlan is not None else member.interface


# Spanning tree


@rule
def roots(index: NetworkIndex) -> Iterator[Finding]:
    """A root that nobody chose, and one that is elsewhere than the active gateways. Where nothing is blocked there is
    one way only, and it does not matter."""
    tree = index.knowledge.devices.tree
    parts: dict[str, list[str]] = {}
    for name, bridge in tree.bridges.items():
        parts.setdefault(tree.name(bridge.root), []).append(name)
    active: dict[str, dict[str, None]] = {}
    for group in index.once(groups):
        member = preferred(group)
        if _nic(index, member).kind == "vlan":
            active.setdefault(member.device, {}).setdefault(_vlan(index, member))
    for root, names in parts.items():
        if not any(tree.blocked_at(name) for name in names):
            continue
        devices = index.network.devices
        core = [name for name in names if devices[name].kind == "l3switch"]
        best = max(core, key=lambda name: len(active.get(name, ())), default=None)
        written = any(devices[name].bridge_priority is not None for name in names)
        if not written and devices[root].kind == "switch" and best is not None:
            yield faults.root_by_accident(index, root, best)
            continue
        elsewhere = [name for name in names if name in active and name != root]
        if elsewhere and root not in active:
            first = max(elsewhere, key=lambda name: len(active[name]))
            yield faults.root_elsewhere(root, first, list(active[first]), _lower(index, root, first))
        elif root in active and elsewhere:
            for name in elsewhere:  # roles that are shared out: a detour for those that are not at the root
                yield faults.root_elsewhere(root, name, list(active[name]), None)


def _lower(index: NetworkIndex, root: str, better: str) -> Edit | None:
    """What makes another device the root: a plain switch gives its priority up, else the other bids less."""
    own = index.knowledge.devices.tree.bridges[root].id.priority
    if index.network.devices[root].kind == "switch" and index.network.devices[root].bridge_priority is not None:
        return Edit(("devices", root, "bridge-priority"), REMOVE)
    return Edit(("devices", better, "bridge-priority"), str(own - 4096)) if own else None


@rule
def edges(index: NetworkIndex) -> Iterator[Finding]:
    """An edge port where a bridge is."""
    for node, link, far_node, far in index.once(facing_attachments):
        if link.switched and link.written.edge and far.switched and far_node.kind != "host":
            yield faults.edge_to_bridge(index, node.name, link.name, far_node.name)


@rule
def spares(index: NetworkIndex) -> Iterator[Finding]:
    """A blocked link that lacks VLANs which the way in use carries and somebody needs."""
    tree = index.knowledge.devices.tree
    needed = index.once(users)
    for name in tree.blocked:
        node = index.knowledge.devices[name]
        root_port = tree.bridges[name].root_port
        if root_port is None:
            continue
        in_use = node.attachments[root_port].vlans
        for port in sorted(tree.blocked_at(name)):
            spare = node.attachments[port]
            peer = next((index.knowledge.links[end].peer for end in spare.members), None)
            if peer is None or peer.device not in index.knowledge.devices:
                continue
            far = index.knowledge.attachment_at(peer)
            lacking = [v for v in sorted(in_use & needed.keys()) if v not in spare.vlans or v not in far.vlans]
            edits = [
                Edit((*port_path(index.knowledge, device, end.name), "trunk", "+"), index.vlan_key(vlan))
                for device, end in ((name, spare), (peer.device, far))
                for vlan in lacking
                if isinstance(end.written.trunk, tuple) and vlan not in end.vlans
            ]
            if lacking and edits:
                yield faults.spare_lacks_vlan(index, (name, port), lacking, edits)


@rule
def circles_by_wire(index: NetworkIndex) -> Iterator[Finding]:
    """A circle that a device closes which takes no part in the tree."""
    knowledge = index.knowledge
    tree = knowledge.devices.tree
    told: set[str] = set()
    for name, blocked in tree.blocked.items():
        for port in sorted(blocked):
            peers = [knowledge.links[end].peer for end in knowledge.devices[name].attachments[port].members]
            far = next((peer.device for peer in peers if peer is not None), "")
            if far in tree.bridges or far not in index.network.devices or far in told:
                continue
            told.add(far)
            yield faults.circle_by_wire(far, f"{name}/{port}")


# Members that do not mirror each other


@rule
def unlike_members(index: NetworkIndex) -> Iterator[Finding]:
    """Members with other addresses or intervals than the active one."""
    for members, active in index.once(groups):
        for other in members:
            if other is active:
                continue
            if set(other.written.addresses) != set(active.written.addresses):
                yield faults.addresses_differ(index, active, other)
            if other.written.advertise_interval != active.written.advertise_interval:
                yield faults.intervals_differ(index, active, other)


@rule
def unlike_vrids(index: NetworkIndex) -> Iterator[Finding]:
    """One address in two virtual routers of one broadcast domain."""
    by_address: dict[Address, list[Member]] = {}
    for _, active in index.once(groups):
        for address in active.written.addresses:
            if not is_link_local(address):
                by_address.setdefault(address, []).append(active)
    told: set[tuple[Member, Member]] = set()
    for address, members in by_address.items():
        for first, other in combinations(sorted(members, key=lambda member: member.place), 2):
            apart = first.router == other.router or not index.domains.together(first.endpoint, other.endpoint)
            if not apart and (first, other) not in told:
                told.add((first, other))
                yield faults.vrids_differ(index, first, other, address)


@rule
def active_twice(index: NetworkIndex) -> Iterator[Finding]:
    """Two parts of one virtual router that do not hear each other, in what ought to be one VLAN."""
    by_router: dict[tuple[int, int], list[Member]] = {}
    for _, active in index.once(groups):
        by_router.setdefault(active.router, []).append(active)
    for one, other in (pair for members in by_router.values() for pair in combinations(members, 2)):
        common = set(one.written.addresses) & set(other.written.addresses)
        if not common or index.domains.together(one.endpoint, other.endpoint):
            continue
        a, b = _nic(index, one), _nic(index, other)
        if a.vrf != b.vrf or (a.vlan is not None and b.vlan is not None and a.vlan != b.vlan):
            continue
        why: list[Finding] = []
        if a.vlan is not None:
            ends = [(index.knowledge.nodes[member.device], _nic(index, member)) for member in (other, one)]
            why = cut(index, a.vlan, *ends)
        yield faults.active_twice(index, one, other, next(iter(why), None))


@rule
def not_routing(index: NetworkIndex) -> Iterator[Finding]:
    """An active member whose device does not route the family."""
    for _, active in index.once(groups):
        if active.written.family not in index.knowledge.devices[active.device].forwards:
            yield active_not_routing(index, active)


def partners(index: NetworkIndex) -> dict[str, dict[str, None]]:
    """The devices that each shares a gateway with, in the order of the network."""
    found: dict[str, dict[str, None]] = {}
    for members, _ in index.once(groups):
        for one in members:
            for other in members:
                if other.device != one.device:
                    found.setdefault(one.device, {}).setdefault(other.device)
    return found


@rule
def missing_members(index: NetworkIndex) -> Iterator[Finding]:
    """A gateway that one of a pair holds alone though the other has the VLAN."""
    elected = index.knowledge.elected
    told: set[tuple[str, str, str]] = set()
    for members, active in index.once(groups):
        others = [other for other in elected.sharing(active.written.addresses[0]) if other.device != active.device]
        if others or {member.device for member in members} != {active.device}:
            continue
        nic = _nic(index, active)
        for partner in index.once(partners).get(active.device, ()):
            device, node = index.network.devices[partner], index.knowledge.devices[partner]
            place = (active.device, active.interface, partner)
            if nic.vlan is None or device.kind != "l3switch" or nic.vlan not in node.vlans or place in told:
                continue
            told.add(place)
            yield _member_missing(index, active, nic, node)


def _member_missing(index: NetworkIndex, active: Member, nic: Nic, node: Node) -> Finding:
    """All that an interface shares, for who has no part in it."""
    vlan = _vlan(index, active)
    there = next((other for other in node.nics.values() if other.kind == "vlan" and other.vlan == nic.vlan), None)
    shared = [one.written for one in index.knowledge.elected.members(active.device) if one.interface == nic.name]
    tracks = {one.written.track for one in index.knowledge.elected.members(node.name)}
    track = next(iter(tracks)) if len(tracks) == 1 else ()  # the way on that its other parts hang on
    parts = [faults.as_written(one, track) for one in shared]
    own = [address for address in nic.addresses if any(address.prefix.holds(one.addresses[0]) for one in shared)]
    names = " and ".join(map(str, shared))
    if there is not None and {address.prefix for address in own} <= {address.prefix for address in there.addresses}:
        path = ("devices", node.name, "interfaces", there.name, "virtual")
        begun = any(one.interface == there.name for one in index.knowledge.elected.members(node.name))
        edits = [Edit((*path, "+"), part) for part in parts] if begun else [Edit(path, parts)]
        held = [one for one in there.addresses if any(one.address in other.addresses for other in shared)]
        if held:
            own_addresses = [(one, free_address(index, one.prefix)) for one in held]
            return faults.shared_address_held(active, Held(node, there, held[0]), own_addresses, tuple(edits), names)
        return faults.member_missing(active, node.name, tuple(edits), vlan, f"add {names} to {node.name}/{there.name}")
    free = [free_address(index, address.prefix) for address in own]
    taken = active.interface in index.network.devices[node.name].interfaces
    if None in free or there is not None or taken:
        mend = f"give {node.name} an address of {', '.join(str(address.prefix) for address in own)}, and {names}"
        return faults.member_missing(active, node.name, (), vlan, mend)
    value = {"vlan": vlan, "address": [str(address) for address in free], "virtual": parts}
    edit = Edit(("devices", node.name, "interfaces", active.interface), value)
    mend = f"add {active.interface} with {', '.join(map(str, free))} and {names} to {node.name}"
    return faults.member_missing(active, node.name, (edit,), vlan, mend)


@rule
def unlike_routes(index: NetworkIndex) -> Iterator[Finding]:
    """A route that one of a pair has and the other lacks."""
    for name, others in index.once(partners).items():
        device = index.network.devices[name]
        unused = {id(one.route) for one in index.knowledge.routes(name).unused}
        for partner in others:
            node = index.knowledge.devices[partner]
            written = {(route.destination, route.vrf) for route in index.network.devices[partner].routes}
            for route in device.routes:
                if (route.destination, route.vrf) in written:
                    continue  # in use or not, it is there
                way = decide_own(index.knowledge.state(partner), route.destination.first, route.vrf or "")
                if id(route) in unused or not (isinstance(way, Dropped) and way.reason is Reason.NO_ROUTE):
                    continue
                if route.destination.version in node.forwards and not leads_to(index, route.next_hop.address, partner):
                    hop = route.next_hop.address
                    way_on = beside(index, hop, partner) or _way_on(index, name, node, hop)
                    yield faults.routes_differ(name, partner, route, way_on)


def beside(index: NetworkIndex, hop: Address, name: str) -> Address | None:
    """What the device that holds a next hop holds on a subnet of another device's."""
    for holder in index.holders(hop):
        for nic in holder.node.nics.values():
            for address in nic.addresses:
                if address.version == hop.version and holder.node.name != name and is_on(index, name, address):
                    return address.address
    return None


def is_on(index: NetworkIndex, name: str, address: InterfaceAddress) -> bool:
    """Whether a device has an interface that is up on the subnet of an address of another."""
    nics = index.knowledge.devices[name].nics.values()
    return any(nic.up and any(own.prefix == address.prefix and own != address for own in nic.addresses) for nic in nics)


def leads_to(index: NetworkIndex, hop: Address, name: str) -> bool:
    return any(holder.node.name == name for holder in index.holders(hop))


def without_partners(index: NetworkIndex, table: TableName, prefixes: list[Prefix]) -> list[Prefix]:
    """The subnets of these that no other which shares gateways with a device has a route to that is not written at the
    device: that is told as what differs between the two."""
    sharing = index.once(partners).get(table[0], ())
    if not sharing:
        return prefixes
    own = {(route.destination, route.vrf or "") for route in index.network.devices[table[0]].routes}
    theirs = [
        route.destination
        for partner in sharing
        for route in index.network.devices[partner].routes
        if (route.vrf or "") == table[1] and (route.destination, table[1]) not in own
    ]
    return [prefix for prefix in prefixes if not any(destination.covers(prefix) for destination in theirs)]


def _way_on(index: NetworkIndex, have: str, node: Node, hop: Address) -> Address | None:
    """What the other of a pair can send to: the same next hop where it is on a subnet of its own, else the one that has
    the route, best where they share no gateway."""
    for nic in node.nics.values():
        if nic.up and any(own.prefix.holds(hop) and own.address != hop for own in nic.addresses):
            return hop
    shared = {member.interface for member in index.knowledge.elected.members(have)}
    together = index.domains.together
    near = [
        (nic.name in shared, own.address)
        for nic in index.knowledge.devices[have].nics.values()
        for own in nic.addresses
        if own.version == hop.version and nic.up and not is_link_local(own)
        if any(together((have, nic.name), (node.name, other.name)) for other in node.nics.values() if other.up)
    ]
    return min(near, default=(False, None), key=lambda pair: pair[0])[1]


@rule
def unlike_services(index: NetworkIndex) -> Iterator[Finding]:
    """Relays and pools that one member has and another lacks."""
    for members, active in index.once(groups):
        if active.written.family != 4:
            continue
        having = next((one for one in members if _nic(index, one).dhcp_relay), None)
        for other in members:
            if having is not None and set(_nic(index, other).dhcp_relay) != set(_nic(index, having).dhcp_relay):
                wanted = _nic(index, having).dhcp_relay
                if not set(wanted) <= set(_nic(index, other).dhcp_relay):
                    yield faults.relays_differ(index, having, other, wanted, _vlan(index, active))
        if having is None:
            yield from _unlike_pools(index, members, active)


def _unlike_pools(index: NetworkIndex, members: list[Member], active: Member) -> Iterator[Finding]:
    own = {address.prefix for address in _nic(index, active).addresses}
    serving = {
        member.device: pool
        for member in members
        for pool in index.network.devices[member.device].dhcp_pools.values()
        if pool.subnet in own
    }
    having = next((member for member in members if member.device in serving), None)
    for other in members:
        if having is not None and other.device not in serving:
            yield faults.leases_differ(having, other, serving[having.device], _vlan(index, active))


def is_behind_a_switch(index: NetworkIndex, node: Node, nic: Nic, far: Held) -> bool:
    """Whether an interface stays up when the device that it sends to is gone."""
    if nic.kind == "vlan":
        return True
    ports = [end.port for end in node.attachments[nic.attachment or ""].members] if nic.attachment else []
    return far.node.name not in facing(index.knowledge.plugs, node.name, ports)
