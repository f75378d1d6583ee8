"""The brief document: its keys, and how it becomes a brief."""

from __future__ import annotations

from dataclasses import replace
from itertools import chain
from typing import Any

from archipelago.files import fields
from archipelago.files.bulk import members, take_out
from archipelago.files.check import Checker
from archipelago.files.network import catalogue, plugs
from archipelago.files.shape import Each, Field, Section, Several
from archipelago.files.tree import Tree
from archipelago.model.brief import Brief, Conventions, DeviceNeed, GatewayPlace, HostNeed, Outside, VlanNeed
from archipelago.model.network import End, Path

FORMAT = "archipelago-brief/1"


def _ports(value: Any) -> Any:
    """A count, or a list of names."""
    if isinstance(value, list):
        return [fields.name(one) for one in value]
    return [f"p{number}" for number in range(1, fields.whole(0, 4096, "a count of ports")(value) + 1)]


CONVENTIONS = Section(
    {
        "gateway": Field(fields.gateway_convention, Conventions().gateway),
        "headroom": Field(fields.share, Conventions().headroom),
        "subnets": Field(fields.choice("by-size", "by-vlan-id"), Conventions().subnets),
        "subinterface": Field(fields.choice("by-vlan-id", "counted"), Conventions().subinterface),
        "transit": Field(fields.transit, Conventions().transit),
        "leases": Field(fields.share, Conventions().leases),
        "loopbacks": Field(fields.flag, Conventions().loopbacks),
        "untagged": Field(fields.text, "none"),
    }
)

VLAN = Section(
    {
        "id": Field(fields.vlan_id, required=True),
        "hosts": Field(fields.count, 0),
        "subnet": Field(Several(fields.a_prefix), ()),
        "gateway": Field(Several(fields.an_address), ()),
        "at": Field(Several(fields.place), ()),
        "families": Field(Several(fields.family), (4, 6)),
    }
)

DEVICE = Section({"kind": Field(fields.kinds, required=True), "ports": Field(_ports), "manage": Field(fields.text)})

GATEWAY = Section(
    {
        "for": Field(Several(fields.text), required=True),
        "at": Field(fields.place, required=True),
        "untagged": Field(fields.flag, False),
    }
)

HOST = Section(
    {
        "vlan": Field(fields.text, required=True),
        "at": Field(fields.place, required=True),
        "address": Field(Several(fields.a_host_address), ()),
    }
)

OUTSIDE = Section(
    {
        "at": Field(fields.end, required=True),
        "address": Field(Several(fields.an_interface_address), required=True),
        "next-hop": Field(Several(fields.a_next_hop), required=True),
    }
)

BRIEF = Section(
    {
        "format": Field(fields.format_is(FORMAT), required=True),
        "title": Field(fields.text, ""),
        "space": Field(Several(fields.a_prefix), required=True),
        "reserved": Field(Several(fields.a_prefix), ()),
        "conventions": Field(CONVENTIONS),
        "vlans": Field(Each(VLAN, fields.name), {}),
        "devices": Field(Each(DEVICE, fields.name), {}),
        "gateways": Field(Each(GATEWAY), ()),
        "hosts": Field(Each(HOST, fields.name), {}),
        "cables": fields.CABLES,
        "outside": Field(OUTSIDE),
        "expect": fields.EXPECT,
    }
)


def brief_from(tree: Tree) -> Brief:
    """The brief that a tree describes.

    Raises:
        DocumentError: with every problem of the file.
    """
    check = Checker(tree)
    bulks = take_out(check, HOST)
    section = check.shape(BRIEF)
    ids = {name: vlan.id for name, vlan in section.vlans.items()}
    catalogue(check, ids)
    devices = section.devices

    def place(path: Path, at: tuple[str, str | None]) -> tuple[str, str | None]:
        if check.name(path, at[0], devices, "device") and at[1]:
            _port(check, path, End(at[0], at[1]), devices)
        return at

    vlans = {
        name: VlanNeed(
            name=name,
            id=vlan.id,
            hosts=vlan.hosts,
            subnet=tuple(vlan.subnet),
            gateway=tuple(vlan.gateway),
            at=tuple(place(("vlans", name, "at"), at) for at in vlan.at),
            families=tuple(vlan.families),
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
    for path, gateway in section.gateways:
        numbers = tuple(check.vlan((*path, "for", i), vlan, ids) for i, vlan in enumerate(getattr(gateway, "for")))
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
            fields.held(host.address),
            fields.AUTO in host.address,
        )
        for name, host in chain(section.hosts.items(), members(check, bulks, section.hosts))
    }
    for name in hosts:
        if name in devices:
            check.add(("hosts", name), f"'{name}' is a device too; hosts and devices have names of their own", key=True)
    placed = [(path, fields.cable_of(cable)) for path, cable in section.cables]
    uses: list[tuple[Path, End]] = [(path, end) for path, cable in placed for end in (cable.a, cable.b)]
    uses += [
        (("hosts", host.name, "at"), End(host.device, host.port)) for host in hosts.values() if host.port is not None
    ]
    outside = None
    if section.outside is not None:
        uses.append((("outside", "at"), section.outside.at))
        outside = Outside(section.outside.at, tuple(section.outside.address), tuple(section.outside.next_hop))
    for path, end in uses:
        if end.device in devices:
            _port(check, path, end, devices)
    plugs(check, uses, devices)
    conventions = Conventions(**vars(section.conventions)) if section.conventions else Conventions()
    if conventions.untagged != "none":
        conventions = replace(
            conventions, untagged=check.vlan(("conventions", "untagged"), str(conventions.untagged), ids)
        )
    expect = check.expectations(section.expect, ids, hosts)
    check.finish()
    return Brief(
        title=section.title,
        space=tuple(section.space),
        reserved=tuple(section.reserved),
        conventions=conventions,
        vlans=vlans,
        devices=needs,
        gateways=tuple(gateways),
        hosts=hosts,
        cables=tuple(cable for _, cable in placed),
        outside=outside,
        expect=expect,
        source=tree.source,
        marks=tree.marks,
    )


def _port(check: Checker, path: Path, end: End, devices: dict[str, Any]) -> None:
    ports = devices[end.device].ports
    if ports is not None and end.port not in ports:
        shown = f"{ports[0]} to {ports[-1]}" if ports else "none"
        check.add(path, f"'{end.device}' has no port '{end.port}'; its ports: {shown}")
