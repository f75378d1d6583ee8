"""Mistakes between switches."""

from __future__ import annotations

from collections.abc import Iterable

from archipelago.diagnosis.catalogue import finding
from archipelago.diagnosis.places import port_path
from archipelago.knowledge.devices import Attachment, Node
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.parts import DEFAULT_VLAN, Aggregate, Device, Path


def vlan_absent(index: NetworkIndex, device: Device, vlan: int) -> Finding:
    """A VLAN that does not exist on a switch that must pass it."""
    path: Path = ("devices", device.name, "vlans")
    return finding(
        "vlan-absent",
        at=device.name,
        path=path,
        says=f"{index.vlan_name(vlan)} does not exist on {device.name}",
        mend=f"add {index.vlan_key(vlan)} to the VLANs of {device.name}",
        edits=(Edit((*path, "+"), index.vlan_key(vlan)),),
        vlan=index.vlan_name(vlan),
        device=device.name,
    )


def absent_vlan_listed(index: NetworkIndex, node: Node, attachment: Attachment, vlan: int) -> Finding:
    """A trunk that lists a VLAN which its device does not have and has no other port for."""
    path = (*port_path(index.knowledge, node.name, attachment.name), "trunk")
    written = attachment.written.trunk
    keep = [index.vlan_key(number) for number in written if number != vlan] if isinstance(written, tuple) else []
    place = f"{node.name}/{attachment.name}"
    return finding(
        "vlan-listed-in-vain",
        at=node.name,
        path=path,
        says=(f"trunk {place} lists {index.vlan_name(vlan)}, which {node.name} does not have and nobody there is in"),
        mend=f"let {place} carry {', '.join(keep) or 'nothing'}",
        edits=(Edit(path, keep),),
    )


def vlan_not_carried(index: NetworkIndex, device: str, attachment: Attachment, vlan: int) -> Finding:
    """A trunk that lacks a VLAN which must cross it."""
    path = (*port_path(index.knowledge, device, attachment.name), "trunk")
    return finding(
        "vlan-not-carried",
        at=device,
        path=path,
        says=f"trunk {device}/{attachment.name} does not carry {index.vlan_name(vlan)}",
        mend=f"add {index.vlan_key(vlan)} to the trunk {device}/{attachment.name}",
        edits=(Edit((*path, "+"), index.vlan_key(vlan)),),
        vlan=index.vlan_name(vlan),
    )


def link_of_one_vlan(
    index: NetworkIndex, one: tuple[Node, Attachment], other: tuple[Node, Attachment], vlan: int
) -> Finding:
    """A link whose two ends are access ports of one VLAN, where another must cross it: both are told of the end that
    sorts first."""
    ends = sorted((one, other), key=lambda end: (end[0].name, end[1].name))
    (node, own), (far_node, far) = ends
    carried = own.untagged or DEFAULT_VLAN
    untouched = all(end.written.access is None for _, end in ends)
    edits: list[Edit] = []
    for device, end in ends:
        path = port_path(index.knowledge, device.name, end.name)
        if untouched:
            edits.append(Edit((*path, "access"), index.vlan_key(vlan)))
            continue
        if end.written.access is not None:
            edits.append(Edit((*path, "access"), REMOVE))
        edits.append(Edit((*path, "trunk"), [index.vlan_key(carried), index.vlan_key(vlan)]))
        edits.append(Edit((*path, "untagged"), index.vlan_key(carried)))
    both = f"{node.name}/{own.name} and {far_node.name}/{far.name}"
    made = f"access ports of {index.vlan_key(vlan)}" if untouched else f"trunks that carry {index.vlan_key(vlan)} too"
    return finding(
        "vlan-not-carried",
        at=node.name,
        path=port_path(index.knowledge, node.name, own.name),
        says=f"{both}, the two ends of a link, carry {index.vlan_name(carried)} alone, not {index.vlan_name(vlan)}",
        mend=f"make {both} {made}",
        edits=tuple(edits),
        vlan=index.vlan_name(vlan),
    )


def trunk_expected(
    index: NetworkIndex, device: str, attachment: Attachment, vlans: Iterable[int], untagged: int | None
) -> Finding:
    """An access port where the far end needs a trunk."""
    path = port_path(index.knowledge, device, attachment.name)
    carried = list(vlans)
    keys = [index.vlan_key(vlan) for vlan in carried]
    names = ", ".join(index.vlan_name(vlan) for vlan in carried)
    if not carried:
        return finding(
            "trunk-expected",
            at=device,
            path=path,
            says=f"{device}/{attachment.name} carries one VLAN, as does its far end, which takes untagged frames only",
            mend="carry each VLAN tagged at both ends, or by a link of its own",
        )
    edits = [Edit((*path, "trunk"), keys), Edit((*path, "untagged"), index.vlan_key(untagged) if untagged else "none")]
    if attachment.written.access is not None:
        edits = [Edit((*path, "access"), REMOVE), *edits]
    return finding(
        "trunk-expected",
        at=device,
        path=path,
        says=f"{device}/{attachment.name} is an access port, but its far end carries {names}",
        mend=f"make {device}/{attachment.name} a trunk of {', '.join(keys)}",
        edits=tuple(edits),
    )


def untagged_vlan_mismatch(
    index: NetworkIndex, device: str, attachment: Attachment, here: int | None, there: int | None
) -> Finding:
    """The untagged VLAN of a link is not the same at both ends."""
    path = port_path(index.knowledge, device, attachment.name)
    peer = next(
        (index.knowledge.links[end].peer for end in attachment.members if index.knowledge.links[end].peer), None
    )
    access = attachment.written.trunk is None
    key = index.vlan_key(there) if there else "none"
    edit = Edit((*path, "access" if access else "untagged"), key)
    return finding(
        "untagged-vlan-mismatch",
        at=device,
        path=path,
        says=(
            f"untagged frames are {index.vlan_name(here) if here else 'refused'} on {device}/{attachment.name} and "
            f"{index.vlan_name(there) if there else 'refused'} at its far end {peer}"
        ),
        mend=f"set the untagged VLAN of {device}/{attachment.name} to {key}",
        edits=(edit,) if not access or there else (),
        effect="two VLANs leak into each other, or one is cut" if here and there else "one VLAN is cut there",
    )


def routed_end(index: NetworkIndex, node: Node, own: Attachment, far_node: Node, far: Attachment) -> Finding:
    """A routed port without an address, where the far end is switched."""
    path = port_path(index.knowledge, node.name, own.name)
    sent, edits = _switched_as(index, far)
    place = f"{node.name}/{own.name}"
    return finding(
        "routed-against-switched",
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
        "routed-against-switched",
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


def member_missing(near: str, device: str, bundle: Aggregate, ports: tuple[str, ...]) -> Finding:
    """An aggregate that lacks ports which the members of the far one lead to."""
    path = ("devices", device, "interfaces", bundle.name, "members")
    names = " and ".join(f"{device}/{port}" for port in ports)
    return finding(
        "members-differ",
        at=device,
        path=path,
        says=f"the members of {near} lead to {device}/{bundle.name} and to {names}, which it lacks",
        mend=f"add {', '.join(ports)} to the members of {device}/{bundle.name}",
        edits=(Edit(path, [*bundle.members, *ports]),),
    )
