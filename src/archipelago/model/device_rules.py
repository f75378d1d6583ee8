"""What must hold within one device, whoever writes it down."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import fields
from operator import attrgetter

from archipelago.addressing.values import is_link_local
from archipelago.errors import ModelProblem
from archipelago.model.filter_rules import filter_problems
from archipelago.model.key import Holder
from archipelago.model.parts import (
    USUAL_MTU,
    Aggregate,
    Device,
    Interface,
    Loopback,
    NextHop,
    Path,
    Port,
    Subinterface,
    VlanInterface,
)
from archipelago.model.problems import Catalogue, Names, Problems, held_problems, mtu_problems, vlan_problems
from archipelago.model.virtual_rules import tree_problems, virtual_problems

HOLDERS: Mapping[type, Holder] = {
    Port: Holder.PORT,
    Subinterface: Holder.SUBINTERFACE,
    VlanInterface: Holder.VLAN_INTERFACE,
    Aggregate: Holder.AGGREGATE,
    Loopback: Holder.LOOPBACK,
}
"""What each kind of interface may have."""


def device_problems(device: Device, in_use: Collection[str], vlans: Catalogue, names: Names) -> Problems:
    """Everything wrong in one device.

    Args:
        device: the device.
        in_use: its ports that something is plugged into.
        vlans: the catalogue.
        names: for messages.
    """
    path: Path = ("devices", device.name)
    yield from _kind_problems(device, path)
    for key, written in (("vlans", device.vlans), ("suspended-vlans", device.suspended_vlans)):
        for number, vlan in enumerate(written or ()):
            yield from vlan_problems((*path, key, number), vlan, vlans)
    aggregates = {name: other for name, other in device.interfaces.items() if isinstance(other, Aggregate)}
    members = {member for aggregate in aggregates.values() for member in aggregate.members}
    known = {*device.ports, *members, *in_use}
    sound: Port | None = None
    for name, port in device.ports.items():
        if sound is not None and name not in members and _set_alike(port, sound):
            continue  # a range gives many ports one set of keys, which is judged once
        problems = list(_port_problems((*path, "ports", name), port, device.kind, members, vlans))
        yield from problems
        sound = port if not problems and name not in members else sound
    for name, interface in device.interfaces.items():
        where: Path = (*path, "interfaces", name)
        if name in known:
            message = f"'{name}' is a port of '{device.name}' too; ports and interfaces have names of their own"
            yield ModelProblem(where, message, True)
        yield from _interface_problems(where, interface, device.kind, vlans)
        if isinstance(interface, Subinterface):
            yield from _subinterface_problems(where, interface, device, known, aggregates, names)
    yield from _relation_problems(path, device)
    yield from filter_problems(device, names)
    yield from virtual_problems(device, known, names)
    yield from tree_problems(device)
    yield from _route_problems(path, device, {*known, *device.interfaces}, names)


def _kind_problems(device: Device, path: Path) -> Problems:
    if device.kind == "l3switch" and device.routing is None:
        message = f"l3switch '{device.name}' lacks the key 'routing'; write routing: [ipv4, ipv6], or [] to switch only"
        yield ModelProblem(path, message, True)
    if device.kind == "switch" and device.routing:
        message = f"switch '{device.name}' never forwards between its interfaces; its kind would be l3switch"
        yield ModelProblem((*path, "routing"), message)
    if device.kind == "router" and device.vlans is not None:
        message = f"router '{device.name}' has no VLANs of its own; its subinterfaces carry tags"
        yield ModelProblem((*path, "vlans"), message, True)
    if device.kind == "router" and device.suspended_vlans:
        message = f"router '{device.name}' has no VLANs of its own, so it suspends none"
        yield ModelProblem((*path, "suspended-vlans"), message, True)


_SETTINGS = tuple(spec.name for spec in fields(Port) if spec.name not in ("name", "speed", "off", "description"))
"""What a port has that the member of an aggregate has not."""
_settings_of = attrgetter(*_SETTINGS)


def _set_alike(port: Port, other: Port) -> bool:
    """Whether two ports have the same keys with the same values, as far as something can be wrong with them."""
    return bool(_settings_of(port) == _settings_of(other)) and not port.virtual


def _port_problems(path: Path, port: Port, kind: str, members: Collection[str], vlans: Catalogue) -> Problems:
    if port.name in members:
        for key in _SETTINGS:
            if getattr(port, key) not in (None, (), False):
                message = f"'{port.name}' is an aggregate's member, which takes only 'off' and 'speed'"
                yield ModelProblem((*path, key.removesuffix("es").replace("_", "-")), message, True)
    yield from _switching_problems(path, port, kind, vlans)
    yield from held_problems(path, port.addresses)
    yield from mtu_problems(path, port)


def _switching_problems(path: Path, port: Port | Aggregate, kind: str, vlans: Catalogue) -> Problems:
    """The keys of a port or aggregate that a kind of device does not have, or that contradict each other."""
    for key in ("access", "trunk", "untagged"):
        if kind == "router" and getattr(port, key) is not None:
            message = "a router's port is routed and takes 'address', not switching keys"
            yield ModelProblem((*path, key), message, True)
    for key, is_written in (("path-cost", port.path_cost is not None), ("edge", port.edge)):
        if is_written and (kind == "router" or port.addresses or port.routed):
            message = f"'{key}' is the spanning tree's, which a routed port takes no part in; leave it out"
            yield ModelProblem((*path, key), message, True)
    routed = "address" if port.addresses else "routed" if port.routed else ""
    if kind == "switch" and routed:
        yield ModelProblem((*path, routed), "a switch has no routed ports; give a VLAN interface the address", True)
    if port.trunk is not None and port.access is not None:
        yield ModelProblem((*path, "access"), "a port is an access port or a trunk, not both; remove one", True)
    if port.untagged is not None and port.trunk is None:
        message = "'untagged' belongs to a trunk; an access port writes 'access: VLAN'"
        yield ModelProblem((*path, "untagged"), message, True)
    if routed and (port.access is not None or port.trunk is not None):
        message = f"'{routed}' makes this a routed port, which takes neither 'access' nor 'trunk'"
        yield ModelProblem((*path, routed), message, True)
    yield from vlan_problems((*path, "access"), port.access, vlans)
    yield from vlan_problems((*path, "untagged"), port.untagged if isinstance(port.untagged, int) else None, vlans)
    for number, vlan in enumerate(port.trunk if isinstance(port.trunk, tuple) else ()):
        yield from vlan_problems((*path, "trunk", number), vlan, vlans)


def _interface_problems(path: Path, interface: Interface, kind: str, vlans: Catalogue) -> Problems:
    yield from held_problems(path, interface.addresses)
    if not isinstance(interface, Loopback):
        yield from mtu_problems(path, interface)
    if isinstance(interface, VlanInterface):
        if kind == "router":
            message = "a router has subinterfaces ('parent' and 'tag'), not VLAN interfaces"
            yield ModelProblem((*path, "vlan"), message, True)
        yield from vlan_problems((*path, "vlan"), interface.vlan, vlans)
    elif isinstance(interface, Aggregate):
        yield from _switching_problems(path, interface, kind, vlans)
        if interface.shared_with is not None and (kind == "router" or interface.addresses or interface.routed):
            message = "only an aggregate that switches is shared; a routed one has an address of its own"
            yield ModelProblem((*path, "shared-with"), message, True)
    elif isinstance(interface, Subinterface):
        yield from vlan_problems((*path, "tag"), interface.tag, vlans)


def _subinterface_problems(
    path: Path,
    subinterface: Subinterface,
    device: Device,
    known: Collection[str],
    aggregates: Mapping[str, Aggregate],
    names: Names,
) -> Problems:
    if subinterface.parent not in known and subinterface.parent not in aggregates:
        yield from names.unknown((*path, "parent"), subinterface.parent, {*known, *aggregates}, "port or aggregate")
        return
    holder = aggregates.get(subinterface.parent) or device.ports.get(subinterface.parent)
    routed = holder is not None and bool(holder.addresses or holder.routed)
    if device.kind == "switch" or (device.kind == "l3switch" and not routed):
        message = (
            f"'{subinterface.parent}' is a switched port; a subinterface sits on a routed one "
            "('routed: true' on an l3switch, or a router)"
        )
        yield ModelProblem((*path, "parent"), message)
    most = holder.mtu or USUAL_MTU if holder is not None else USUAL_MTU
    if subinterface.mtu is not None and subinterface.mtu > most:
        message = f"'{subinterface.parent}' passes {most:,} octets, and a part of it no more; raise its 'mtu' first"
        yield ModelProblem((*path, "mtu"), message)
    for other in aggregates.values():
        if subinterface.parent in other.members:
            yield ModelProblem((*path, "parent"), f"'{subinterface.parent}' is a member of '{other.name}'; name that")
    if subinterface.untagged and holder is not None and holder.addresses:
        message = f"'{subinterface.parent}' has an address of its own, which is untagged already; keep one of the two"
        yield ModelProblem((*path, "untagged"), message, True)


def _relation_problems(path: Path, device: Device) -> Problems:
    """What must hold between the interfaces of one device."""
    by_vlan: dict[int, str] = {}
    by_member: dict[str, str] = {}
    for name, interface in device.interfaces.items():
        where: Path = (*path, "interfaces", name)
        if isinstance(interface, VlanInterface) and interface.vlan:
            first = by_vlan.setdefault(interface.vlan, name)
            if first != name:
                message = f"VLAN {interface.vlan} has the VLAN interface '{first}' already; it takes one"
                yield ModelProblem((*where, "vlan"), message)
        for number, member in enumerate(interface.members if isinstance(interface, Aggregate) else ()):
            first = by_member.setdefault(member, name)
            if first != name or (isinstance(interface, Aggregate) and interface.members.index(member) != number):
                yield ModelProblem((*where, "members", number), f"'{member}' is a member of '{first}' already")


def _route_problems(path: Path, device: Device, interfaces: Collection[str], names: Names) -> Problems:
    for number, route in enumerate(device.routes):
        where: Path = (*path, "routes", number)
        yield from _next_hop_problems((*where, "next-hop"), route.next_hop, interfaces, names)
        if route.destination.version != route.next_hop.address.version:
            message = f"next hop {route.next_hop} is not of the family of {route.destination}"
            yield ModelProblem((*where, "next-hop"), message)
    for hop in device.gateway:
        yield from _next_hop_problems((*path, "gateway"), hop, interfaces, names)


def _next_hop_problems(path: Path, hop: NextHop, interfaces: Collection[str], names: Names) -> Problems:
    if hop.interface is not None:
        yield from names.unknown(path, hop.interface, interfaces, "port or interface")
    elif is_link_local(hop.address):
        message = f"'{hop}' is valid on one link only; name the interface after '%', such as {hop}%p1 (RFC 4007)"
        yield ModelProblem(path, message)
