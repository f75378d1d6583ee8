"""What one device knows of itself: its attachments to the wire, its VLANs, its interfaces and whether each is up.

A host is a device with one interface, so that every engine has one kind of thing to handle.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from archipelago.addressing.values import InterfaceAddress
from archipelago.knowledge.links import HOST_PORT, UNCABLED, Link, links, port_names
from archipelago.knowledge.routes import DeviceRoutes, device_routes
from archipelago.model.network import (
    DEFAULT_VLAN,
    Aggregate,
    Device,
    End,
    Host,
    Loopback,
    Network,
    Port,
    Subinterface,
    VlanInterface,
)


@dataclass(frozen=True, slots=True)
class Attachment:
    """A port or an aggregate, as frames see it. `vlans` are those it carries; `untagged` the VLAN of its untagged
    frames; both are empty on a routed attachment. `blocked` says why it has no carrier."""

    name: str
    members: tuple[End, ...]
    switched: bool
    vlans: frozenset[int]
    untagged: int | None
    blocked: str
    written: Port | Aggregate

    @property
    def carrier(self) -> bool:
        return not self.blocked


@dataclass(frozen=True, slots=True)
class Nic:
    """An interface that can hold addresses. On a routed attachment `tag` is the tag of its frames (None: untagged);
    on a VLAN interface `vlan` is its VLAN. `down` says why it is down, empty when it is up."""

    name: str
    kind: Literal["port", "subinterface", "vlan", "aggregate", "loopback", "host"]
    attachment: str | None
    tag: int | None
    vlan: int | None
    addresses: tuple[InterfaceAddress, ...]
    vrf: str
    down: str
    speaks: bool = True

    @property
    def up(self) -> bool:
        return not self.down

    @property
    def uncabled(self) -> bool:
        """Whether it is down because nothing is plugged into its port."""
        return self.down.endswith(UNCABLED)


@dataclass(frozen=True, slots=True)
class Node:
    """A device or a host with all that it knows. `forwards` holds the families it routes."""

    name: str
    kind: Literal["router", "l3switch", "switch", "host"]
    off: bool
    holds_unresolved: bool
    forwards: frozenset[int]
    vlans: frozenset[int]
    attachments: Mapping[str, Attachment]
    nics: Mapping[str, Nic]
    routes: DeviceRoutes
    written: Device | Host

    def nics_on(self, attachment: str) -> list[Nic]:
        """The interfaces that speak by an attachment, in the order written."""
        return [nic for nic in self.nics.values() if nic.attachment == attachment]


@dataclass(frozen=True, slots=True)
class Knowledge:
    """What every device and host of a network knows."""

    network: Network
    ports: Mapping[str, Mapping[str, Port]]
    links: Mapping[End, Link]
    nodes: Mapping[str, Node]
    attachment_of: Mapping[End, Attachment]


def know(network: Network) -> Knowledge:
    """Derive what every device knows from what is written."""
    ports = port_names(network)
    physical = links(network, ports)
    catalogue = frozenset(network.vlans.values()) | {DEFAULT_VLAN}
    nodes: dict[str, Node] = {}
    attachment_of: dict[End, Attachment] = {}
    for device in network.devices.values():
        node = _device_node(device, ports[device.name], physical, catalogue)
        nodes[device.name] = node
        for attachment in node.attachments.values():
            for member in attachment.members:
                attachment_of[member] = attachment
    for host in network.hosts.values():
        node = _host_node(host, physical)
        nodes[host.name] = node
        attachment_of[End(host.name, HOST_PORT)] = node.attachments[HOST_PORT]
    return Knowledge(network, ports, physical, nodes, attachment_of)


def _device_node(
    device: Device, ports: Mapping[str, Port], physical: Mapping[End, Link], catalogue: frozenset[int]
) -> Node:
    switching = device.kind != "router"
    vlans: frozenset[int] = frozenset()
    if switching:
        vlans = catalogue if device.vlans is None else frozenset(device.vlans) | {DEFAULT_VLAN}
    attachments: dict[str, Attachment] = {}
    taken: set[str] = set()
    for interface in device.interfaces.values():
        if isinstance(interface, Aggregate):
            members = tuple(End(device.name, member) for member in interface.members)
            taken.update(interface.members)
            blocked = "" if any(physical[end].carrier for end in members) else _no_member(device, interface, physical)
            attachments[interface.name] = _attachment(interface, members, switching, vlans, blocked)
    for port in ports.values():
        if port.name not in taken:
            end = End(device.name, port.name)
            attachments[port.name] = _attachment(port, (end,), switching, vlans, physical[end].blocked)
    nics = _nics(device, attachments, vlans)
    if device.kind == "switch":
        forwards: frozenset[int] = frozenset()
    else:
        forwards = frozenset((4, 6) if device.routing is None else device.routing)
    routes = device_routes(
        nics.values(), device.routes, [h for h in device.gateway if h.address.version not in forwards]
    )
    holds = device.unresolved == "hold" if device.unresolved else device.kind == "switch"
    return Node(device.name, device.kind, device.off, holds, forwards, vlans, attachments, nics, routes, device)


def _no_member(device: Device, interface: Aggregate, physical: Mapping[End, Link]) -> str:
    if device.off:
        return f"{device.name} is off"
    if interface.off:
        return f"aggregate {device.name}/{interface.name} is off"
    if not interface.members:
        return f"aggregate {device.name}/{interface.name} has no members"
    first = physical[End(device.name, interface.members[0])].blocked
    return first if len(interface.members) == 1 else f"no member of {device.name}/{interface.name} has carrier: {first}"


def _attachment(
    one: Port | Aggregate, members: tuple[End, ...], switching: bool, existing: frozenset[int], blocked: str
) -> Attachment:
    """Membership as IEEE 802.1Q 6.9 and 8.6 have it: a trunk's untagged VLAN is carried whether listed or not; what
    the device lacks is not carried."""
    if not switching or one.routed or one.addresses:
        return Attachment(one.name, members, False, frozenset(), None, blocked, one)
    untagged: int | None
    if one.trunk is None:
        untagged = one.access or DEFAULT_VLAN
        wanted = frozenset({untagged})
    else:
        untagged = None if one.untagged == "none" else one.untagged or DEFAULT_VLAN
        wanted = existing if one.trunk == "all" else frozenset(one.trunk)
        if untagged is not None:
            wanted |= {untagged}
    if untagged not in existing:
        untagged = None
    return Attachment(one.name, members, True, wanted & existing, untagged, blocked, one)


def _nics(device: Device, attachments: Mapping[str, Attachment], vlans: frozenset[int]) -> dict[str, Nic]:
    nics: dict[str, Nic] = {}
    for attachment in attachments.values():
        one = attachment.written
        if not attachment.switched:
            kind: Literal["aggregate", "port"] = "aggregate" if isinstance(one, Aggregate) else "port"
            nics[one.name] = Nic(
                one.name,
                kind,
                one.name,
                None,
                None,
                one.addresses,
                one.vrf or "",
                attachment.blocked,
                speaks=bool(one.addresses),
            )
    carried: set[int] = set()
    for attachment in attachments.values():
        if attachment.carrier:
            carried |= attachment.vlans
    for interface in device.interfaces.values():
        down = (
            f"{device.name} is off" if device.off else f"{device.name}/{interface.name} is off" if interface.off else ""
        )
        vrf = interface.vrf or ""
        if isinstance(interface, Subinterface):
            tag = None if interface.untagged else interface.tag
            down = down or attachments[interface.parent].blocked
            speaks = interface.untagged or interface.tag is not None
            nics[interface.name] = Nic(
                interface.name,
                "subinterface",
                interface.parent,
                tag,
                interface.tag,
                interface.addresses,
                vrf,
                down,
                speaks,
            )
        elif isinstance(interface, VlanInterface):
            if not down and interface.vlan not in vlans:
                down = f"VLAN {interface.vlan} does not exist on {device.name}"
            if not down and interface.vlan not in carried:
                down = f"no port of {device.name} that carries VLAN {interface.vlan} has carrier"
            nics[interface.name] = Nic(
                interface.name, "vlan", None, None, interface.vlan, interface.addresses, vrf, down
            )
        elif isinstance(interface, Loopback):
            nics[interface.name] = Nic(interface.name, "loopback", None, None, None, interface.addresses, vrf, down)
    return nics


def _host_node(host: Host, physical: Mapping[End, Link]) -> Node:
    end = End(host.name, HOST_PORT)
    blocked = physical[end].blocked
    written = Port(HOST_PORT)
    nic = Nic(HOST_PORT, "host", HOST_PORT, None, None, host.addresses, "", blocked)
    routes = device_routes([nic], (), host.gateway)
    attachment = Attachment(HOST_PORT, (end,), False, frozenset(), None, blocked, written)
    holds = host.unresolved != "drop"
    return Node(
        host.name,
        "host",
        host.off,
        holds,
        frozenset(),
        frozenset(),
        {HOST_PORT: attachment},
        {HOST_PORT: nic},
        routes,
        host,
    )
