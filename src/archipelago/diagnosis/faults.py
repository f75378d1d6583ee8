"""One maker for each kind of mistake: its slug, its wording, and the edits that mend it."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from archipelago.addressing.values import Address, InterfaceAddress, Prefix
from archipelago.diagnosis.picture import Held, Picture, nic_path, port_path
from archipelago.knowledge.devices import Attachment, Nic, Node
from archipelago.knowledge.domains import Loop
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.network import Cable, Device, End, Host, NextHop, Path, Route


def _texts(values: Iterable[Any]) -> Any:
    texts = [str(value) for value in values]
    return texts[0] if len(texts) == 1 else texts


def _replaced(values: Iterable[Any], old: Any, new: Any) -> Any:
    """A value or list of values with one of them replaced, or added where `old` is None."""
    listed = [new if value == old else value for value in values]
    return _texts(listed if old is not None else [*listed, new])


# Off, or not plugged in


def switched_off(path: Path, what: str, at: str, breaks: str) -> Finding:
    """A port, interface, device, host or cable that is administratively off."""
    return Finding(
        "switched-off",
        "error",
        at,
        (*path, "off"),
        f"{what} is off",
        breaks,
        f"switch {what} on",
        (Edit((*path, "off"), REMOVE),),
    )


def not_cabled(view: Picture, end: End, partner: End | None) -> Finding:
    """A port that is set up for traffic and has no cable; told of the end whose name comes first."""
    if partner is not None:
        end, partner = sorted((end, partner))
    path = (
        port_path(view.knowledge, end.device, end.port) if end.device in view.network.devices else ("hosts", end.device)
    )
    mend = f"cable {end} to {partner}" if partner else f"cable {end} to the device that it should reach"
    edits = (Edit(("cables", "+"), f"{end} ~ {partner}"),) if partner else ()
    return Finding(
        "not-cabled", "error", end.device, path, f"{end} is set up but not cabled", "nothing crosses it", mend, edits
    )


def no_way(view: Picture, vlan: int, node: Node, far: Node) -> Finding:
    """No row of cables leads from one to the other over devices that could pass the VLAN on."""
    return Finding(
        "no-way",
        "error",
        far.name,
        node_path(far),
        f"no cables over switches join {node.name} and {far.name}, which share {view.vlan_name(vlan)}",
        f"{view.vlan_name(vlan)} is on two islands",
        f"cable them together, or give {node.name} a gateway on its own side",
    )


def switching_loop(view: Picture, loop: Loop) -> Finding:
    """A circle of cables in one VLAN; spanning tree is not simulated."""
    names = ", ".join(str(cable) for cable in loop.cables) or "one device cabled to itself"
    device, vlan = loop.foot
    edits: tuple[Edit, ...] = ()
    mend = "take one cable of the circle out"
    path: Path = ("devices", device)
    if loop.cables:
        index = max(view.network.cables.index(cable) for cable in loop.cables)
        cable = view.network.cables[index]
        mend = f"take cable {cable} out, or keep VLAN {vlan} off it"
        edits = (Edit(("cables", index), {"ends": str(cable), "off": "true"}),)
        path = ("cables", index)
    return Finding(
        "switching-loop",
        "error",
        str(device),
        path,
        f"{view.vlan_name(vlan) if isinstance(vlan, int) else vlan} runs in a circle over {names}",
        "the first broadcast never ends and takes the VLAN down",
        mend,
        edits,
    )


# Hosts


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
        (Edit((*path, "gateway"), _replaced(node.written.gateway, None, new)),) if new else (),
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
        (Edit((*path, "gateway"), _replaced(node.written.gateway, hop, new)),) if new else (),
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
        (Edit((*path, "address"), _replaced(held.nic.addresses, held.address, new)),),
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


# Switching


def vlan_absent(view: Picture, device: Device, vlan: int) -> Finding:
    """A VLAN that does not exist on a switch that must pass it."""
    path: Path = ("devices", device.name, "vlans")
    return Finding(
        "vlan-absent",
        "error",
        device.name,
        path,
        f"{view.vlan_name(vlan)} does not exist on {device.name}",
        f"every frame of {view.vlan_name(vlan)} ends at {device.name}",
        f"add {view.vlan_key(vlan)} to the VLANs of {device.name}",
        (Edit((*path, "+"), view.vlan_key(vlan)),),
    )


def vlan_not_carried(view: Picture, device: str, attachment: Attachment, vlan: int) -> Finding:
    """A trunk that lacks a VLAN which must cross it."""
    path = (*port_path(view.knowledge, device, attachment.name), "trunk")
    return Finding(
        "vlan-not-carried",
        "error",
        device,
        path,
        f"trunk {device}/{attachment.name} does not carry {view.vlan_name(vlan)}",
        f"{view.vlan_name(vlan)} is cut in two there",
        f"add {view.vlan_key(vlan)} to the trunk {device}/{attachment.name}",
        (Edit((*path, "+"), view.vlan_key(vlan)),),
    )


def trunk_expected(
    view: Picture, device: str, attachment: Attachment, vlans: Iterable[int], untagged: int | None
) -> Finding:
    """An access port where the far end needs a trunk."""
    path = port_path(view.knowledge, device, attachment.name)
    keys = [view.vlan_key(vlan) for vlan in vlans]
    edits = [Edit((*path, "trunk"), keys), Edit((*path, "untagged"), view.vlan_key(untagged) if untagged else "none")]
    if attachment.written.access is not None:
        edits = [Edit((*path, "access"), REMOVE), *edits]
    return Finding(
        "trunk-expected",
        "error",
        device,
        path,
        f"{device}/{attachment.name} is an access port, but its far end carries {', '.join(keys)}",
        "only one VLAN crosses it",
        f"make {device}/{attachment.name} a trunk of {', '.join(keys)}",
        tuple(edits),
    )


def untagged_differs(
    view: Picture, device: str, attachment: Attachment, here: int | None, there: int | None
) -> Finding:
    """The untagged VLAN of a link is not the same at both ends."""
    path = port_path(view.knowledge, device, attachment.name)
    peer = next((view.knowledge.links[end].peer for end in attachment.members if view.knowledge.links[end].peer), None)
    access = attachment.written.trunk is None
    key = view.vlan_key(there) if there else "none"
    edit = Edit((*path, "access" if access else "untagged"), key)
    return Finding(
        "untagged-differs",
        "error",
        device,
        path,
        f"untagged frames are {view.vlan_name(here) if here else 'refused'} on {device}/{attachment.name} and "
        f"{view.vlan_name(there) if there else 'refused'} at its far end {peer}",
        "two VLANs leak into each other, or one is cut" if here and there else "one VLAN is cut there",
        f"set the untagged VLAN of {device}/{attachment.name} to {key}",
        (edit,) if not access or there else (),
    )


# Interfaces of routing devices


def tag_wrong(view: Picture, held: Held, right: int) -> Finding:
    """A subinterface or VLAN interface that stands in another VLAN than the hosts of its subnet."""
    key = "tag" if held.nic.kind == "subinterface" else "vlan"
    return Finding(
        "tag-wrong",
        "error",
        held.node.name,
        (*nic_path(held), key),
        f"{label(held)} holds {held.address} in {view.vlan_name(held.nic.vlan)}, but the hosts of that subnet are in "
        f"{view.vlan_name(right)}",
        f"{view.vlan_name(right)} has no gateway",
        f"set '{key}' of {label(held)} to {view.vlan_key(right)}",
        (Edit((*nic_path(held), key), view.vlan_key(right)),),
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
    """Two subinterfaces of one port with the same tag."""
    path = nic_path((node, nic))
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
    held = _texts(addresses)
    if addresses:
        key = view.vlan_key(vlan)
        if parent is not None:
            name, value = f"{parent}.{vlan}", {"parent": parent, "tag": key, "address": held}
        else:
            name, value = f"{key}-gateway", {"vlan": key, "address": held}
        while name in at.nics:
            name += "-new"
        kind = "tag" if parent else "VLAN"
        mend = f"add interface {name} with {' and '.join(map(str, addresses))} and {kind} {key} to {at.name}"
        edits = (Edit(("devices", at.name, "interfaces", name), value),)
    return Finding(
        "gateway-unplaced",
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
        "vlan-unported",
        "error",
        node.name,
        nic_path((node, nic)),
        f"{node.name}/{nic.name} is down: no port of {node.name} that carries {view.vlan_name(nic.vlan)} has carrier",
        f"the subnet of {nic.name} is unreachable",
        f"let a cabled port of {node.name} carry {view.vlan_key(nic.vlan or 0)}",
    )


# Routing


def routing_off(node: Node, version: int) -> Finding:
    written = node.written
    routing = written.routing if isinstance(written, Device) and written.routing else ()
    kind = "routing" if node.kind in ("router", "l3switch") else "kind"
    families = [f"ipv{family}" for family in sorted({*routing, version})]
    return Finding(
        "routing-off",
        "error",
        node.name,
        ("devices", node.name, kind),
        f"{node.name} holds gateways but does not forward IPv{version}",
        "nothing crosses from one of its subnets to another",
        f"switch IPv{version} forwarding on at {node.name}",
        (Edit(("devices", node.name, "routing"), families),),
    )


def route_missing(node: Node, to: Prefix, via: Address | None, breaks: str) -> Finding:
    path: Path = ("devices", node.name, "routes")
    return Finding(
        "route-missing",
        "error",
        node.name,
        path,
        f"{node.name} has no route to {to}",
        breaks,
        f"add a route to {to} via {via} on {node.name}" if via else f"give {node.name} a route to {to}",
        (Edit((*path, "+"), {"to": str(to), "via": str(via)}),) if via else (),
    )


def routes_missing(node: Node, prefixes: list[Prefix], via: Address | None) -> Finding:
    """Several subnets that a device has no route to, all in one direction: one mistake, such as a forgotten default."""
    if len(prefixes) == 1:
        breaks = f"nothing from {node.name} or behind it gets to {prefixes[0]}, nor back"
        return route_missing(node, prefixes[0], via, breaks)
    path: Path = ("devices", node.name, "routes")
    names = ", ".join(str(prefix) for prefix in prefixes[:8]) + (", ..." if len(prefixes) > 8 else "")
    return Finding(
        "route-missing",
        "error",
        node.name,
        path,
        f"{node.name} has no route to {len(prefixes)} subnets: {names}",
        f"nothing from {node.name} or behind it gets there, nor back",
        f"add routes to them via {via} on {node.name}" if via else f"give {node.name} routes to them",
        tuple(Edit((*path, "+"), {"to": str(to), "via": str(via)}) for to in prefixes) if via else (),
    )


def route_dead(node: Node, route: Route, index: int, why: str, via: Address | None) -> Finding:
    """A static route whose next hop cannot be used."""
    path: Path = ("devices", node.name, "routes", index)
    return Finding(
        "route-dead",
        "error",
        node.name,
        (*path, "via"),
        f"the route to {route.to} via {route.via} on {node.name}: {why}",
        f"{node.name} does not use it",
        f"set its next hop to {via}" if via else "remove it, or mend its next hop",
        (Edit((*path, "via"), str(via)),) if via else (),
    )


def routing_loop(node: Node, route: Route, index: int, names: Iterable[str], via: Address | None) -> Finding:
    path: Path = ("devices", node.name, "routes", index)
    circle = " and ".join(names)
    return Finding(
        "routing-loop",
        "error",
        node.name,
        path,
        f"{circle} send packets for {route.to} to each other",
        "such packets go round until their TTL runs out",
        f"set the next hop of {route.to} on {node.name} to {via}"
        if via
        else f"remove the route to {route.to} from {node.name}",
        (Edit((*path, "via"), str(via)),) if via else (Edit(path, REMOVE),),
    )


def unexplained(at: str, says: str) -> Finding:
    return Finding(
        "unexplained", "error", at, (), says, "the packet ends there", "look at the steps: --steps shows every event"
    )


def node_path(node: Node) -> Path:
    return ("hosts" if node.kind == "host" else "devices", node.name)


def label(held: Held) -> str:
    """An address's holder as people call it."""
    return held.node.name if held.node.kind == "host" else f"{held.node.name}/{held.nic.name}"


def cable_off(view: Picture, cable: Cable) -> Finding:
    index = view.network.cables.index(cable)
    found = switched_off(("cables", index), f"cable {cable}", cable.a.device, "nothing crosses it")
    return Finding(
        found.slug,
        found.severity,
        found.at,
        found.path,
        found.says,
        found.breaks,
        found.mend,
        (Edit(("cables", index), str(cable)),),
    )
