"""Mistakes at hosts, and between addresses."""

from __future__ import annotations

from archipelago.addressing.values import Address, Prefix
from archipelago.diagnosis.faults.words import label, node_path, replaced
from archipelago.diagnosis.picture import Held, Picture, nic_path, port_path
from archipelago.knowledge.devices import Attachment, Node
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.network import Host, NextHop, Path


def host_unaddressed(host: Host, family: str) -> Finding:
    return Finding(
        "address-missing",
        "error",
        host.name,
        ("hosts", host.name),
        f"{host.name} has no {family} address",
        f"{host.name} neither sends nor answers",
        f"give {host.name} an address of its VLAN's subnet",
    )


def gateway_missing(node: Node, version: int, home: Held | None) -> Finding:
    """A host, or a device that does not route, without a gateway for a family it has an address of."""
    path = node_path(node)
    new = home.address.address if home else None
    return Finding(
        "gateway-missing",
        "error",
        node.name,
        path,
        f"{node.name} has no IPv{version} gateway",
        f"{node.name} answers nobody outside its own subnet",
        f"set the gateway of {node.name} to {new}" if new else f"give {node.name} a gateway in its subnet",
        (Edit((*path, "gateway"), replaced(node.written.gateway, None, new)),) if new else (),
    )


def gateway_wrong(node: Node, hop: NextHop, home: Held | None, why: str) -> Finding:
    """A gateway that cannot serve: outside the own subnet, held by nobody, or held by something that forwards
    nothing."""
    path = node_path(node)
    new = home.address.address if home else None
    if new == hop.address:
        new = None
    return Finding(
        "gateway-wrong",
        "error",
        node.name,
        (*path, "gateway"),
        f"the gateway {hop} of {node.name} {why}",
        f"{node.name} answers nobody outside its own subnet",
        f"set the gateway of {node.name} to {new}" if new else f"give {node.name} a gateway that routes in its subnet",
        (Edit((*path, "gateway"), replaced(node.written.gateway, hop, new)),) if new else (),
    )


def mask_differs(held: Held, right: Prefix) -> Finding:
    """An address whose prefix length is not that of its subnet."""
    path = nic_path(held)
    new = held.address._replace(length=right.length)
    wide = held.address.length < right.length
    return Finding(
        "mask-differs",
        "error",
        held.node.name,
        (*path, "address"),
        f"{held.node.name} has {held.address}, but its subnet is {right}",
        f"{held.node.name} takes {'addresses outside' if wide else 'part of'} its subnet for "
        f"{'neighbours' if wide else 'strangers'}",
        f"set the address of {label(held)} to {new}",
        (Edit((*path, "address"), replaced(held.nic.addresses, held.address, new)),),
    )


def vlan_wrong(view: Picture, host: Host, attachment: Attachment, right: int, found: int | None) -> Finding:
    """A host whose port is not in the VLAN of its subnet."""
    device = host.at.device
    path = port_path(view.knowledge, device, attachment.name)
    one = attachment.written
    key = view.vlan_key(right)
    where = f"in {view.vlan_name(found)}" if found else "a trunk without an untagged VLAN"
    edits = [Edit((*path, "access"), key)]
    if one.trunk is not None:
        edits = [Edit((*path, "trunk"), REMOVE), *edits]
        if one.untagged is not None:
            edits = [Edit((*path, "untagged"), REMOVE), *edits]
    return Finding(
        "vlan-wrong",
        "error",
        device,
        (*path, "access") if one.access else path,
        f"{device}/{attachment.name} is {where}, but {host.name} has an address of {view.vlan_name(right)}",
        f"{host.name} is on the wrong island: it reaches neither its gateway nor its subnet",
        f"make {device}/{attachment.name} an access port of {key}",
        tuple(edits),
    )


def address_unheld(target: Address, at: str, home: Held | None) -> Finding:
    path: Path = nic_path(home) if home else ()
    where = f" in {home.address.prefix}" if home else ""
    return Finding(
        "address-unheld",
        "error",
        at,
        path,
        f"nobody holds {target}{where}",
        f"packets to {target} end at {at}",
        f"give {target} to a host there, or ask for an address that is in use",
    )


def address_broadcast(view: Picture, target: Address, prefix: Prefix) -> Finding:
    holder = next(iter(view.holders.get(target, ())), None)
    path = nic_path(holder) if holder else ()
    return Finding(
        "address-unusable",
        "error",
        holder.node.name if holder else "",
        path,
        f"{target} is the {'broadcast' if target.value == prefix.last else 'all-zeros'} address of {prefix}",
        "packets to it are not forwarded (RFC 2644)",
        f"use an address inside {prefix}",
    )


def address_repeated(address: Address, holders: tuple[Held, ...]) -> Finding:
    names = " and ".join(label(held) for held in holders)
    return Finding(
        "address-repeated",
        "error",
        holders[-1].node.name,
        (*nic_path(holders[-1]), "address"),
        f"{address} is held by {names}",
        "whoever answers last gets the traffic of all",
        f"give {label(holders[-1])} an address of its own",
    )


def link_mask_differs(held: Held, other: Held) -> Finding:
    """Two routing interfaces on one link that disagree on its prefix length."""
    found = mask_differs(held, other.address.prefix)
    return Finding(
        "link-mask-differs",
        "error",
        found.at,
        found.path,
        f"{label(held)} has {held.address} and {label(other)} on the same link has {other.address}",
        "each takes part of the other's subnet for strangers",
        found.mend,
        found.edits,
    )
