"""Mistakes between switches."""

from __future__ import annotations

from collections.abc import Iterable

from archipelago.diagnosis.picture import Picture, port_path
from archipelago.knowledge.devices import Attachment
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.network import Device, Path


def vlan_absent(view: Picture, device: Device, vlan: int) -> Finding:
    """A VLAN that does not exist on a switch that must pass it."""
    path: Path = ("devices", device.name, "vlans")
    return Finding(
        "vlan-absent",
        "error",
        device.name,
        path,
        f"{view.vlan_name(vlan)} does not exist on {device.name}",
        f"every frame of {view.vlan_name(vlan)} ends at {device.name}",
        f"add {view.vlan_key(vlan)} to the VLANs of {device.name}",
        (Edit((*path, "+"), view.vlan_key(vlan)),),
    )


def vlan_not_carried(view: Picture, device: str, attachment: Attachment, vlan: int) -> Finding:
    """A trunk that lacks a VLAN which must cross it."""
    path = (*port_path(view.knowledge, device, attachment.name), "trunk")
    return Finding(
        "vlan-not-carried",
        "error",
        device,
        path,
        f"trunk {device}/{attachment.name} does not carry {view.vlan_name(vlan)}",
        f"{view.vlan_name(vlan)} is cut in two there",
        f"add {view.vlan_key(vlan)} to the trunk {device}/{attachment.name}",
        (Edit((*path, "+"), view.vlan_key(vlan)),),
    )


def trunk_expected(
    view: Picture, device: str, attachment: Attachment, vlans: Iterable[int], untagged: int | None
) -> Finding:
    """An access port where the far end needs a trunk."""
    path = port_path(view.knowledge, device, attachment.name)
    keys = [view.vlan_key(vlan) for vlan in vlans]
    edits = [Edit((*path, "trunk"), keys), Edit((*path, "untagged"), view.vlan_key(untagged) if untagged else "none")]
    if attachment.written.access is not None:
        edits = [Edit((*path, "access"), REMOVE), *edits]
    return Finding(
        "trunk-expected",
        "error",
        device,
        path,
        f"{device}/{attachment.name} is an access port, but its far end carries {', '.join(keys)}",
        "only one VLAN crosses it",
        f"make {device}/{attachment.name} a trunk of {', '.join(keys)}",
        tuple(edits),
    )


def untagged_differs(
    view: Picture, device: str, attachment: Attachment, here: int | None, there: int | None
) -> Finding:
    """The untagged VLAN of a link is not the same at both ends."""
    path = port_path(view.knowledge, device, attachment.name)
    peer = next((view.knowledge.links[end].peer for end in attachment.members if view.knowledge.links[end].peer), None)
    access = attachment.written.trunk is None
    key = view.vlan_key(there) if there else "none"
    edit = Edit((*path, "access" if access else "untagged"), key)
    return Finding(
        "untagged-vlan-mismatch",
        "error",
        device,
        path,
        f"untagged frames are {view.vlan_name(here) if here else 'refused'} on {device}/{attachment.name} and "
        f"{view.vlan_name(there) if there else 'refused'} at its far end {peer}",
        "two VLANs leak into each other, or one is cut" if here and there else "one VLAN is cut there",
        f"set the untagged VLAN of {device}/{attachment.name} to {key}",
        (edit,) if not access or there else (),
    )
