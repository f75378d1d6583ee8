"""Mistakes at hosts, and between addresses."""

from __future__ import annotations

from archipelago.addressing.values import Address, InterfaceAddress, Prefix
from archipelago.diagnosis.faults.words import free_address, label, node_path, replaced
from archipelago.diagnosis.picture import Held, Picture, nic_path, port_path, sits_in
from archipelago.knowledge.devices import Attachment, Node
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.network import Host, NextHop, Path


def host_unaddressed(view: Picture, host: Host, version: int | None) -> Finding:
    """A host without an address, of a family or at all: it gets a free one of its VLAN."""
    node = view.knowledge.nodes[host.name]
    vlan = sits_in(view, node, next(iter(node.nics.values())))
    homes = [
        held
        for held in view.routed
        if vlan is not None and held.nic.vlan == vlan and version in (None, held.address.version)
    ]
    path: Path = ("hosts", host.name)
    edits: tuple[Edit, ...] = ()
    mend = f"give {host.name} an address of its VLAN's subnet"
    new = free_address(view, homes[0].address.prefix) if homes else None
    if new is not None:
        gateway = homes[0].address.address
        mend = f"give {host.name} the address {new} and the gateway {gateway}"
        edits = (Edit((*path, "address"), replaced(host.addresses, None, new)),)
        if all(hop.address.version != new.version for hop in host.gateway):
            edits = (*edits, Edit((*path, "gateway"), replaced(host.gateway, None, gateway)))
    family = f"IPv{version}" if version else "IP"
    return Finding(
        "address-missing",
        "error",
        host.name,
        path,
        f"{host.name} has no {family} address",
        f"{host.name} neither sends nor answers",
        mend,
        edits,
    )


def prefix_unadvertised(view: Picture, host: Host, vlan: int | None, home: Held | None) -> Finding:
    """A host that takes its address from routers, where none tells of a prefix: the gateway has no /64 there."""
    where = view.vlan_name(vlan) if vlan is not None else "its VLAN"
    at = f"{home.node.name}/{home.nic.name}" if home else f"the gateway of {where}"
    return Finding(
        "prefix-unadvertised",
        "error",
        home.node.name if home else host.name,
        nic_path(home) if home else ("hosts", host.name),
        f"no router advertises an IPv6 prefix in {where}, and {host.name} takes its address from one",
        f"{host.name} has no IPv6 address",
        f"give {at} an IPv6 address with /64",
    )


def gateway_absent(node: Node, subnet: Prefix) -> Finding:
    """A host whose subnet no routing device is in, where none is there that could take it on."""
    return Finding(
        "no-gateway-in-vlan",
        "error",
        node.name,
        node_path(node),
        f"no routing device has an address in {subnet}, the subnet of {node.name}",
        f"{node.name} answers nobody outside its own subnet",
        f"give a router or layer 3 switch an interface in {subnet}",
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
        "mask-mismatch",
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
    """The broadcast or all-zeros address of a subnet, held by somebody or asked for."""
    holder = next(iter(view.holders.get(target, ())), None)
    new = free_address(view, prefix) if holder else None
    return Finding(
        "address-unusable",
        "error",
        holder.node.name if holder else "",
        nic_path(holder) if holder else (),
        f"{target} is the {'broadcast' if target.value == prefix.last else 'all-zeros'} address of {prefix}",
        "packets to it are not forwarded (RFC 2644)",
        f"set the address of {label(holder)} to {new}" if holder and new else f"use an address inside {prefix}",
        _moved(holder, new) if holder else (),
    )


def address_repeated(view: Picture, address: Address, holders: tuple[Held, ...]) -> Finding:
    """One address on several interfaces: a host among them gets a free one, else the last written."""
    last = next((held for held in reversed(holders) if held.node.kind == "host"), holders[-1])
    new = free_address(view, last.address.prefix)
    names = " and ".join(label(held) for held in holders)
    return Finding(
        "duplicate-address",
        "error",
        last.node.name,
        (*nic_path(last), "address"),
        f"{address} is held by {names}",
        "whoever answers last gets the traffic of all",
        f"set the address of {label(last)} to {new}" if new else f"give {label(last)} an address of its own",
        _moved(last, new),
    )


def _moved(held: Held, new: InterfaceAddress | None) -> tuple[Edit, ...]:
    if new is None:
        return ()
    return (Edit((*nic_path(held), "address"), replaced(held.nic.addresses, held.address, new)),)


def link_mask_differs(held: Held, other: Held) -> Finding:
    """Two routing interfaces on one link that disagree on its prefix length."""
    found = mask_differs(held, other.address.prefix)
    return Finding(
        "link-mask-mismatch",
        "error",
        found.at,
        found.path,
        f"{label(held)} has {held.address} and {label(other)} on the same link has {other.address}",
        "each takes part of the other's subnet for strangers",
        found.mend,
        found.edits,
    )
