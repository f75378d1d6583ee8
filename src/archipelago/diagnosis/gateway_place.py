from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import replace

from archipelago.addressing.values import InterfaceAddress, Prefix, is_link_local
from archipelago.diagnosis.faults.interfaces import NO_GATEWAY_IN_VLAN, no_gateway_in_vlan, tag_missing
from archipelago.diagnosis.faults.leases import serving_addresses
from archipelago.diagnosis.faults.words import label, node_path, texts
from archipelago.diagnosis.kind import OFTEN, Example, Kind, finding
from archipelago.diagnosis.outvoted import gateway_of_pool, wanted_on_link
from archipelago.diagnosis.places import port_path, sits_in, vlan_of
from archipelago.knowledge.devices import Node
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Edit, Finding
from archipelago.model.parts import Device, Path


def without_gateway(index: NetworkIndex, node: Node, address: InterfaceAddress) -> Finding:
    """No routing device has an interface in a host's subnet: the one that serves most other VLANs should."""
    vlan = sits_in(index, node, next(iter(node.nics.values())))
    addresses = [
        InterfaceAddress(*hop.address, own.length)
        for hop in node.written.gateway
        for own in (address for nic in node.nics.values() for address in nic.addresses)
        if own.prefix.holds(hop.address) and not index.is_held(hop.address)
    ]
    best = _best_place(index, node, vlan, address.prefix)
    if best is None or vlan is None:
        return no_gateway_in_subnet(node, address.prefix)
    stray = next(
        (o for o in best[0].nics.values() if o.kind == "subinterface" and not o.speaks and not o.addresses), None
    )
    if stray is not None:
        return tag_missing(index, best[0], stray, vlan)
    return no_gateway_in_vlan(index, vlan, best[0], best[1], tuple(dict.fromkeys(addresses)))


def without_pool_gateway(index: NetworkIndex, node: Node, vlan: int) -> Finding | None:
    """No routing device has an interface in the VLAN of hosts that lease, and a pool gives a gateway that nobody holds:
    who should, and relay to the pool's server where that is another; None where no pool says so."""
    meant = gateway_of_pool(index, vlan)
    best = _best_place(index, node, vlan, meant[0].subnet) if meant is not None else None
    if meant is None or best is None:
        return None
    pool, address = meant
    found = no_gateway_in_vlan(index, vlan, best[0], best[1], (address,))
    servers = serving_addresses(index, [address.address])
    if pool in index.knowledge.leases.pools_of(best[0].name).values() or not servers or not found.edits:
        return found
    (edit,) = found.edits
    relay = texts(servers[:1])
    interface = edit.path[:-1] if edit.path[-1] == "address" else edit.path
    edits = (edit, Edit((*interface, "dhcp-relay"), relay))
    return replace(found, mend=f"{found.mend}, and let it relay to {servers[0]}", edits=edits)


def no_gateway_in_subnet(node: Node, subnet: Prefix) -> Finding:
    """A host whose subnet no routing device is in, where none is there that could take it on."""
    return finding(
        NO_GATEWAY_IN_VLAN,
        at=node.name,
        path=node_path(node),
        says=f"no routing device has an address in {subnet}, the subnet of {node.name}",
        mend=f"give a router or layer 3 switch an interface in {subnet}",
        effect=f"{node.name} answers nobody outside its own subnet",
    )


def _best_place(index: NetworkIndex, node: Node, vlan: int | None, subnet: Prefix) -> tuple[Node, str | None] | None:
    """Where the gateway of a host's VLAN belongs: a routing device that the VLAN gets to already, best one that has an
    interface in it, then one that the routes of others to the subnet lead to, then one that has other gateways there;
    on a router the port too."""
    own = (node.name, next(iter(node.nics)))
    led_to = index.once(_led_to).get(subnet, Counter())
    best: tuple[tuple[bool, bool, int, int], Node, str | None] | None = None
    for other in index.knowledge.devices.values():
        if not other.can_route:
            continue
        counts: dict[str | None, int] = {}
        for nic in other.nics.values():
            if nic.kind in ("subinterface", "vlan") or sits_in(index, other, nic) == vlan:
                counts[nic.attachment] = counts.get(nic.attachment, 0) + bool(nic.addresses)
        if other.kind == "l3switch":
            counts.setdefault(None, 0)
        else:
            for port in other.attachments.values():
                if not port.written.addresses and index.knowledge.links[port.members[0]].peer is not None:
                    counts.setdefault(port.name, 0)
        for parent, count in counts.items():
            peer = index.knowledge.links[other.attachments[parent].members[0]].peer if parent else None
            device = peer.device if peer else other.name
            together = vlan is not None and index.domains.together(own, (device, vlan))
            there = any(sits_in(index, other, nic) == vlan and nic.attachment == parent for nic in other.nics.values())
            score = (together, there and vlan is not None, led_to[other.name], count)
            if best is None or score > best[0]:
                best = (score, other, parent)
    return (best[1], best[2]) if best else None


def _led_to(index: NetworkIndex) -> dict[Prefix, Counter[str]]:
    """By subnet how many routes to it lead to each device."""
    led_to: dict[Prefix, Counter[str]] = {}
    for device in index.network.devices.values():
        for route in device.routes:
            holders = (holder.node.name for holder in index.holders(route.next_hop.address))
            led_to.setdefault(route.destination, Counter()).update(name for name in holders if name != device.name)
    return led_to


def missing_end(index: NetworkIndex, far: Held, suspects: Iterable[Node]) -> Finding | None:
    """One of some devices whose routes lead to an interface on a link that it has no interface on itself."""
    vlan = vlan_of(index, far)
    if vlan is None:
        return _bare_end(index, far)
    for node in suspects:
        if not isinstance(node.written, Device) or not node.can_route or node is far.node:
            continue
        own = (address for nic in node.nics.values() for address in nic.addresses)
        meant = any(route.next_hop.address == far.address.address for route in node.written.routes)
        if not meant or any(far.address.prefix.holds(address) for address in own):
            continue
        _, address = wanted_on_link(index, far)
        parent = None if node.kind == "l3switch" else _port_towards(index, node, far, vlan)
        if address is not None and (parent is not None or node.kind == "l3switch"):
            return interface_missing(index, node, parent, address, far, vlan)
    return None


INTERFACE_MISSING = Kind(
    "interface-missing",
    "error",
    "no interface on a link that a device's routes need",
    "{device} uses none",
    OFTEN,
    example=Example("pier", "devices: {landing: {ports: {p2: ~}}}"),
)


def interface_missing(
    index: NetworkIndex, at: Node, parent: str | None, address: InterfaceAddress, far: Held, vlan: int
) -> Finding:
    """A routing device without an interface on a link over which its own routes lead."""
    added = no_gateway_in_vlan(index, vlan, at, parent, (address,))
    return finding(
        INTERFACE_MISSING,
        at=at.name,
        path=added.path,
        says=(
            f"{at.name} has no interface in {far.address.prefix}, though its routes lead to {far.address.address} there"
        ),
        mend=added.mend,
        edits=added.edits,
        device=at.name,
    )


def _bare_end(index: NetworkIndex, far: Held) -> Finding | None:
    """The port at the other end of a routed link that has no address, though routes of either end need one."""
    if far.nic.attachment is None:
        return None
    ends = far.node.attachments[far.nic.attachment].members
    peer = index.knowledge.links[ends[0]].peer if ends else None
    node = index.knowledge.devices.get(peer.device) if peer is not None else None
    if peer is None or node is None or not node.can_route or not isinstance(node.written, Device):
        return None
    port = index.knowledge.attachment_at(peer)
    if port.written.trunk is not None or port.written.access is not None:
        return None
    if any(nic.kind == "subinterface" for nic in node.nics_on(port.name)):
        return None
    lacking: list[InterfaceAddress] = []
    meant = False
    for own in far.nic.addresses:
        if is_link_local(own) or any(one.version == own.version for one in port.written.addresses):
            continue
        votes, address = wanted_on_link(index, Held(far.node, far.nic, own))
        meant |= bool(votes) or any(route.next_hop.address == own.address for route in node.written.routes)
        lacking += [address] if address is not None else []
    if not meant or not lacking:
        return None
    path = port_path(index.knowledge, node.name, port.name)
    return end_without_address(node, path, (*port.written.addresses, *lacking), tuple(lacking), far)


def end_without_address(
    node: Node, path: Path, addresses: tuple[InterfaceAddress, ...], lacking: tuple[InterfaceAddress, ...], far: Held
) -> Finding:
    """A port at the end of a routed link without an address of some family; `addresses` are all that it should have."""
    place = f"{node.name}/{path[-1]}"
    names = " and ".join(str(one.prefix) for one in lacking)
    return finding(
        INTERFACE_MISSING,
        at=node.name,
        path=path,
        says=f"{place} has no address in {names}, where {label(far)} is at its other end",
        mend=f"give {place} the address {' and '.join(map(str, lacking))}",
        edits=(Edit((*path, "address"), texts(addresses)),),
        device=node.name,
    )


def _port_towards(index: NetworkIndex, node: Node, far: Held, vlan: int) -> str | None:
    """The port of a router by which the VLAN of an interface gets to it."""
    for attachment in node.attachments.values():
        peer = index.knowledge.links[attachment.members[0]].peer if attachment.members else None
        if peer is None or attachment.written.addresses:
            continue
        if peer.device == far.node.name or index.domains.together((peer.device, vlan), far.endpoint):
            return attachment.name
    return None
