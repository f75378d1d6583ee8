"""Mistakes between switches."""

from __future__ import annotations

from archipelago.diagnosis.kind import ALWAYS, OFTEN, Example, Kind, finding
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Edit, Finding
from archipelago.model.parts import Aggregate, Device, Path

VLAN_ABSENT = Kind(
    "vlan-absent",
    "error",
    "a VLAN that does not exist on a switch that must pass it on",
    "every frame of {vlan} ends at {device}",
    ALWAYS,
    example=Example("pier", "devices: {quay: {vlans: [tickets]}}"),
)


def vlan_absent(index: NetworkIndex, device: Device, vlan: int) -> Finding:
    """A VLAN that does not exist on a switch that must pass it."""
    path: Path = ("devices", device.name, "vlans")
    return finding(
        VLAN_ABSENT,
        at=device.name,
        path=path,
        says=f"{index.vlan_name(vlan)} does not exist on {device.name}",
        mend=f"add {index.vlan_key(vlan)} to the VLANs of {device.name}",
        edits=(Edit((*path, "+"), index.vlan_key(vlan)),),
        vlan=index.vlan_name(vlan),
        device=device.name,
    )


MEMBERS_DIFFER = Kind(
    "members-differ",
    "risk",
    "an aggregate whose members differ in speed or lead to different devices",
    "frames arrive by a member that the far end does not take for the same link",
    OFTEN,
    example=Example("pair", "devices: {core-1: {ports: {p2: {speed: 10G}}}}"),
)


def aggregate_member_missing(near: str, device: str, bundle: Aggregate, ports: tuple[str, ...]) -> Finding:
    """An aggregate that lacks ports which the members of the far one lead to."""
    path = ("devices", device, "interfaces", bundle.name, "members")
    names = " and ".join(f"{device}/{port}" for port in ports)
    return finding(
        MEMBERS_DIFFER,
        at=device,
        path=path,
        says=f"the members of {near} lead to {device}/{bundle.name} and to {names}, which it lacks",
        mend=f"add {', '.join(ports)} to the members of {device}/{bundle.name}",
        edits=(Edit(path, [*bundle.members, *ports]),),
    )
