"""Mistakes at the interfaces of routing devices: tags, VLANs, and why one is down."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from archipelago.audit.hosts import each_host
from archipelago.audit.registry import rule
from archipelago.diagnosis import faults
from archipelago.diagnosis.catalogue import finding
from archipelago.diagnosis.cut import partner_of
from archipelago.diagnosis.interface_down import interface_down
from archipelago.diagnosis.outvoted import outvoted
from archipelago.diagnosis.places import host_attachment, meant_for, meant_vlan, nic_path, port_path
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.parts import Aggregate, Device, Host, Path, Port, speed_text


def routed(index: NetworkIndex) -> Iterator[tuple[Node, Nic]]:
    for node in index.knowledge.devices.values():
        if node.can_route:
            for nic in node.nics.values():
                yield node, nic


@rule
def untagged_subinterfaces(index: NetworkIndex) -> Iterator[Finding]:
    """A subinterface whose tag is not written."""
    for node, nic in routed(index):
        if nic.kind == "subinterface" and not nic.speaks:
            yield faults.tag_missing(index, node, nic, meant_for(index, nic))


@rule
def repeated_tags(index: NetworkIndex) -> Iterator[Finding]:
    """Two subinterfaces of one port with one tag: the later written hears nothing."""
    first: dict[tuple[str, str | None, int | None], Nic] = {}
    for node, nic in routed(index):
        if nic.attachment is not None and nic.speaks:
            other = first.setdefault((node.name, nic.attachment, nic.tag), nic)
            if other is not nic:
                yield faults.tag_repeated(index, node, nic, other, _other(meant_for(index, nic), nic))


@rule
def contradicted(index: NetworkIndex) -> Iterator[Finding]:
    """A gateway whose address, or whose prefix length, all hosts of its VLAN contradict."""
    for node, nic in routed(index):
        yield from outvoted(index, node, nic)


@rule
@each_host
def untagged_hosts(index: NetworkIndex, host: Host) -> Iterator[Finding]:
    """A host, whose frames are untagged, plugged into a routed port that takes tagged frames only."""
    attachment = host_attachment(index.knowledge, host)
    node = index.knowledge.nodes[host.at.device]
    speaking = [nic for nic in node.nics_on(attachment.name) if nic.speaks]
    if attachment.switched or not speaking or any(nic.tag is None for nic in speaking):
        return
    prefixes = {address.prefix for address in host.addresses}
    own = next((nic for nic in speaking if any(address.prefix in prefixes for address in nic.addresses)), None)
    if own is not None:
        far = index.knowledge.nodes[host.name]
        yield faults.tag_mismatch(index, (node, own), (far, next(iter(far.nics.values()))))


def _other(vlan: int | None, nic: Nic) -> int | None:
    return vlan if vlan != nic.vlan else None


@rule
def down(index: NetworkIndex) -> Iterator[Finding]:
    """An interface with an address that is down. A routed port without a cable is left alone where no other free
    port has its subnet: what is beyond it is not ours to know."""
    for node, nic in routed(index):
        if nic.up or not nic.addresses or outwards(index, node, nic):
            continue
        yield interface_down(index, Held(node, nic, nic.addresses[0]))


def outwards(index: NetworkIndex, node: Node, nic: Nic) -> bool:
    """Whether an interface is a routed port to somewhere outside this network."""
    if nic.kind not in ("port", "aggregate") or not nic.uncabled:
        return False
    return partner_of(index, node.attachments[nic.name].members[0]) is None


@rule
def unlike_members(index: NetworkIndex) -> Iterator[Finding]:
    """An aggregate whose members differ in speed, or lead to different devices or aggregates."""
    for device in index.network.devices.values():
        for interface in device.interfaces.values():
            if isinstance(interface, Aggregate):
                yield from _unlike(index, device, interface)


def _unlike(index: NetworkIndex, device: Device, aggregate: Aggregate) -> Iterator[Finding]:
    node = index.knowledge.nodes[device.name]
    path = ("devices", device.name, "interfaces", aggregate.name)
    ends = node.attachments[aggregate.name].members
    ports = index.knowledge.ports[device.name]
    peers = [index.knowledge.links[end].peer for end in ends]
    far = {(p.device, index.knowledge.attachment_at(p).name) for p in peers if p is not None}
    speeds = {ports[end.port].speed for end in ends}
    says = ""
    if len(far) > 1:
        says = "lead to " + " and ".join(sorted(f"{name}/{port}" for name, port in far))
    elif len(speeds) > 1:
        says = "differ in speed"
    if says:
        yield finding(
            "members-differ",
            at=device.name,
            path=(*path, "members"),
            says=f"the members of {device.name}/{aggregate.name} {says}",
            mend=(
                f"give all members of {device.name}/{aggregate.name} the speed of {ends[0]}"
                if len(far) <= 1
                else f"let all members of {device.name}/{aggregate.name} lead to one aggregate"
            ),
            edits=_alike(device, ports, [end.port for end in ends]) if len(far) <= 1 else (),
        )


def _alike(device: Device, ports: Mapping[str, Port], members: list[str]) -> tuple[Edit, ...]:
    """Every member with the first one's speed."""
    speed = ports[members[0]].speed
    return tuple(
        Edit(("devices", device.name, "ports", name, "speed"), speed_text(speed) if speed else REMOVE)
        for name in members[1:]
        if ports[name].speed != speed
    )


@rule
def vlans_on_one_port(index: NetworkIndex) -> Iterator[Finding]:
    """A routed port with addresses of several VLANs: untagged frames are of one."""
    for node, nic in routed(index):
        if nic.kind not in ("port", "aggregate") or len(nic.addresses) < 2 or nic.attachment is None:
            continue
        meant = {address: meant_vlan(index, address.prefix) for address in nic.addresses}
        vlans = sorted({vlan for vlan in meant.values() if vlan is not None})
        if len(vlans) < 2 or any(vlan is None for vlan in meant.values()):
            continue
        path: Path = ("devices", node.name)
        edits = [Edit((*nic_path((node, nic)), "address"), REMOVE)]
        for vlan in vlans:
            addresses = [str(address) for address, wanted in meant.items() if wanted == vlan]
            section = {"parent": nic.name, "tag": index.vlan_key(vlan), "address": addresses}
            edits.append(Edit((*path, "interfaces", f"{nic.name}.{vlan}"), section))
        if node.kind == "l3switch":
            edits.append(Edit((*nic_path((node, nic)), "routed"), "yes"))
        far = index.knowledge.links[node.attachments[nic.attachment].members[0]].peer
        if far is not None and far.device in index.knowledge.devices:
            there = index.knowledge.attachment_at(far)
            where = port_path(index.knowledge, far.device, there.name)
            if there.switched:
                edits.append(Edit((*where, "trunk"), [index.vlan_key(vlan) for vlan in vlans]))
                edits.append(Edit((*where, "untagged"), "none"))
                if there.written.access is not None:
                    edits.append(Edit((*where, "access"), REMOVE))
        names = ", ".join(index.vlan_name(vlan) for vlan in vlans)
        yield finding(
            "vlans-share-port",
            at=node.name,
            path=nic_path((node, nic)),
            says=f"{node.name}/{nic.name} has addresses for {names}, but takes untagged frames, which are of one VLAN",
            mend=f"give {node.name}/{nic.name} a subinterface for each of them, and make its far end a trunk of them",
            edits=tuple(edits),
            vlans=names,
        )
