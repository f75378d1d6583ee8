"""A packet that was larger than an interface sends, or than a port passes."""

from __future__ import annotations

from archipelago.diagnosis.faults.sizes import mtu_mismatch, mtu_path, mtu_raised
from archipelago.diagnosis.kind import ALWAYS, Kind, finding
from archipelago.diagnosis.places import nic_path
from archipelago.diagnosis.stop import Stop
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Finding
from archipelago.model.parts import USUAL_MTU


def too_large(index: NetworkIndex, node: Node, stop: Stop) -> Finding:
    """The port that dropped it in silence, or the interface that it did not fit."""
    length = stop.probe.length(stop.target.version)
    if stop.silent:
        return mtu_mismatch(index, node, node.attachments[stop.interface], length)
    return packet_too_large(index, node, node.nics[stop.interface], length, stop.told)


PACKET_TOO_LARGE = Kind(
    "packet-too-large",
    "error",
    "an interface that a packet is too large for (asked for by its size)",
    "small packets arrive, ones of that size do not",
    ALWAYS,
)


def packet_too_large(index: NetworkIndex, node: Node, nic: Nic, length: int, told: str) -> Finding:
    """An interface that a packet is too large for, which nobody may split; what the mend raises is the link: both its
    ends."""
    paths = [nic_path((node, nic))]
    if nic.attachment is not None and node.kind != "host":
        own = node.attachments[nic.attachment]
        ends = [(node, own)] if nic.kind == "subinterface" else []
        for end in own.members:
            peer = index.knowledge.links[end].peer
            if peer is not None:
                far = index.knowledge.nodes[peer.device]
                ends.append((far, far.attachments[far.member_of.get(peer.port, peer.port)]))
        paths += [mtu_path(index, at, port) for at, port in ends if port.mtu < length]
    where = node.name if node.kind == "host" else f"{node.name}/{nic.name}"
    raised = tuple(mtu_raised(path, length) for path in dict.fromkeys(paths))
    mend = f"send at most {nic.mtu:,} octets that way"
    if length <= USUAL_MTU:  # beyond that the packet is unusual, not the link
        mend += f", or let {where} and its link pass {length:,} (mtu)"
    return finding(
        PACKET_TOO_LARGE,
        at=node.name,
        path=paths[0],
        says=f"{where} sends packets of {nic.mtu:,} octets at most, and this one has {length:,}{told and f'; {told}'}",
        mend=mend,
        edits=raised if length <= USUAL_MTU else (),
    )
