"""Findings about the spanning tree and about gateways that several devices share."""

from __future__ import annotations

from collections.abc import Sequence

from archipelago.addressing.values import Address, InterfaceAddress
from archipelago.diagnosis.catalogue import finding
from archipelago.diagnosis.faults.words import label, texts
from archipelago.diagnosis.places import nic_path, port_path
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.elected import Member
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.leases import Pool, duration_text
from archipelago.model.parts import Host, NextHop, Path, Route
from archipelago.model.virtual import USUAL_INTERVAL, Track, VirtualRouter

HOLD_TIME = 10_000
"""What a hold time is set to, in milliseconds: time for routes to come once an interface is up."""
STEP = 10
"""By how much a priority is set above another's."""


def member_path(index: NetworkIndex, member: Member) -> Path:
    """Where a member's part in a virtual router stands in the document, whether one alone is written or a list."""
    path = (*interface_path(index, member), "virtual")
    numbered = (*path, member.number)
    marks = index.network.marks
    beside = [one for one in index.knowledge.elected.members(member.device) if one.interface == member.interface]
    listed = numbered in marks if path in marks else len(beside) > 1
    return numbered if listed else path


def interface_path(index: NetworkIndex, member: Member) -> Path:
    """Where a member's interface stands in the document."""
    node = index.knowledge.devices[member.device]
    return nic_path((node, node.nics[member.interface]))


def as_written(virtual: VirtualRouter, track: Sequence[Track] = ()) -> dict[str, object]:
    """A part in the same virtual router for another device, as a document holds it: with the interval that all must
    have, and what that device tracks."""
    value: dict[str, object] = {"vrid": str(virtual.vrid), "address": texts(virtual.addresses)}
    if virtual.advertise_interval != USUAL_INTERVAL:
        value["advertise-interval"] = duration_text(virtual.advertise_interval)
    if track:
        value["track"] = tracked(track)
    return value


def tracked(track: Sequence[Track]) -> list[dict[str, str]]:
    """What a member tracks, as a document holds it."""
    return [
        ({"interface": one.interface} if one.interface else {"network": str(one.network)})
        | {"priority-decrement": str(one.priority_decrement)}
        for one in track
    ]


# Spanning tree


def root_by_accident(index: NetworkIndex, root: str, better: str) -> Finding:
    """A plain switch is the root, as nobody wrote a priority."""
    path: Path = ("devices", better, "bridge-priority")
    return finding(
        "root-by-accident",
        at=root,
        path=("devices", root),
        says=f"{root} is the spanning tree's root, and only because no device has a bridge priority",
        mend=f"set the bridge priority of {better} to 4096",
        edits=(Edit(path, "4096"),),
        root=root,
    )


def root_elsewhere(root: str, active: str, vlans: Sequence[str], edit: Edit | None) -> Finding:
    """The root is not where the gateways are active."""
    mend = f"raise the bridge priority of {root} above that of {active}, or let {root} be active"
    if edit is not None and edit.value is REMOVE:
        mend = f"take the bridge priority away from {root}"
    elif edit is not None:
        mend = f"set the bridge priority of {active} to {edit.value}, or raise that of {root}"
    return finding(
        "root-elsewhere",
        at=root,
        path=("devices", root),
        says=f"{root} is the spanning tree's root, and {active} is the active gateway of {', '.join(vlans)}",
        mend=mend,
        edits=(edit,) if edit is not None else (),
        root=root,
    )


def edge_to_bridge(index: NetworkIndex, device: str, port: str, far: str) -> Finding:
    """An edge port with a bridge behind it."""
    path = (*port_path(index.knowledge, device, port), "edge")
    return finding(
        "edge-to-bridge",
        at=device,
        path=path,
        says=f"{device}/{port} is an edge port and leads to {far}, which is a bridge",
        mend=f"write 'edge: false' at {device}/{port}",
        edits=(Edit(path, "false"),),
    )


def spare_lacks_vlan(index: NetworkIndex, spare: tuple[str, str], vlans: Sequence[int], edits: list[Edit]) -> Finding:
    """A blocked link that lacks VLANs of the one in use."""
    names = ", ".join(index.vlan_key(vlan) for vlan in vlans)
    where = "/".join(spare)
    return finding(
        "spare-lacks-vlan",
        at=spare[0],
        path=(*port_path(index.knowledge, *spare), "trunk"),
        says=f"the link at {where} is kept in reserve and does not carry {names}, which the link in use carries",
        mend=f"carry {names} on both ends of the link at {where}",
        edits=tuple(edits),
        vlans=names,
    )


def circle_by_wire(device: str, blocked: str) -> Finding:
    """A circle through a device that takes no part in the tree."""
    path: Path = ("devices", device, "spanning-tree")
    return finding(
        "circle-by-wire",
        at=device,
        path=path,
        says=f"{device} takes no part in the spanning tree and closes a circle, which only {blocked} keeps open",
        mend=f"let {device} take part in the spanning tree",
        edits=(Edit(path, "on"),),
    )


# Members that do not mirror each other


def addresses_differ(index: NetworkIndex, active: Member, other: Member) -> Finding:
    """A member with other addresses than the active one."""
    wanted = texts(active.written.addresses)
    path = (*member_path(index, other), "address")
    return finding(
        "shared-addresses-differ",
        at=other.device,
        path=path,
        says=f"{other} and {active} are both in {other.written}, which {active.device} has as {active.written}",
        mend=f"set the address of virtual router {other.written.vrid} at {other} to {_listed(active)}",
        edits=(Edit(path, wanted),),
    )


def _listed(member: Member) -> str:
    return ", ".join(map(str, member.written.addresses))


def intervals_differ(index: NetworkIndex, active: Member, other: Member) -> Finding:
    """A member that advertises at another interval."""
    path = (*member_path(index, other), "advertise-interval")
    mine, theirs = (duration_text(member.written.advertise_interval) for member in (active, other))
    return finding(
        "shared-intervals-differ",
        at=other.device,
        path=path,
        says=f"{other} advertises virtual router {other.written.vrid} every {theirs}, and {active} every {mine}",
        mend=f"set the interval at {other} to {mine}",
        edits=(Edit(path, mine),),
    )


def vrids_differ(index: NetworkIndex, first: Member, other: Member, address: Address) -> Finding:
    """One address in two virtual routers of a domain."""
    path = (*member_path(index, other), "vrid")
    return finding(
        "vrids-differ",
        at=other.device,
        path=path,
        says=f"{other} has {address} in virtual router {other.written.vrid}, and {first} in {first.written.vrid}",
        mend=f"set the VRID at {other} to {first.written.vrid}",
        edits=(Edit(path, str(first.written.vrid)),),
        address=address,
    )


def active_twice(index: NetworkIndex, one: Member, other: Member, why: Finding | None) -> Finding:
    """Two that ought to hear each other, both active."""
    told = f": {why.says}" if why is not None else ""
    return finding(
        "active-twice",
        at=other.device,
        path=member_path(index, other),
        says=f"{one} and {other} are both active in {one.written}, as neither hears the other{told}",
        mend=why.mend if why is not None else f"join the VLAN of {one} and {other} over cables that carry it",
        edits=why.edits if why is not None else (),
    )


def active_not_routing(active: Member, families: Sequence[str]) -> Finding:
    """The active member does not route."""
    path: Path = ("devices", active.device, "routing")
    return finding(
        "active-not-routing",
        at=active.device,
        path=path,
        says=f"{active} is active in {active.written}, and {active.device} does not route IPv{active.written.family}",
        mend=f"write 'routing: [{', '.join(families)}]' at {active.device}",
        edits=(Edit(path, list(families)),),
        address=_listed(active),
    )


def member_missing(member: Member, partner: str, edits: tuple[Edit, ...], vlan: str, mend: str) -> Finding:
    """A gateway that one of a pair holds alone."""
    return finding(
        "member-missing",
        at=partner,
        path=("devices", partner),
        says=f"{member} shares the gateway of {vlan}, and {partner}, which shares others with it, has no part in it",
        mend=mend,
        edits=edits,
        vlan=vlan,
        device=member.device,
    )


def shared_address_held(
    member: Member,
    holder: Held,
    moved: Sequence[tuple[InterfaceAddress, InterfaceAddress | None]],
    joins: tuple[Edit, ...],
    names: str,
) -> Finding:
    """An address that a virtual router shares, held by an interface that has no part in it: an owner is a member, with
    the priority 255 (RFC 9568 5.2.4)."""
    place = label(holder)
    new = {old: free for old, free in moved if free is not None}
    addresses = texts([new.get(one, one) for one in holder.nic.addresses])
    path = nic_path(holder)
    mend = f"give {place} the address {' and '.join(map(str, new.values()))} of its own, and add {names} to it"
    return finding(
        "shared-address-held",
        at=holder.node.name,
        path=(*path, "address"),
        says=f"{place} holds {holder.address.address} itself, which {member} shares, and has no part in {names}",
        mend=mend if new else f"give {place} an address of its own, and add {names} to it",
        edits=(Edit((*path, "address"), addresses), *joins) if new else (),
    )


def routes_differ(have: str, lacks: str, route: Route, hop: Address | None, how: str = "", when: str = "") -> Finding:
    """A route that one of a pair lacks; or of two ways to one destination one, `how` says which, and `when` the other
    is not enough."""
    path: Path = ("devices", lacks, "routes")
    value = {"destination": str(route.destination), "next-hop": str(hop)}
    if route.metric != 1:
        value["metric"] = str(route.metric)
    if route.vrf:
        value["vrf"] = route.vrf
    what = f"way to {route.destination} {how}" if how else f"route to {route.destination}"
    add = f"add a route to {route.destination} via {hop} on {lacks}"
    return finding(
        "members-route-differently",
        at=lacks,
        path=path,
        says=f"{lacks} has no {what}, and {have}, which shares gateways with it, has",
        mend=add if hop is not None else f"give {lacks} a way to {route.destination}",
        edits=(Edit((*path, "+"), value),) if hop is not None else (),
        destination=route.destination,
        when=when or f"once {lacks} is active",
    )


def relays_differ(index: NetworkIndex, have: Member, lacks: Member, relays: Sequence[Address], vlan: str) -> Finding:
    """A relay that one of a pair lacks."""
    path = (*interface_path(index, lacks), "dhcp-relay")
    return finding(
        "members-relay-differently",
        at=lacks.device,
        path=path,
        says=f"{have} relays what hosts ask to {', '.join(map(str, relays))}, and {lacks} does not",
        mend=f"let {lacks} relay to {', '.join(map(str, relays))}",
        edits=(Edit(path, texts(relays)),),
        vlan=vlan,
        device=have.device,
    )


def leases_differ(have: Member, lacks: Member, pool: Pool, vlan: str) -> Finding:
    """A pool that one of a pair lacks."""
    return finding(
        "members-lease-differently",
        at=lacks.device,
        path=("devices", have.device, "dhcp-pools", pool.name),
        says=f"{have.device} leases addresses of {pool.subnet} (pool {pool.name}), and {lacks.device} leases none",
        mend=f"let {lacks.device} lease a part of {pool.subnet} of its own, or a server that both relay to",
        vlan=vlan,
        device=have.device,
    )


# Takeovers


def preempts_at_once(index: NetworkIndex, member: Member) -> Finding:
    """A member that takes over before its routes have come."""
    path = (*member_path(index, member), "hold-time")
    time = duration_text(HOLD_TIME)
    return finding(
        "preempts-at-once",
        at=member.device,
        path=path,
        says=f"{member} takes over in {member.written} as soon as it is up, and {member.device} routes on by others",
        mend=f"set the hold time at {member} to {time}",
        edits=(Edit(path, time),),
        device=member.device,
    )


def uplink_untracked(index: NetworkIndex, member: Member, next_best: Member, route: Route, uplink: str) -> Finding:
    """An active member that does not watch its way on."""
    path = (*member_path(index, member), "track")
    lost = min(max(member.written.priority - next_best.written.priority, 0) + 2 * STEP, 254)
    watched = (*member.written.track, Track(interface=uplink, priority_decrement=lost))
    return finding(
        "uplink-untracked",
        at=member.device,
        path=path,
        says=(
            f"{member} is to be active in {member.written} and does not track {uplink}, "
            f"its way to {route.destination}; {next_best.device} has another"
        ),
        mend=f"track {uplink} at {member}, with a decrement of {lost}",
        edits=(Edit(path, tracked(watched)),),
        device=member.device,
        uplink=uplink,
    )


def next_hop_of_one(node: Node, number: int, route: Route, held: Held, shared: Address | None) -> Finding:
    """A next hop that dies while the switch before it lives."""
    path: Path = ("devices", node.name, "routes", number, "next-hop")
    where = f"{held.node.name}'s own, behind a switch that outlives it"
    return finding(
        "next-hop-of-one",
        at=node.name,
        path=path,
        says=f"the route of {node.name} to {route.destination} goes by {route.next_hop}, {where}",
        mend=f"send to {shared} instead, which is shared"
        if shared is not None
        else f"share an address between {held.node.name} and the other way on, and send to that",
        edits=(Edit(path, str(shared)),) if shared is not None else (),
        device=held.node.name,
    )


def host_gateway_of_one(host: Host, hop: NextHop, device: str, shared: Address) -> Finding:
    """A host whose gateway is one member's own address."""
    path: Path = ("hosts", host.name, "gateway")
    listed = [shared if one == hop else one for one in host.gateway]
    return finding(
        "gateway-of-one",
        at=host.name,
        path=path,
        says=f"the gateway {hop} of {host.name} is {device}'s own address, and not {shared}, which is shared",
        mend=f"set the gateway of {host.name} to {shared}",
        edits=(Edit(path, texts(listed)),),
        who=host.name,
        device=device,
    )


def pool_gateway_of_one(path: Path, server: str, pool: Pool, device: str, shared: Address) -> Finding:
    """A pool whose gateway is one member's own address."""
    return finding(
        "gateway-of-one",
        at=server,
        path=(*path, "gateway"),
        says=f"pool {pool.name} of {server} gives {pool.gateway}, {device}'s own address, and not {shared}",
        mend=f"set the gateway of pool {pool.name} to {shared}",
        edits=(Edit((*path, "gateway"), str(shared)),),
        who=f"who leases from {pool.name}",
        device=device,
    )


def answers_elsewhere(index: NetworkIndex, one: Member, other: Member, mine: Member, vlans: Sequence[str]) -> Finding:
    """Question and answer pass different members, and conversations are known to one."""
    path = (*member_path(index, mine), "priority")
    priority = min(other.priority + STEP, 254)
    names = " and ".join(vlans)
    return finding(
        "answers-elsewhere",
        at=other.device,
        path=member_path(index, other),
        says=(
            f"{one} is active for {vlans[0]} and {other} for {vlans[1]}, "
            "and one of them goes by conversations that the other does not know"
        ),
        mend=f"make {one.device} active for both: set the priority of {mine} to {priority}",
        edits=(Edit(path, str(priority)),) if priority > other.priority else (),
        vlans=names,
    )


def gateway_claimable(index: NetworkIndex, members: Sequence[Member], vlans: Sequence[str]) -> Finding:
    """Whoever is plugged into a VLAN can be its gateway."""
    first = members[0]
    return finding(
        "gateway-claimable",
        at=first.device,
        path=member_path(index, first),
        says=f"whoever is plugged into {', '.join(vlans)} can claim the gateway there, by bidding more",
        mend=(
            f"make {first.device} the owner of the address (priority 255), "
            "and keep VRRP off access ports where the switches can"
        ),
    )


def own_address(nic: Nic, address: Address) -> bool:
    """Whether an address is an interface's own."""
    return any(own.address == address for own in nic.addresses)
