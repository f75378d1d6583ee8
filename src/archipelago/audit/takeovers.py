"""Mistakes that show once a gateway is taken over: ways that do not come along, and who can take it over."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import combinations

from archipelago.addressing.values import Address, Prefix
from archipelago.audit.redundancy import Group, beside, groups, is_behind_a_switch, is_on, leads_to, partners, preferred
from archipelago.audit.registry import rule
from archipelago.diagnosis.faults.leases import pool_path
from archipelago.diagnosis.faults.redundancy import member_path, routes_differ, tracked
from archipelago.diagnosis.faults.words import texts
from archipelago.diagnosis.kind import ALWAYS, NEVER, OFTEN, Example, Kind, finding
from archipelago.knowledge.alike import alike_hosts
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.elected import Member
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.topology import Layer2Endpoint
from archipelago.model.finding import Edit, Finding
from archipelago.model.leases import Pool, duration_text
from archipelago.model.parts import Host, NextHop, Path, Route
from archipelago.model.virtual import Track

HOLD_TIME = 10_000
"""What a hold time is set to, in milliseconds: time for routes to come once an interface is up."""
STEP = 10
"""By how much a priority is set above another's."""


def _nic(index: NetworkIndex, member: Member) -> Nic:
    return index.knowledge.devices[member.device].nics[member.interface]


def _two_best(group: Group) -> tuple[Member, Member] | None:
    """The member that is active while all is well, and the next best of another device."""
    first = preferred(group)
    others = [other for other in group[0] if other.device != first.device]
    if not others or first.owns:
        return None
    return first, max(others, key=lambda member: (member.written.priority, member.rank))


def _ways_on(index: NetworkIndex, member: Member) -> Iterator[tuple[Route, str]]:
    """The static routes in use of a member's device in its routing table and family, with the interface of each that
    leaves by another than the member's own."""
    nic = _nic(index, member)
    table = index.knowledge.routes(member.device).tables.get((nic.vrf, member.written.family))
    for entry in table.entries() if table is not None else ():
        if entry.route is not None and entry.interface != member.interface:
            yield entry.route, entry.interface


@rule
def at_once(index: NetworkIndex) -> Iterator[Finding]:
    """Preemption without a hold time where routes lead on by other interfaces."""
    for group in index.once(groups):
        pair = _two_best(group)
        if pair is None or pair[0].written.priority <= pair[1].written.priority:
            continue
        member = pair[0]
        if member.written.preempt and not member.written.hold_time and any(_ways_on(index, member)):
            yield preempts_at_once(index, member)


PREEMPTS_AT_ONCE = Kind(
    "preempts-at-once",
    "risk",
    "a member that takes over as soon as its interface is up, before what it routes by is",
    "packets vanish at {device} from its return until its routes work",
    ALWAYS,
    example=Example("pair", "devices: {core-1: {interfaces: {store-gw: {virtual: {hold-time: ~}}}}}"),
)


def preempts_at_once(index: NetworkIndex, member: Member) -> Finding:
    """A member that takes over before its routes have come."""
    path = (*member_path(index, member), "hold-time")
    time = duration_text(HOLD_TIME)
    return finding(
        PREEMPTS_AT_ONCE,
        at=member.device,
        path=path,
        says=f"{member} takes over in {member.written} as soon as it is up, and {member.device} routes on by others",
        mend=f"set the hold time at {member} to {time}",
        edits=(Edit(path, time),),
        device=member.device,
    )


@rule
def untracked(index: NetworkIndex) -> Iterator[Finding]:
    """An active member that does not watch the way on, where the next best has a way of its own. A VLAN interface is
    up as long as any port that carries it: there is nothing to watch."""
    for group in index.once(groups):
        pair = _two_best(group)
        if pair is None:
            continue
        member, next_best = pair
        theirs = {route.destination for route, _ in _ways_on(index, next_best)}
        watched = {track.interface for track in member.written.track}
        networks = {track.network for track in member.written.track}
        node = index.knowledge.devices[member.device]
        for route, interface in _ways_on(index, member):
            shared = any(one.interface == interface for one in index.knowledge.elected.members(member.device))
            attachment = node.nics[interface].attachment
            if route.destination not in theirs or shared or route.destination in networks:
                continue
            if node.nics[interface].kind not in ("loopback", "vlan") and not {interface, attachment} & watched:
                yield uplink_untracked(index, member, next_best, route, interface)
                break


UPLINK_UNTRACKED = Kind(
    "uplink-untracked",
    "risk",
    "an active gateway that stays active without its way on",
    "packets end at {device} once {uplink} is down, though another gateway has a way",
    ALWAYS,
    example=Example("pair", "devices: {core-1: {interfaces: {store-gw: {virtual: {track: ~}}}}}"),
)


def uplink_untracked(index: NetworkIndex, member: Member, next_best: Member, route: Route, uplink: str) -> Finding:
    """An active member that does not watch its way on."""
    path = (*member_path(index, member), "track")
    lost = min(max(member.written.priority - next_best.written.priority, 0) + 2 * STEP, 254)
    watched = (*member.written.track, Track(interface=uplink, priority_decrement=lost))
    return finding(
        UPLINK_UNTRACKED,
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


@rule
def next_hops_of_one(index: NetworkIndex) -> Iterator[Finding]:
    """A static route by the own address of one of several, behind a switch that outlives it."""
    pairs = index.once(partners)
    for device in index.network.devices.values():
        node = index.knowledge.devices[device.name]
        for route, interface in _static(index, device.name):
            holder = index.neighbour((device.name, interface), route.next_hop.address)
            if holder is None or holder.node.name not in pairs or device.name in pairs.get(holder.node.name, ()):
                continue
            number = index.route_number(device.name, route)
            shared = _shared_beside(index, holder)
            own = own_address(holder.nic, route.next_hop.address) and shared != route.next_hop.address
            outlived = is_behind_a_switch(index, node, node.nics[interface], holder)
            if own and outlived and number is not None:
                yield next_hop_of_one(node, number, route, holder, shared)


def own_address(nic: Nic, address: Address) -> bool:
    """Whether an address is an interface's own."""
    return any(own.address == address for own in nic.addresses)


NEXT_HOP_OF_ONE = Kind(
    "next-hop-of-one",
    "risk",
    "a route by one member's own address behind a switch, which outlives it",
    "the route stays once {device} is gone, and packets vanish",
    OFTEN,
    example=Example(
        "pair",
        """
        devices:
          shed:
            interfaces:
              manage: {vlan: store, address: 10.44.4.9/24}
            routes:
            - {destination: 0.0.0.0/0, next-hop: 10.44.4.2}
        """,
    ),
)


def next_hop_of_one(node: Node, number: int, route: Route, held: Held, shared: Address | None) -> Finding:
    """A next hop that dies while the switch before it lives."""
    path: Path = ("devices", node.name, "routes", number, "next-hop")
    where = f"{held.node.name}'s own, behind a switch that outlives it"
    return finding(
        NEXT_HOP_OF_ONE,
        at=node.name,
        path=path,
        says=f"the route of {node.name} to {route.destination} goes by {route.next_hop}, {where}",
        mend=f"send to {shared} instead, which is shared"
        if shared is not None
        else f"share an address between {held.node.name} and the other way on, and send to that",
        edits=(Edit(path, str(shared)),) if shared is not None else (),
        device=held.node.name,
    )


def _static(index: NetworkIndex, name: str) -> Iterator[tuple[Route, str]]:
    """The static routes in use of a device, with the interface of each."""
    for table in index.knowledge.routes(name).tables.values():
        yield from ((entry.route, entry.interface) for entry in table.entries() if entry.route is not None)


def _shared_beside(index: NetworkIndex, holder: Held) -> Address | None:
    """What an interface's subnet has as a shared address of its family; None where there is none."""
    shared = index.as_shared(holder)
    return shared.address.address if shared is not holder else None


@rule
def gateways_of_one(index: NetworkIndex) -> Iterator[Finding]:
    """Hosts and pools whose gateway is one member's own address."""
    if not index.knowledge.elected.any:
        return
    for hosts in index.once(alike_hosts):
        for hop in hosts[0].gateway:
            found = _of_one(index, hop.address)
            if found is None:
                continue
            for host in hosts:
                leased = host.dhcp and hop.address.version == 4
                if not leased:
                    yield host_gateway_of_one(host, hop, *found)
    for server in index.knowledge.leases.servers:
        for pool in index.knowledge.leases.pools_of(server).values():
            found = _of_one(index, pool.gateway) if pool.gateway is not None else None
            if found is not None:
                yield pool_gateway_of_one(pool_path(index, server, pool), server, pool, *found)


GATEWAY_OF_ONE = Kind(
    "gateway-of-one",
    "risk",
    "a host, or a pool of leases, whose gateway is one member's own address",
    "{who} answers nobody outside its own subnet once {device} is gone",
    ALWAYS,
    example=Example("pair", "hosts: {crane: {gateway: 10.44.4.2}}"),
)


def pool_gateway_of_one(path: Path, server: str, pool: Pool, device: str, shared: Address) -> Finding:
    """A pool whose gateway is one member's own address."""
    return finding(
        GATEWAY_OF_ONE,
        at=server,
        path=(*path, "gateway"),
        says=f"pool {pool.name} of {server} gives {pool.gateway}, {device}'s own address, and not {shared}",
        mend=f"set the gateway of pool {pool.name} to {shared}",
        edits=(Edit((*path, "gateway"), str(shared)),),
        who=f"who leases from {pool.name}",
        device=device,
    )


def host_gateway_of_one(host: Host, hop: NextHop, device: str, shared: Address) -> Finding:
    """A host whose gateway is one member's own address."""
    path: Path = ("hosts", host.name, "gateway")
    listed = [shared if one == hop else one for one in host.gateway]
    return finding(
        GATEWAY_OF_ONE,
        at=host.name,
        path=path,
        says=f"the gateway {hop} of {host.name} is {device}'s own address, and not {shared}, which is shared",
        mend=f"set the gateway of {host.name} to {shared}",
        edits=(Edit(path, texts(listed)),),
        who=host.name,
        device=device,
    )


def _of_one(index: NetworkIndex, address: Address) -> tuple[str, Address] | None:
    """Whose own an address is, and what is shared in its place; None where it is shared, or nothing is."""
    holder = next((one for one in index.holders(address) if one.node.can_route), None)
    if holder is None or index.knowledge.elected.sharing(address):
        return None
    shared = _shared_beside(index, holder)
    return (holder.node.name, shared) if shared is not None and shared != address else None


@rule
def conversations(index: NetworkIndex) -> Iterator[Finding]:
    """Two VLANs whose gateways are active at different members, with a filter or a translation between that goes by
    conversations: it takes an answer whose question passed the other for something new."""
    every = index.once(groups)
    if not any(_knows_conversations(index, member) for members, _ in every for member in members):
        return
    told: set[Member] = set()
    for (_, one), (others, other) in combinations(every, 2):
        if one.device == other.device or one.written.family != other.written.family or other in told:
            continue
        mine = next((member for member in others if member.device == one.device), None)
        if mine is None or not any(_knows_conversations(index, member) for member in (one, other, mine)):
            continue
        vlans = [index.vlan_key(nic.vlan) for nic in (_nic(index, one), _nic(index, other)) if nic.vlan is not None]
        if len(vlans) == 2:
            told.add(other)  # one change mends it for all that are active at the first
            yield answers_elsewhere(index, one, other, mine, vlans)


ANSWERS_ELSEWHERE = Kind(
    "answers-elsewhere",
    "risk",
    "question and answer pass different members, of which one knows conversations",
    "answers between {vlans} are dropped where the question did not pass",
    OFTEN,
    example=Example("routers", "devices: {landing: {interfaces: {p1.130: {virtual: {priority: ~}}}}}"),
)


def answers_elsewhere(index: NetworkIndex, one: Member, other: Member, mine: Member, vlans: Sequence[str]) -> Finding:
    """Question and answer pass different members, and conversations are known to one."""
    path = (*member_path(index, mine), "priority")
    priority = min(other.priority + STEP, 254)
    names = " and ".join(vlans)
    return finding(
        ANSWERS_ELSEWHERE,
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


def _knows_conversations(index: NetworkIndex, member: Member) -> bool:
    nic = _nic(index, member)
    return bool(nic.source_nat) or any(one is not None and one.stateful for one in (nic.filter_in, nic.filter_out))


@rule
def claimable(index: NetworkIndex) -> Iterator[Finding]:
    """Virtual routers that whoever is plugged in can take over, told once for each active device."""
    open_to: dict[str, list[Member]] = {}
    for _, active in index.once(groups):
        nic = _nic(index, active)
        if not active.owns and nic.vlan is not None and _has_access_port(index, active):
            open_to.setdefault(active.device, []).append(active)
    for members in open_to.values():
        vlans = [index.vlan_key(_nic(index, member).vlan or 0) for member in members]
        yield gateway_claimable(index, members, list(dict.fromkeys(vlans)))


GATEWAY_CLAIMABLE = Kind(
    "gateway-claimable",
    "risk",
    "a virtual router below priority 255 in a VLAN that has access ports (RFC 9568 9: nobody proves who it is)",
    "who plugs in there can bid higher and be everybody's gateway",
    NEVER,
    example=Example("pair", "devices: {core-1: {interfaces: {store-gw: {virtual: {priority: '200'}}}}}"),
)


def gateway_claimable(index: NetworkIndex, members: Sequence[Member], vlans: Sequence[str]) -> Finding:
    """Whoever is plugged into a VLAN can be its gateway."""
    first = members[0]
    return finding(
        GATEWAY_CLAIMABLE,
        at=first.device,
        path=member_path(index, first),
        says=f"whoever is plugged into {', '.join(vlans)} can claim the gateway there, by bidding more",
        mend=(
            f"make {first.device} the owner of the address (priority 255), "
            "and keep VRRP off access ports where the switches can"
        ),
    )


def _has_access_port(index: NetworkIndex, member: Member) -> bool:
    """Whether the domain of a member has a port for hosts."""
    domain = index.domains.of(member.endpoint)
    return domain is not None and not index.once(_access_ports).isdisjoint(domain.endpoints)


def _access_ports(index: NetworkIndex) -> set[Layer2Endpoint]:
    """The VLANs of each device that it has an access port in."""
    return {
        (name, attachment.untagged)
        for name, node in index.knowledge.devices.items()
        for attachment in node.attachments.values()
        if attachment.switched and attachment.written.trunk is None and attachment.untagged is not None
    }


@rule
def unlike_ways(index: NetworkIndex) -> Iterator[Finding]:
    """A way that one of a pair has and the other lacks: on its own, or by the other in reserve."""
    for name, others in index.once(partners).items():
        for partner in others:
            theirs = _ways_of(index, partner)
            for (destination, vrf), mine in _ways_of(index, name).items():
                there = theirs.get((destination, vrf))
                if there is None or mine[0] is None:
                    continue
                if there[0] is None:
                    hop = beside(index, mine[0].next_hop.address, partner)
                    if hop is not None:
                        yield routes_differ(name, partner, mine[0], hop, "of its own", f"once {name} is gone")
                elif mine[1] is not None and there[1] is None:
                    hop = _own_hop(index, name, partner, destination)
                    if hop is not None:
                        how, when = f"by {name} in reserve", f"once {partner}'s own way is cut"
                        yield routes_differ(name, partner, mine[1], hop, how, when)


Ways = tuple[Route | None, Route | None]


def _ways_of(index: NetworkIndex, name: str) -> dict[tuple[Prefix, str], Ways]:
    """For each destination that a device has written routes to, the first that leads elsewhere, and the first that
    leads to another it shares with."""
    found: dict[tuple[Prefix, str], Ways] = {}
    others = index.once(partners)[name]
    for route in index.network.devices[name].routes:
        own, reserve = found.get((route.destination, route.vrf or ""), (None, None))
        if any(leads_to(index, route.next_hop.address, other) for other in others):
            reserve = reserve or route
        else:
            own = own or route
        found[route.destination, route.vrf or ""] = own, reserve
    return found


def _own_hop(index: NetworkIndex, name: str, partner: str, destination: Prefix) -> Address | None:
    """What a device holds, and does not share, on a subnet that it has in common with another and shares nothing in."""
    for nic in index.knowledge.devices[name].nics.values():
        shares = any(one.interface == nic.name for one in index.knowledge.elected.members(name))
        for address in nic.addresses if nic.up and not shares else ():
            if address.version == destination.version and is_on(index, partner, address):
                return address.address
    return None
