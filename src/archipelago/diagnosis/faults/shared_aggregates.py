"""Findings about aggregates that two devices share."""

from __future__ import annotations

from collections.abc import Sequence

from archipelago.diagnosis.catalogue import finding
from archipelago.model.finding import Edit, Finding
from archipelago.model.parts import Aggregate, Device, Path


def _path(device: Device, half: Aggregate) -> Path:
    return ("devices", device.name, "interfaces", half.name)


def alone(device: Device, half: Aggregate, there: Aggregate | None) -> Finding:
    """A half whose other half does not exist, or is not shared back."""
    partner = half.shared_with or ""
    if there is None:
        says = f"{partner} has no aggregate {half.name}, which {device.name}/{half.name} is shared with"
        mend = f"make the ports of {partner} that lead to the same device its aggregate {half.name}"
        edits: tuple[Edit, ...] = ()
    else:
        says = f"{device.name} shares {half.name} with {partner}, which does not share its own with {device.name}"
        mend = f"write 'shared-with: {device.name}' at {partner}/{half.name}"
        edits = (Edit(("devices", partner, "interfaces", half.name, "shared-with"), device.name),)
    path = (*_path(device, half), "shared-with")
    return finding("shared-alone", at=device.name, path=path, says=says, mend=mend, edits=edits)


def unlike(one: tuple[Device, Aggregate], other: tuple[Device, Aggregate], key: str, edit: Edit) -> Finding:
    """Halves with different settings."""
    (device, half), (partner, _) = one, other
    return finding(
        "shared-unlike",
        at=partner.name,
        path=(*_path(*other), key),
        says=f"'{key}' of {partner.name}/{half.name} is not that of {device.name}/{half.name}, the other half",
        mend=f"write the same '{key}' at {partner.name}/{half.name}",
        edits=(edit,),
    )


def apart(device: Device, half: Aggregate, ends: Sequence[str]) -> Finding:
    """Halves whose far ends do not take them for one link."""
    return finding(
        "shared-apart",
        at=device.name,
        path=(*_path(device, half), "members"),
        says=f"the halves of {half.name} at {device.name} and {half.shared_with} lead to {' and '.join(ends)}",
        mend="make what they lead to one aggregate of one device",
    )


def unjoined(device: Device, half: Aggregate, vlans: str, edits: Sequence[Edit]) -> Finding:
    """A pair that shares an aggregate and that no cable joins, or none that carries its VLANs."""
    pair = f"{device.name} and {half.shared_with}"
    joins = f"let a cable between {pair} carry {vlans}"
    return finding(
        "shared-unjoined",
        at=device.name,
        path=(*_path(device, half), "shared-with"),
        says=f"no cable between {pair} carries {vlans}, which {half.name} carries",
        mend=joins,
        edits=tuple(edits),
        pair=pair,
    )
