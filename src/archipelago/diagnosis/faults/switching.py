"""Mistakes between switches."""

from __future__ import annotations

from archipelago.diagnosis.kind import ALWAYS, OFTEN, Example, Kind, finding
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.parts import Aggregate, Device, Path

VLAN_ABSENT = Kind(
    "vlan-absent",
    "error",
    "a VLAN that does not exist on a switch that must pass it on",
    "every frame of {vlan} ends at {device}",
    ALWAYS,
    example=Example("pier", "devices: {quay: {vlans: [tickets]}}"),
)


VLAN_SUSPENDED = Kind(
    "vlan-suspended",
    "error",
    "a VLAN that is suspended on a switch that must pass it on",
    "every frame of {vlan} ends at {device}",
    ALWAYS,
    example=Example("pier", "devices: {quay: {suspended-vlans: [crew]}}"),
)


def vlan_suspended(index: NetworkIndex, device: Device, vlan: int) -> Finding:
    """A VLAN that a switch has and carries nothing in, since it is suspended there, everywhere, or both."""
    everywhere = vlan in index.network.suspended
    edits = []
    if everywhere:
        edits.append(Edit(("vlans", index.vlan_key(vlan), "suspended"), REMOVE))
    if vlan in device.suspended_vlans:
        left = [index.vlan_key(other) for other in device.suspended_vlans if other != vlan]
        edits.append(Edit(("devices", device.name, "suspended-vlans"), left or REMOVE))
    return finding(
        VLAN_SUSPENDED,
        at=device.name,
        path=edits[0].path,
        says=f"{index.vlan_name(vlan)} is suspended {'everywhere' if everywhere else f'on {device.name}'}",
        mend=f"let {'every switch' if everywhere else device.name} carry {index.vlan_key(vlan)} again",
        edits=tuple(edits),
        vlan=index.vlan_name(vlan),
        device=device.name,
    )


def vlan_absent(index: NetworkIndex, device: Device, vlan: int) -> Finding:
    """A VLAN that a switch which must pass it has not, or that is suspended there."""
    if vlan in index.knowledge.devices[device.name].suspended:
        return vlan_suspended(index, device, vlan)
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
