from __future__ import annotations

from archipelago.diagnosis import faults
from archipelago.diagnosis.cut import attachment_fault, cut
from archipelago.diagnosis.places import nic_path
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Finding
from archipelago.model.parts import Device


def interface_down(index: NetworkIndex, holder: Held) -> Finding:
    """Why an interface is down."""
    node, nic = holder.node, holder.nic
    if node.off:
        return faults.admin_down(faults.node_path(node), node.name, node.name, f"nothing gets in or out of {node.name}")
    if isinstance(node.written, Device):
        interface = node.written.interfaces.get(nic.name)
        if interface is not None and interface.off:
            breaks = f"{holder.address.prefix} is not connected"
            return faults.admin_down(nic_path(holder), f"{node.name}/{nic.name}", node.name, breaks)
    if nic.attachment is not None:
        fault = attachment_fault(index, node.attachments[nic.attachment])
        if fault is not None:
            return fault
    if nic.kind == "vlan" and nic.vlan is not None and isinstance(node.written, Device):
        if nic.vlan not in node.vlans:
            return faults.vlan_absent(index, node.written, nic.vlan)
        for attachment in node.attachments.values():
            if nic.vlan in attachment.vlans:
                fault = attachment_fault(index, attachment)
                if fault is not None:
                    return fault
        for other in index.subnet_peers(holder):
            wrong = cut(index, nic.vlan, (other.node, other.nic), (node, nic))
            if wrong:
                return wrong[0]
        return faults.vlan_interface_down(index, node, nic)
    return faults.unexplained(node.name, f"{node.name}/{nic.name} is down: {nic.down}")
