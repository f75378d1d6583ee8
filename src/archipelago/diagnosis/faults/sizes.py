"""Packets that are too large for a port or an interface."""

from __future__ import annotations

from archipelago.diagnosis.catalogue import finding
from archipelago.diagnosis.faults.words import node_path
from archipelago.diagnosis.places import nic_path, port_path
from archipelago.knowledge.devices import Attachment, Nic, Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.parts import USUAL_MTU, Path


def mtu_mismatch(index: NetworkIndex, node: Node, port: Attachment, wanted: int) -> Finding:
    """A port that passes smaller packets than come there, and drops the others in silence."""
    path = _path(index, node, port)
    end = node.name if node.kind == "host" else f"{node.name}/{port.name}"
    return finding(
        "mtu-mismatch",
        at=node.name,
        path=path,
        says=f"{end} passes packets of {port.mtu:,} octets, and {wanted:,} come there",
        mend=f"let {end} pass {wanted:,} octets (mtu)",
        edits=(_raised(path, wanted),),
    )


def mtu_of_interface(node: Node, nic: Nic, wanted: int) -> Finding:
    """An interface that sends smaller packets than the others of its subnet do."""
    path = nic_path((node, nic))
    place = f"{node.name}/{nic.name}"
    return finding(
        "mtu-mismatch",
        at=node.name,
        path=(*path, "mtu"),
        says=f"{place} sends packets of {nic.mtu:,} octets at most, the others of its subnet {wanted:,}",
        mend=f"let {place} send {wanted:,} octets (mtu)",
        edits=(_raised(path, wanted),),
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
        paths += [_path(index, at, port) for at, port in ends if port.mtu < length]
    where = node.name if node.kind == "host" else f"{node.name}/{nic.name}"
    raised = tuple(_raised(path, length) for path in dict.fromkeys(paths))
    mend = f"send at most {nic.mtu:,} octets that way"
    if length <= USUAL_MTU:  # beyond that the packet is unusual, not the link
        mend += f", or let {where} and its link pass {length:,} (mtu)"
    return finding(
        "packet-too-large",
        at=node.name,
        path=paths[0],
        says=f"{where} sends packets of {nic.mtu:,} octets at most, and this one has {length:,}{told and f'; {told}'}",
        mend=mend,
        edits=raised if length <= USUAL_MTU else (),
    )


def _path(index: NetworkIndex, node: Node, port: Attachment) -> Path:
    return node_path(node) if node.kind == "host" else port_path(index.knowledge, node.name, port.name)


def _raised(path: Path, wanted: int) -> Edit:
    return Edit((*path, "mtu"), REMOVE if wanted == USUAL_MTU else str(wanted))
