"""Mistakes at the interfaces of routing devices."""

from __future__ import annotations

from archipelago.addressing.values import InterfaceAddress, is_link_local
from archipelago.diagnosis.catalogue import finding
from archipelago.diagnosis.faults.words import label, texts, with_address
from archipelago.diagnosis.places import meant_vlan, nic_path
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.parts import Path

NodeInterface = tuple[Node, Nic]


def tag_wrong(index: NetworkIndex, holder: Held, right: int) -> Finding:
    """A subinterface or VLAN interface that stands in another VLAN than the hosts of its subnet."""
    key = "tag" if holder.nic.kind == "subinterface" else "vlan"
    there = next((nic for nic in holder.node.nics.values() if nic.kind == "vlan" and nic.vlan == right), None)
    taken = there is not None and key == "vlan"
    if there is not None and taken and _swapped(index, holder, there):
        first, second = sorted((holder.nic, there), key=list(holder.node.nics.values()).index)
        return _each_others(index, holder.node, first, second, holder.address.version)
    return finding(
        "tag-wrong",
        at=holder.node.name,
        path=(*nic_path(holder), key),
        says=(
            f"{label(holder)} holds {holder.address} in {index.vlan_name(holder.nic.vlan)}, "
            f"but the rest of that subnet is in {index.vlan_name(right)}"
        ),
        mend=f"set '{key}' of {label(holder)} to {index.vlan_key(right)}",
        edits=() if taken else (Edit((*nic_path(holder), key), index.vlan_key(right)),),
        vlan=index.vlan_name(right),
    )


def _swapped(index: NetworkIndex, holder: Held, there: Nic) -> bool:
    """Whether the hosts of another interface's subnet stand in the VLAN of an interface that holds the subnet of
    its."""
    own = (address for address in there.addresses if address.version == holder.address.version)
    return any(
        address.prefix != holder.address.prefix and meant_vlan(index, address.prefix) == holder.nic.vlan
        for address in own
    )


def _each_others(index: NetworkIndex, node: Node, first: Nic, second: Nic, version: int) -> Finding:
    """Two interfaces of a device with each other's addresses."""
    names = f"{node.name}/{first.name} and {node.name}/{second.name}"
    edits = []
    for nic, other in ((first, second), (second, first)):
        given = [one for one in other.addresses if one.version == version]
        kept = [one for one in nic.addresses if one.version != version]
        edits.append(Edit((*nic_path((node, nic)), "address"), texts([*given, *kept])))
    own, theirs = (next(one for one in nic.addresses if one.version == version) for nic in (first, second))
    return finding(
        "tag-wrong",
        at=node.name,
        path=(*nic_path((node, first)), "address"),
        says=(
            f"{names} hold {own} and {theirs}, but the hosts of these subnets are in "
            f"{index.vlan_name(second.vlan)} and {index.vlan_name(first.vlan)}"
        ),
        mend=f"let {names} have each other's addresses",
        edits=tuple(edits),
        vlan=f"{index.vlan_name(first.vlan)} and {index.vlan_name(second.vlan)}",
    )


def address_on_parent(index: NetworkIndex, held: Held, meant: Nic) -> Finding:
    """An address that is written at a port, and meant for a subinterface of it."""
    return finding(
        "address-on-parent",
        at=held.node.name,
        path=(*nic_path(held), "address"),
        says=(
            f"{label(held)} holds {held.address} for untagged frames, but the hosts of that subnet are in "
            f"{index.vlan_name(meant.tag)}, of {held.node.name}/{meant.name}"
        ),
        mend=f"give {held.address} to {held.node.name}/{meant.name} instead of {label(held)}",
        edits=(with_address(held, held.address, None), with_address((held.node, meant), None, held.address)),
        vlan=index.vlan_name(meant.tag),
    )


def tag_missing(index: NetworkIndex, node: Node, nic: Nic, right: int | None) -> Finding:
    """A subinterface without a tag."""
    path = nic_path((node, nic))
    return finding(
        "tag-missing",
        at=node.name,
        path=path,
        says=f"subinterface {node.name}/{nic.name} has no tag",
        mend=(
            f"set 'tag' of {node.name}/{nic.name} to {index.vlan_key(right)}"
            if right
            else f"give {node.name}/{nic.name} its tag"
        ),
        edits=(Edit((*path, "tag"), index.vlan_key(right)),) if right else (),
    )


def tag_repeated(index: NetworkIndex, node: Node, nic: Nic, first: Nic, right: int | None) -> Finding:
    """Two subinterfaces of one port with the same tag, or both untagged: the later written hears nothing."""
    path = nic_path((node, nic))
    if nic.tag is None:
        return finding(
            "tag-repeated",
            at=node.name,
            path=(*path, "untagged"),
            says=f"{node.name}/{nic.name} is untagged, as {first.name} on the same port is",
            mend=f"let {node.name}/{nic.name} be tagged",
            edits=(Edit((*path, "untagged"), REMOVE),),
            interface=nic.name,
        )
    return finding(
        "tag-repeated",
        at=node.name,
        path=(*path, "tag"),
        says=f"{node.name}/{nic.name} has the tag of {first.name}, {index.vlan_name(nic.vlan)}",
        mend=(
            f"set 'tag' of {node.name}/{nic.name} to {index.vlan_key(right)}"
            if right
            else f"give {nic.name} a tag of its own"
        ),
        edits=(Edit((*path, "tag"), index.vlan_key(right)),) if right else (),
        interface=nic.name,
    )


def tag_mismatch(index: NetworkIndex, tagged: NodeInterface, bare: NodeInterface) -> Finding:
    """Two ends of one link that speak for one VLAN, one of them with tagged frames and the other, a host or an untagged
    subinterface, with untagged ones."""
    (node, nic), (far_node, far) = tagged, bare
    vlan = index.vlan_name(nic.vlan)
    path, key, change = (*nic_path(tagged), "untagged"), "true", f"let {node.name}/{nic.name} take untagged frames"
    occupied = any(other.tag is None and other.speaks for other in node.nics_on(nic.attachment or ""))
    edits: tuple[Edit, ...] = () if occupied else (Edit(path, key),)
    if far.kind == "subinterface":
        path, change = (*nic_path(bare), "untagged"), f"let {far_node.name}/{far.name} be tagged"
        edits = (Edit(path, REMOVE),)
    sender = far_node.name if far.kind == "host" else f"{far_node.name}/{far.name}"
    return finding(
        "tag-mismatch",
        at=node.name,
        path=nic_path(tagged),
        says=f"{sender} sends untagged frames to {node.name}/{nic.name}, which takes only those tagged {vlan}",
        mend=change,
        edits=edits,
        vlan=vlan,
    )


def interface_missing(
    index: NetworkIndex, at: Node, parent: str | None, address: InterfaceAddress, far: Held
) -> Finding:
    """A routing device without an interface on a link over which its own routes lead."""
    added = no_gateway_in_vlan(index, far.nic.vlan or 0, at, parent, (address,))
    return finding(
        "interface-missing",
        at=at.name,
        path=added.path,
        says=(
            f"{at.name} has no interface in {far.address.prefix}, though its routes lead to {far.address.address} there"
        ),
        mend=added.mend,
        edits=added.edits,
        device=at.name,
    )


def parent_wrong(index: NetworkIndex, node: Node, nic: Nic, parent: str) -> Finding:
    """A subinterface of a port whose link does not lead to its VLAN, while that of another port carries it."""
    path = (*nic_path((node, nic)), "parent")
    vlan = index.vlan_name(nic.vlan or 0)
    return finding(
        "parent-wrong",
        at=node.name,
        path=path,
        says=(
            f"{node.name}/{nic.name} is of {nic.attachment}, whose link does not lead to {vlan}; the one at {parent} "
            "carries it"
        ),
        mend=f"set the parent of {node.name}/{nic.name} to {parent}",
        edits=(Edit(path, parent),),
        vlan=vlan,
    )


def end_without_address(
    node: Node, path: Path, addresses: tuple[InterfaceAddress, ...], lacking: tuple[InterfaceAddress, ...], far: Held
) -> Finding:
    """A port at the end of a routed link without an address of some family; `addresses` are all that it should have."""
    place = f"{node.name}/{path[-1]}"
    names = " and ".join(str(one.prefix) for one in lacking)
    return finding(
        "interface-missing",
        at=node.name,
        path=path,
        says=f"{place} has no address in {names}, where {label(far)} is at its other end",
        mend=f"give {place} the address {' and '.join(map(str, lacking))}",
        edits=(Edit((*path, "address"), texts(addresses)),),
        device=node.name,
    )


def no_gateway_in_vlan(
    index: NetworkIndex, vlan: int, at: Node, parent: str | None, addresses: tuple[InterfaceAddress, ...]
) -> Finding:
    """A VLAN with hosts that no routing device has an interface in."""
    edits: tuple[Edit, ...] = ()
    path: Path = ("devices", at.name)
    mend = f"give {at.name} an interface in {index.vlan_name(vlan)}"
    address_texts = texts(addresses)
    if addresses:
        key = index.vlan_key(vlan)
        if parent is not None:
            name, value = f"{parent}.{vlan}", {"parent": parent, "tag": key, "address": address_texts}
        else:
            name, value = (
                f"{key if key[0].isalpha() else 'vlan-' + key}-gateway",
                {"vlan": key, "address": address_texts},
            )
        while name in at.nics:
            name += "-new"
        kind = "tag" if parent else "VLAN"
        added = " and ".join(map(str, addresses))
        mend = f"add interface {name} with {added} and {kind} {key} to {at.name}"
        edits = (Edit(("devices", at.name, "interfaces", name), value),)
        there = next((nic for nic in at.nics.values() if nic.vlan == vlan and nic.attachment == parent), None)
        if there is not None:
            kept = [address for address in there.addresses if not _replaced(index, there, address, addresses)]
            here = f"{at.name}/{there.name}"
            replaces = len(kept) < len(there.addresses) or not kept
            mend = f"set the address of {here} to {added}" if replaces else f"add {added} to {here}"
            path = nic_path((at, there))
            edits = (Edit((*path, "address"), texts([*kept, *addresses])),)
    return finding(
        "no-gateway-in-vlan",
        at=at.name,
        path=path,
        says=(
            f"no routing device has an interface in {index.vlan_name(vlan)}"
            + (f" with {addresses[0].address}" if addresses else "")
        ),
        mend=mend,
        edits=edits,
        effect=f"the hosts of {index.vlan_name(vlan)} reach nobody outside their subnet",
    )


def vlan_interface_down(index: NetworkIndex, node: Node, nic: Nic) -> Finding:
    """A VLAN interface that no live port carries the VLAN for."""
    return finding(
        "vlan-interface-down",
        at=node.name,
        path=nic_path((node, nic)),
        says=(
            f"{node.name}/{nic.name} is down: "
            f"no port of {node.name} that carries {index.vlan_name(nic.vlan)} has carrier"
        ),
        mend=f"let a cabled port of {node.name} carry {index.vlan_key(nic.vlan or 0)}",
        interface=nic.name,
    )


def _replaced(
    index: NetworkIndex, nic: Nic, address: InterfaceAddress, addresses: tuple[InterfaceAddress, ...]
) -> bool:
    """Whether an address of an interface makes room for new ones: of a family of theirs, in a subnet without hosts, or
    in one that another VLAN's gateway holds."""
    if address.version not in {new.version for new in addresses} or is_link_local(address):
        return False
    if any(home.nic.vlan not in (nic.vlan, None) for home in index.homes(address)):
        return True
    hosts = index.network.hosts.values()
    return not any(address.prefix.holds(own) for host in hosts for own in host.addresses)


def subnet_overlap(holder: Held, other: Held, moved: bool = False) -> Finding:
    """Two routing interfaces whose subnets share addresses."""
    path, name = nic_path(holder), label(holder)
    gone = with_address(holder, holder.address, None)
    mend = f"take {holder.address} away from {name}"
    if len(holder.nic.addresses) == 1 and holder.nic.kind != "port":
        gone, mend = Edit(path, REMOVE), f"remove the interface {name}, whose one address that is"
    return finding(
        "subnet-overlap",
        at=holder.node.name,
        path=(*path, "address"),
        says=(
            f"{label(holder)} with {holder.address} overlaps {label(other)} with {other.address}"
            + (", where the hosts of the subnet are" if moved else "")
        ),
        mend=mend if moved else f"move {name} to a subnet of its own",
        edits=(gone,) if moved else (),
    )
