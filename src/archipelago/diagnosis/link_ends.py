"""The two ends of a link that do not fit: one routed and one switched, a bundle and ports that are not bundled."""

from __future__ import annotations

from dataclasses import replace

from archipelago.diagnosis import faults
from archipelago.diagnosis.places import meant_vlan
from archipelago.knowledge.devices import Attachment, Node
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Finding
from archipelago.model.parts import Aggregate, End, Port

LinkEnd = tuple[Node, Attachment]


def routed_against_switched(index: NetworkIndex, a: LinkEnd, b: LinkEnd) -> Finding | None:
    """A routed end that hears nothing of what a switched one sends; None where that is not so.

    A routed port of a layer 3 switch that holds nothing, neither an address nor a subinterface, is meant to be switched
    as its far end is. One with an address hears untagged frames only: where the far end is a trunk without an untagged
    VLAN, that is to be the one of the address's subnet.
    """
    for (node, own), (far_node, far) in ((a, b), (b, a)):
        if own.switched or not far.switched or far_node.kind == "host" or node.kind == "host":
            continue
        speaking = [nic for nic in node.nics_on(own.name) if nic.addresses and nic.speaks]
        if holds_nothing(node, own):
            return faults.routed_end(index, node, own, far_node, far)
        if far.untagged is None and speaking and all(nic.tag is None for nic in speaking):
            held = Held(node, speaking[0], speaking[0].addresses[0])
            return faults.tagged_towards_untagged(index, held, far_node, far, _vlan_of(index, held, far_node, far))
    return None


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
    if len(bundles) != 1 or not alone or any(_is_set_up(far[port]) for port in alone):
        return None
    (bundle,) = bundles.values()
    return device, bundle, alone


def _is_set_up(attachment: Attachment) -> bool:
    """Whether a port is set to anything but what a member of an aggregate may be set to."""
    port = attachment.written
    return isinstance(port, Port) and replace(port, off=False, speed=None) != Port(port.name)


def plugged_elsewhere(index: NetworkIndex, near: Held, far: Held) -> Finding | None:
    """A cable from a routed port that ends at another port of the far device than the one in its subnet, which has no
    cable; the port where it ends is set to nothing."""
    if near.nic.kind != "port" or far.nic.kind != "port" or near.node.kind == "host" or far.node.kind == "host":
        return None
    link = index.knowledge.links[End(near.node.name, near.nic.name)]
    wanted = End(far.node.name, far.nic.name)
    if link.peer is None or link.cable is None or link.peer.device != far.node.name or link.peer == wanted:
        return None
    if index.knowledge.links[wanted].peer is not None or _is_set_up(index.knowledge.attachment_at(link.peer)):
        return None
    number = index.knowledge.written.cables.index(link.cable)
    return faults.cable_elsewhere(link.cable, number, link.end, link.peer, wanted)
