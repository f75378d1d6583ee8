"""What one device knows of itself: its attachments to the wire, its VLANs, its interfaces and whether each is up.

A host is a device with one interface, so that every engine has one kind of thing to handle.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Literal

from archipelago.addressing.values import Address, InterfaceAddress
from archipelago.knowledge.links import HOST_PORT, UNCABLED, Links, Plugs, plugs, port_names
from archipelago.knowledge.mac import device_mac, host_mac, link_local
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
    mac: int
    speaks: bool = True

    @property
    def link_local(self) -> Address:
        """The address that it has on its link wherever it speaks IPv6 (RFC 4291 2.8)."""
        return link_local(self.mac)

    @property
    def up(self) -> bool:
        return not self.down

    @property
    def uncabled(self) -> bool:
        """Whether it is down because nothing is plugged into its port."""
        return self.down.endswith(UNCABLED)


def speaks_ipv6(nic: Nic) -> bool:
    """Whether an interface has IPv6 on: it holds an address of it; then it has a link-local one too."""
    return nic.speaks and nic.kind != "loopback" and any(held.version == 6 for held in nic.addresses)


@dataclass(frozen=True, slots=True)
class Node:
    """A device or a host with all that it knows. `forwards` holds the families it routes; `bundled` the aggregate that
    each member port belongs to."""

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
    bundled: Mapping[str, str]
    mac: int

    def nics_on(self, attachment: str) -> list[Nic]:
        """The interfaces that speak by an attachment, in the order written."""
        return [nic for nic in self.nics.values() if nic.attachment == attachment]


class Nodes(Mapping[str, Node]):
    """Every device and host by name, devices first. A host's node is made when it is asked for: a plan can hold a
    million, and most questions are about few."""

    __slots__ = ("_devices", "_hosts", "_known", "_links", "_numbers")

    def __init__(self, devices: Mapping[str, Node], hosts: Mapping[str, Host], links: Links) -> None:
        self._devices = devices
        self._hosts = hosts
        self._links = links
        self._known: dict[str, Node] = {}
        self._numbers: dict[str, int] = {}

    def __getitem__(self, name: str) -> Node:
        found = self._devices.get(name) or self._known.get(name)
        if found is None:
            host = self._hosts[name]
            if not self._numbers:
                self._numbers = {one: number for number, one in enumerate(self._hosts)}
            found = host_node(host, self._links[End(name, HOST_PORT)].blocked, host_mac(self._numbers[name]))
            self._known[name] = found
        return found

    def __iter__(self) -> Iterator[str]:
        yield from self._devices
        yield from self._hosts

    def __len__(self) -> int:
        return len(self._devices) + len(self._hosts)

    def __contains__(self, name: object) -> bool:
        return name in self._devices or name in self._hosts


@dataclass(frozen=True, slots=True)
class Knowledge:
    """What every device and host of a network knows. `written` is the network as it is written, `network` the same
    once hosts with `address: auto` have heard their routers."""

    written: Network
    network: Network
    ports: Mapping[str, Mapping[str, Port]]
    plugs: Plugs
    links: Links
    devices: Mapping[str, Node]
    nodes: Nodes

    def attachment_at(self, end: End) -> Attachment:
        """The attachment that a port is, or is a member of."""
        node = self.nodes[end.device]
        return node.attachments[node.bundled.get(end.port, end.port)]


def know(network: Network) -> Knowledge:
    """Derive what every device knows from what is written."""
    return _known(network, port_names(network), plugs(network), {})


def know_again(before: Knowledge, network: Network, touched: frozenset[str]) -> Knowledge:
    """What every device knows once parts are switched on or off; only the devices touched are derived again.

    Args:
        before: what was known.
        network: the same as what was written then: devices, ports, hosts and cables, with other parts off.
        touched: every device that holds such a part or faces one.
    """
    ports = {**before.ports}
    for name in touched:
        ports[name] = {**before.ports[name], **network.devices[name].ports}
    kept = {name: node for name, node in before.devices.items() if name not in touched}
    return _known(network, ports, before.plugs, kept)


def _known(
    network: Network, ports: Mapping[str, Mapping[str, Port]], plugged: Plugs, kept: Mapping[str, Node]
) -> Knowledge:
    links = Links(network, ports, plugged)
    catalogue = frozenset(network.vlans.values()) | {DEFAULT_VLAN}
    devices = {
        name: kept.get(name) or _device_node(device, ports[name], links, catalogue, device_mac(number))
        for number, (name, device) in enumerate(network.devices.items())
    }
    found = Knowledge(network, network, ports, plugged, links, devices, Nodes(devices, network.hosts, links))
    if not any(host.auto for host in network.hosts.values()):
        return found
    from archipelago.knowledge.advertised import with_advertised

    heard = with_advertised(found)
    return replace(found, network=heard, nodes=Nodes(devices, heard.hosts, links))


def _device_node(device: Device, ports: Mapping[str, Port], links: Links, catalogue: frozenset[int], mac: int) -> Node:
    switching = device.kind != "router"
    vlans: frozenset[int] = frozenset()
    if switching:
        vlans = catalogue if device.vlans is None else frozenset(device.vlans) | {DEFAULT_VLAN}
    attachments: dict[str, Attachment] = {}
    bundled: dict[str, str] = {}
    for interface in device.interfaces.values():
        if isinstance(interface, Aggregate):
            members = tuple(End(device.name, member) for member in interface.members)
            bundled.update(dict.fromkeys(interface.members, interface.name))
            blocked = "" if any(links[end].carrier for end in members) else _no_member(device, interface, links)
            attachments[interface.name] = _attachment(interface, members, switching, vlans, blocked)
    for port in ports.values():
        if port.name not in bundled:
            end = End(device.name, port.name)
            attachments[port.name] = _attachment(port, (end,), switching, vlans, links[end].blocked)
    nics = _nics(device, attachments, vlans, mac)
    if device.kind == "switch":
        forwards: frozenset[int] = frozenset()
    else:
        forwards = frozenset((4, 6) if device.routing is None else device.routing)
    routes = device_routes(
        nics.values(), device.routes, [h for h in device.gateway if h.address.version not in forwards]
    )
    holds = device.unresolved == "hold" if device.unresolved else device.kind == "switch"
    return Node(
        device.name, device.kind, device.off, holds, forwards, vlans, attachments, nics, routes, device, bundled, mac
    )


def _no_member(device: Device, interface: Aggregate, links: Links) -> str:
    if device.off:
        return f"{device.name} is off"
    if interface.off:
        return f"aggregate {device.name}/{interface.name} is off"
    if not interface.members:
        return f"aggregate {device.name}/{interface.name} has no members"
    first = links[End(device.name, interface.members[0])].blocked
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
        wanted = _only(untagged)
    else:
        untagged = None if one.untagged == "none" else one.untagged or DEFAULT_VLAN
        wanted = existing if one.trunk == "all" else frozenset(one.trunk)
        if untagged is not None:
            wanted |= {untagged}
    if untagged not in existing:
        untagged = None
    return Attachment(
        one.name, members, True, wanted if wanted <= existing else wanted & existing, untagged, blocked, one
    )


@lru_cache(maxsize=8192)
def _only(vlan: int) -> frozenset[int]:
    return frozenset({vlan})


def _nics(device: Device, attachments: Mapping[str, Attachment], vlans: frozenset[int], mac: int) -> dict[str, Nic]:
    nics: dict[str, Nic] = {}
    macs = {name: mac + number for number, name in enumerate(attachments, 1)}
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
                macs[one.name],
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
                macs[interface.parent],
                speaks,
            )
        elif isinstance(interface, VlanInterface):
            if not down and interface.vlan not in vlans:
                down = f"VLAN {interface.vlan} does not exist on {device.name}"
            if not down and interface.vlan not in carried:
                down = f"no port of {device.name} that carries VLAN {interface.vlan} has carrier"
            nics[interface.name] = Nic(
                interface.name, "vlan", None, None, interface.vlan, interface.addresses, vrf, down, mac
            )
        elif isinstance(interface, Loopback):
            nics[interface.name] = Nic(
                interface.name, "loopback", None, None, None, interface.addresses, vrf, down, mac
            )
    return nics


def host_node(host: Host, blocked: str, mac: int) -> Node:
    """What a host knows. `blocked` says why its port has no carrier, empty where it has."""
    end = End(host.name, HOST_PORT)
    written = Port(HOST_PORT)
    nic = Nic(HOST_PORT, "host", HOST_PORT, None, None, host.addresses, "", blocked, mac)
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
        {},
        mac,
    )
