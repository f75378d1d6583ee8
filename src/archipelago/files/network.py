"""The network document: its keys, how it becomes a network, and how a network is written."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from itertools import chain
from typing import Any, Literal

from archipelago.addressing.values import InterfaceAddress, is_link_local
from archipelago.files import fields
from archipelago.files.bulk import Bulk, members, spread_ports, take_out
from archipelago.files.check import Checker
from archipelago.files.shape import Each, Field, Section, Several
from archipelago.files.tree import Tree
from archipelago.model.network import (
    Aggregate,
    Device,
    End,
    Host,
    Interface,
    Loopback,
    Network,
    NextHop,
    Path,
    Port,
    Route,
    Subinterface,
    VlanInterface,
)

FORMAT = "archipelago-network/1"


PORT = Section(
    {
        "speed": Field(fields.speed),
        "off": Field(fields.flag, False),
        "access": Field(fields.text),
        "trunk": Field(fields.trunk),
        "untagged": Field(fields.text),
        "address": Field(Several(fields.an_interface_address), ()),
        "routed": Field(fields.flag, False),
        "vrf": Field(fields.name),
    }
)

INTERFACE = Section(
    {
        "parent": Field(fields.text),
        "tag": Field(fields.text),
        "untagged": Field(fields.text),
        "vlan": Field(fields.text),
        "members": Field(Several(fields.text)),
        "loopback": Field(fields.flag, False),
        "access": Field(fields.text),
        "trunk": Field(fields.trunk),
        "routed": Field(fields.flag, False),
        "address": Field(Several(fields.an_interface_address), ()),
        "off": Field(fields.flag, False),
        "vrf": Field(fields.name),
    }
)

ROUTE = Section(
    {
        "destination": Field(fields.a_prefix, required=True),
        "next-hop": Field(fields.a_next_hop, required=True),
        "metric": Field(fields.metric, 1),
        "vrf": Field(fields.name),
    }
)

DEVICE = Section(
    {
        "kind": Field(fields.kinds, required=True),
        "routing": Field(Several(fields.family)),
        "vlans": Field(Several(fields.text)),
        "ports": Field(Each(PORT, fields.name), {}),
        "interfaces": Field(Each(INTERFACE, fields.name), {}),
        "routes": Field(Each(ROUTE), ()),
        "gateway": Field(Several(fields.a_next_hop), ()),
        "off": Field(fields.flag, False),
        "unresolved": Field(fields.unresolved),
    }
)

HOST = Section(
    {
        "at": Field(fields.end, required=True),
        "address": Field(Several(fields.a_host_address), ()),
        "gateway": Field(Several(fields.a_next_hop), ()),
        "off": Field(fields.flag, False),
        "unresolved": Field(fields.unresolved),
    }
)

NETWORK = Section(
    {
        "format": Field(fields.format_is(FORMAT), required=True),
        "title": Field(fields.text, ""),
        "vlans": Field(Each(fields.vlan_id, fields.name), {}),
        "devices": Field(Each(DEVICE, fields.name), {}),
        "hosts": Field(Each(HOST, fields.name), {}),
        "cables": fields.CABLES,
        "expect": fields.EXPECT,
    }
)


def network_from(tree: Tree) -> Network:
    """The network that a tree describes.

    Raises:
        DocumentError: with every problem of the file.
    """
    checker = Checker(tree)
    spread_ports(checker)
    bulks = take_out(checker, HOST)
    return _NetworkReader(checker, checker.shape(NETWORK), bulks).read()


class _NetworkReader:
    """Turns the checked shape into the model, resolving every reference."""

    def __init__(self, checker: Checker, section: Any, bulks: list[Bulk]) -> None:
        self.check = checker
        self.section = section
        self.bulks = bulks
        self.vlans = dict(section.vlans)

    def read(self) -> Network:
        check, section = self.check, self.section
        catalogue(check, self.vlans)
        placed = [(path, fields.cable_of(cable)) for path, cable in section.cables]
        hosts = {
            name: Host(
                name=name,
                at=host.at,
                addresses=fields.held(host.address),
                gateway=tuple(host.gateway),
                off=host.off,
                unresolved=host.unresolved,
                auto=fields.AUTO in host.address,
            )
            for name, host in chain(section.hosts.items(), members(check, self.bulks, section.hosts))
        }
        used = plugs(
            check,
            [(path, end) for path, cable in placed for end in (cable.a, cable.b)]
            + [(("hosts", name, "at"), host.at) for name, host in hosts.items()],
            section.devices,
        )
        in_use: dict[str, set[str]] = {}
        for end in used:
            in_use.setdefault(end.device, set()).add(end.port)
        devices = {
            name: self._device(name, device, in_use.get(name, set())) for name, device in section.devices.items()
        }
        for name, host in hosts.items():
            path: Path = ("hosts", name)
            if name in devices:
                check.add(path, f"'{name}' is a device too; hosts and devices have names of their own", key=True)
            self._held(path, host.addresses)
            for hop in host.gateway:
                if hop.interface:
                    check.add((*path, "gateway"), f"'{hop}': a host has one interface; leave out '%{hop.interface}'")
        expect = check.expectations(section.expect, self.vlans, hosts)
        check.finish()
        return Network(
            title=section.title,
            vlans=self.vlans,
            devices=devices,
            hosts=hosts,
            cables=tuple(cable for _, cable in placed),
            expect=expect,
            source=check.tree.source,
            marks=check.tree.marks,
        )

    def _device(self, name: str, section: Any, used: set[str]) -> Device:
        check, path = self.check, ("devices", name)
        if section.kind == "l3switch" and section.routing is None:
            check.add(
                path,
                f"l3switch '{name}' lacks the key 'routing'; write routing: [ipv4, ipv6], or [] to switch only",
                key=True,
            )
        if section.kind == "switch" and section.routing:
            check.add(
                (*path, "routing"), f"switch '{name}' never forwards between its interfaces; its kind would be l3switch"
            )
        if section.kind == "router" and section.vlans is not None:
            check.add(
                (*path, "vlans"), f"router '{name}' has no VLANs of its own; its subinterfaces carry tags", key=True
            )
        vlans = None
        if section.vlans is not None:
            vlans = tuple(self._vlan((*path, "vlans", i), vlan) for i, vlan in enumerate(section.vlans))
        members = {m for interface in section.interfaces.values() for m in interface.members or ()}
        known = {*section.ports, *members, *used}
        ports = {
            port: self._port((*path, "ports", port), port, one, section.kind, members)
            for port, one in section.ports.items()
        }
        interfaces = {}
        for label, one in section.interfaces.items():
            where: Path = (*path, "interfaces", label)
            if label in known:
                check.add(
                    where,
                    f"'{label}' is a port of '{name}' too; ports and interfaces have names of their own",
                    key=True,
                )
            interface = self._interface(where, label, one, section, known)
            if interface is not None:
                interfaces[label] = interface
        self._relations(path, interfaces, ports)
        routes = []
        for where, route in section.routes:
            self._next_hop((*where, "next-hop"), route.next_hop, {*known, *interfaces})
            if route.destination.version != route.next_hop.address.version:
                check.add(
                    (*where, "next-hop"), f"next hop {route.next_hop} is not of the family of {route.destination}"
                )
            routes.append(Route(route.destination, route.next_hop, route.metric, route.vrf))
        for hop in section.gateway:
            self._next_hop((*path, "gateway"), hop, {*known, *interfaces})
        routing = None if section.routing is None else tuple(sorted(set(section.routing)))
        return Device(
            name=name,
            kind=section.kind,
            routing=routing,
            vlans=vlans,
            ports=ports,
            interfaces=interfaces,
            routes=tuple(routes),
            gateway=tuple(section.gateway),
            off=section.off,
            unresolved=section.unresolved,
        )

    def _next_hop(self, path: Path, hop: NextHop, accepted: Iterable[str]) -> None:
        if hop.interface is not None:
            self.check.name(path, hop.interface, accepted, "port or interface")
        elif is_link_local(hop.address):
            self.check.add(
                path, f"'{hop}' is valid on one link only; name the interface after '%', such as {hop}%p1 (RFC 4007)"
            )

    def _held(self, path: Path, addresses: Iterable[InterfaceAddress]) -> None:
        for held in addresses:
            first = held.value >> 24 if held.version == 4 else held.value >> 120
            if held.value == 0 or (
                first >= 224 or first in (0, 127) if held.version == 4 else first == 0xFF or held.value == 1
            ):
                self.check.add((*path, "address"), f"{held} is not an address that an interface can hold")

    def _vlan(self, path: Path, value: str) -> int:
        return self.check.vlan(path, value, self.vlans)

    def _switching(self, path: Path, one: Any) -> dict[str, Any]:
        """The access, trunk and untagged keys of a port or aggregate, resolved."""
        check = self.check
        trunk: tuple[int, ...] | Literal["all"] | None = None
        if one.trunk is not None:
            given = one.trunk
            trunk = "all" if given == "all" else tuple(self._vlan((*path, "trunk", i), v) for i, v in enumerate(given))
            if one.access is not None:
                check.add((*path, "access"), "a port is an access port or a trunk, not both; remove one", key=True)
        if one.untagged is not None and one.trunk is None:
            check.add(
                (*path, "untagged"), "'untagged' belongs to a trunk; an access port writes 'access: VLAN'", key=True
            )
        untagged: int | Literal["none"] | None = None
        if one.untagged is not None:
            untagged = "none" if one.untagged == "none" else self._vlan((*path, "untagged"), one.untagged)
        access = None if one.access is None else self._vlan((*path, "access"), one.access)
        if (one.address or one.routed) and (one.access is not None or one.trunk is not None):
            key = "address" if one.address else "routed"
            check.add(
                (*path, key), f"'{key}' makes this a routed port, which takes neither 'access' nor 'trunk'", key=True
            )
        return {"access": access, "trunk": trunk, "untagged": untagged}

    def _port(self, path: Path, name: str, one: Any, kind: str, members: set[str]) -> Port:
        if name in members:
            for key in ("access", "trunk", "untagged", "address", "routed", "vrf"):
                if getattr(one, key) not in (None, (), False):
                    self.check.add(
                        (*path, key), f"'{name}' is an aggregate's member, which takes only 'off' and 'speed'", key=True
                    )
        self._of_kind(path, one, kind)
        self._held(path, one.address)
        return Port(
            name,
            one.speed,
            one.off,
            addresses=tuple(one.address),
            routed=one.routed,
            vrf=one.vrf,
            **self._switching(path, one),
        )

    def _of_kind(self, path: Path, one: Any, kind: str) -> None:
        for key in ("access", "trunk", "untagged"):
            if kind == "router" and getattr(one, key) is not None:
                self.check.add(
                    (*path, key), "a router's port is routed and takes 'address', not switching keys", key=True
                )
        if kind == "switch" and (one.address or one.routed):
            key = "address" if one.address else "routed"
            self.check.add((*path, key), "a switch has no routed ports; give a VLAN interface the address", key=True)

    def _interface(self, path: Path, name: str, one: Any, device: Any, known: set[str]) -> Interface | None:
        check = self.check
        kinds: dict[str, tuple[bool, set[str]]] = {
            "parent": (one.parent is not None, {"parent", "tag", "untagged"}),
            "vlan": (one.vlan is not None, {"vlan"}),
            "members": (one.members is not None, {"members", "access", "trunk", "untagged", "routed"}),
            "loopback": (one.loopback, {"loopback"}),
        }
        present = [key for key, (given, _) in kinds.items() if given]
        if len(present) != 1:
            which = f"has {' and '.join(present)}" if present else "has none of them"
            check.add(
                path,
                f"interface '{name}' {which}; give it one: 'parent' (a subinterface), 'vlan' (a VLAN interface), "
                "'members' (an aggregate) or 'loopback'",
                key=True,
            )
            return None
        accepted = kinds[present[0]][1] | {"address", "off", "vrf"}
        given = {key for key, value in vars(one).items() if value not in (None, (), False)}
        for key in sorted(given - accepted):
            check.add(
                (*path, key),
                f"'{key}' does not go with '{present[0]}'; accepted: {', '.join(sorted(accepted))}",
                key=True,
            )
        self._held(path, one.address)
        addresses = tuple(one.address)
        if one.loopback:
            return Loopback(name, addresses, one.off, one.vrf)
        if one.vlan is not None:
            if device.kind == "router":
                check.add(
                    (*path, "vlan"), "a router has subinterfaces ('parent' and 'tag'), not VLAN interfaces", key=True
                )
            return VlanInterface(name, self._vlan((*path, "vlan"), one.vlan), addresses, one.off, one.vrf)
        if one.members is not None:
            for index, member in enumerate(one.members):
                if not fields.NAME.fullmatch(member):
                    check.add((*path, "members", index), f"'{member}' is not the name of a port")
            self._of_kind(path, one, device.kind)
            return Aggregate(
                name,
                tuple(one.members),
                one.off,
                addresses=addresses,
                routed=one.routed,
                vrf=one.vrf,
                **self._switching(path, one),
            )
        return self._subinterface(path, name, one, device, known)

    def _subinterface(self, path: Path, name: str, one: Any, device: Any, known: set[str]) -> Interface:
        check = self.check
        parent = str(one.parent)
        aggregates = {label: other for label, other in device.interfaces.items() if other.members is not None}
        if check.name((*path, "parent"), parent, {*known, *aggregates}, "port or aggregate"):
            holder = aggregates.get(parent) or device.ports.get(parent)
            if device.kind == "switch" or (
                device.kind == "l3switch" and not (holder and (holder.address or holder.routed))
            ):
                check.add(
                    (*path, "parent"),
                    f"'{parent}' is a switched port; a subinterface sits on a routed one "
                    "('routed: true' on an l3switch, or a router)",
                )
        tag = None if one.tag is None else self._vlan((*path, "tag"), one.tag)
        untagged = False
        if one.untagged is not None:
            if one.untagged not in ("true", "false", "yes", "no"):
                check.add((*path, "untagged"), f"'{one.untagged}' is neither true nor false")
            untagged = one.untagged in ("true", "yes")
        return Subinterface(
            name=name, parent=parent, tag=tag, untagged=untagged, addresses=tuple(one.address), off=one.off, vrf=one.vrf
        )

    def _relations(self, path: Path, interfaces: Mapping[str, Interface], ports: Mapping[str, Port]) -> None:
        """What must hold between the interfaces of one device."""
        check = self.check
        by_vlan: dict[int, str] = {}
        by_member: dict[str, str] = {}
        for name, interface in interfaces.items():
            where: Path = (*path, "interfaces", name)
            if isinstance(interface, VlanInterface):
                first = by_vlan.setdefault(interface.vlan, name)
                if first != name:
                    check.add(
                        (*where, "vlan"),
                        f"VLAN {interface.vlan} has the VLAN interface '{first}' already; it takes one",
                    )
            elif isinstance(interface, Aggregate):
                for index, member in enumerate(interface.members):
                    first = by_member.setdefault(member, name)
                    if first != name:
                        check.add((*where, "members", index), f"'{member}' is a member of '{first}' already")
            elif isinstance(interface, Subinterface):
                if interface.parent in by_member:
                    check.add(
                        (*where, "parent"),
                        f"'{interface.parent}' is a member of '{by_member[interface.parent]}'; name that",
                    )
                holder = ports.get(interface.parent) or interfaces.get(interface.parent)
                if interface.untagged and isinstance(holder, (Port, Aggregate)) and holder.addresses:
                    check.add(
                        (*where, "untagged"),
                        f"'{interface.parent}' has an address of its own, which is untagged already; "
                        "keep one of the two",
                        key=True,
                    )


def catalogue(check: Checker, vlans: Mapping[str, int]) -> None:
    """Each id has one name, and no name is a word of the format."""
    seen: dict[int, str] = {}
    for name, number in vlans.items():
        if name in ("all", "none"):
            check.add(
                ("vlans", name), f"'{name}' has a meaning of its own on trunks; give the VLAN another name", key=True
            )
        first = seen.setdefault(number, name)
        if first != name:
            check.add(("vlans", name), f"VLAN id {number} is '{first}' already; each VLAN has an id of its own")


def plugs(check: Checker, uses: Iterable[tuple[Path, End]], devices: Mapping[str, Any]) -> set[End]:
    """Every port in use; each is used once, on a device that exists, and is not the name of an interface."""
    used: dict[End, Path] = {}
    for path, end in uses:
        if not check.name(path, end.device, devices, "device"):
            continue
        if end.port in getattr(devices[end.device], "interfaces", {}):
            check.add(path, f"{end} is an interface; cables and hosts go into ports")
        if end in used:
            line = check.tree.marks[used[end]].line if used[end] in check.tree.marks else 0
            check.add(path, f"port {end} is used twice (first on line {line}); a port takes one cable or one host")
        used.setdefault(end, path)
    return set(used)
