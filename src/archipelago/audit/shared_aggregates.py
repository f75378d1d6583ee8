"""Mistakes about aggregates that two devices share: what must be equal on both, and is not."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from archipelago.audit.registry import rule
from archipelago.diagnosis.faults import shared_aggregates as faults
from archipelago.diagnosis.places import port_path
from archipelago.knowledge.devices import Attachment
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.shared_aggregates import halves, other_half
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.parts import Aggregate, Device, End

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
            yield faults.alone(device, half, there if isinstance(there, Aggregate) else None)


@rule
def unlike(index: NetworkIndex) -> Iterator[Finding]:
    """Halves that are set up otherwise."""
    for device, half, partner, other in _pairs(index):
        for key in _EQUAL:
            wanted, own = (getattr(one, key.replace("-", "_")) for one in (half, other))
            if _unordered(wanted) != _unordered(own):
                path = ("devices", partner.name, "interfaces", other.name, key)
                yield faults.unlike((device, half), (partner, other), key, Edit(path, _text(index, key, wanted)))


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
            yield faults.apart(device, half, [f"{name}/{part}" for name, part in ends])


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
            yield faults.unjoined(device, half, ", ".join(map(index.vlan_name, lacking)), edits)


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
