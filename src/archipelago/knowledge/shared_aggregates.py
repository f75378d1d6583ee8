"""Aggregates that two devices share, so that they act as one for the device at the far end (IEEE 802.1AX 9): which of
the two halves is in use. An aggregate sends on its first live member; the half which that leads to is the one, and the
other waits: nothing goes in or out by it, so no circle is closed. It has carrier, and keeps VLAN interfaces up."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from archipelago.knowledge.links import Links, aggregates
from archipelago.model.network import Network
from archipelago.model.parts import Aggregate, Device, End


def other_half(network: Network, device: Device, half: Aggregate) -> Aggregate | None:
    """The aggregate that a half acts as one with; None where that device has none that shares it back."""
    partner = network.devices.get(half.shared_with or "")
    other = partner.interfaces.get(half.name) if partner is not None else None
    return other if isinstance(other, Aggregate) and other.shared_with == device.name else None


def halves(network: Network) -> Iterator[tuple[Device, Aggregate]]:
    """Every aggregate that is written as shared, with its device."""
    for device in network.devices.values():
        for aggregate in aggregates(device) if device.interfaces else ():
            if aggregate.shared_with is not None:
                yield device, aggregate


def waiting(network: Network, links: Links) -> Mapping[str, frozenset[str]]:
    """The halves that wait, device by device."""
    found: dict[str, set[str]] = {}
    for device, half in halves(network):
        if other_half(network, device, half) is not None and _partner_is_used(network, links, device, half):
            found.setdefault(device.name, set()).add(half.name)
    return {name: frozenset(names) for name, names in found.items()}


def _partner_is_used(network: Network, links: Links, device: Device, half: Aggregate) -> bool:
    """Whether the aggregate at the far end sends to the other half."""
    for member in half.members:
        link = links[End(device.name, member)]
        far = network.devices.get(link.peer.device) if link.carrier and link.peer is not None else None
        if far is None or link.peer is None:
            continue
        bundle = next((one for one in aggregates(far) if link.peer.port in one.members), None)
        for port in bundle.members if bundle is not None else ():
            back = links[End(far.name, port)]
            if back.carrier and back.peer is not None:
                if back.peer.device == device.name:
                    return False
                if back.peer.device == half.shared_with and _is_member(network, back.peer, half.name):
                    return True
    return False


def _is_member(network: Network, end: End, name: str) -> bool:
    part = network.devices[end.device].interfaces.get(name)
    return isinstance(part, Aggregate) and end.port in part.members
