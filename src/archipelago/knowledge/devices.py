"""What one device knows of itself: its attachments to the wire, its VLANs, its interfaces and whether each is up.

A host is a device with one interface, so that every engine has one kind of thing to handle.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Literal, NamedTuple

from archipelago.addressing.values import Address, InterfaceAddress, Prefix
from archipelago.knowledge.links import Links, Plugs
from archipelago.knowledge.mac import device_mac, link_local
from archipelago.knowledge.reasons import Down, DownCause, admin_down
from archipelago.knowledge.tree import SpanningTree, is_switched, spanning_tree
from archipelago.model.filters import Filter
from archipelago.model.network import Network
from archipelago.model.parts import (
    DEFAULT_VLAN,
    USUAL_MTU,
    Aggregate,
    Device,
    End,
    Host,
    Loopback,
    Port,
    Subinterface,
    VlanInterface,
)
from archipelago.model.projection import Projection

READS = Projection(
    Network="devices vlans suspended",
    Device="name kind routing vlans suspended_vlans ports interfaces off unresolved mac filters",
)
"""What a device knows of itself is derived from this, beside carrier and the spanning tree. It holds its ports and
interfaces as they are written, so all of those is read."""
ROUTING_KINDS = ("router", "l3switch")
"""The kinds of device that can route."""


class Attachment(NamedTuple):
    """A port or an aggregate, as frames see it. `vlans` are those it carries; `untagged` the VLAN of its untagged
    frames; both are empty on a routed attachment. `down` says why it has no carrier; one that is
    `blocked`, by the tree or since the other half of a shared aggregate is in use, has it and passes nothing."""

    name: str
    members: tuple[End, ...]
    switched: bool
    vlans: frozenset[int]
    untagged: int | None
    down: Down | None
    written: Port | Aggregate
    blocked: bool = False

    @property
    def carrier(self) -> bool:
        return self.down is None

    @property
    def mtu(self) -> int:
        """The octets of the largest IP packet that goes in or out by it."""
        return self.written.mtu or USUAL_MTU

    @property
    def passes(self) -> bool:
        """Whether frames come in and go out by it."""
        return self.down is None and not self.blocked


@dataclass(frozen=True, slots=True)
class Nic:
    """An interface that can hold addresses. On a routed attachment `tag` is the tag of its frames (None: untagged);
    on a VLAN interface `vlan` is its VLAN. `down` says why it is down, None when it is up. One that does not `speak`
    neither sends nor takes in a frame: a subinterface without a tag, a routed port without an address. `mtu` is the
    largest packet that it sends, in octets."""

    name: str
    kind: Literal["port", "subinterface", "vlan", "aggregate", "loopback", "host"]
    attachment: str | None
    tag: int | None
    vlan: int | None
    addresses: tuple[InterfaceAddress, ...]
    vrf: str
    down: Down | None
    mac: int
    speaks: bool = True
    filter_in: Filter | None = None
    filter_out: Filter | None = None
    source_nat: tuple[Prefix, ...] = ()
    dhcp_relay: tuple[Address, ...] = ()
    mtu: int = USUAL_MTU

    @property
    def translates_to(self) -> Address | None:
        """The address that sources are translated to, where it translates (RFC 3022): its first of IPv4."""
        if not self.source_nat:
            return None
        return next((address.address for address in self.addresses if address.version == 4), None)

    @property
    def link_local(self) -> Address:
        """The address that it has on its link wherever it speaks IPv6 (RFC 4291 2.8)."""
        return link_local(self.mac)

    @property
    def up(self) -> bool:
        return self.down is None

    @property
    def uncabled(self) -> bool:
        """Whether it is down because nothing is plugged into its port."""
        return self.down is not None and self.down.root is DownCause.NOT_CABLED

    @property
    def sends_frames(self) -> bool:
        """Whether frames can leave by it at all."""
        return self.speaks and self.kind != "loopback"


def speaks_ipv6(nic: Nic) -> bool:
    """Whether an interface has IPv6 on: it holds an address of it; then it has a link-local one too."""
    return nic.sends_frames and any(address.version == 6 for address in nic.addresses)


@dataclass(frozen=True, slots=True)
class Node:
    """A device or a host with what it knows of itself. `vlans` are those that it can carry; `suspended` those that
    exist on it and that it carries nothing in. `forwards` holds the families it routes; `member_of` the
    aggregate that each member port belongs to; `holds_unresolved` whether an IPv4 packet waits while its next hop is
    asked for. `written` is it as it is written, a host's with what it has learned; `document` without that."""

    name: str
    kind: Literal["router", "l3switch", "switch", "host"]
    off: bool
    holds_unresolved: bool
    forwards: frozenset[int]
    vlans: frozenset[int]
    attachments: Mapping[str, Attachment]
    nics: Mapping[str, Nic]
    written: Device | Host
    document: Device | Host
    member_of: Mapping[str, str]
    mac: int
    suspended: frozenset[int] = frozenset()

    @property
    def can_route(self) -> bool:
        """Whether it is a kind of device that can route."""
        return self.kind in ROUTING_KINDS

    def nics_on(self, attachment: str) -> list[Nic]:
        """The interfaces that speak by an attachment, in the order written."""
        return [nic for nic in self.nics.values() if nic.attachment == attachment]


class Devices(Mapping[str, Node]):
    """Every device by name, in the order written; each is derived when it is asked for."""

    __slots__ = ("_catalogue", "_known", "_numbers", "_suspended", "_tree", "links", "network", "plugs", "ports")

    def __init__(
        self,
        network: Network,
        ports: Mapping[str, Mapping[str, Port]],
        plugged: Plugs,
        links: Links,
        kept: Mapping[str, Node],
        tree: SpanningTree | None = None,
    ) -> None:
        self.network = network
        self.ports = ports
        self.plugs = plugged
        self.links = links
        self._tree = tree
        self._known = dict(kept)
        self._numbers = {name: number for number, name in enumerate(network.devices)}
        self._catalogue = frozenset(network.vlans.values()) | {DEFAULT_VLAN}
        self._suspended = frozenset(network.suspended)

    def __getitem__(self, name: str) -> Node:
        node = self._known.get(name)
        if node is None:
            device = self.network.devices[name]
            mac = device.mac or device_mac(self._numbers[name])
            ports, links = self.ports[name], self.links
            existing = _vlans(device, self._catalogue)
            suspended = existing & self._suspended.union(device.suspended_vlans)
            vlans = (existing - suspended, suspended) if suspended else (existing, suspended)
            node = self._known[name] = _device_node(device, ports, links, *vlans, mac, self.tree)
        return node

    def __iter__(self) -> Iterator[str]:
        return iter(self.network.devices)

    def __len__(self) -> int:
        return len(self.network.devices)

    def __contains__(self, name: object) -> bool:
        return name in self.network.devices

    def number(self, name: str) -> int:
        """The place of a device in the network, counted from 0."""
        return self._numbers[name]

    @property
    def tree(self) -> SpanningTree:
        """The spanning tree that they agree on."""
        if self._tree is None:
            self._tree = spanning_tree(self.network, self.ports, self.plugs, self.links)
        return self._tree

    @property
    def known(self) -> Mapping[str, Node]:
        """Those that were derived so far."""
        return self._known

    def attachment_at(self, end: End) -> Attachment:
        """The attachment that a port of a device is, or is a member of."""
        node = self[end.device]
        return node.attachments[node.member_of.get(end.port, end.port)]


def _vlans(device: Device, catalogue: frozenset[int]) -> frozenset[int]:
    """The VLANs that exist on a device."""
    if device.kind == "router":
        return frozenset()
    return catalogue if device.vlans is None else frozenset(device.vlans) | {DEFAULT_VLAN}


def _device_node(
    device: Device,
    ports: Mapping[str, Port],
    links: Links,
    vlans: frozenset[int],
    suspended: frozenset[int],
    mac: int,
    tree: SpanningTree,
) -> Node:
    member_of: dict[str, str] = {}
    attachments = _attachments(device, ports, links, vlans, member_of)
    for name in tree.idle_at(device.name):
        attachments[name] = attachments[name]._replace(blocked=True)
    forwards: frozenset[int] = frozenset()
    if device.kind != "switch":
        forwards = frozenset((4, 6) if device.routing is None else device.routing)
    return Node(
        name=device.name,
        kind=device.kind,
        off=device.off,
        holds_unresolved=device.unresolved == "hold" if device.unresolved else device.kind == "switch",
        forwards=forwards,
        vlans=vlans,
        attachments=attachments,
        nics=_nics(device, attachments, tree.waiting_at(device.name), vlans, suspended, mac),
        written=device,
        document=device,
        member_of=member_of,
        mac=mac,
        suspended=suspended,
    )


def _attachments(
    device: Device, ports: Mapping[str, Port], links: Links, vlans: frozenset[int], member_of: dict[str, str]
) -> dict[str, Attachment]:
    """The aggregates of a device, then its ports; `member_of` is filled on the way."""
    attachments: dict[str, Attachment] = {}
    for interface in device.interfaces.values():
        if isinstance(interface, Aggregate):
            members = tuple(End(device.name, member) for member in interface.members)
            member_of.update(dict.fromkeys(interface.members, interface.name))
            alive = any(links.down(end) is None for end in members)
            down = None if alive else _members_down(device, interface, links)
            attachments[interface.name] = _attachment(interface, members, is_switched(device, interface), vlans, down)
    for port in ports.values():
        if port.name not in member_of:
            end = End(device.name, port.name)
            attachments[port.name] = _attachment(port, (end,), is_switched(device, port), vlans, links.down(end))
    return attachments


def _members_down(device: Device, interface: Aggregate, links: Links) -> Down:
    if device.off:
        return admin_down(device.name)
    name = f"{device.name}/{interface.name}"
    if interface.off:
        return admin_down(f"aggregate {name}")
    if not interface.members:
        return Down(DownCause.NO_MEMBERS, f"aggregate {name}")
    first = links.down(End(device.name, interface.members[0]))
    if len(interface.members) == 1 and first is not None:
        return first
    return Down(DownCause.MEMBERS_DOWN, name, first=first)


def _attachment(
    port: Port | Aggregate, members: tuple[End, ...], switched: bool, existing: frozenset[int], down: Down | None
) -> Attachment:
    """Membership as IEEE 802.1Q 6.9 and 8.6 have it: a trunk's untagged VLAN is carried whether listed or not; what
    the device lacks is not carried."""
    if not switched:
        return Attachment(port.name, members, False, frozenset(), None, down, written=port)
    untagged: int | None
    if port.trunk is None:
        untagged = port.access or DEFAULT_VLAN
        wanted = _only(untagged)
    else:
        untagged = None if port.untagged == "none" else port.untagged or DEFAULT_VLAN
        wanted = existing if port.trunk == "all" else frozenset(port.trunk)
        if untagged is not None:
            wanted |= {untagged}
    if untagged not in existing:
        untagged = None
    vlans = wanted if wanted <= existing else wanted & existing
    return Attachment(port.name, members, True, vlans, untagged, down, written=port)


@lru_cache(maxsize=8192)
def _only(vlan: int) -> frozenset[int]:
    return frozenset({vlan})


def _nics(
    device: Device,
    attachments: Mapping[str, Attachment],
    waiting: frozenset[str],
    vlans: frozenset[int],
    suspended: frozenset[int],
    mac: int,
) -> dict[str, Nic]:
    """Every interface of a device: its routed attachments, then what is written as one. What is waiting keeps a VLAN's
    interface up: the pair acts as one."""
    macs = {name: mac + number for number, name in enumerate(attachments, 1)}
    nics = {
        attachment.name: _routed_nic(attachment, macs[attachment.name])
        for attachment in attachments.values()
        if not attachment.switched
    }
    carried = frozenset[int]().union(
        *(attachment.vlans for attachment in attachments.values() if attachment.passes or attachment.name in waiting)
    )
    for interface in device.interfaces.values():
        off = admin_down(device.name) if device.off else None
        if interface.off and off is None:
            off = admin_down(f"{device.name}/{interface.name}")
        if isinstance(interface, Subinterface):
            down = off or attachments[interface.parent].down
            nics[interface.name] = _subinterface_nic(interface, down, macs[interface.parent])
        elif isinstance(interface, VlanInterface):
            down = off or _vlan_down(device.name, interface.vlan, vlans, suspended, carried)
            nics[interface.name] = _virtual_nic(interface, "vlan", interface.vlan, down, mac)
        elif isinstance(interface, Loopback):
            nics[interface.name] = _virtual_nic(interface, "loopback", None, off, mac)
    for part in (*device.ports.values(), *device.interfaces.values()):
        if not isinstance(part, Loopback) and part.name in nics:
            mtu = part.mtu or (attachments[part.parent].mtu if isinstance(part, Subinterface) else USUAL_MTU)
            translated = () if isinstance(part, VlanInterface) else part.source_nat
            if translated or part.dhcp_relay or mtu != USUAL_MTU:
                nic = nics[part.name]
                nics[part.name] = replace(nic, source_nat=translated, dhcp_relay=part.dhcp_relay, mtu=mtu)
    return _filtered(device, nics) if device.filters else nics


def _filtered(device: Device, nics: dict[str, Nic]) -> dict[str, Nic]:
    """The interfaces with the filters that they name."""
    for part in (*device.ports.values(), *device.interfaces.values()):
        if part.name in nics and not isinstance(part, Loopback) and (part.filter_in or part.filter_out):
            named = (device.filters.get(part.filter_in or ""), device.filters.get(part.filter_out or ""))
            nics[part.name] = replace(nics[part.name], filter_in=named[0], filter_out=named[1])
    return nics


def _vlan_down(
    device: str, vlan: int, vlans: frozenset[int], suspended: frozenset[int], carried: frozenset[int]
) -> Down | None:
    """Why a VLAN interface that is on is down; None where a port that carries its VLAN has carrier."""
    if vlan in suspended:
        return Down(DownCause.VLAN_SUSPENDED, device, vlan)
    if vlan not in vlans:
        return Down(DownCause.VLAN_ABSENT, device, vlan)
    return None if vlan in carried else Down(DownCause.NO_LIVE_PORT, device, vlan)


def _routed_nic(attachment: Attachment, mac: int) -> Nic:
    written = attachment.written
    return Nic(
        name=written.name,
        kind="aggregate" if isinstance(written, Aggregate) else "port",
        attachment=written.name,
        tag=None,
        vlan=None,
        addresses=written.addresses,
        vrf=written.vrf or "",
        down=attachment.down,
        mac=mac,
        speaks=bool(written.addresses),
    )


def _subinterface_nic(interface: Subinterface, down: Down | None, mac: int) -> Nic:
    return Nic(
        name=interface.name,
        kind="subinterface",
        attachment=interface.parent,
        tag=None if interface.untagged else interface.tag,
        vlan=interface.tag,
        addresses=interface.addresses,
        vrf=interface.vrf or "",
        down=down,
        mac=mac,
        speaks=interface.untagged or interface.tag is not None,
    )


def _virtual_nic(
    interface: VlanInterface | Loopback,
    kind: Literal["vlan", "loopback"],
    vlan: int | None,
    down: Down | None,
    mac: int,
) -> Nic:
    return Nic(
        name=interface.name,
        kind=kind,
        attachment=None,
        tag=None,
        vlan=vlan,
        addresses=interface.addresses,
        vrf=interface.vrf or "",
        down=down,
        mac=mac,
    )
