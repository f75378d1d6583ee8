"""Mistakes at the interfaces of routing devices."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import fields
from typing import Any

from archipelago.addressing.values import InterfaceAddress, is_link_local
from archipelago.diagnosis.faults.words import label, texts, with_address
from archipelago.diagnosis.kind import OFTEN, Example, Kind, finding
from archipelago.diagnosis.places import nic_path, sits_in, vlan_of
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.parts import Aggregate, Path, Port, Subinterface

NodeInterface = tuple[Node, Nic]


TAG_MISSING = Kind(
    "tag-missing",
    "error",
    "a subinterface without a tag",
    "it neither sends nor hears a frame",
    OFTEN,
    example=Example("pier", "devices: {landing: {interfaces: {p1.210: {tag: ~}}}}"),
)


def tag_missing(index: NetworkIndex, node: Node, nic: Nic, right: int | None) -> Finding:
    """A subinterface without a tag."""
    path = nic_path((node, nic))
    return finding(
        TAG_MISSING,
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


TAG_MISMATCH = Kind(
    "tag-mismatch",
    "error",
    "a link whose one end speaks for a VLAN with tagged frames, the other with untagged ones",
    "no frame of {vlan} crosses the link",
    OFTEN,
    example=Example(
        "pier",
        """
        vlans: {link: '900'}
        devices:
          landing:
            ports:
              p2: {address: ~}
            interfaces:
              p2.900: {parent: p2, tag: link, address: 10.44.15.0/31}
        """,
    ),
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
        TAG_MISMATCH,
        at=node.name,
        path=nic_path(tagged),
        says=f"{sender} sends untagged frames to {node.name}/{nic.name}, which takes only those tagged {vlan}",
        mend=change,
        edits=edits,
        vlan=vlan,
    )


NO_GATEWAY_IN_VLAN = Kind(
    "no-gateway-in-vlan",
    "error",
    "a subnet with hosts that no routing device has an interface in",
    "{effect}",
    OFTEN,
    example=Example("pier", "devices: {landing: {interfaces: {p1.210: ~}}}"),
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
        standing = [nic for nic in at.nics.values() if sits_in(index, at, nic) == vlan and nic.attachment == parent]
        there = min(standing, key=lambda nic: nic.vlan != vlan, default=None)
        if there is not None:
            kept = [address for address in there.addresses if not _replaced(index, vlan, address, addresses)]
            here = f"{at.name}/{there.name}"
            replaces = len(kept) < len(there.addresses) or not kept
            mend = f"set the address of {here} to {added}" if replaces else f"add {added} to {here}"
            path = nic_path((at, there))
            edits = (Edit((*path, "address"), texts([*kept, *addresses])),)
    return finding(
        NO_GATEWAY_IN_VLAN,
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


def _replaced(
    index: NetworkIndex, vlan: int, address: InterfaceAddress, addresses: tuple[InterfaceAddress, ...]
) -> bool:
    """Whether an address of an interface in a VLAN makes room for new ones: of a family of theirs, in a subnet without
    hosts, or in one that another VLAN's gateway holds."""
    if address.version not in {new.version for new in addresses} or is_link_local(address):
        return False
    if any(vlan_of(index, home) not in (vlan, None) for home in index.homes(address)):
        return True
    hosts = index.network.hosts.values()
    return not any(address.prefix.holds(own) for host in hosts for own in host.addresses)


SUBNET_OVERLAP = Kind(
    "subnet-overlap",
    "error",
    "two subnets that share addresses and are not one",
    "the same addresses are routed to two places",
    OFTEN,
    example=Example(
        "pier",
        """
        devices:
          landing:
            interfaces:
              old: {parent: p1, tag: store, address: 10.44.3.9/24}
        """,
    ),
)


def subnet_overlap(holder: Held, other: Held, moved: bool = False) -> Finding:
    """Two routing interfaces whose subnets share addresses."""
    path, name = nic_path(holder), label(holder)
    gone = with_address(holder, holder.address, None)
    mend = f"take {holder.address} away from {name}"
    if len(holder.nic.addresses) == 1 and holder.nic.kind != "port":
        gone, mend = Edit(path, REMOVE), f"remove the interface {name}, whose one address that is"
    return finding(
        SUBNET_OVERLAP,
        at=holder.node.name,
        path=(*path, "address"),
        says=(
            f"{label(holder)} with {holder.address} overlaps {label(other)} with {other.address}"
            + (", where the hosts of the subnet are" if moved else "")
        ),
        mend=mend if moved else f"move {name} to a subnet of its own",
        edits=(gone,) if moved else (),
    )


def set_beside(part: Port | Aggregate) -> Iterator[tuple[str, Any]]:
    """What a routed port has beside its addresses that goes along to its subinterfaces, as a document writes it."""
    stays = ("name", "addresses", "off", "virtual", "mtu")  # or is spread by hand
    for name in [spec.name for spec in fields(Subinterface) if spec.name not in stays]:
        value = getattr(part, name, None)
        if value:
            yield name.replace("_", "-"), texts(value) if isinstance(value, tuple) else value
