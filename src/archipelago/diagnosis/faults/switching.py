"""Mistakes between switches."""

from __future__ import annotations

from collections.abc import Iterable

from archipelago.diagnosis.catalogue import finding
from archipelago.diagnosis.places import port_path
from archipelago.knowledge.devices import Attachment, Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.parts import Device, Path


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
