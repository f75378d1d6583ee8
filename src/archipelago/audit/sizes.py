"""Mistakes of packet sizes: ports that pass less than what comes there, and drop the rest in silence."""

from __future__ import annotations

from collections.abc import Iterator

from archipelago.audit.registry import rule
from archipelago.diagnosis.faults.sizes import MTU_MISMATCH, mtu_mismatch, mtu_raised
from archipelago.diagnosis.kind import finding
from archipelago.diagnosis.places import nic_path
from archipelago.knowledge.devices import Attachment, Nic, Node
from archipelago.knowledge.domains import Domain
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.topology import Layer2Endpoint
from archipelago.model.finding import Finding
from archipelago.model.network import written_sizes


@rule
def sizes(index: NetworkIndex) -> Iterator[Finding]:
    """A port that frames come to, or leave by, which are larger than it passes: whoever stands in its broadcast domain
    sends such; an interface that sends smaller ones than the others there."""
    if next(written_sizes(index.network), None) is None:
        return
    nodes = index.knowledge.nodes.values()
    most: dict[Domain | None, int] = {None: 0}
    for node in nodes:
        for nic in node.nics.values():
            domain = index.domains.of((node.name, nic.name)) if nic.addresses else None
            if domain is not None:
                most[domain] = max(most.get(domain, 0), nic.mtu)
    for node in nodes:
        for port in node.attachments.values():
            there = _endpoints(node, port) if port.passes else ()
            wanted = max((most.get(index.domains.of(endpoint), 0) for endpoint in there), default=0)
            if port.mtu < wanted:
                yield mtu_mismatch(index, node, port, wanted)
        for nic in node.nics.values() if node.can_route else ():
            domain = index.domains.of((node.name, nic.name)) if nic.addresses else None
            if nic.kind in ("subinterface", "vlan") and domain is not None and nic.mtu < most[domain]:
                yield mtu_of_interface(node, nic, most[domain])


def mtu_of_interface(node: Node, nic: Nic, wanted: int) -> Finding:
    """An interface that sends smaller packets than the others of its subnet do."""
    path = nic_path((node, nic))
    place = f"{node.name}/{nic.name}"
    return finding(
        MTU_MISMATCH,
        at=node.name,
        path=(*path, "mtu"),
        says=f"{place} sends packets of {nic.mtu:,} octets at most, the others of its subnet {wanted:,}",
        mend=f"let {place} send {wanted:,} octets (mtu)",
        edits=(mtu_raised(path, wanted),),
    )


def _endpoints(node: Node, port: Attachment) -> Iterator[Layer2Endpoint]:
    """Where the frames of a port or aggregate come from and go to in its device."""
    yield from ((node.name, vlan) for vlan in port.vlans)
    yield from ((node.name, nic.name) for nic in node.nics_on(port.name))
