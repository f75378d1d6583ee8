"""Mistakes at hosts, and between addresses."""

from __future__ import annotations

from archipelago.addressing.values import Address, InterfaceAddress, Prefix
from archipelago.diagnosis.catalogue import finding
from archipelago.diagnosis.faults.words import (
    free_address,
    free_loopback,
    label,
    node_path,
    same_place,
    wanted_address,
    with_address,
    with_gateway,
)
from archipelago.diagnosis.places import nic_path, port_path, sits_in
from archipelago.knowledge.devices import Attachment, Node
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.insides import Apart
from archipelago.knowledge.links import HOST_PORT
from archipelago.model.finding import REMOVE, Edit, Finding, Mend
from archipelago.model.parts import Device, Host, NextHop, Path


def host_unaddressed(index: NetworkIndex, host: Host, version: int | None) -> Finding:
    """A host without an address, of a family or at all: it gets a free one of its VLAN."""
    node = index.knowledge.nodes[host.name]
    vlan = sits_in(index, node, next(iter(node.nics.values())))
    homes = [
        holder
        for holder in index.routed()
        if vlan is not None and holder.nic.vlan == vlan and version in (None, holder.address.version)
    ]
    path: Path = ("hosts", host.name)
    edits: tuple[Edit, ...] = ()
    mend = f"give {host.name} an address of its VLAN's subnet"
    new = free_address(index, homes[0].address.prefix) if homes else None
    if new is not None:
        gateway = homes[0].address.address
        mend = f"give {host.name} the address {new} and the gateway {gateway}"
        edits = (with_address((node, next(iter(node.nics.values()))), None, new),)
        if all(hop.address.version != new.version for hop in host.gateway):
            edits = (*edits, with_gateway(node, None, gateway))
    family = f"IPv{version}" if version else "IP"
    return finding(
        "address-missing",
        at=host.name,
        path=path,
        says=f"{host.name} has no {family} address",
        mend=mend,
        edits=edits,
        name=host.name,
    )


def prefix_unadvertised(index: NetworkIndex, host: Host, vlan: int | None, home: Held | None) -> Finding:
    """A host that takes its address from routers, where none tells of a prefix: the gateway has no /64 there."""
    where = index.vlan_name(vlan) if vlan is not None else "its VLAN"
    at = f"{home.node.name}/{home.nic.name}" if home else f"the gateway of {where}"
    return finding(
        "prefix-unadvertised",
        at=home.node.name if home else host.name,
        path=nic_path(home) if home else ("hosts", host.name),
        says=f"no router advertises an IPv6 prefix in {where}, and {host.name} takes its address from one",
        mend=f"give {at} an IPv6 address with /64",
        name=host.name,
    )


def no_gateway_in_subnet(node: Node, subnet: Prefix) -> Finding:
    """A host whose subnet no routing device is in, where none is there that could take it on."""
    return finding(
        "no-gateway-in-vlan",
        at=node.name,
        path=node_path(node),
        says=f"no routing device has an address in {subnet}, the subnet of {node.name}",
        mend=f"give a router or layer 3 switch an interface in {subnet}",
        effect=f"{node.name} answers nobody outside its own subnet",
    )


def gateway_missing(node: Node, version: int, home: Held | None) -> Finding:
    """A host, or a device that does not route, without a gateway for a family it has an address of."""
    path = node_path(node)
    new = home.address.address if home else None
    return finding(
        "gateway-missing",
        at=node.name,
        path=path,
        says=f"{node.name} has no IPv{version} gateway",
        mend=f"set the gateway of {node.name} to {new}" if new else f"give {node.name} a gateway in its subnet",
        edits=(with_gateway(node, None, new),) if new else (),
        name=node.name,
    )


def gateways_missing(node: Node, four: Held, six: Held) -> Finding:
    """The same in both families."""
    path = node_path(node)
    new = [str(home.address.address) for home in (four, six)]
    return finding(
        "gateway-missing",
        at=node.name,
        path=path,
        says=f"{node.name} has no gateway, in IPv4 or in IPv6",
        mend=f"set the gateway of {node.name} to {' and '.join(new)}",
        edits=(Edit((*path, "gateway"), new),),
        name=node.name,
    )


def gateway_wrong(node: Node, hop: NextHop, home: Held | None, why: str, alone: bool = False) -> Finding:
    """A gateway that cannot serve: outside the own subnet, held by nobody, or held by something that forwards
    nothing. Where the host is `alone` against its gateway, that may be the one that is wrong."""
    path = node_path(node)
    new = home.address.address if home else None
    if new == hop.address:
        new = None
    return finding(
        "gateway-wrong",
        at=node.name,
        path=(*path, "gateway"),
        says=f"the gateway {hop} of {node.name} {why}",
        mend=f"set the gateway of {node.name} to {new}"
        if new
        else f"give {node.name} a gateway that routes in its subnet",
        edits=(with_gateway(node, hop, new),) if new else (),
        instead=_held_there(home, hop.address) if alone and home is not None and new else (),
        name=node.name,
    )


def _held_there(home: Held, wanted: Address) -> tuple[Mend, ...]:
    """The gateway's interface moved to the address that a host uses, where that is of its subnet."""
    if not home.address.prefix.holds(wanted):
        return ()
    there = InterfaceAddress(wanted.version, wanted.value, home.address.length)
    return (Mend(f"set the address of {label(home)} to {there}", _moved(home, there)),)


def address_astray(index: NetworkIndex, holder: Held, gateway: Held) -> Finding:
    """A host whose address is not of the subnet that its gateway is in: it is to have the one that others know it by;
    where it has another that is right, it is one too many."""
    right = gateway.address.prefix
    others = [one for one in holder.nic.addresses if right.holds(one) and one != holder.address]
    new = meant_address(index, holder.address, right) or wanted_address(index, holder, right)
    if others:
        says = f"{label(holder)} has {holder.address} beside {others[0]}, and its VLAN is of {right} alone"
        return finding(
            "address-astray",
            at=holder.node.name,
            path=(*nic_path(holder), "address"),
            says=says,
            mend=f"take {holder.address} away from {label(holder)}",
            edits=(with_address(holder, holder.address, None),),
            name=label(holder),
        )
    return finding(
        "address-astray",
        at=holder.node.name,
        path=(*nic_path(holder), "address"),
        says=(
            f"{label(holder)} has {holder.address}, but its gateway {gateway.address.address} and its VLAN are of "
            f"{gateway.address.prefix}"
        ),
        mend=f"set the address of {label(holder)} to {new}"
        if new
        else f"give {label(holder)} an address of that subnet",
        edits=_moved(holder, new),
        name=label(holder),
    )


def meant_address(index: NetworkIndex, own: InterfaceAddress, right: Prefix) -> InterfaceAddress | None:
    """The address of a subnet that stands at the same place as one elsewhere, if others name it and nobody holds it."""
    same = same_place(index, own, right)
    return same if same is not None and same.address in index.named_addresses else None


def gateway_address_wrong(index: NetworkIndex, holder: Held, right: InterfaceAddress) -> Finding:
    """A routing interface whose hosts use another address of its subnet as their gateway, which nobody holds."""
    return finding(
        "gateway-address-wrong",
        at=holder.node.name,
        path=(*nic_path(holder), "address"),
        says=(
            f"{label(holder)} has {holder.address}, but the hosts of that subnet use {right.address}, "
            "which nobody holds"
        ),
        mend=f"set the address of {label(holder)} to {right}",
        edits=_moved(holder, right),
        vlan=index.vlan_name(holder.nic.vlan),
    )


def mask_mismatch(holder: Held, right: Prefix) -> Finding:
    """An address whose prefix length is not that of its subnet."""
    path = nic_path(holder)
    new = holder.address._replace(length=right.length)
    wide = holder.address.length < right.length
    which, what = ("addresses outside", "neighbours") if wide else ("part of", "addresses elsewhere")
    return finding(
        "mask-mismatch",
        at=holder.node.name,
        path=(*path, "address"),
        says=f"{holder.node.name} has {holder.address}, but its subnet is {right}",
        mend=f"set the address of {label(holder)} to {new}",
        edits=(with_address(holder, holder.address, new),),
        effect=f"{holder.node.name} takes {which} its subnet for {what}",
    )


def vlan_wrong(index: NetworkIndex, host: Host, attachment: Attachment, right: int, actual: int | None) -> Finding:
    """A host whose port is not in the VLAN of its subnet."""
    device = host.at.device
    path = port_path(index.knowledge, device, attachment.name)
    written = attachment.written
    key = index.vlan_key(right)
    where = f"in {index.vlan_name(actual)}" if actual else "a trunk without an untagged VLAN"
    edits = [Edit((*path, "access"), key)]
    if written.trunk is not None:
        edits = [Edit((*path, "trunk"), REMOVE), *edits]
        if written.untagged is not None:
            edits = [Edit((*path, "untagged"), REMOVE), *edits]
    return finding(
        "vlan-wrong",
        at=device,
        path=(*path, "access") if written.access else path,
        says=f"{device}/{attachment.name} is {where}, but {host.name} has an address of {index.vlan_name(right)}",
        mend=f"make {device}/{attachment.name} an access port of {key}",
        edits=tuple(edits),
        name=host.name,
    )


def address_unheld(target: Address, at: str, home: Held | None) -> Finding:
    path: Path = nic_path(home) if home else ()
    where = f" in {home.address.prefix}" if home else ""
    return finding(
        "address-unheld",
        at=at,
        path=path,
        says=f"nobody holds {target}{where}",
        mend=f"give {target} to a host there, or ask for an address that is in use",
        target=target,
        device=at,
    )


def address_broadcast(index: NetworkIndex, target: Address, prefix: Prefix) -> Finding:
    """The broadcast or all-zeros address of a subnet, held by somebody or asked for."""
    holder = next(iter(index.holders(target)), None)
    new = wanted_address(index, holder, prefix) if holder else None
    return finding(
        "address-unusable",
        at=holder.node.name if holder else "",
        path=nic_path(holder) if holder else (),
        says=f"{target} is the {'broadcast' if target.value == prefix.last else 'all-zeros'} address of {prefix}",
        mend=f"set the address of {label(holder)} to {new}" if holder and new else f"use an address inside {prefix}",
        edits=_moved(holder, new) if holder else (),
    )


def duplicate_address(index: NetworkIndex, address: Address, holders: tuple[Held, ...]) -> Finding:
    """One address on several interfaces: a host among them gets another, else who sends to that address itself, else a
    loopback, else the one that fewest hosts use, the last written first."""
    hosts = (holder for holder in reversed(holders) if holder.node.kind == "host")
    senders = (holder for holder in reversed(holders) if address in _next_hops_of(holder.node))
    spare = min(reversed(holders), key=lambda holder: (holder.nic.kind != "loopback", _users(index, holder)))
    last = next(hosts, None) or next(senders, spare)
    new = wanted_address(index, last, last.address.prefix)
    if last.nic.kind == "loopback":
        new = free_loopback(index, last)
    names = " and ".join(label(holder) for holder in holders)
    return finding(
        "duplicate-address",
        at=last.node.name,
        path=(*nic_path(last), "address"),
        says=f"{address} is held by {names}",
        mend=f"set the address of {label(last)} to {new}" if new else f"give {label(last)} an address of its own",
        edits=_moved(last, new),
        instead=tuple(
            Mend(f"set the address of {label(other)} to {new}", _moved(other, new))
            for other in holders
            if new is not None and other is not last and other.node.kind == "host"
        ),
    )


def _users(index: NetworkIndex, holder: Held) -> int:
    """How many hosts have the address of an interface for their gateway, in its VLAN."""
    hosts = index.network.hosts.values()
    using = (host for host in hosts if any(hop.address == holder.address.address for hop in host.gateway))
    return sum(index.domains.together((host.name, HOST_PORT), holder.endpoint) for host in using)


def _next_hops_of(node: Node) -> set[Address]:
    """The addresses that a device's own routes lead to: none of them is its own."""
    written = node.written
    return {route.next_hop.address for route in written.routes} if isinstance(written, Device) else set()


def insides_overlap(apart: Apart) -> Finding:
    """A subnet behind an interface that translates it, which is elsewhere, too."""
    one, other, inside = apart
    return finding(
        "insides-overlap",
        at=inside.device,
        path=(*nic_path(one), "address"),
        says=(
            f"{label(one)} with {one.address} and {label(other)} with {other.address} share addresses, and {inside} "
            f"translates what is between them: each is known on its own side only"
        ),
        mend="renumber one of the two subnets, where hosts of both are to talk to each other",
    )


def held_by_another(address: Address, holder: str, asked: Node) -> Finding:
    """An address that is somebody else's in the routing table that it was asked for in."""
    return finding(
        "held-by-another",
        at=asked.name,
        path=node_path(asked),
        says=f"where the packet is, {address} is {holder}'s; {asked.name} holds it elsewhere",
        mend=f"give {asked.name} an address that {holder} does not hold, and join their routing tables",
        name=asked.name,
    )


def _moved(holder: Held, new: InterfaceAddress | None) -> tuple[Edit, ...]:
    if new is None:
        return ()
    return (with_address(holder, holder.address, new),)


def link_mask_mismatch(holder: Held, other: Held) -> Finding:
    """Two routing interfaces on one link that disagree on its prefix length."""
    mistake = mask_mismatch(holder, other.address.prefix)
    return finding(
        "link-mask-mismatch",
        at=mistake.at,
        path=mistake.path,
        says=f"{label(holder)} has {holder.address} and {label(other)} on the same link has {other.address}",
        mend=mistake.mend,
        edits=mistake.edits,
    )


def link_subnets_differ(near: Held, far: Held, wanted: InterfaceAddress | None) -> Finding:
    """The end of a link whose address is of another subnet than the other end's."""
    path = (*nic_path(far), "address")
    new = wanted or f"an address of {near.address.prefix}"
    return finding(
        "link-subnets-differ",
        at=far.node.name,
        path=path,
        says=f"{label(near)} has {near.address} and {label(far)} at the other end of the link has {far.address}",
        mend=f"set the address of {label(far)} to {new}",
        edits=(with_address(far, far.address, wanted),) if wanted else (),
    )
