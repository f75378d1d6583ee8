"""Parts of a network, by the names that people give them, and the network with some of them switched off."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from difflib import get_close_matches

from archipelago.errors import ModelError, QueryError
from archipelago.knowledge.known import Knowledge
from archipelago.model.network import Network, with_changes
from archipelago.model.parts import DEFAULT_VLAN, Cable, Device, End, Interface, Port, Subinterface, VlanInterface


def switched_off(knowledge: Knowledge, parts: Iterable[str]) -> Network:
    """The network with parts off.

    Args:
        knowledge: the network as it is.
        parts: each a device, a host, `DEVICE/PORT`, `DEVICE/INTERFACE`, a cable (`A/p1 ~ B/p2`), or a VLAN by name
            or id: it then exists nowhere, and its interfaces are off.

    Raises:
        QueryError: there is no such part.
    """
    network = knowledge.written
    for part in parts:
        network = _off(knowledge, network, part.strip())
    return network


def plugged_in(network: Network, moves: Iterable[str]) -> Network:
    """The network with hosts plugged in elsewhere, nothing else of them otherwise.

    Args:
        network: the network.
        moves: each `HOST=DEVICE/PORT`.

    Raises:
        QueryError: there is no such host, or the port is none that is free.
    """
    hosts = dict(network.hosts)
    for move in moves:
        name, equals, place = (word.strip() for word in move.partition("="))
        device, slash, port = place.partition("/")
        if not equals or not slash or not port or name not in hosts or device not in network.devices:
            raise QueryError(f"'{move}' moves no host of this network; write HOST=DEVICE/PORT")
        hosts[name] = replace(hosts[name], at=End(device, port))
    try:
        return replace(network, hosts=hosts)
    except ModelError as error:
        raise QueryError(f"nothing can be plugged in there: {error.problems[0].message}") from None


def _off(knowledge: Knowledge, network: Network, part: str) -> Network:
    name, slash, inner = part.partition("/")
    if "~" in part:
        return _cable_off(network, part)
    if part in network.devices:
        return _with(network, replace(network.devices[part], off=True))
    if part in network.hosts:
        host = network.hosts[part]
        return with_changes(network, hosts={**network.hosts, part: replace(host, off=True)})
    if slash and name in network.devices:
        return _inside_off(knowledge, network, network.devices[name], inner)
    vlan = network.vlan_called(part)
    if vlan == DEFAULT_VLAN:
        raise QueryError(f"VLAN {vlan} exists on every switch and cannot be switched off")
    if vlan is not None:
        return _vlan_off(network, vlan)
    raise QueryError(f"there is no part '{part}'{_hint(part, [*network.devices, *network.vlans, *network.hosts])}")


def _hint(part: str, known: list[str]) -> str:
    close = get_close_matches(part, known, n=1)
    meant = f"; did you mean '{close[0]}'?" if close else ""
    return f"{meant}; a part is a device, a host, DEVICE/PORT, DEVICE/INTERFACE, a cable 'A/p1 ~ B/p2' or a VLAN"


def _with(network: Network, device: Device) -> Network:
    return with_changes(network, devices={**network.devices, device.name: device})


def _inside_off(knowledge: Knowledge, network: Network, device: Device, name: str) -> Network:
    """A port or an interface of a device."""
    if name in device.interfaces:
        interface = replace(device.interfaces[name], off=True)
        off = replace(device, interfaces={**device.interfaces, name: interface})
    elif name in knowledge.ports[device.name]:
        off = replace(device, ports={**device.ports, name: replace(device.ports.get(name) or Port(name), off=True)})
    else:
        close = get_close_matches(name, [*device.interfaces, *knowledge.ports[device.name]], n=1)
        raise QueryError(
            f"'{device.name}' has no port or interface '{name}'" + (f"; did you mean '{close[0]}'?" if close else "")
        )
    return _with(network, off)


def _cable_off(network: Network, part: str) -> Network:
    ends = {end.strip() for end in part.split("~")}
    for index, cable in enumerate(network.cables):
        if {str(cable.a), str(cable.b)} == ends:
            cables = (*network.cables[:index], Cable(cable.a, cable.b, True), *network.cables[index + 1 :])
            return with_changes(network, cables=cables)
    close = get_close_matches(part, [str(cable) for cable in network.cables], n=1)
    raise QueryError(f"there is no cable '{part}'" + (f"; did you mean '{close[0]}'?" if close else ""))


def _vlan_off(network: Network, vlan: int) -> Network:
    devices = dict(network.devices)
    for device in network.devices.values():
        interfaces = {name: _left(interface, vlan) for name, interface in device.interfaces.items()}
        vlans = device.vlans
        if device.kind != "router":
            vlan_ids = tuple(network.vlans.values()) if vlans is None else vlans
            vlans = tuple(number for number in vlan_ids if number != vlan)
        if vlans != device.vlans or interfaces != device.interfaces:
            devices[device.name] = replace(device, vlans=vlans, interfaces=interfaces)
    return with_changes(network, devices=devices)


def _left(interface: Interface, vlan: int) -> Interface:
    number = interface.tag if isinstance(interface, Subinterface) else None
    number = interface.vlan if isinstance(interface, VlanInterface) else number
    return replace(interface, off=True) if number == vlan else interface


def joined_by_cables(knowledge: Knowledge, *, without: str = "", over_routers: bool = True) -> dict[str, str]:
    """The devices that are on, each with the first of those that cables join it to; as if a device or cable were not
    there, and routers joined nothing."""
    network = knowledge.written
    part = {
        name: name
        for name, device in network.devices.items()
        if not device.off and name != without and (over_routers or device.kind != "router")
    }

    def find(name: str) -> str:
        while part[name] != name:
            part[name] = part[part[name]]
            name = part[name]
        return name

    for cable in network.cables:
        joins = knowledge.links[cable.a].carrier and all(end.device in part for end in cable.ends)
        if joins and str(cable) != without:
            part[find(cable.a.device)] = find(cable.b.device)
    return {name: find(name) for name in part}
