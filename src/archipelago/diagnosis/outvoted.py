"""An address that everybody around contradicts: of two sides that disagree, the one with fewer voters is wrong."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator

from archipelago.addressing.values import Address, InterfaceAddress, is_link_local
from archipelago.diagnosis.faults.hosts import (
    address_broadcast,
    address_moved,
    duplicate_address,
    gateway_wrong,
    mask_mismatch,
    meant_address,
)
from archipelago.diagnosis.faults.words import label, replaced, wanted_address, with_address
from archipelago.diagnosis.kind import NEVER, OFTEN, Example, Kind, finding
from archipelago.diagnosis.places import (
    host_attachment,
    hosts_by_vlan,
    is_upstream,
    nic_path,
    others_ask,
    sits_in,
    vlan_of,
    wanted_vlan,
)
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Edit, Finding
from archipelago.model.leases import Pool
from archipelago.model.network import pools_in
from archipelago.model.parts import AUTO, DHCP, Host, NextHop


def stray_address(index: NetworkIndex, host: Host, version: int | None = None) -> Finding | None:
    """A host whose address, in one family or any, is not of the subnet that its own gateway, which stands in its VLAN,
    is in."""
    stray = _stray(index, host, version)
    return address_astray(index, *stray) if stray is not None else None


ADDRESS_ASTRAY = Kind(
    "address-astray",
    "error",
    "a host whose address is not of the subnet of its VLAN and its gateway",
    "{name} reaches neither its gateway nor its subnet",
    OFTEN,
    example=Example("pier", "hosts: {mess: {address: 10.44.7.2/24}}"),
)


def address_astray(index: NetworkIndex, holder: Held, gateway: Held) -> Finding:
    """A host whose address is not of the subnet that its gateway is in: it is to have the one that others know it by;
    where it has another that is right, it is one too many."""
    right = gateway.address.prefix
    others = [one for one in holder.nic.addresses if right.holds(one) and one != holder.address]
    new = meant_address(index, holder.address, right) or wanted_address(index, holder, right)
    if others:
        says = f"{label(holder)} has {holder.address} beside {others[0]}, and its VLAN is of {right} alone"
        return finding(
            ADDRESS_ASTRAY,
            at=holder.node.name,
            path=(*nic_path(holder), "address"),
            says=says,
            mend=f"take {holder.address} away from {label(holder)}",
            edits=(with_address(holder, holder.address, None),),
            name=label(holder),
        )
    host = holder.node.document
    if isinstance(host, Host) and all(hop.address.version != holder.address.version for hop in host.gateway):
        asked = replaced([*host.addresses, *([AUTO] * host.auto)], holder.address, DHCP)
        return finding(
            ADDRESS_ASTRAY,
            at=host.name,
            path=("hosts", host.name, "address"),
            says=f"{host.name} has {holder.address} and no gateway, and its VLAN, whose hosts lease, is of {right}",
            mend=f"let {host.name} ask for an address ({DHCP})",
            edits=(Edit(("hosts", host.name, "address"), asked),),
            name=host.name,
        )
    return finding(
        ADDRESS_ASTRAY,
        at=holder.node.name,
        path=(*nic_path(holder), "address"),
        says=(
            f"{label(holder)} has {holder.address}, but its gateway {gateway.address.address} and its VLAN are of "
            f"{gateway.address.prefix}"
        ),
        mend=f"set the address of {label(holder)} to {new}"
        if new
        else f"give {label(holder)} an address of that subnet",
        edits=address_moved(holder, new),
        name=label(holder),
    )


def astray_from(index: NetworkIndex, address: Address) -> Finding | None:
    """The server whose own address is astray where it should be the one that others know it by; None if there is
    none."""
    for name in index.knowledge.leases.servers:
        host = index.network.hosts.get(name)
        stray = _stray(index, host, address.version) if host is not None else None
        if stray is None:
            continue
        holder, gateway = stray
        meant = meant_address(index, holder.address, gateway.address.prefix)
        if meant is not None and meant.address == address:
            return address_astray(index, holder, gateway)
    return None


def held_by_several(index: NetworkIndex, address: Address, holders: tuple[Held, ...]) -> Finding:
    """One address on several interfaces: a host that it takes out of its own subnet is astray, a gateway whose hosts
    use another address has the wrong one, and the others are right."""
    for holder in holders:
        written = holder.node.written
        wrong = (
            stray_address(index, written, address.version)
            if isinstance(written, Host)
            else next(outvoted(index, holder.node, holder.nic, address.version), None)
        )
        if wrong is not None:
            return wrong
    return duplicate_address(index, address, holders)


def _stray(index: NetworkIndex, host: Host, version: int | None) -> tuple[Held, Held] | None:
    """A host's address and the gateway that it is not of the subnet of: its first, or a further one whose subnet is
    served in another VLAN."""
    node = index.knowledge.nodes[host.name]
    vlan = wanted_vlan(host_attachment(index.knowledge, host))
    for hop in host.gateway:
        own = [address for address in host.addresses if address.version == hop.address.version]
        if not own or is_link_local(hop.address) or version not in (None, hop.address.version):
            continue
        gateway = next((held for held in index.holders(hop.address) if _serves(index, held, vlan)), None)
        if gateway is None:
            continue
        for number, address in enumerate(own):
            home = index.home_of(node, address) if number else None
            elsewhere = home is not None and vlan_of(index, home) not in (None, vlan)
            if (elsewhere or not number) and not gateway.address.prefix.overlaps(address.prefix):
                return Held(node, next(iter(node.nics.values())), address), gateway
    return _stray_of_leasing(index, host, vlan) if version != 6 else None


def _stray_of_leasing(index: NetworkIndex, host: Host, vlan: int | None) -> tuple[Held, Held] | None:
    """The IPv4 address of a host without an IPv4 gateway, of another subnet than that of its VLAN, where hosts ask for
    theirs."""
    own = [address for address in host.addresses if address.version == 4]
    if not own or host.dhcp or vlan is None or any(hop.address.version == 4 for hop in host.gateway):
        return None
    there = [held for held in index.routed() if held.address.version == 4 and _serves(index, held, vlan)]
    if not there or not others_ask(index, vlan, 4):
        return None
    if any(held.address.prefix.overlaps(address.prefix) for held in there for address in own):
        return None
    node = index.knowledge.nodes[host.name]
    return Held(node, next(iter(node.nics.values())), own[0]), there[0]


def _serves(index: NetworkIndex, held: Held, vlan: int | None) -> bool:
    return held.node.can_route and vlan is not None and vlan_of(index, held) == vlan


def outvoted(index: NetworkIndex, node: Node, nic: Nic, version: int | None = None) -> Iterator[Finding]:
    """What is wrong with the addresses of a routing interface, in one family or any, by what its neighbours hold and
    use."""
    for address in nic.addresses:
        if is_link_local(address) or version not in (None, address.version):
            continue
        meant = _meant_subinterface(index, Held(node, nic, address))
        if meant is not None:
            yield address_on_parent(index, Held(node, nic, address), meant)
        elif sits_in(index, node, nic) is not None:
            yield from _by_hosts(index, Held(node, nic, address))
            yield from _by_pool(index, Held(node, nic, address))


ADDRESS_ON_PARENT = Kind(
    "address-on-parent",
    "error",
    "an address at a port that its subinterface is to have: the hosts of its subnet are in that VLAN",
    "{vlan} has no gateway",
    OFTEN,
    example=Example(
        "pier",
        """
        devices:
          landing:
            ports:
              p1: {address: 10.44.0.1/24}
            interfaces:
              p1.210: {address: ~}
        """,
    ),
)


def address_on_parent(index: NetworkIndex, held: Held, meant: Nic) -> Finding:
    """An address that is written at a port, and meant for a subinterface of it."""
    return finding(
        ADDRESS_ON_PARENT,
        at=held.node.name,
        path=(*nic_path(held), "address"),
        says=(
            f"{label(held)} holds {held.address} for untagged frames, but the hosts of that subnet are in "
            f"{index.vlan_name(meant.tag)}, of {held.node.name}/{meant.name}"
        ),
        mend=f"give {held.address} to {held.node.name}/{meant.name} instead of {label(held)}",
        edits=(with_address(held, held.address, None), with_address((held.node, meant), None, held.address)),
        vlan=index.vlan_name(meant.tag),
    )


def _meant_subinterface(index: NetworkIndex, held: Held) -> Nic | None:
    """The subinterface without an address that the address of its parent is meant for: hosts of its VLAN use it as
    their gateway or are of its subnet, and nobody is who hears the parent itself."""
    node, nic, own = held.node, held.nic, held.address
    if nic.kind not in ("port", "aggregate") or nic.attachment is None:
        return None
    hosts = index.once(hosts_by_vlan)

    def of_subnet(vlan: int | None) -> bool:
        return any(
            own.address in [hop.address for hop in host.gateway] or any(own.prefix.holds(a) for a in host.addresses)
            for host, _ in hosts.get(vlan or 0, ())
        )

    empty = [
        sub
        for sub in node.nics_on(nic.attachment)
        if sub.kind == "subinterface" and sub.tag is not None
        if not any(address.version == own.version for address in sub.addresses)
    ]
    if not empty or of_subnet(nic.vlan):
        return None
    meant = [sub for sub in empty if of_subnet(sub.tag)]
    return meant[0] if len(meant) == 1 else None


def _by_hosts(index: NetworkIndex, held: Held) -> Iterator[Finding]:
    """The hosts of its VLAN agree on another gateway address of the subnet, or on another prefix length."""
    own = held.address
    near = [
        (host, address, count)
        for host, count in index.once(hosts_by_vlan).get(vlan_of(index, held) or 0, ())
        for address in host.addresses
        if address.version == own.version and (address.prefix.holds(own) or own.prefix.holds(address))
        if not (host.dhcp and address.version == 4)  # what it was leased is its server's word, not its own
    ]
    if not near:
        return
    lengths: Counter[int] = Counter()
    used: Counter[Address] = Counter()
    for host, address, count in near:
        lengths[address.length] += count
        for hop in host.gateway:
            if hop.address.version == own.version and address.prefix.holds(hop.address):
                used[hop.address] += count
    everyone = lengths.total()
    length = lengths.most_common(1)[0][0]
    sure = everyone > 1 or not own.prefix.holds(near[0][1])
    if sure and length != own.length and len(lengths) == 1 and all(address.prefix.holds(own) for _, address, _ in near):
        right = InterfaceAddress(own.version, own.value, length)
        yield mask_mismatch(held, right.prefix)
        return
    if used and not used[own.address] and (everyone > 1 or _unlike_others(index, own, used.most_common(1)[0][0])):
        wanted, votes = used.most_common(1)[0]
        if votes > everyone / 2 and not index.is_held(wanted):
            yield gateway_address_wrong(index, held, InterfaceAddress(own.version, wanted.value, own.length))


def _by_pool(index: NetworkIndex, held: Held) -> Iterator[Finding]:
    """The hosts of its VLAN lease, from no pool of its subnet, and a pool gives a gateway that nobody holds."""
    vlan = vlan_of(index, held)
    hosts = index.once(hosts_by_vlan).get(vlan or 0, ())
    if vlan is None or held.address.version == 6 or not hosts or not all(host.dhcp for host, _ in hosts):
        return
    meant = gateway_of_pool(index, vlan)
    if meant is not None and not any(pool.subnet.overlaps(held.address.prefix) for pool in pools_in(index.network)):
        yield gateway_address_wrong(index, held, meant[1], f"pool {meant[0].name} gives {meant[1].address}")


def gateway_of_pool(index: NetworkIndex, vlan: int) -> tuple[Pool, InterfaceAddress] | None:
    """The pool that is meant for a VLAN, and the address that the gateway there should have by it: of the pools whose
    subnet nobody routes and whose gateway nobody holds the one that is called as the VLAN is, else the only one."""
    lonely = index.once(_lonely_pools)
    meant = [pool for pool in lonely if pool.name == index.names.get(vlan)] or lonely
    if len(meant) != 1 or meant[0].gateway is None:
        return None
    gateway = meant[0].gateway
    return meant[0], InterfaceAddress(gateway.version, gateway.value, meant[0].subnet.length)


def _lonely_pools(index: NetworkIndex) -> list[Pool]:
    routed = [held.address for held in index.routed()]
    return [
        pool
        for pool in pools_in(index.network)
        if pool.gateway is not None and not index.is_held(pool.gateway)
        if not any(pool.subnet.holds(address) for address in routed)
    ]


GATEWAY_ADDRESS_WRONG = Kind(
    "gateway-address-wrong",
    "error",
    "a gateway that holds another address than its hosts use",
    "the hosts of {vlan} have no gateway",
    OFTEN,
    example=Example("pier", "devices: {landing: {interfaces: {p1.210: {address: 10.44.0.7/24}}}}"),
)


def gateway_address_wrong(index: NetworkIndex, holder: Held, right: InterfaceAddress, used: str = "") -> Finding:
    """A routing interface whose hosts use another address as their gateway, or are given it (`used` says by whom), that
    nobody holds."""
    return finding(
        GATEWAY_ADDRESS_WRONG,
        at=holder.node.name,
        path=(*nic_path(holder), "address"),
        says=(
            f"{label(holder)} has {holder.address}, but {used or f'the hosts of that subnet use {right.address}'}, "
            "which nobody holds"
        ),
        mend=f"set the address of {label(holder)} to {right}",
        edits=address_moved(holder, right),
        vlan=index.vlan_name(vlan_of(index, holder)),
    )


def _unlike_others(index: NetworkIndex, own: InterfaceAddress, wanted: Address) -> bool:
    """Whether more of the network's other gateways stand at the place in their subnets where its host looks for it than
    at its own."""
    places = index.once(_gateway_places)
    there = InterfaceAddress(wanted.version, wanted.value, own.length)
    theirs = max((places[place] for place in _places_of(there)), default=0)
    return theirs > max((places[place] - 1 for place in _places_of(own)), default=0)


def _gateway_places(index: NetworkIndex) -> Counter[tuple[str, int]]:
    """How many gateways of hosts stand at each place of their subnets: so far from the first, or the last, address."""
    gateways = (held for held in index.routed() if vlan_of(index, held) is not None)
    return Counter(place for held in gateways for place in _places_of(held.address))


def _places_of(address: InterfaceAddress) -> tuple[tuple[str, int], ...]:
    first, last = address.prefix.usable()
    return (("first", address.value - first), ("last", last - address.value)) if last - first > 1 else ()


def unheld_gateway(index: NetworkIndex, node: Node, hop: NextHop, home: Held) -> Finding:
    """A host's gateway that nobody holds. Where the host is the only one of its VLAN, it is its word against that of
    the gateway there."""
    wrong = next(outvoted(index, home.node, home.nic, hop.address.version), None)
    if wrong is not None:
        return wrong
    hosts = index.once(hosts_by_vlan).get(vlan_of(index, home) or 0, ())
    alone = sum(count for _, count in hosts) == 1
    return gateway_wrong(node, hop, home, "is held by nobody", alone)


def gateway_meant(index: NetworkIndex, node: Node, address: InterfaceAddress) -> Held | None:
    """The gateway that most hosts of a host's VLAN send to, where it is of the subnet of an address; else the one that
    the address calls for."""
    vlan = sits_in(index, node, next(iter(node.nics.values())))
    used: Counter[Address] = Counter()
    for host, count in index.once(hosts_by_vlan).get(vlan or 0, ()):
        for hop in host.gateway if host.name != node.name else ():
            if address.prefix.holds(hop.address) and host.gateway:
                used[hop.address] += count
    for wanted, _ in used.most_common(1):
        holder = next((held for held in index.holders(wanted) if held.node.can_route), None)
        if holder is not None:
            return holder
    return index.home_of(node, address)


def wanted_on_link(index: NetworkIndex, near: Held) -> tuple[int, InterfaceAddress | None]:
    """What the far end of a routed link should hold by what the near one says: how many of its routes say so, and the
    address: the next hop that they name, else the other address of a subnet of two."""
    prefix = near.address.prefix
    device = index.network.devices[near.node.name]
    hops: Counter[Address] = Counter(
        route.next_hop.address
        for route in device.routes
        if prefix.holds(route.next_hop.address) and not index.is_held(route.next_hop.address)
    )
    if hops:
        wanted, votes = hops.most_common(1)[0]
        return votes, InterfaceAddress(wanted.version, wanted.value, prefix.length)
    first, last = prefix.usable()
    if last - first == 1:
        other = first + last - near.address.value
        return 0, InterfaceAddress(prefix.version, other, prefix.length)
    return 0, None


def off_link(index: NetworkIndex, node: Node) -> Iterator[Finding]:
    """Routed links of a device whose two ends are in different subnets; each link is told of its first end only."""
    for attachment in node.attachments.values():
        far = index.knowledge.links[attachment.members[0]].peer if attachment.members else None
        if attachment.switched or not attachment.carrier or far is None or far.device not in index.knowledge.devices:
            continue
        there = index.knowledge.attachment_at(far)
        if (node.name, attachment.name) > (far.device, there.name):
            continue
        far_node = index.knowledge.devices[far.device]
        if is_upstream(index, node) or is_upstream(index, far_node):
            continue  # what the outside holds follows from this end
        for version in (4, 6):
            mine = _untagged(node, attachment.name, version)
            theirs = _untagged(far_node, there.name, version)
            if mine and theirs and not any(a.address.prefix.overlaps(b.address.prefix) for a in mine for b in theirs):
                yield _off_link(index, mine[0], theirs[0])


def _untagged(node: Node, attachment: str, version: int) -> list[Held]:
    """The addresses of a device that speak untagged by an attachment, in one family."""
    return [
        Held(node, nic, address)
        for nic in node.nics_on(attachment)
        if nic.tag is None
        for address in nic.addresses
        if address.version == version and not is_link_local(address)
    ]


def _off_link(index: NetworkIndex, near: Held, far: Held) -> Finding:
    """Two ends of a link in different subnets: the one that the other's routes contradict is wrong."""
    votes, wanted = wanted_on_link(index, near)
    against, other = wanted_on_link(index, far)
    if against > votes:
        near, far, wanted = far, near, other
    return link_subnets_differ(near, far, wanted)


LINK_SUBNETS_DIFFER = Kind(
    "link-subnets-differ",
    "error",
    "two routing interfaces on one link in different subnets",
    "neither can be the other's next hop",
    NEVER,
    example=Example("pier", "devices: {core: {ports: {p9: {address: 10.44.16.1/31}}, routes: []}}"),
)


def link_subnets_differ(near: Held, far: Held, wanted: InterfaceAddress | None) -> Finding:
    """The end of a link whose address is of another subnet than the other end's."""
    path = (*nic_path(far), "address")
    new = wanted or f"an address of {near.address.prefix}"
    return finding(
        LINK_SUBNETS_DIFFER,
        at=far.node.name,
        path=path,
        says=f"{label(near)} has {near.address} and {label(far)} at the other end of the link has {far.address}",
        mend=f"set the address of {label(far)} to {new}",
        edits=(with_address(far, far.address, wanted),) if wanted else (),
    )


def far_end_wrong(index: NetworkIndex, own: Held, hop: Address) -> Finding | None:
    """What is wrong with the address of the one who should hold a next hop on an interface's link that nobody holds:
    somebody else holds the same, or it is one that nobody can hold."""
    for far in index.homes(hop):
        if far.node is own.node or not index.domains.together(own.endpoint, far.endpoint):
            continue
        if far.address.at_reserved_end():
            return address_broadcast(index, far.address.address, far.address.prefix)
        holders = index.holders(far.address.address)
        if len(holders) > 1:
            return held_by_several(index, far.address.address, holders)
    return None


def contradicted(index: NetworkIndex, node: Node, version: int | None = None) -> Finding | None:
    """What is out-voted about a host, or about the gateways that its addresses call for, in one family or any."""
    known, key = index.once(_known_contradicted), (node.name, version)
    if key not in known:
        known[key] = _contradicted(index, node, version)
    return known[key]


def _known_contradicted(index: NetworkIndex) -> dict[tuple[str, int | None], Finding | None]:
    """What was found so far, by node and family."""
    return {}


def _contradicted(index: NetworkIndex, node: Node, version: int | None) -> Finding | None:
    astray = stray_address(index, node.written, version) if isinstance(node.written, Host) else None
    if astray is not None:
        return astray
    if node.kind not in ("host", "switch"):
        return None
    own = (address for nic in node.nics.values() for address in nic.addresses)
    homes = [home for address in own if (home := index.home_of(node, address)) is not None]
    used = (holder for hop in node.written.gateway for holder in index.holders(hop.address) if holder.node.can_route)
    for gateway in (*homes, *used):
        wrong = next(outvoted(index, gateway.node, gateway.nic, version), None)
        if wrong is not None:
            return wrong
    return None


def astray_twin(index: NetworkIndex, ends: Iterable[Address]) -> Finding | None:
    """The host that has another's address, which takes it out of its own subnet, where a packet is from or for that
    address: whatever becomes of the packet, that is the mistake."""
    for address in sorted(ends):
        holders = index.holders(address)
        hosts = [holder.node.written for holder in holders] if len(holders) > 1 else []
        for host in hosts:
            astray = stray_address(index, host, address.version) if isinstance(host, Host) else None
            if astray is not None:
                return astray
    return None


def contradiction(index: NetworkIndex, node: Node, ends: Iterable[Address]) -> Finding | None:
    """What is out-voted where a packet stopped, or at either end of its way."""
    for address in ends:
        holders = index.holders(address)
        wrong = contradicted(index, holders[0].node, address.version) if len(holders) == 1 else None
        if wrong is not None:
            return wrong
    known = index.once(_known_off_link)
    for name in (node.name, *_neighbours(index, node)) if node.can_route else ():
        if name not in known:
            known[name] = next(off_link(index, index.knowledge.nodes[name]), None)
        if known[name] is not None:
            return known[name]
    return None


def _known_off_link(index: NetworkIndex) -> dict[str, Finding | None]:
    """The first such link of each device that was asked about so far."""
    return {}


def _neighbours(index: NetworkIndex, node: Node) -> list[str]:
    ends = (index.knowledge.links[end].peer for attachment in node.attachments.values() for end in attachment.members)
    return [end.device for end in ends if end is not None and end.device in index.knowledge.devices]
