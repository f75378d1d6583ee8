from __future__ import annotations

from archipelago.diagnosis.cut import cut
from archipelago.diagnosis.faults.hosts import insides_overlap, vlan_wrong
from archipelago.diagnosis.faults.interfaces import subnet_overlap, tag_missing
from archipelago.diagnosis.faults.links import switching_loop, unexplained
from archipelago.diagnosis.faults.words import label, texts
from archipelago.diagnosis.kind import OFTEN, Example, Kind, finding
from archipelago.diagnosis.link_ends import plugged_elsewhere, unlike_members
from archipelago.diagnosis.outvoted import held_by_several
from archipelago.diagnosis.places import (
    far_end,
    host_attachment,
    hosts_by_vlan,
    meant_for,
    meant_vlan,
    nic_path,
    sits_in,
    vlan_of,
    wanted_vlan,
)
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.insides import apart
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.parts import Aggregate, Device, Host


def separated(index: NetworkIndex, a: Held, b: Held) -> Finding:
    """Two interfaces of one subnet that do not hear each other: a host in the wrong VLAN, a gateway with the wrong
    tag, or a cut on the way."""
    for holder in (a, b):
        if holder.node.kind != "host" and not holder.nic.speaks:
            return tag_missing(index, holder.node, holder.nic, meant_for(index, holder.nic))
    translated = apart(index, a, b)
    if translated is not None:
        return insides_overlap(translated)
    astray = misplaced(index, a, b)
    if astray is not None:
        return astray
    for holder in (a, b):
        if holder.node.kind == "host":
            continue
        right = meant_vlan(index, holder.address.prefix)
        if holder.nic.kind == "subinterface":
            others_there = holder.node.nics_on(holder.nic.attachment or "")
            first = next(sub for sub in others_there if sub.speaks and sub.tag == holder.nic.tag)
            if first is not holder.nic:
                return tag_repeated(index, holder.node, holder.nic, first)
        hosts = [end for end in (a, b) if end.node.kind == "host"]
        if (
            right is not None
            and vlan_of(index, holder) is not None
            and right != vlan_of(index, holder)
            and (len(hosts) != 1 or _tag_to_blame(index, holder, right))
        ):
            if holder.nic.kind in ("subinterface", "vlan"):
                return tag_wrong(index, holder, right)
            plugged = far_end(index.knowledge, holder.node.attachments[holder.nic.name])
            if plugged is not None:
                return vlan_wrong(index, *plugged, label(holder), right)
    doubled = _in_two_vlans(index, a, b)
    if doubled is not None:
        return doubled
    for holder, other in ((a, b), (b, a)):
        if isinstance(holder.node.written, Host):
            right = _right_vlan(index, holder, other)
            attachment = host_attachment(index.knowledge, holder.node.written)
            if right is not None and attachment.switched and wanted_vlan(attachment) != right:
                return vlan_wrong(index, holder.node.written.at.device, attachment, holder.node.name, right)
    vlan = sits_in(index, a.node, a.nic) or sits_in(index, b.node, b.nic)
    moved = plugged_elsewhere(index, a, b) or plugged_elsewhere(index, b, a)
    if moved is not None:
        return moved
    if vlan is None:
        return (
            _unlike_bundle(index, a, b)
            or _behind_two_ports(index, a, b)
            or _held_by_several(index, b, a)
            or unexplained(a.node.name, f"{label(a)} and {label(b)} are not on one link")
        )
    faults_found = cut(index, vlan, (a.node, a.nic), (b.node, b.nic))
    return faults_found[0] if faults_found else no_answer(index, a, b)


TAG_WRONG = Kind(
    "tag-wrong",
    "error",
    "an interface that stands in another VLAN than the hosts of its subnet",
    "{vlan} has no gateway",
    OFTEN,
    example=Example("pier", "devices: {landing: {interfaces: {p1.210: {tag: store}}}}"),
)


def tag_wrong(index: NetworkIndex, holder: Held, right: int) -> Finding:
    """A subinterface or VLAN interface that stands in another VLAN than the hosts of its subnet."""
    key = "tag" if holder.nic.kind == "subinterface" else "vlan"
    there = next((nic for nic in holder.node.nics.values() if nic.kind == "vlan" and nic.vlan == right), None)
    taken = there is not None and key == "vlan"
    if there is not None and taken and _swapped(index, holder, there):
        first, second = sorted((holder.nic, there), key=list(holder.node.nics.values()).index)
        return _each_others(index, holder.node, first, second, holder.address.version)
    return finding(
        TAG_WRONG,
        at=holder.node.name,
        path=(*nic_path(holder), key),
        says=(
            f"{label(holder)} holds {holder.address} in {index.vlan_name(vlan_of(index, holder))}, "
            f"but the rest of that subnet is in {index.vlan_name(right)}"
        ),
        mend=f"set '{key}' of {label(holder)} to {index.vlan_key(right)}",
        edits=() if taken else (Edit((*nic_path(holder), key), index.vlan_key(right)),),
        vlan=index.vlan_name(right),
    )


def _each_others(index: NetworkIndex, node: Node, first: Nic, second: Nic, version: int) -> Finding:
    """Two interfaces of a device with each other's addresses."""
    names = f"{node.name}/{first.name} and {node.name}/{second.name}"
    edits = []
    for nic, other in ((first, second), (second, first)):
        given = [one for one in other.addresses if one.version == version]
        kept = [one for one in nic.addresses if one.version != version]
        edits.append(Edit((*nic_path((node, nic)), "address"), texts([*given, *kept])))
    own, theirs = (next(one for one in nic.addresses if one.version == version) for nic in (first, second))
    return finding(
        TAG_WRONG,
        at=node.name,
        path=(*nic_path((node, first)), "address"),
        says=(
            f"{names} hold {own} and {theirs}, but the hosts of these subnets are in "
            f"{index.vlan_name(second.vlan)} and {index.vlan_name(first.vlan)}"
        ),
        mend=f"let {names} have each other's addresses",
        edits=tuple(edits),
        vlan=f"{index.vlan_name(first.vlan)} and {index.vlan_name(second.vlan)}",
    )


def _swapped(index: NetworkIndex, holder: Held, there: Nic) -> bool:
    """Whether the hosts of another interface's subnet stand in the VLAN of an interface that holds the subnet of
    its."""
    own = (address for address in there.addresses if address.version == holder.address.version)
    return any(
        address.prefix != holder.address.prefix and meant_vlan(index, address.prefix) == vlan_of(index, holder)
        for address in own
    )


def tag_repeated(index: NetworkIndex, node: Node, nic: Nic, first: Nic) -> Finding:
    """Two subinterfaces of one port with the same tag: the one that belongs in another VLAN is wrong, by default the
    later written."""
    rights = [right if (right := meant_for(index, one)) != one.vlan else None for one in (nic, first)]
    if rights[0] is None and rights[1] is not None:
        return same_tag(index, node, first, nic, rights[1])
    return same_tag(index, node, nic, first, rights[0])


TAG_REPEATED = Kind(
    "tag-repeated",
    "error",
    "two subinterfaces of one port with one tag",
    "{interface} never hears an answer",
    OFTEN,
    example=Example("pier", "devices: {landing: {interfaces: {p1.220: {tag: tickets}}}}"),
)


def same_tag(index: NetworkIndex, node: Node, nic: Nic, first: Nic, right: int | None) -> Finding:
    """Two subinterfaces of one port with the same tag, or both untagged: the later written hears nothing."""
    path = nic_path((node, nic))
    if nic.tag is None:
        return finding(
            TAG_REPEATED,
            at=node.name,
            path=(*path, "untagged"),
            says=f"{node.name}/{nic.name} is untagged, as {first.name} on the same port is",
            mend=f"let {node.name}/{nic.name} be tagged",
            edits=(Edit((*path, "untagged"), REMOVE),),
            interface=nic.name,
        )
    return finding(
        TAG_REPEATED,
        at=node.name,
        path=(*path, "tag"),
        says=f"{node.name}/{nic.name} has the tag of {first.name}, {index.vlan_name(nic.vlan)}",
        mend=(
            f"set 'tag' of {node.name}/{nic.name} to {index.vlan_key(right)}"
            if right
            else f"give {nic.name} a tag of its own"
        ),
        edits=(Edit((*path, "tag"), index.vlan_key(right)),) if right else (),
        interface=nic.name,
    )


def _in_two_vlans(index: NetworkIndex, a: Held, b: Held) -> Finding | None:
    """What is wrong where two stand in two VLANs that both have a gateway of their subnet."""
    homes = [
        next((home for home in index.homes(held.address) if vlan_of(index, home) == vlan_of(index, held)), None)
        for held in (a, b)
    ]
    if homes[0] is None or homes[1] is None or vlan_of(index, homes[0]) == vlan_of(index, homes[1]):
        return None
    if vlan_of(index, homes[0]) is None or vlan_of(index, homes[1]) is None:
        return None
    if homes[0].nic.vrf != homes[1].nic.vrf or homes[0].address.prefix != homes[1].address.prefix:
        return None
    return subnet_overlap(*by_their_hosts(index, homes[1], homes[0]))


def _behind_two_ports(index: NetworkIndex, a: Held, b: Held) -> Finding | None:
    """What is wrong where the links of two both have a gateway of their subnet."""
    homes = [
        next((home for home in index.homes(held.address) if index.domains.together(held.endpoint, home.endpoint)), None)
        for held in (a, b)
    ]
    if homes[0] is None or homes[1] is None or homes[0].endpoint == homes[1].endpoint:
        return None
    return subnet_overlap(*by_their_hosts(index, homes[1], homes[0]))


def misplaced(index: NetworkIndex, a: Held, b: Held) -> Finding | None:
    """Of two routing interfaces that share a subnet between them and stand in different VLANs, the one whose VLAN is
    used by others is in the wrong one; None where that says nothing."""
    if not (a.node.can_route and b.node.can_route) or a.node is b.node or a.address.prefix != b.address.prefix:
        return None
    vlans = [vlan_of(index, holder) for holder in (a, b)]
    if None in vlans or vlans[0] == vlans[1] or len(index.homes(a.address)) != 2:
        return None
    used = [_others_in(index, holder) for holder in (a, b)]
    if used[0] == used[1]:
        return None
    wrong, right = (a, b) if used[0] > used[1] else (b, a)
    vlan = vlan_of(index, right)
    return tag_wrong(index, wrong, vlan) if vlan is not None and wrong.nic.kind in ("subinterface", "vlan") else None


def _others_in(index: NetworkIndex, holder: Held) -> int:
    """How many hosts, and routing interfaces of other subnets, stand in the VLAN of an interface."""
    hosts = sum(count for _, count in index.once(hosts_by_vlan).get(vlan_of(index, holder) or 0, ()))
    vlan = vlan_of(index, holder)
    same = (other for other in index.routed() if vlan_of(index, other) == vlan)
    return hosts + sum(not other.address.prefix.overlaps(holder.address.prefix) for other in same)


def _tag_to_blame(index: NetworkIndex, holder: Held, right: int) -> bool:
    """Of a gateway and a host in two VLANs, whether the gateway is the one misplaced: another gateway has its VLAN
    already, or several hosts agree on theirs, or the port that it is plugged into is set to nothing."""
    if holder.nic.kind in ("port", "aggregate"):
        plugged = far_end(index.knowledge, holder.node.attachments[holder.nic.name])
        if plugged is not None and plugged[1].written.access is None and plugged[1].written.trunk is None:
            return True
    hosts = [
        host
        for host in index.network.hosts.values()
        if any(holder.address.prefix.holds(address) for address in host.addresses)
    ]
    agreed = [host for host in hosts if wanted_vlan(host_attachment(index.knowledge, host)) == right]
    vlan = vlan_of(index, holder)
    rival = any(
        nic is not holder.nic
        and nic.addresses
        and sits_in(index, node, nic) == vlan
        and not any(one.prefix.overlaps(holder.address.prefix) for one in nic.addresses)  # a partner agrees with it
        for node in index.knowledge.devices.values()
        if node.can_route
        for nic in node.nics.values()
    )
    return (rival and len(agreed) >= len(hosts) - len(agreed)) or len(agreed) > 1


def _right_vlan(index: NetworkIndex, holder: Held, other: Held) -> int | None:
    """The VLAN that a host belongs in: that of its subnet's gateway, else where most hosts of the subnet are."""
    home = next((holder for holder in index.homes(holder.address) if vlan_of(index, holder) is not None), None)
    if home is not None:
        return vlan_of(index, home)
    return meant_vlan(index, holder.address.prefix) or sits_in(index, other.node, other.nic)


def no_answer(index: NetworkIndex, own: Held, holder: Held) -> Finding:
    """Both stand in one domain and still no answer came."""
    loop = index.domains.loop_at(own.endpoint)
    if loop is not None:
        return switching_loop(index, loop)
    known = _held_by_several(index, holder, own) or _unlike_bundle(index, own, holder)
    return known or unexplained(
        own.node.name, f"{label(holder)} did not answer {own.node.name} for {holder.address.address}"
    )


def _unlike_bundle(index: NetworkIndex, *ends: Held) -> Finding | None:
    """What is wrong with an aggregate between two: it lacks a member, or its members lead apart. That of an end comes
    first, then any that switches on the way between them may have."""
    own = [(end.node.written, end.nic.attachment) for end in ends]
    switched = (
        (device, name)
        for device in index.network.devices.values()
        for name, attachment in index.knowledge.nodes[device.name].attachments.items()
        if attachment.switched and attachment.carrier
    )
    for device, name in (*own, *switched):
        bundle = device.interfaces.get(name or "") if isinstance(device, Device) else None
        if isinstance(device, Device) and isinstance(bundle, Aggregate):
            unlike = next(unlike_members(index, device, bundle), None)
            if unlike is not None:
                return unlike
    return None


def _held_by_several(index: NetworkIndex, holder: Held, own: Held) -> Finding | None:
    """What is wrong where others hold the address that is asked for, too, or the asker's own: who has that for its own
    does not answer it."""
    for address in (holder.address.address, own.address.address):
        holders = index.holders(address)
        if len(holders) > 1:
            return held_by_several(index, address, holders)
    return None


def by_their_hosts(index: NetworkIndex, holder: Held, other: Held) -> tuple[Held, Held]:
    """Two interfaces that overlap, the one first that fewer hosts of its subnet stand with in its VLAN; of equals the
    one that is written later, whichever was asked about first."""

    def agreeing(held: Held) -> int:
        hosts = index.once(hosts_by_vlan).get(vlan_of(index, held) or 0, ())
        written = ((one, index.network.hosts[one.name], count) for one, count in hosts)
        return sum(count for _, host, count in written if any(map(held.address.prefix.holds, host.addresses)))

    order = list(index.network.devices)

    def rank(held: Held) -> tuple[int, int, int]:
        return agreeing(held), -order.index(held.node.name), -list(held.node.nics).index(held.nic.name)

    return (other, holder) if rank(holder) > rank(other) else (holder, other)
