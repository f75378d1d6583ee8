"""The two ends of a link that do not fit: one routed and one switched, a bundle and ports that are not bundled."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from archipelago.diagnosis.faults.interfaces import set_beside
from archipelago.diagnosis.faults.switching import MEMBERS_DIFFER, aggregate_member_missing
from archipelago.diagnosis.faults.words import label, texts
from archipelago.diagnosis.kind import ALWAYS, OFTEN, Example, Kind, finding
from archipelago.diagnosis.places import is_set_up, meant_vlan, nic_path, port_path
from archipelago.knowledge.devices import Attachment, Node
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.shared_aggregates import other_half
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.network import Network
from archipelago.model.parts import DEFAULT_VLAN, Aggregate, Cable, Device, End, Path, Port, speed_text

LinkEnd = tuple[Node, Attachment]


def routed_against_switched(index: NetworkIndex, a: LinkEnd, b: LinkEnd) -> Finding | None:
    """A routed end that hears nothing of what a switched one sends; None where that is not so.

    A routed port of a layer 3 switch that holds nothing, neither an address nor a subinterface, is meant to be switched
    as its far end is. One with an address hears untagged frames only: where the far end is a trunk without an untagged
    VLAN, that is to be the one of the address's subnet; or the address that of a subinterface, where others of the port
    are tagged.
    """
    for (node, own), (far_node, far) in ((a, b), (b, a)):
        if own.switched or not far.switched or far_node.kind == "host" or node.kind == "host":
            continue
        speaking = [nic for nic in node.nics_on(own.name) if nic.addresses and nic.speaks]
        if holds_nothing(node, own):
            return routed_end(index, node, own, far_node, far)
        bare = next((nic for nic in speaking if nic.tag is None), None)
        if far.untagged is None and bare is not None:
            held = Held(node, bare, bare.addresses[0])
            vlan = _vlan_of(index, held, far_node, far)
            tags = {nic.tag for nic in speaking} - {None}
            if not tags:
                return tagged_towards_untagged(index, held, far_node, far, vlan)
            if vlan is not None and vlan not in tags:
                return subinterface_expected(index, held, far_node, far, vlan)
    return None


ROUTED_AGAINST_SWITCHED = Kind(
    "routed-against-switched",
    "error",
    "a routed port that hears nothing of what its switched far end sends",
    "nothing passes between {place} and its far end",
    OFTEN,
    example=Example("pier", "devices: {landing: {ports: {p1: {address: 10.44.0.1/24}}, interfaces: {p1.210: ~}}}"),
)


def tagged_towards_untagged(
    index: NetworkIndex, held: Held, far_node: Node, far: Attachment, vlan: int | None
) -> Finding:
    """A trunk that sends everything tagged to a routed port that hears untagged frames only."""
    path = port_path(index.knowledge, far_node.name, far.name)
    place, own = f"{far_node.name}/{far.name}", f"{held.node.name}/{held.nic.name}"
    edits: tuple[Edit, ...] = ()
    mend = f"let {place} send one VLAN untagged, or give {own} a subinterface for each VLAN"
    if vlan is not None:
        key = index.vlan_key(vlan)
        alone = far.vlans == {vlan}
        mend = f"make {place} an access port of {key}" if alone else f"let {place} send {key} untagged"
        edits = (Edit((*path, "untagged"), key),)
        if alone:
            edits = (
                Edit((*path, "trunk"), REMOVE),
                *((Edit((*path, "untagged"), REMOVE),) if far.written.untagged is not None else ()),
                Edit((*path, "access"), key),
            )
    return finding(
        ROUTED_AGAINST_SWITCHED,
        at=far_node.name,
        path=path,
        says=(
            f"{place} sends {_tagged_text(index, sorted(far.vlans))}; {own} with {held.address} hears untagged frames "
            "only"
        ),
        mend=mend,
        edits=edits,
        place=own,
    )


def subinterface_expected(index: NetworkIndex, held: Held, far_node: Node, far: Attachment, vlan: int) -> Finding:
    """A routed port with an address for untagged frames, where its other addresses and its far end have tagged ones."""
    node, nic = held.node, held.nic
    path, key = nic_path(held), index.vlan_key(vlan)
    written = node.attachments[nic.attachment or nic.name].written
    section = {"parent": nic.name, "tag": key, "address": texts(nic.addresses), **dict(set_beside(written))}
    moved = [Edit((*path, name), REMOVE) for name in section if name not in ("parent", "tag")]
    name = f"{nic.name}.{vlan}"
    free = name not in node.nics and not written.virtual
    return finding(
        ROUTED_AGAINST_SWITCHED,
        at=node.name,
        path=(*path, "address"),
        says=(
            f"{far_node.name}/{far.name} sends {index.vlan_name(vlan)} tagged; {label(held)} with {held.address} hears "
            "untagged frames only"
        ),
        mend=f"give {held.address} to a subinterface {name} of {node.name} with the tag {key}",
        edits=(*moved, Edit(("devices", node.name, "interfaces", name), section)) if free else (),
        place=f"{held.address} at {label(held)}",
    )


def routed_end(index: NetworkIndex, node: Node, own: Attachment, far_node: Node, far: Attachment) -> Finding:
    """A routed port without an address, where the far end is switched."""
    path = port_path(index.knowledge, node.name, own.name)
    sent, edits = _switched_as(index, far)
    place = f"{node.name}/{own.name}"
    return finding(
        ROUTED_AGAINST_SWITCHED,
        at=node.name,
        path=(*path, "routed"),
        says=f"{far_node.name}/{far.name} sends {sent}; {place} is routed and hears nothing",
        mend=f"let {place} be switched as {far_node.name}/{far.name} is",
        edits=(Edit((*path, "routed"), REMOVE), *(Edit((*path, key), value) for key, value in edits)),
        place=place,
    )


def _switched_as(index: NetworkIndex, far: Attachment) -> tuple[str, list[tuple[str, object]]]:
    """What a switched end sends, in words, and the settings that make another end like it."""
    written = far.written
    if written.trunk is None:
        vlan = far.untagged or DEFAULT_VLAN
        return f"{index.vlan_name(vlan)} untagged", [("access", index.vlan_key(vlan))]
    tagged = sorted(far.vlans - {far.untagged})
    keys = "all" if written.trunk == "all" else [index.vlan_key(vlan) for vlan in written.trunk]
    untagged = index.vlan_key(far.untagged) if far.untagged else "none"
    return _tagged_text(index, tagged), [("trunk", keys), ("untagged", untagged)]


def _tagged_text(index: NetworkIndex, vlans: Iterable[int]) -> str:
    return f"{', '.join(map(index.vlan_name, vlans)) or 'nothing'} tagged"


def holds_nothing(node: Node, own: Attachment) -> bool:
    """Whether an attachment of a layer 3 switch is routed, and nothing speaks by it."""
    if own.switched or node.kind != "l3switch":
        return False
    return not any(nic.addresses or nic.kind == "subinterface" for nic in node.nics_on(own.name))


def _vlan_of(index: NetworkIndex, held: Held, far_node: Node, far: Attachment) -> int | None:
    """The VLAN that a trunk should send untagged to an address: that of its subnet there, else the one that it
    carries."""
    for nic in far_node.nics.values():
        if nic.vlan in far.vlans and any(one.prefix.overlaps(held.address.prefix) for one in nic.addresses):
            return nic.vlan
    meant = meant_vlan(index, held.address.prefix)
    if meant in far.vlans:
        return meant
    return next(iter(far.vlans)) if len(far.vlans) == 1 else None


def left_out_of(index: NetworkIndex, attachment: Attachment) -> tuple[str, Aggregate, tuple[str, ...]] | None:
    """The far aggregate that ports are left out of which the members of one lead to: the device, the aggregate and the
    ports, which are set to nothing of their own. None where there is no such aggregate."""
    if not isinstance(attachment.written, Aggregate):
        return None
    peers = [peer for end in attachment.members if (peer := index.knowledge.links[end].peer) is not None]
    devices = {peer.device for peer in peers}
    if len(devices) != 1 or not devices <= index.knowledge.devices.keys():
        return None
    (device,) = devices
    far = {peer.port: index.knowledge.attachment_at(peer) for peer in peers}
    bundles = {one.name: one.written for one in far.values() if isinstance(one.written, Aggregate)}
    alone = tuple(port for port, one in far.items() if one.name not in bundles)
    if len(bundles) != 1 or not alone or any(is_set_up(far[port]) for port in alone):
        return None
    (bundle,) = bundles.values()
    return device, bundle, alone


def unlike_members(index: NetworkIndex, device: Device, aggregate: Aggregate) -> Iterator[Finding]:
    """What is wrong with an aggregate whose members differ in speed, or lead to different devices or aggregates."""
    node = index.knowledge.nodes[device.name]
    path = ("devices", device.name, "interfaces", aggregate.name)
    ends = node.attachments[aggregate.name].members
    ports = index.knowledge.ports[device.name]
    peers = [index.knowledge.links[end].peer for end in ends]
    far = {(p.device, index.knowledge.attachment_at(p).name) for p in peers if p is not None}
    if _act_as_one(index.network, far):
        far = set()
    left_out = left_out_of(index, node.attachments[aggregate.name])
    if left_out is not None:
        yield aggregate_member_missing(f"{device.name}/{aggregate.name}", *left_out)
        return
    speeds = {ports[end.port].speed for end in ends}
    says = ""
    if len(far) > 1:
        says = "lead to " + " and ".join(sorted(f"{name}/{port}" for name, port in far))
    elif len(speeds) > 1:
        says = "differ in speed"
    if says:
        yield finding(
            MEMBERS_DIFFER,
            at=device.name,
            path=(*path, "members"),
            says=f"the members of {device.name}/{aggregate.name} {says}",
            mend=(
                f"give all members of {device.name}/{aggregate.name} the speed of {ends[0]}"
                if len(far) <= 1
                else f"let all members of {device.name}/{aggregate.name} lead to one aggregate"
            ),
            edits=_alike(device, ports, [end.port for end in ends]) if len(far) <= 1 else (),
        )


def _alike(device: Device, ports: Mapping[str, Port], members: list[str]) -> tuple[Edit, ...]:
    """Every member with the first one's speed."""
    speed = ports[members[0]].speed
    return tuple(
        Edit(("devices", device.name, "ports", name, "speed"), speed_text(speed) if speed else REMOVE)
        for name in members[1:]
        if ports[name].speed != speed
    )


def _act_as_one(network: Network, ends: set[tuple[str, str]]) -> bool:
    """Whether two aggregates are the halves of one that is shared."""
    if len(ends) != 2:
        return False
    (name, part), other = sorted(ends)
    device = network.devices.get(name)
    half = device.interfaces.get(part) if device is not None else None
    if device is None or not isinstance(half, Aggregate):
        return False
    return other == (half.shared_with, part) and other_half(network, device, half) is not None


def plugged_elsewhere(index: NetworkIndex, near: Held, far: Held) -> Finding | None:
    """A cable from a routed port that ends at another port of the far device than the one in its subnet, which has no
    cable; the port where it ends is set to nothing."""
    if near.nic.kind != "port" or far.nic.kind != "port" or near.node.kind == "host" or far.node.kind == "host":
        return None
    link = index.knowledge.links[End(near.node.name, near.nic.name)]
    wanted = End(far.node.name, far.nic.name)
    if link.peer is None or link.cable is None or link.peer.device != far.node.name or link.peer == wanted:
        return None
    if index.knowledge.links[wanted].peer is not None or is_set_up(index.knowledge.attachment_at(link.peer)):
        return None
    number = index.knowledge.written.cables.index(link.cable)
    return cable_elsewhere(link.cable, number, link.end, link.peer, wanted)


CABLE_ELSEWHERE = Kind(
    "cable-elsewhere",
    "error",
    "a cable that ends at another port than the one that is set up for it",
    "nothing crosses it",
    ALWAYS,
    example=Example("pier", "cables: [landing/p1 ~ quay/p9, landing/p2 ~ core/p7, core/p8 ~ shed/p9]"),
)


def cable_elsewhere(cable: Cable, number: int, near: End, peer: End, wanted: End) -> Finding:
    """A cable, by its place in the document, that ends at another port than the one that is set up for it."""
    path: Path = ("cables", number)
    right = Cable(wanted if cable.a == peer else cable.a, wanted if cable.b == peer else cable.b)
    return finding(
        CABLE_ELSEWHERE,
        at=peer.device,
        path=path,
        says=f"the cable from {near} ends at {peer}, which is set to nothing; {wanted} is set up for it and has none",
        mend=f"plug it into {wanted}: {right}",
        edits=(Edit(path, str(right)),),
    )
