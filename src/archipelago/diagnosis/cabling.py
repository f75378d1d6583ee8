"""Why a port has no carrier: what is off on the way to its peer, or the cable that is missing, or ends beside it."""

from __future__ import annotations

from archipelago.addressing.values import Prefix
from archipelago.diagnosis.faults.links import ADMIN_DOWN, admin_down, not_cabled
from archipelago.diagnosis.faults.words import node_path
from archipelago.diagnosis.kind import finding
from archipelago.diagnosis.link_ends import cable_elsewhere
from archipelago.diagnosis.places import host_end, is_set_up, meant_vlan, unplugged
from archipelago.knowledge.devices import Attachment, Nic, Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Edit, Finding
from archipelago.model.parts import Aggregate, Cable, End, Host, Port


def link_fault(index: NetworkIndex, end: End) -> Finding | None:
    """Why a port has no carrier: the first thing that is off on the way to its peer, or that it is not cabled."""
    link = index.knowledge.links[end]
    if link.carrier:
        return None
    for side in (end, link.peer):
        if side is None:
            continue
        fault = _off(index, side)
        if fault is not None:
            return fault
    if link.cable is not None and link.cable.off:
        return cable_off(index, link.cable)
    return without_cable(index, end)


def without_cable(index: NetworkIndex, end: End) -> Finding:
    """A port that is set up and has no cable: one that is meant for it ends beside it, or none is there."""
    return _cable_beside(index, end) or not_cabled(index, end, partner_of(index, end))


def _cable_beside(index: NetworkIndex, end: End) -> Finding | None:
    """The one cable that ends at another port of the same device, which is set to nothing, and whose far end is set up
    as this port's."""
    if end.device not in index.network.devices:
        return None
    beside = [
        (number, cable, link)
        for number, cable in enumerate(index.knowledge.written.cables)
        if not cable.off
        for link in (index.knowledge.links[cable.a], index.knowledge.links[cable.b])
        if link.end.device == end.device and link.peer is not None and link.peer.device in index.network.devices
        if _is_spare(index, link.end) and fits(index, end, link.peer)
    ]
    if len(beside) != 1:
        return None
    ((number, cable, link),) = beside
    assert link.peer is not None
    return cable_elsewhere(cable, number, link.peer, link.end, end)


def _is_spare(index: NetworkIndex, end: End) -> bool:
    """Whether a port is set to nothing, and no subinterface is of it."""
    attachment = index.knowledge.attachment_at(end)
    parent = any(nic.kind == "subinterface" for nic in index.knowledge.nodes[end.device].nics_on(attachment.name))
    return isinstance(attachment.written, Port) and not is_set_up(attachment) and not parent


def cable_off(index: NetworkIndex, cable: Cable) -> Finding:
    """A cable that is administratively off."""
    position = index.network.cables.index(cable)
    return finding(
        ADMIN_DOWN,
        at=cable.a.device,
        path=("cables", position, "off"),
        says=f"cable {cable} is off",
        mend=f"switch cable {cable} on",
        edits=(Edit(("cables", position), str(cable)),),
        effect="nothing crosses it",
    )


def _off(index: NetworkIndex, end: End) -> Finding | None:
    """The port, its aggregate, its device or its host, if that is off."""
    node = index.knowledge.nodes[end.device]
    written = node.written
    if node.off:
        return admin_down(node_path(node), node.name, node.name, f"nothing gets in or out of {node.name}")
    if isinstance(written, Host):
        return None
    if index.knowledge.ports[end.device][end.port].off:
        path = ("devices", end.device, "ports", end.port)
        return admin_down(path, str(end), end.device, f"nothing crosses {end}")
    for interface in written.interfaces.values():
        if isinstance(interface, Aggregate) and interface.off and end.port in interface.members:
            path = ("devices", end.device, "interfaces", interface.name)
            return admin_down(path, f"{end.device}/{interface.name}", end.device, f"nothing crosses {end}")
    return None


def attachment_fault(index: NetworkIndex, attachment: Attachment) -> Finding | None:
    """Why a port or aggregate has no carrier."""
    if attachment.carrier or not attachment.members:
        return None
    return link_fault(index, attachment.members[0])


def partner_of(index: NetworkIndex, end: End) -> End | None:
    """The one free port that is set up as the other end of this one, on another device: an address of the same subnet,
    the most VLANs in common, or the only access port of the VLAN of its subnet."""
    best: tuple[int, End] | None = None
    alike = 0
    for name, ports in index.knowledge.ports.items():
        if name == end.device:
            continue
        for port in ports:
            other = End(name, port)
            if index.knowledge.links[other].peer is None:
                fitting = fits(index, end, other)
                if fitting and (best is None or fitting > best[0]):
                    best, alike = (fitting, other), 0
                alike += best is not None and fitting == best[0]
    if best is None or (best[0] == ONE_VLAN and alike > 1):
        return None
    return best[1]


ONE_VLAN = 1
"""How well a routed port and an access port of the VLAN of its subnet fit: less well than trunks that have VLANs in
common, and those less than two addresses of one subnet."""


def fits(index: NetworkIndex, end: End, other: End) -> int:
    """How well two ports are set up as the ends of one cable; 0 where they are not."""
    shared = 2 * len(spoken_vlans(index, end) & spoken_vlans(index, other))
    shared += 10_000 * len(_subnets(index, end) & _subnets(index, other))
    if shared:
        return shared
    for one, far in ((end, other), (other, end)):
        there = index.knowledge.attachment_at(far) if far.device in index.network.devices else None
        vlans = {meant_vlan(index, subnet) for subnet in _subnets(index, one)} if there is not None else {None}
        if there is not None and there.switched and there.written.access in vlans - {None}:
            return ONE_VLAN
    return 0


def leads_outside(index: NetworkIndex, node: Node, nic: Nic) -> bool:
    """Whether what lies beyond a routed port is not ours to know: nothing is plugged in, and no other free port is set
    up as its other end."""
    if not unplugged(index, node, nic):
        return False
    members = node.attachments[nic.name].members
    return not members or (partner_of(index, members[0]) is None and _cable_beside(index, members[0]) is None)


def _subnets(index: NetworkIndex, end: End) -> frozenset[Prefix]:
    """The subnets of a routed port's own addresses."""
    attachment = index.knowledge.attachment_at(end)
    if attachment.switched:
        return frozenset()
    nic = index.knowledge.nodes[end.device].nics.get(attachment.name)
    return frozenset(address.prefix for address in nic.addresses) if nic else frozenset()


def spoken_vlans(index: NetworkIndex, end: End) -> frozenset[int]:
    """The VLANs that a port's written settings are about; nothing for a port left at its defaults."""
    node = index.knowledge.nodes[end.device]
    attachment = index.knowledge.attachment_at(end)
    if node.kind == "host":
        return frozenset()
    if attachment.switched:
        return attachment.vlans if attachment.written.trunk is not None else frozenset()
    return frozenset(nic.vlan for nic in node.nics_on(attachment.name) if nic.vlan is not None)


def own_fault(index: NetworkIndex, node: Node) -> Finding | None:
    """What keeps a station from sending anything at all: it is off, or a host's port has no carrier."""
    if node.off:
        effect = f"nothing gets in or out of {node.name}"
        return admin_down(node_path(node), node.name, node.name, effect)
    return link_fault(index, host_end(node.name)) if node.kind == "host" else None
