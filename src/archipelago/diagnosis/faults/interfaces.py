"""Mistakes at the interfaces of routing devices."""

from __future__ import annotations

from archipelago.addressing.values import InterfaceAddress
from archipelago.diagnosis.faults.words import label, texts
from archipelago.diagnosis.picture import Held, Picture, nic_path
from archipelago.knowledge.devices import Nic, Node
from archipelago.model.finding import REMOVE, Edit, Finding


def tag_wrong(view: Picture, held: Held, right: int) -> Finding:
    """A subinterface or VLAN interface that stands in another VLAN than the hosts of its subnet."""
    key = "tag" if held.nic.kind == "subinterface" else "vlan"
    taken = key == "vlan" and any(nic.kind == "vlan" and nic.vlan == right for nic in held.node.nics.values())
    return Finding(
        "tag-wrong",
        "error",
        held.node.name,
        (*nic_path(held), key),
        f"{label(held)} holds {held.address} in {view.vlan_name(held.nic.vlan)}, but the hosts of that subnet are in "
        f"{view.vlan_name(right)}",
        f"{view.vlan_name(right)} has no gateway",
        f"set '{key}' of {label(held)} to {view.vlan_key(right)}",
        () if taken else (Edit((*nic_path(held), key), view.vlan_key(right)),),  # a VLAN takes one VLAN interface
    )


def tag_missing(view: Picture, node: Node, nic: Nic, right: int | None) -> Finding:
    """A subinterface without a tag."""
    path = nic_path((node, nic))
    return Finding(
        "tag-missing",
        "error",
        node.name,
        path,
        f"subinterface {node.name}/{nic.name} has no tag",
        "it neither sends nor hears a frame",
        f"set 'tag' of {node.name}/{nic.name} to {view.vlan_key(right)}"
        if right
        else f"give {node.name}/{nic.name} its tag",
        (Edit((*path, "tag"), view.vlan_key(right)),) if right else (),
    )


def tag_repeated(view: Picture, node: Node, nic: Nic, first: Nic, right: int | None) -> Finding:
    """Two subinterfaces of one port with the same tag, or both untagged: the later written hears nothing."""
    path = nic_path((node, nic))
    if nic.tag is None:
        return Finding(
            "tag-repeated",
            "error",
            node.name,
            (*path, "untagged"),
            f"{node.name}/{nic.name} is untagged, as {first.name} on the same port is",
            f"{nic.name} never hears an answer",
            f"let {node.name}/{nic.name} be tagged",
            (Edit((*path, "untagged"), REMOVE),),
        )
    return Finding(
        "tag-repeated",
        "error",
        node.name,
        (*path, "tag"),
        f"{node.name}/{nic.name} has the tag of {first.name}, {view.vlan_name(nic.vlan)}",
        f"{nic.name} never hears an answer",
        f"set 'tag' of {node.name}/{nic.name} to {view.vlan_key(right)}"
        if right
        else f"give {nic.name} a tag of its own",
        (Edit((*path, "tag"), view.vlan_key(right)),) if right else (),
    )


def gateway_unplaced(
    view: Picture, vlan: int, at: Node, parent: str | None, addresses: tuple[InterfaceAddress, ...]
) -> Finding:
    """A VLAN with hosts that no routing device has an interface in."""
    edits: tuple[Edit, ...] = ()
    mend = f"give {at.name} an interface in {view.vlan_name(vlan)}"
    held = texts(addresses)
    if addresses:
        key = view.vlan_key(vlan)
        if parent is not None:
            name, value = f"{parent}.{vlan}", {"parent": parent, "tag": key, "address": held}
        else:
            name, value = f"{key if key[0].isalpha() else 'vlan-' + key}-gateway", {"vlan": key, "address": held}
        while name in at.nics:
            name += "-new"
        kind = "tag" if parent else "VLAN"
        added = " and ".join(map(str, addresses))
        mend = f"add interface {name} with {added} and {kind} {key} to {at.name}"
        edits = (Edit(("devices", at.name, "interfaces", name), value),)
        there = next((nic for nic in at.nics.values() if not parent and nic.kind == "vlan" and nic.vlan == vlan), None)
        if there is not None:
            mend = f"add {added} to {at.name}/{there.name}"
            edits = (Edit((*nic_path((at, there)), "address"), texts([*there.addresses, *addresses])),)
    return Finding(
        "no-gateway-in-vlan",
        "error",
        at.name,
        ("devices", at.name),
        f"no routing device has an interface in {view.vlan_name(vlan)}"
        + (f" with {addresses[0].address}" if addresses else ""),
        f"the hosts of {view.vlan_name(vlan)} reach nobody outside their subnet",
        mend,
        edits,
    )


def vlan_unported(view: Picture, node: Node, nic: Nic) -> Finding:
    """A VLAN interface that no live port carries the VLAN for."""
    return Finding(
        "vlan-interface-down",
        "error",
        node.name,
        nic_path((node, nic)),
        f"{node.name}/{nic.name} is down: no port of {node.name} that carries {view.vlan_name(nic.vlan)} has carrier",
        f"the subnet of {nic.name} is unreachable",
        f"let a cabled port of {node.name} carry {view.vlan_key(nic.vlan or 0)}",
    )
