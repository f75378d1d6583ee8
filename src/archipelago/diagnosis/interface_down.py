from __future__ import annotations

from archipelago.diagnosis.cabling import attachment_fault
from archipelago.diagnosis.cut import cut
from archipelago.diagnosis.faults.links import admin_down, unexplained
from archipelago.diagnosis.faults.switching import vlan_absent
from archipelago.diagnosis.faults.words import node_path
from archipelago.diagnosis.kind import NEVER, Example, Kind, finding
from archipelago.diagnosis.places import nic_path
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Finding
from archipelago.model.parts import Device


def interface_down(index: NetworkIndex, holder: Held) -> Finding:
    """Why an interface is down."""
    node, nic = holder.node, holder.nic
    if node.off:
        return admin_down(node_path(node), node.name, node.name, f"nothing gets in or out of {node.name}")
    if isinstance(node.written, Device):
        interface = node.written.interfaces.get(nic.name)
        if interface is not None and interface.off:
            breaks = f"{holder.address.prefix} is not connected"
            return admin_down(nic_path(holder), f"{node.name}/{nic.name}", node.name, breaks)
    if nic.attachment is not None:
        fault = attachment_fault(index, node.attachments[nic.attachment])
        if fault is not None:
            return fault
    if nic.kind == "vlan" and nic.vlan is not None and isinstance(node.written, Device):
        if nic.vlan not in node.vlans:
            return vlan_absent(index, node.written, nic.vlan)
        for attachment in node.attachments.values():
            if nic.vlan in attachment.vlans:
                fault = attachment_fault(index, attachment)
                if fault is not None:
                    return fault
        for other in index.subnet_peers(holder):
            wrong = cut(index, nic.vlan, (other.node, other.nic), (node, nic))
            if wrong:
                return wrong[0]
        return vlan_interface_down(index, node, nic)
    return unexplained(node.name, f"{node.name}/{nic.name} is down: {nic.down}")


VLAN_INTERFACE_DOWN = Kind(
    "vlan-interface-down",
    "error",
    "a VLAN interface without a live port that carries its VLAN",
    "the subnet of {interface} is unreachable",
    NEVER,
    example=Example("pier", "devices: {core: {interfaces: {spare-gw: {vlan: crew, address: 10.44.9.1/24}}}}"),
)


def vlan_interface_down(index: NetworkIndex, node: Node, nic: Nic) -> Finding:
    """A VLAN interface that no live port carries the VLAN for."""
    return finding(
        VLAN_INTERFACE_DOWN,
        at=node.name,
        path=nic_path((node, nic)),
        says=(
            f"{node.name}/{nic.name} is down: "
            f"no port of {node.name} that carries {index.vlan_name(nic.vlan)} has carrier"
        ),
        mend=f"let a cabled port of {node.name} carry {index.vlan_key(nic.vlan or 0)}",
        interface=nic.name,
    )
