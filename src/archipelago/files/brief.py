"""The brief document: its keys, and how it becomes a brief."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import BeforeValidator, Field

from archipelago.addressing.carve import FIRST, GatewayHabit
from archipelago.files import fields
from archipelago.files.check import Checker
from archipelago.files.fields import (
    ACable,
    Addresses,
    AnEnd,
    Count,
    Families,
    Flag,
    InterfaceAddresses,
    Kinds,
    Name,
    NextHops,
    Place,
    Prefixes,
    Section,
    Share,
    Text,
    Texts,
    VlanId,
    choice,
    gateway_habit,
    listed,
    mapped,
    several,
)
from archipelago.files.network import catalogue, plugs
from archipelago.files.tree import Tree
from archipelago.model.brief import Brief, DeviceNeed, GatewayPlace, Habits, HostNeed, Outside, VlanNeed
from archipelago.model.network import End, Path

FORMAT = "archipelago-brief/1"


def _ports(value: Any) -> Any:
    """A count, or a list of names."""
    if isinstance(value, list):
        return [fields.name(one) for one in value]
    return [f"p{number}" for number in range(1, fields.whole(0, 4096, "a count of ports")(value) + 1)]


class HabitsSection(Section):
    gateway: Annotated[GatewayHabit, BeforeValidator(gateway_habit)] = FIRST
    headroom: Share = Habits().headroom
    subnets: Annotated[Any, BeforeValidator(choice("by-size", "by-vlan-id"))] = "by-size"
    subinterface: Annotated[Any, BeforeValidator(choice("by-vlan-id", "counted"))] = "by-vlan-id"
    transit: Annotated[int, BeforeValidator(fields.transit)] = 31
    leases: Share = Habits().leases
    loopbacks: Flag = False
    untagged: Text = "none"


class VlanSection(Section):
    id: VlanId
    hosts: Count = 0
    subnet: Prefixes = []
    gateway: Addresses = []
    at: Annotated[list[Place], BeforeValidator(several)] = []
    families: Families = [4, 6]


class DeviceSection(Section):
    kind: Kinds
    ports: Annotated[list[str] | None, BeforeValidator(_ports)] = None
    manage: Text | None = None


class GatewaySection(Section):
    for_: Annotated[Texts, Field(alias="for")]
    at: Place
    untagged: Flag = False


class HostSection(Section):
    vlan: Text
    at: Place
    address: InterfaceAddresses = []


class OutsideSection(Section):
    at: AnEnd
    address: InterfaceAddresses
    via: NextHops


class BriefSection(Section):
    format: Annotated[str, BeforeValidator(fields.format_is(FORMAT))]
    title: Text = ""
    space: Prefixes
    reserved: Prefixes = []
    habits: HabitsSection = HabitsSection()
    vlans: Annotated[dict[Name, VlanSection], BeforeValidator(mapped)] = {}
    devices: Annotated[dict[Name, DeviceSection], BeforeValidator(mapped)] = {}
    gateways: Annotated[list[GatewaySection | None], BeforeValidator(listed)] = []
    hosts: Annotated[dict[Name, HostSection], BeforeValidator(mapped)] = {}
    cables: Annotated[list[ACable | None], BeforeValidator(listed)] = []
    outside: OutsideSection | None = None


def brief_from(tree: Tree) -> Brief:
    """The brief that a tree describes.

    Raises:
        DocumentError: with every problem of the file.
    """
    check = Checker(tree)
    section = check.shape(BriefSection)
    if section is None:
        check.finish()
    assert section is not None
    ids = {name: vlan.id for name, vlan in section.vlans.items()}
    catalogue(check, ids)
    devices = section.devices

    def place(path: Path, at: tuple[str, str | None]) -> tuple[str, str | None]:
        if check.name(path, at[0], devices, "device") and at[1]:
            _port(check, path, End(at[0], at[1]), devices)
        return at

    vlans = {
        name: VlanNeed(
            name,
            vlan.id,
            vlan.hosts,
            tuple(vlan.subnet),
            tuple(vlan.gateway),
            tuple(place(("vlans", name, "at"), at) for at in vlan.at),
            tuple(vlan.families),
        )
        for name, vlan in section.vlans.items()
    }
    needs = {
        name: DeviceNeed(
            name,
            one.kind,
            tuple(one.ports) if one.ports is not None else None,
            check.vlan(("devices", name, "manage"), one.manage, ids) if one.manage else None,
        )
        for name, one in devices.items()
    }
    gateways = []
    for path, gateway in check.entries(("gateways",), section.gateways):
        numbers = tuple(check.vlan((*path, "for", i), vlan, ids) for i, vlan in enumerate(gateway.for_))
        device, port = place((*path, "at"), gateway.at)
        kind = devices[device].kind if device in devices else ""
        if kind == "router" and port is None:
            check.add((*path, "at"), f"'{device}' is a router: name the port too, such as {device}/p1")
        elif kind == "l3switch" and port is not None:
            check.add(
                (*path, "at"), f"'{device}' is an l3switch: its gateways are VLAN interfaces; write 'at: {device}'"
            )
        elif kind == "switch":
            check.add((*path, "at"), f"'{device}' is a layer 2 switch; gateways live on a router's port or an l3switch")
        gateways.append(GatewayPlace(numbers, device, port, gateway.untagged, path))
    hosts = {
        name: HostNeed(
            name,
            check.vlan(("hosts", name, "vlan"), host.vlan, ids),
            *place(("hosts", name, "at"), host.at),
            tuple(host.address),
        )
        for name, host in section.hosts.items()
    }
    for name in hosts:
        if name in devices:
            check.add(("hosts", name), f"'{name}' is a device too; hosts and devices have names of their own", key=True)
    placed = [(path, cable.model()) for path, cable in check.entries(("cables",), section.cables)]
    uses: list[tuple[Path, End]] = [(path, end) for path, cable in placed for end in (cable.a, cable.b)]
    uses += [
        (("hosts", host.name, "at"), End(host.device, host.port)) for host in hosts.values() if host.port is not None
    ]
    outside = None
    if section.outside is not None:
        uses.append((("outside", "at"), section.outside.at))
        outside = Outside(section.outside.at, tuple(section.outside.address), tuple(section.outside.via))
    for path, end in uses:
        if end.device in devices:
            _port(check, path, end, devices)
    plugs(check, uses, devices)
    habits = section.habits
    untagged: Any = habits.untagged
    if untagged != "none":
        untagged = check.vlan(("habits", "untagged"), untagged, ids)
    check.finish()
    return Brief(
        section.title,
        tuple(section.space),
        tuple(section.reserved),
        Habits(
            habits.gateway,
            habits.headroom,
            habits.subnets,
            habits.subinterface,
            habits.transit,
            habits.leases,
            habits.loopbacks,
            untagged,
        ),
        vlans,
        needs,
        tuple(gateways),
        hosts,
        tuple(cable for _, cable in placed),
        outside,
        tree.source,
        tree.marks,
    )


def _port(check: Checker, path: Path, end: End, devices: dict[str, DeviceSection]) -> None:
    ports = devices[end.device].ports
    if ports is not None and end.port not in ports:
        shown = f"{ports[0]} to {ports[-1]}" if ports else "none"
        check.add(path, f"'{end.device}' has no port '{end.port}'; its ports: {shown}")
