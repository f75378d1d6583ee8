"""A design while it grows: what the modules of this room add to, one after another."""

from __future__ import annotations

from dataclasses import dataclass, field

from archipelago.addressing.carve import Allotment, Carving
from archipelago.addressing.values import InterfaceAddress
from archipelago.model.brief import Brief
from archipelago.model.network import Network
from archipelago.model.parts import (
    Cable,
    End,
    Host,
    Interface,
    Loopback,
    NextHop,
    Port,
    Route,
    Subinterface,
    VlanInterface,
)
from archipelago.model.plan import Decision


@dataclass(slots=True)
class Draft:
    """The brief, the old network that is kept, and what is decided so far. `reasons` gathers what cannot be built."""

    brief: Brief
    old: Network | None = None
    reasons: list[str] = field(default_factory=list)
    decisions: list[Decision] = field(default_factory=list)
    requests: list[str] = field(default_factory=list)
    vlans: dict[str, int] = field(default_factory=dict)
    labels: dict[int, str] = field(default_factory=dict)
    carving: Carving | None = None
    allotments: dict[tuple[str, int], Allotment] = field(default_factory=dict)
    ports: dict[str, dict[str, Port]] = field(default_factory=dict)
    interfaces: dict[str, dict[str, Interface]] = field(default_factory=dict)
    routes: dict[str, list[Route]] = field(default_factory=dict)
    gateway: dict[str, list[NextHop]] = field(default_factory=dict)
    hosts: dict[str, Host] = field(default_factory=dict)
    host_ends: dict[str, End] = field(default_factory=dict)
    used: set[End] = field(default_factory=set)
    own: dict[tuple[str, str], tuple[InterfaceAddress, ...]] = field(default_factory=dict)
    """The own addresses of each device in each VLAN whose gateway it shares."""
    cursors: dict[tuple[str, int, int], int] = field(default_factory=dict)
    """Where the search for a free address goes on in each range, so that a full one is not walked for every host."""

    def decide(self, subject: str, decided: str, why: str) -> None:
        self.decisions.append(Decision(subject, decided, why))

    def name_of(self, vlan: int) -> str:
        return self.labels.get(vlan, str(vlan))

    def add_vlans(self, vlans: dict[str, int]) -> None:
        """VLANs of the brief, or made by the design."""
        self.vlans |= vlans
        self.labels |= {number: name for name, number in vlans.items()}

    def set_port(self, end: End, port: Port) -> None:
        """Write a port, in place of what was written of it before."""
        self.ports[end.device][end.port] = port

    def subnets(self, name: str) -> list[Allotment]:
        """The subnets of a need, one of each family that it has."""
        return [self.allotments[name, version] for version in (4, 6) if (name, version) in self.allotments]

    def gateway_addresses(self, name: str) -> tuple[InterfaceAddress, ...]:
        """What the gateway interface of a VLAN holds."""
        return tuple(
            InterfaceAddress(subnet.prefix.version, subnet.gateway.value, subnet.prefix.length)
            for subnet in self.subnets(name)
            if subnet.gateway is not None
        )


def link_name(cable: Cable) -> str:
    """How the subnet of a routed link is called."""
    return f"link {cable}"


def address_in(allotment: Allotment, offset: int) -> InterfaceAddress:
    """The interface address that many places after the first usable one."""
    return InterfaceAddress(allotment.prefix.version, allotment.first.value + offset, allotment.prefix.length)


def vlan_of(interface: Interface) -> int | None:
    """The VLAN that an interface is written for: by its tag, or as its VLAN's own."""
    if isinstance(interface, Subinterface):
        return interface.tag
    return interface.vlan if isinstance(interface, VlanInterface) else None


def as_shared(interface: Interface) -> list[InterfaceAddress]:
    """What a gateway interface is asked at: the address that it shares in each of its subnets, where it shares one."""
    virtual = () if isinstance(interface, Loopback) else interface.virtual
    shared = [address for one in virtual for address in one.addresses]
    found = []
    for own in interface.addresses:
        address = next((one for one in shared if own.prefix.holds(one)), own.address)
        found.append(InterfaceAddress(address.version, address.value, own.length))
    return found
