"""Mistakes in gateways that several devices share."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import combinations

from archipelago.addressing.values import Address, InterfaceAddress, Prefix, is_link_local
from archipelago.audit.registry import rule
from archipelago.diagnosis.cut import cut
from archipelago.diagnosis.faults.redundancy import addresses_text, interface_path, member_path, routes_differ, tracked
from archipelago.diagnosis.faults.words import free_address, label, texts
from archipelago.diagnosis.kind import ALWAYS, NEVER, OFTEN, Example, Kind, finding
from archipelago.diagnosis.not_routing import active_not_routing
from archipelago.diagnosis.places import nic_path
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.elected import Member
from archipelago.knowledge.forwarding import Dropped, decide_own
from archipelago.knowledge.held import Held, TableName
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.links import facing
from archipelago.knowledge.reasons import Reason
from archipelago.model.finding import Edit, Finding
from archipelago.model.leases import Pool, duration_text
from archipelago.model.virtual import USUAL_INTERVAL, Track, VirtualRouter

Group = tuple[list[Member], Member]
"""The members of a virtual router that are up in one broadcast domain, and the active one."""


def groups(index: NetworkIndex) -> list[Group]:
    """Every virtual router in each broadcast domain that has an active member."""
    return [(members, active) for members, active in index.knowledge.elected.routers() if active is not None]


def preferred(group: Group) -> Member:
    """The member that is active while all that it tracks is there."""
    return max(group[0], key=lambda member: (member.owns, member.written.priority, member.rank))


def interface_of(index: NetworkIndex, member: Member) -> Nic:
    """The interface of a member."""
    return index.knowledge.devices[member.device].nics[member.interface]


def vlan_text(index: NetworkIndex, member: Member) -> str:
    """The VLAN of a member, in words."""
    vlan = interface_of(index, member).vlan
    return index.vlan_key(vlan) if vlan is not None else member.interface


@rule
def unlike_members(index: NetworkIndex) -> Iterator[Finding]:
    """Members with other addresses or intervals than the active one."""
    for members, active in index.once(groups):
        for other in members:
            if other is active:
                continue
            if set(other.written.addresses) != set(active.written.addresses):
                yield addresses_differ(index, active, other)
            if other.written.advertise_interval != active.written.advertise_interval:
                yield intervals_differ(index, active, other)


SHARED_INTERVALS_DIFFER = Kind(
    "shared-intervals-differ",
    "risk",
    "members of a virtual router that advertise at other intervals",
    "how long a takeover lasts hangs on who was active",
    ALWAYS,
    example=Example(
        "pair",
        """
        devices:
          core-2:
            interfaces:
              store-gw:
                virtual: {vrid: '14', address: 10.44.4.1, advertise-interval: 5s}
        """,
    ),
)


def intervals_differ(index: NetworkIndex, active: Member, other: Member) -> Finding:
    """A member that advertises at another interval."""
    path = (*member_path(index, other), "advertise-interval")
    mine, theirs = (duration_text(member.written.advertise_interval) for member in (active, other))
    return finding(
        SHARED_INTERVALS_DIFFER,
        at=other.device,
        path=path,
        says=f"{other} advertises virtual router {other.written.vrid} every {theirs}, and {active} every {mine}",
        mend=f"set the interval at {other} to {mine}",
        edits=(Edit(path, mine),),
    )


SHARED_ADDRESSES_DIFFER = Kind(
    "shared-addresses-differ",
    "error",
    "members of a virtual router with other addresses than the active one",
    "once it is active it answers for other addresses than hosts use",
    ALWAYS,
    example=Example(
        "pair",
        """
        devices:
          core-2:
            interfaces:
              store-gw:
                virtual: {vrid: '14', address: 10.44.4.7}
        """,
    ),
)


def addresses_differ(index: NetworkIndex, active: Member, other: Member) -> Finding:
    """A member with other addresses than the active one."""
    wanted = texts(active.written.addresses)
    path = (*member_path(index, other), "address")
    return finding(
        SHARED_ADDRESSES_DIFFER,
        at=other.device,
        path=path,
        says=f"{other} and {active} are both in {other.written}, which {active.device} has as {active.written}",
        mend=f"set the address of virtual router {other.written.vrid} at {other} to {addresses_text(active)}",
        edits=(Edit(path, wanted),),
    )


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
                yield vrids_differ(index, first, other, address)


VRIDS_DIFFER = Kind(
    "vrids-differ",
    "error",
    "one address in two virtual routers of a broadcast domain",
    "two answer for {address}, and who is believed is chance",
    ALWAYS,
    example=Example(
        "pair",
        """
        devices:
          core-2:
            interfaces:
              store-gw:
                virtual: {vrid: '41', address: 10.44.4.1}
        """,
    ),
)


def vrids_differ(index: NetworkIndex, first: Member, other: Member, address: Address) -> Finding:
    """One address in two virtual routers of a domain."""
    path = (*member_path(index, other), "vrid")
    return finding(
        VRIDS_DIFFER,
        at=other.device,
        path=path,
        says=f"{other} has {address} in virtual router {other.written.vrid}, and {first} in {first.written.vrid}",
        mend=f"set the VRID at {other} to {first.written.vrid}",
        edits=(Edit(path, str(first.written.vrid)),),
        address=address,
    )


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
        a, b = interface_of(index, one), interface_of(index, other)
        if a.vrf != b.vrf or (a.vlan is not None and b.vlan is not None and a.vlan != b.vlan):
            continue
        why: list[Finding] = []
        if a.vlan is not None:
            ends = [(index.knowledge.nodes[member.device], interface_of(index, member)) for member in (other, one)]
            why = cut(index, a.vlan, *ends)
        yield both_active(index, one, other, next(iter(why), None))


ACTIVE_TWICE = Kind(
    "active-twice",
    "error",
    "members of a virtual router that do not hear each other, both active",
    "each part of the VLAN has a gateway of its own, and answers go to the wrong part",
    OFTEN,
    example=Example(
        "pair",
        """
        devices:
          core-2:
            interfaces:
              bundle:
                trunk: [crew, guests, transit]
            ports:
              p3:
                trunk: [crew, guests]
              p5: {access: store}
        hosts:
          crane-2: {at: core-2/p5, address: 10.44.4.12/24, gateway: 10.44.4.1}
        """,
    ),
)


def both_active(index: NetworkIndex, one: Member, other: Member, why: Finding | None) -> Finding:
    """Two that ought to hear each other, both active."""
    told = f": {why.says}" if why is not None else ""
    return finding(
        ACTIVE_TWICE,
        at=other.device,
        path=member_path(index, other),
        says=f"{one} and {other} are both active in {one.written}, as neither hears the other{told}",
        mend=why.mend if why is not None else f"join the VLAN of {one} and {other} over cables that carry it",
        edits=why.edits if why is not None else (),
    )


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
        nic = interface_of(index, active)
        for partner in index.once(partners).get(active.device, ()):
            device, node = index.network.devices[partner], index.knowledge.devices[partner]
            place = (active.device, active.interface, partner)
            if nic.vlan is None or device.kind != "l3switch" or nic.vlan not in node.vlans or place in told:
                continue
            told.add(place)
            yield _member_missing(index, active, nic, node)


MEMBER_MISSING = Kind(
    "member-missing",
    "risk",
    "a gateway shared in some VLANs and in others held by one of the pair alone",
    "{vlan} has no gateway once {device} is gone",
    OFTEN,
    example=Example("pair", "devices: {core-2: {interfaces: {store-gw: {virtual: ~}}}}"),
)


def member_missing(member: Member, partner: str, edits: tuple[Edit, ...], vlan: str, mend: str) -> Finding:
    """A gateway that one of a pair holds alone."""
    return finding(
        MEMBER_MISSING,
        at=partner,
        path=("devices", partner),
        says=f"{member} shares the gateway of {vlan}, and {partner}, which shares others with it, has no part in it",
        mend=mend,
        edits=edits,
        vlan=vlan,
        device=member.device,
    )


def _member_missing(index: NetworkIndex, active: Member, nic: Nic, node: Node) -> Finding:
    """All that an interface shares, for who has no part in it."""
    vlan = vlan_text(index, active)
    there = next((other for other in node.nics.values() if other.kind == "vlan" and other.vlan == nic.vlan), None)
    shared = [one.written for one in index.knowledge.elected.members(active.device) if one.interface == nic.name]
    tracks = {one.written.track for one in index.knowledge.elected.members(node.name)}
    track = next(iter(tracks)) if len(tracks) == 1 else ()  # the way on that its other parts hang on
    parts = [as_written(one, track) for one in shared]
    own = [address for address in nic.addresses if any(address.prefix.holds(one.addresses[0]) for one in shared)]
    names = " and ".join(map(str, shared))
    if there is not None and {address.prefix for address in own} <= {address.prefix for address in there.addresses}:
        path = ("devices", node.name, "interfaces", there.name, "virtual")
        begun = any(one.interface == there.name for one in index.knowledge.elected.members(node.name))
        edits = [Edit((*path, "+"), part) for part in parts] if begun else [Edit(path, parts)]
        held = [one for one in there.addresses if any(one.address in other.addresses for other in shared)]
        if held:
            own_addresses = [(one, free_address(index, one.prefix)) for one in held]
            return shared_address_held(active, Held(node, there, held[0]), own_addresses, tuple(edits), names)
        return member_missing(active, node.name, tuple(edits), vlan, f"add {names} to {node.name}/{there.name}")
    free = [free_address(index, address.prefix) for address in own]
    taken = active.interface in index.network.devices[node.name].interfaces
    if None in free or there is not None or taken:
        mend = f"give {node.name} an address of {', '.join(str(address.prefix) for address in own)}, and {names}"
        return member_missing(active, node.name, (), vlan, mend)
    value = {"vlan": vlan, "address": [str(address) for address in free], "virtual": parts}
    edit = Edit(("devices", node.name, "interfaces", active.interface), value)
    mend = f"add {active.interface} with {', '.join(map(str, free))} and {names} to {node.name}"
    return member_missing(active, node.name, (edit,), vlan, mend)


SHARED_ADDRESS_HELD = Kind(
    "shared-address-held",
    "error",
    "a shared address that somebody holds who has no part in sharing it",
    "two answer for one address; who gets the traffic is by chance",
    ALWAYS,
    example=Example("pair", "devices: {core-2: {interfaces: {store-gw: {address: 10.44.4.1/24, virtual: ~}}}}"),
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
        SHARED_ADDRESS_HELD,
        at=holder.node.name,
        path=(*path, "address"),
        says=f"{place} holds {holder.address.address} itself, which {member} shares, and has no part in {names}",
        mend=mend if new else f"give {place} an address of its own, and add {names} to it",
        edits=(Edit((*path, "address"), addresses), *joins) if new else (),
    )


def as_written(virtual: VirtualRouter, track: Sequence[Track] = ()) -> dict[str, object]:
    """A part in the same virtual router for another device, as a document holds it: with the interval that all must
    have, and what that device tracks."""
    value: dict[str, object] = {"vrid": str(virtual.vrid), "address": texts(virtual.addresses)}
    if virtual.advertise_interval != USUAL_INTERVAL:
        value["advertise-interval"] = duration_text(virtual.advertise_interval)
    if track:
        value["track"] = tracked(track)
    return value


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
                    yield routes_differ(name, partner, route, way_on)


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
        having = next((one for one in members if interface_of(index, one).dhcp_relay), None)
        if having is None:
            yield from _unlike_pools(index, members, active)
            continue
        wanted = interface_of(index, having).dhcp_relay
        for other in members:
            if not set(wanted) <= set(interface_of(index, other).dhcp_relay):
                yield relays_differ(index, having, other, wanted, vlan_text(index, active))


MEMBERS_RELAY_DIFFERENTLY = Kind(
    "members-relay-differently",
    "risk",
    "a relay that one member of a virtual router has and the other lacks",
    "nobody in {vlan} gets a lease once {device} is gone",
    ALWAYS,
    example=Example("pair", "devices: {core-2: {interfaces: {guests-gw: {dhcp-relay: ~}}}}"),
)


def relays_differ(index: NetworkIndex, have: Member, lacks: Member, relays: Sequence[Address], vlan: str) -> Finding:
    """A relay that one of a pair lacks."""
    path = (*interface_path(index, lacks), "dhcp-relay")
    return finding(
        MEMBERS_RELAY_DIFFERENTLY,
        at=lacks.device,
        path=path,
        says=f"{have} relays what hosts ask to {', '.join(map(str, relays))}, and {lacks} does not",
        mend=f"let {lacks} relay to {', '.join(map(str, relays))}",
        edits=(Edit(path, texts(relays)),),
        vlan=vlan,
        device=have.device,
    )


def _unlike_pools(index: NetworkIndex, members: list[Member], active: Member) -> Iterator[Finding]:
    own = {address.prefix for address in interface_of(index, active).addresses}
    serving = {
        member.device: pool
        for member in members
        for pool in index.network.devices[member.device].dhcp_pools.values()
        if pool.subnet in own
    }
    having = next((member for member in members if member.device in serving), None)
    for other in members:
        if having is not None and other.device not in serving:
            yield leases_differ(having, other, serving[having.device], vlan_text(index, active))


MEMBERS_LEASE_DIFFERENTLY = Kind(
    "members-lease-differently",
    "risk",
    "leases that one member of a virtual router gives and the other does not",
    "nobody in {vlan} gets a lease once {device} is gone",
    NEVER,
    example=Example(
        "pair",
        """
        devices:
          core-1:
            interfaces:
              guests-gw: {dhcp-relay: ~}
            dhcp-pools:
              guests: {subnet: 10.44.3.0/24, range: 10.44.3.100-10.44.3.199, gateway: 10.44.3.1}
          core-2:
            interfaces:
              guests-gw: {dhcp-relay: ~}
        hosts:
          stock: {dhcp-pools: ~}
        """,
    ),
)


def leases_differ(have: Member, lacks: Member, pool: Pool, vlan: str) -> Finding:
    """A pool that one of a pair lacks."""
    return finding(
        MEMBERS_LEASE_DIFFERENTLY,
        at=lacks.device,
        path=("devices", have.device, "dhcp-pools", pool.name),
        says=f"{have.device} leases addresses of {pool.subnet} (pool {pool.name}), and {lacks.device} leases none",
        mend=f"let {lacks.device} lease a part of {pool.subnet} of its own, or a server that both relay to",
        vlan=vlan,
        device=have.device,
    )


def is_behind_a_switch(index: NetworkIndex, node: Node, nic: Nic, far: Held) -> bool:
    """Whether an interface stays up when the device that it sends to is gone."""
    if nic.kind == "vlan":
        return True
    ports = [end.port for end in node.attachments[nic.attachment or ""].members] if nic.attachment else []
    return far.node.name not in facing(index.knowledge.plugs, node.name, ports)
