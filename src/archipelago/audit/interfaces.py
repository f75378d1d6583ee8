"""Mistakes at the interfaces of routing devices: tags, VLANs, and why one is down."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from archipelago.audit.registry import rule
from archipelago.diagnosis import faults
from archipelago.diagnosis.culprit import interface_down, meant_for
from archipelago.diagnosis.cut import partner_of
from archipelago.diagnosis.picture import Held, Picture
from archipelago.knowledge.devices import Nic, Node
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.network import Aggregate, Device, Port, speed_text


def routed(view: Picture) -> Iterator[tuple[Node, Nic]]:
    for node in view.knowledge.nodes.values():
        if node.kind in ("router", "l3switch"):
            for nic in node.nics.values():
                yield node, nic


@rule
def untagged_subinterfaces(view: Picture) -> Iterator[Finding]:
    """A subinterface whose tag is not written."""
    for node, nic in routed(view):
        if nic.kind == "subinterface" and not nic.speaks:
            yield faults.tag_missing(view, node, nic, meant_for(view, nic))


@rule
def repeated_tags(view: Picture) -> Iterator[Finding]:
    """Two subinterfaces of one port with one tag: the later written hears nothing."""
    first: dict[tuple[str, str | None, int | None], Nic] = {}
    for node, nic in routed(view):
        if nic.attachment is not None and nic.speaks:
            other = first.setdefault((node.name, nic.attachment, nic.tag), nic)
            if other is not nic:
                yield faults.tag_repeated(view, node, nic, other, _other(meant_for(view, nic), nic))


def _other(vlan: int | None, nic: Nic) -> int | None:
    return vlan if vlan != nic.vlan else None


@rule
def down(view: Picture) -> Iterator[Finding]:
    """An interface with an address that is down. A routed port without a cable is left alone where no other free
    port has its subnet: what is beyond it is not ours to know."""
    for node, nic in routed(view):
        if nic.up or not nic.addresses or outwards(view, node, nic):
            continue
        yield interface_down(view, Held(node, nic, nic.addresses[0]))


def outwards(view: Picture, node: Node, nic: Nic) -> bool:
    """Whether an interface is a routed port to somewhere outside this network."""
    if nic.kind not in ("port", "aggregate") or not nic.uncabled:
        return False
    return partner_of(view, node.attachments[nic.name].members[0]) is None


@rule
def unlike_members(view: Picture) -> Iterator[Finding]:
    """An aggregate whose members differ in speed, or lead to different devices or aggregates."""
    for device in view.network.devices.values():
        for one in device.interfaces.values():
            if isinstance(one, Aggregate):
                yield from _unlike(view, device, one)


def _unlike(view: Picture, device: Device, one: Aggregate) -> Iterator[Finding]:
    node = view.knowledge.nodes[device.name]
    path = ("devices", device.name, "interfaces", one.name)
    ends = node.attachments[one.name].members
    ports = view.knowledge.ports[device.name]
    peers = [view.knowledge.links[end].peer for end in ends]
    far = {(p.device, view.knowledge.attachment_at(p).name) for p in peers if p is not None}
    speeds = {ports[end.port].speed for end in ends}
    says = ""
    if len(far) > 1:
        says = "lead to " + " and ".join(sorted(f"{name}/{port}" for name, port in far))
    elif len(speeds) > 1:
        says = "differ in speed"
    if says:
        yield Finding(
            "members-differ",
            "risk",
            device.name,
            (*path, "members"),
            f"the members of {device.name}/{one.name} {says}",
            "frames arrive by a member that the far end does not take for the same link",
            f"give all members of {device.name}/{one.name} the speed of {ends[0]}"
            if len(far) <= 1
            else f"let all members of {device.name}/{one.name} lead to one aggregate",
            _alike(device, ports, [end.port for end in ends]) if len(far) <= 1 else (),
        )


def _alike(device: Device, ports: Mapping[str, Port], members: list[str]) -> tuple[Edit, ...]:
    """Every member with the first one's speed."""
    speed = ports[members[0]].speed
    return tuple(
        Edit(("devices", device.name, "ports", name, "speed"), speed_text(speed) if speed else REMOVE)
        for name in members[1:]
        if ports[name].speed != speed
    )
