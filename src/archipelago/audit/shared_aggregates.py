"""Mistakes about aggregates that two devices share: what must be equal on both, and is not."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from archipelago.audit.registry import rule
from archipelago.diagnosis.kind import ALWAYS, NEVER, OFTEN, Example, Kind, finding
from archipelago.diagnosis.places import port_path
from archipelago.knowledge.devices import Attachment
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.shared_aggregates import halves, other_half
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.parts import Aggregate, Device, End, Path

_EQUAL = ("access", "trunk", "untagged", "path-cost")
"""The keys that both halves must agree on."""


def _pairs(index: NetworkIndex) -> Iterator[tuple[Device, Aggregate, Device, Aggregate]]:
    """Each shared aggregate once: the half that is written first, then the other."""
    network = index.network
    places = {name: place for place, name in enumerate(network.devices)}
    for device, half in halves(network):
        other = other_half(network, device, half)
        partner = half.shared_with or ""
        if other is not None and places[device.name] < places[partner]:
            yield device, half, network.devices[partner], other


@rule
def alone(index: NetworkIndex) -> Iterator[Finding]:
    """A half without another."""
    for device, half in halves(index.network):
        if other_half(index.network, device, half) is None:
            partner = index.network.devices[half.shared_with or ""]
            there = partner.interfaces.get(half.name)
            yield has_no_partner(device, half, there if isinstance(there, Aggregate) else None)


SHARED_ALONE = Kind(
    "shared-alone",
    "error",
    "an aggregate that is shared with a device which does not share it back",
    "each acts for itself: frames that leave by one come back by the other",
    OFTEN,
    example=Example("halves", "devices: {core-2: {interfaces: {to-quay: {shared-with: ~}}}}"),
)


def has_no_partner(device: Device, half: Aggregate, there: Aggregate | None) -> Finding:
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
    return finding(SHARED_ALONE, at=device.name, path=path, says=says, mend=mend, edits=edits)


@rule
def unlike(index: NetworkIndex) -> Iterator[Finding]:
    """Halves that are set up otherwise."""
    for device, half, partner, other in _pairs(index):
        for key in _EQUAL:
            wanted, own = (getattr(one, key.replace("-", "_")) for one in (half, other))
            if _unordered(wanted) != _unordered(own):
                path = ("devices", partner.name, "interfaces", other.name, key)
                yield partners_unlike((device, half), (partner, other), key, Edit(path, _text(index, key, wanted)))


SHARED_UNLIKE = Kind(
    "shared-unlike",
    "error",
    "halves of a shared aggregate with other settings",
    "once the other half is in use, other VLANs pass",
    ALWAYS,
    example=Example("halves", "devices: {core-2: {interfaces: {to-quay: {trunk: [crew]}}}}"),
)


def partners_unlike(one: tuple[Device, Aggregate], other: tuple[Device, Aggregate], key: str, edit: Edit) -> Finding:
    """Halves with different settings."""
    (device, half), (partner, _) = one, other
    return finding(
        SHARED_UNLIKE,
        at=partner.name,
        path=(*_path(*other), key),
        says=f"'{key}' of {partner.name}/{half.name} is not that of {device.name}/{half.name}, the other half",
        mend=f"write the same '{key}' at {partner.name}/{half.name}",
        edits=(edit,),
    )


def _unordered(value: Any) -> Any:
    return frozenset(value) if isinstance(value, tuple) else value


def _text(index: NetworkIndex, key: str, value: Any) -> Any:
    """A setting as a document holds it."""
    if value is None:
        return REMOVE
    if isinstance(value, tuple):
        return [index.vlan_key(vlan) for vlan in value]
    return index.vlan_key(value) if isinstance(value, int) and key != "path-cost" else str(value)


@rule
def apart(index: NetworkIndex) -> Iterator[Finding]:
    """Halves that do not lead to one aggregate of one device."""
    for device, half, partner, other in _pairs(index):
        ends: dict[tuple[str, str], bool] = {}
        for owner, one in ((device, half), (partner, other)):
            for member in one.members:
                peer = index.knowledge.links[End(owner.name, member)].peer
                if peer is not None and peer.device in index.knowledge.devices:
                    far = index.knowledge.attachment_at(peer)
                    ends[peer.device, far.name] = isinstance(far.written, Aggregate)
        if len(ends) > 1 or not all(ends.values()):
            yield partners_apart(device, half, [f"{name}/{part}" for name, part in ends])


SHARED_APART = Kind(
    "shared-apart",
    "risk",
    "halves of a shared aggregate that do not lead to one aggregate",
    "the far end does not take both for one link, and one of them does not take over at once",
    NEVER,
    example=Example("halves", "devices: {quay: {interfaces: {up: {members: [p1]}}}}"),
)


def partners_apart(device: Device, half: Aggregate, ends: Sequence[str]) -> Finding:
    """Halves whose far ends do not take them for one link."""
    return finding(
        SHARED_APART,
        at=device.name,
        path=(*_path(device, half), "members"),
        says=f"the halves of {half.name} at {device.name} and {half.shared_with} lead to {' and '.join(ends)}",
        mend="make what they lead to one aggregate of one device",
    )


@rule
def unjoined(index: NetworkIndex) -> Iterator[Finding]:
    """A pair without a cable between them that carries what they share."""
    for device, half, partner, _ in _pairs(index):
        carried = index.knowledge.devices[device.name].attachments[half.name].vlans
        between = list(_between(index, device.name, partner.name))
        common = [own.vlans & far.vlans for own, far in between if own.passes]
        lacking = sorted(carried - frozenset[int]().union(*common))
        if lacking:
            edits: list[Edit] = []
            for own, far in between[:1]:
                for name, end in ((device.name, own), (partner.name, far)):
                    if isinstance(end.written.trunk, tuple):
                        path = (*port_path(index.knowledge, name, end.name), "trunk", "+")
                        edits += [Edit(path, index.vlan_key(vlan)) for vlan in lacking if vlan not in end.vlans]
            yield partners_unjoined(device, half, ", ".join(map(index.vlan_name, lacking)), edits)


SHARED_UNJOINED = Kind(
    "shared-unjoined",
    "risk",
    "two devices that share an aggregate, and no cable between them that carries its VLANs",
    "who is plugged in at one of {pair} alone is cut off from whoever is behind the half in use at the other",
    OFTEN,
    example=Example("halves", "devices: {core-1: {ports: {p2: {trunk: [crew]}}}}"),
)


def partners_unjoined(device: Device, half: Aggregate, vlans: str, edits: Sequence[Edit]) -> Finding:
    """A pair that shares an aggregate and that no cable joins, or none that carries its VLANs."""
    pair = f"{device.name} and {half.shared_with}"
    joins = f"let a cable between {pair} carry {vlans}"
    return finding(
        SHARED_UNJOINED,
        at=device.name,
        path=(*_path(device, half), "shared-with"),
        says=f"no cable between {pair} carries {vlans}, which {half.name} carries",
        mend=joins,
        edits=tuple(edits),
        pair=pair,
    )


def _between(index: NetworkIndex, name: str, partner: str) -> Iterator[tuple[Attachment, Attachment]]:
    """The switched links between two devices, from both ends."""
    for own in index.knowledge.devices[name].attachments.values():
        for end in own.members if own.switched else ():
            link = index.knowledge.links[end]
            if link.peer is not None and link.peer.device == partner and link.carrier:
                far = index.knowledge.attachment_at(link.peer)
                if far.switched:
                    yield own, far
                break


def _path(device: Device, half: Aggregate) -> Path:
    return ("devices", device.name, "interfaces", half.name)
