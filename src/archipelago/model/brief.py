"""A brief: what is needed, before it is decided how."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field, fields
from fractions import Fraction
from math import ceil
from typing import Any, Literal

from archipelago.addressing.convention import FIRST, GatewayConvention
from archipelago.addressing.values import Address, InterfaceAddress, Prefix
from archipelago.answer import OneLine, Parts, name_parts
from archipelago.errors import ModelError
from archipelago.model.brief_rules import brief_problems
from archipelago.model.demand import Demand
from archipelago.model.expectation import Expectation
from archipelago.model.parts import Cable, End, Kind, Mark, NextHop, Path
from archipelago.model.policy import Policy
from archipelago.model.value_rules import brief_values


@dataclass(frozen=True, slots=True, repr=False)
class Conventions(OneLine):
    """The house conventions. `headroom`, `leases` and `growth` (of hosts, each year) are shares; `transit` is prefix
    lengths by family; `untagged` is the VLAN id that trunks carry untagged, or "none"; `server` who leases addresses:
    "gateway", or a host or device (None: gateways, where hosts ask); `dns_server` the name servers, by host or by
    address; for so many `years` room is made."""

    gateway: GatewayConvention = FIRST
    headroom: Fraction = Fraction(1, 4)
    subnets: Literal["by-size", "by-vlan-id"] = "by-size"
    subinterface: Literal["by-vlan-id", "counted"] = "by-vlan-id"
    transit: int = 31
    leases: Fraction = Fraction(1, 2)
    loopbacks: bool = False
    untagged: int | Literal["none"] = "none"
    server: str | None = None
    dns_server: tuple[str, ...] = ()
    growth: Fraction = Fraction(0)
    years: int = 3


@dataclass(frozen=True, slots=True, repr=False)
class VlanNeed(OneLine):
    """One VLAN: its id, hosts to make room for, how many there will be `later` (0: not written), and what is decided
    already."""

    name: str
    id: int
    hosts: int = 0
    later: int = 0
    subnet: tuple[Prefix, ...] = ()
    gateway: tuple[Address, ...] = ()
    at: tuple[tuple[str, str | None], ...] = ()
    families: tuple[int, ...] = (4, 6)


@dataclass(frozen=True, slots=True, repr=False)
class DeviceNeed(OneLine):
    """One device: its kind, its ports (a count makes p1, p2, ...; None says "whatever is cabled"), and the VLAN
    that a layer 2 switch is managed in."""

    name: str
    kind: Kind
    ports: tuple[str, ...] | None = None
    manage: int | None = None

    def free_ports(self, used: Collection[End]) -> list[str]:
        """The ports that nothing is plugged into, of those that are counted or named."""
        return [port for port in self.ports or () if End(self.name, port) not in used]


@dataclass(frozen=True, slots=True, repr=False)
class GatewayPlace(OneLine):
    """Where the gateways of some VLANs live: a router's port, or a layer 3 switch. `untagged` gives a whole router
    port to a single VLAN. Where they are `shared`, the other places are the `partners`; `spread` shares the active
    roles out. `path` is its place in the file."""

    vlans: tuple[int, ...]
    device: str
    port: str | None
    untagged: bool = False
    partners: tuple[tuple[str, str | None], ...] = ()
    shared: bool = False
    spread: bool = False
    path: Path = field(default=(), compare=False)

    @property
    def places(self) -> tuple[tuple[str, str | None], ...]:
        """Each device, and the port where one is named."""
        return ((self.device, self.port), *self.partners)

    @property
    def devices(self) -> tuple[str, ...]:
        """The devices, the first one first."""
        return tuple(device for device, _ in self.places)


@dataclass(frozen=True, slots=True, repr=False)
class HostNeed(OneLine):
    """One host: its VLAN and where it is plugged in; addresses only where they are decided already; `auto` where it
    takes its IPv6 address from what routers advertise, `dhcp` where a server leases it the IPv4 one."""

    name: str
    vlan: int
    device: str
    port: str | None
    addresses: tuple[InterfaceAddress, ...] = ()
    auto: bool = False
    dhcp: bool = False

    @property
    def place(self) -> tuple[str, str | None]:
        """The device, and the port where one is named."""
        return self.device, self.port


@dataclass(frozen=True, slots=True, repr=False)
class Outside(OneLine):
    """Where the outside is reached: the port, this side's addresses on it, and the next hops beyond it. With
    `source_nat` the network leaves by IPv4 with the port's own address (RFC 3022), else the upstream has to know ways
    back."""

    at: End
    addresses: tuple[InterfaceAddress, ...]
    next_hop: tuple[NextHop, ...]
    source_nat: bool = False


@dataclass(frozen=True, slots=True)
class Brief:
    """Everything asked for. VLANs are referred to by id once read.

    Raises:
        ModelError: it is one that no document could describe, with everything that is wrong.
    """

    title: str = ""
    space: tuple[Prefix, ...] = ()
    reserved: tuple[Prefix, ...] = ()
    conventions: Conventions = field(default_factory=Conventions)
    vlans: Mapping[str, VlanNeed] = field(default_factory=Parts)
    devices: Mapping[str, DeviceNeed] = field(default_factory=Parts)
    gateways: tuple[GatewayPlace, ...] = ()
    hosts: Mapping[str, HostNeed] = field(default_factory=Parts)
    cables: tuple[Cable, ...] = ()
    outside: Outside | None = None
    expect: tuple[Expectation, ...] = ()
    traffic: tuple[Demand, ...] = ()
    policy: Policy | None = None
    domain: str = ""
    source: str = field(default="", compare=False)
    marks: Mapping[Path, Mark] = field(default_factory=dict, compare=False, repr=False)

    def __post_init__(self) -> None:
        problems = [*brief_values(self), *brief_problems(self)]
        if problems:
            raise ModelError(problems)
        name_parts(self)

    def __repr__(self) -> str:
        counts = ((len(self.devices), "device"), (len(self.vlans), "VLAN"), (len(self.hosts), "host"))
        return f"<Brief {self.title!r}: " + ", ".join(f"{n:,} {noun}{'s' * (n != 1)}" for n, noun in counts) + ">"


def hosts_after(brief: Brief, vlan: VlanNeed, years: float) -> float:
    """How many hosts a VLAN has after some years, as the brief foresees them: they grow to what there will be `later`,
    else by the same share each year."""
    conventions = brief.conventions
    if vlan.later and vlan.hosts:
        return float(vlan.hosts * (vlan.later / vlan.hosts) ** (years / conventions.years))
    return float(max(vlan.hosts, vlan.later) * (1 + float(conventions.growth)) ** years)


def foreseen(brief: Brief, vlan: VlanNeed) -> int:
    """How many hosts a VLAN needs room for: those of the end of the years that are planned for."""
    if vlan.later:
        return max(vlan.hosts, vlan.later)
    return ceil(round(hosts_after(brief, vlan, brief.conventions.years), 6))


def unchecked(**values: Any) -> Brief:
    """A brief whose problems are told elsewhere: nothing is checked."""
    brief = object.__new__(Brief)
    for spec in fields(Brief):
        given = values.get(spec.name)
        default = spec.default_factory() if callable(spec.default_factory) else spec.default
        object.__setattr__(brief, spec.name, default if given is None else given)
    name_parts(brief)
    return brief
