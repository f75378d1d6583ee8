"""The parts of a network: ports, interfaces, routes, devices, hosts, cables, as they are written."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal, NamedTuple

from archipelago.addressing.values import Address, InterfaceAddress, Prefix
from archipelago.answer import NO_PARTS, OneLine, Parts, name_parts
from archipelago.model.filters import Filter
from archipelago.model.leases import Pool
from archipelago.model.virtual import VirtualRouter

Kind = Literal["router", "l3switch", "switch"]
KIND_NAMES: Mapping[str, str] = {"router": "router", "l3switch": "layer 3 switch", "switch": "switch"}
"""The kinds of device as people call them."""
Path = tuple[str | int, ...]
"""Where something stands in its document: the keys and list positions that lead to it."""

DEFAULT_VLAN = 1
"""The VLAN of a port that nothing else was said of (the standard's default PVID, IEEE 802.1Q 6.9)."""


class End(NamedTuple):
    """One port of one device."""

    device: str
    port: str

    def __str__(self) -> str:
        return f"{self.device}/{self.port}"


class Mark(NamedTuple):
    """Where a key and its value start in a file. Lines and columns count from 1."""

    key_line: int
    key_column: int
    line: int
    column: int


class NextHop(NamedTuple):
    """Where to send what is not on a connected subnet; a link-local one names its interface (RFC 4007)."""

    address: Address
    interface: str | None = None

    def __str__(self) -> str:
        return f"{self.address}%{self.interface}" if self.interface else str(self.address)


AUTO = "auto"
"""In place of an address: take it from what routers advertise."""
DHCP = "dhcp"
"""In place of an address: take what a server leases."""
USUAL_MTU = 1500
"""The largest IP packet, in octets, that passes where nothing else is written (RFC 894, RFC 2464 2)."""
SPEED_UNITS = {"T": 10**12, "G": 10**9, "M": 10**6}
"""Bits per second of the units that speeds are written in."""


def speed_text(bits: int) -> str:
    """A speed in bits per second as a document writes it, such as `1G`."""
    unit = next((unit for unit, size in SPEED_UNITS.items() if bits >= size), "M")
    return f"{bits / SPEED_UNITS[unit]:g}{unit}"


@dataclass(frozen=True, slots=True, repr=False)
class Port(OneLine):
    """A physical port as written. `speed` is in bits per second; `trunk` is VLAN ids, or "all"; `untagged` is a
    VLAN id, or "none"; None stands for "not written"."""

    name: str
    speed: int | None = None
    off: bool = False
    access: int | None = None
    trunk: tuple[int, ...] | Literal["all"] | None = None
    untagged: int | Literal["none"] | None = None
    addresses: tuple[InterfaceAddress, ...] = ()
    routed: bool = False
    vrf: str | None = None
    filter_in: str | None = None
    filter_out: str | None = None
    source_nat: tuple[Prefix, ...] = ()
    dhcp_relay: tuple[Address, ...] = ()
    virtual: tuple[VirtualRouter, ...] = ()
    path_cost: int | None = None
    edge: bool = False
    mtu: int | None = None
    description: str = ""


@dataclass(frozen=True, slots=True, repr=False)
class Subinterface(OneLine):
    """The part of a routed port or aggregate that speaks for one VLAN (an 802.1Q tag)."""

    name: str
    parent: str
    tag: int | None = None
    untagged: bool = False
    addresses: tuple[InterfaceAddress, ...] = ()
    off: bool = False
    vrf: str | None = None
    filter_in: str | None = None
    filter_out: str | None = None
    source_nat: tuple[Prefix, ...] = ()
    dhcp_relay: tuple[Address, ...] = ()
    virtual: tuple[VirtualRouter, ...] = ()
    mtu: int | None = None
    description: str = ""


@dataclass(frozen=True, slots=True, repr=False)
class VlanInterface(OneLine):
    """A device's own interface in one of its VLANs."""

    name: str
    vlan: int
    addresses: tuple[InterfaceAddress, ...] = ()
    off: bool = False
    vrf: str | None = None
    filter_in: str | None = None
    filter_out: str | None = None
    dhcp_relay: tuple[Address, ...] = ()
    virtual: tuple[VirtualRouter, ...] = ()
    mtu: int | None = None
    description: str = ""


@dataclass(frozen=True, slots=True, repr=False)
class Aggregate(OneLine):
    """Several ports that act as one (IEEE 802.1AX). Takes a port's keys. One that is `shared_with` another device acts
    as one with the aggregate of the same name there."""

    name: str
    members: tuple[str, ...]
    off: bool = False
    access: int | None = None
    trunk: tuple[int, ...] | Literal["all"] | None = None
    untagged: int | Literal["none"] | None = None
    addresses: tuple[InterfaceAddress, ...] = ()
    routed: bool = False
    vrf: str | None = None
    filter_in: str | None = None
    filter_out: str | None = None
    source_nat: tuple[Prefix, ...] = ()
    dhcp_relay: tuple[Address, ...] = ()
    virtual: tuple[VirtualRouter, ...] = ()
    path_cost: int | None = None
    edge: bool = False
    shared_with: str | None = None
    mtu: int | None = None
    description: str = ""


@dataclass(frozen=True, slots=True, repr=False)
class Loopback(OneLine):
    """An address of the device itself, on no port: up while it is on."""

    name: str
    addresses: tuple[InterfaceAddress, ...] = ()
    off: bool = False
    vrf: str | None = None
    description: str = ""


Interface = Subinterface | VlanInterface | Aggregate | Loopback


@dataclass(frozen=True, slots=True, repr=False)
class Route(OneLine):
    """A static route; a lower metric is preferred."""

    destination: Prefix
    next_hop: NextHop
    metric: int = 1
    vrf: str | None = None


@dataclass(frozen=True, slots=True, repr=False)
class Device(OneLine):
    """A router, layer 3 switch or layer 2 switch. `routing` is the families written (None: not written); `vlans` the
    VLAN ids written (None: all of the catalogue); `mac` its MAC address, where it does not follow its place;
    `bridge_priority` what it bids for the spanning tree's root by (None: not written); `console` whether it has a way
    in of its own, whatever becomes of the network; `suspended_vlans` the ids of VLANs that it has and carries
    nothing in."""

    name: str
    kind: Kind
    routing: tuple[int, ...] | None = None
    vlans: tuple[int, ...] | None = None
    ports: Mapping[str, Port] = field(default_factory=Parts)
    interfaces: Mapping[str, Interface] = field(default_factory=Parts)
    routes: tuple[Route, ...] = ()
    gateway: tuple[NextHop, ...] = ()
    off: bool = False
    unresolved: Literal["hold", "drop"] | None = None
    mac: int | None = None
    filters: Mapping[str, Filter] = field(default_factory=Parts)
    dhcp_pools: Mapping[str, Pool] = field(default_factory=Parts)
    spanning_tree: bool = True
    bridge_priority: int | None = None
    console: bool = False
    suspended_vlans: tuple[int, ...] = ()
    description: str = ""

    def __post_init__(self) -> None:
        name_parts(self)


@dataclass(frozen=True, slots=True, repr=False)
class Host(OneLine):
    """An end station with one untagged port. With `auto` it takes IPv6 addresses and gateways from what routers
    advertise (RFC 4862), with `dhcp` an IPv4 address and a gateway that a server leases (RFC 2131), beside those
    written."""

    name: str
    at: End
    addresses: tuple[InterfaceAddress, ...] = ()
    gateway: tuple[NextHop, ...] = ()
    off: bool = False
    unresolved: Literal["hold", "drop"] | None = None
    auto: bool = False
    mac: int | None = None
    dhcp: bool = False
    dhcp_pools: Mapping[str, Pool] = field(default_factory=lambda: NO_PARTS)
    mtu: int | None = None
    description: str = ""

    def __post_init__(self) -> None:
        if type(self.dhcp_pools) is dict:  # hosts are many, and few serve
            name_parts(self)


@dataclass(frozen=True, slots=True, repr=False)
class OutsidePort(OneLine):
    """A port beyond which the outside begins, and what of the network the upstream there sends back to it: everything,
    nothing, or some prefixes."""

    at: End
    routes_back: tuple[Prefix, ...] | Literal["all", "none"] = "all"


@dataclass(frozen=True, slots=True, repr=False)
class Cable(OneLine):
    """A cable between two ports."""

    a: End
    b: End
    off: bool = False

    @property
    def ends(self) -> tuple[End, End]:
        """Both ports."""
        return self.a, self.b

    def __str__(self) -> str:
        return f"{self.a} ~ {self.b}"
