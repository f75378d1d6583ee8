"""Packets that are too large for a port or an interface."""

from __future__ import annotations

from archipelago.diagnosis.faults.words import node_path
from archipelago.diagnosis.kind import ALWAYS, Example, Kind, finding
from archipelago.diagnosis.places import port_path
from archipelago.knowledge.devices import Attachment, Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.parts import USUAL_MTU, Path

MTU_MISMATCH = Kind(
    "mtu-mismatch",
    "risk",
    "a port that passes smaller packets than those that come there",
    "small packets arrive, large ones are lost in silence: nobody tells their sender",
    ALWAYS,
    example=Example("pier", "devices: {core: {ports: {p9: {mtu: 9000}}}, landing: {ports: {p2: {mtu: 1500}}}}"),
)


def mtu_mismatch(index: NetworkIndex, node: Node, port: Attachment, wanted: int) -> Finding:
    """A port that passes smaller packets than come there, and drops the others in silence."""
    path = mtu_path(index, node, port)
    end = node.name if node.kind == "host" else f"{node.name}/{port.name}"
    return finding(
        MTU_MISMATCH,
        at=node.name,
        path=path,
        says=f"{end} passes packets of {port.mtu:,} octets, and {wanted:,} come there",
        mend=f"let {end} pass {wanted:,} octets (mtu)",
        edits=(mtu_raised(path, wanted),),
    )


def mtu_raised(path: Path, wanted: int) -> Edit:
    return Edit((*path, "mtu"), REMOVE if wanted == USUAL_MTU else str(wanted))


def mtu_path(index: NetworkIndex, node: Node, port: Attachment) -> Path:
    return node_path(node) if node.kind == "host" else port_path(index.knowledge, node.name, port.name)
