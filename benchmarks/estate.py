"""Large networks, made by rule and straight into the model: a tree of layer 3 switches that each route some VLANs,
one access switch for each VLAN, and the hosts spread evenly."""

from __future__ import annotations

from archipelago.addressing.values import Address, InterfaceAddress, Prefix
from archipelago.model.network import Network
from archipelago.model.parts import Cable, Device, End, Host, NextHop, Port, Route, VlanInterface

SPACE = 10 << 24
"""VLAN number n has the n-th block of 512 addresses of 10.0.0.0/8."""
LINKS = 172 << 24 | 16 << 16
"""Links between routing devices are /31 out of 172.16.0.0/12."""


def estate(devices: int, vlans: int, hosts: int) -> Network:
    """A sound network with so many routing devices, VLANs and hosts.

    Args:
        devices: routing devices; number n is cabled to number (n - 1) // 2 above it.
        vlans: VLANs, at most 4,093, spread over the devices; each has a /23 and an access switch of its own.
        hosts: hosts, spread over the VLANs, at most 500 in each.
    """
    names = {f"v{number}": 2 + number for number in range(vlans)}
    here = [range(device, vlans, devices) for device in range(devices)]
    below: list[list[int]] = [[] for _ in range(devices)]
    for number in range(1, devices):
        below[(number - 1) // 2].append(number)
    built: dict[str, Device] = {}
    cables = []
    for number in range(devices):
        name = f"isle-{number}"
        ports = {f"q{vlan}": Port(f"q{vlan}", access=2 + vlan) for vlan in here[number]}
        if number:
            ports["up"] = Port("up", addresses=(InterfaceAddress(4, LINKS + 2 * number, 31),))
            cables.append(Cable(End(f"isle-{(number - 1) // 2}", f"down-{number}"), End(name, "up")))
        for other in below[number]:
            held = InterfaceAddress(4, LINKS + 2 * other + 1, 31)
            ports[f"down-{other}"] = Port(f"down-{other}", addresses=(held,))
        interfaces = {
            f"gw-{vlan}": VlanInterface(f"gw-{vlan}", 2 + vlan, (InterfaceAddress(4, SPACE + (vlan << 9) + 1, 23),))
            for vlan in here[number]
        }
        routes = [
            Route(Prefix(4, SPACE + (vlan << 9), 23), NextHop(Address(4, LINKS + 2 * other)))
            for other in below[number]
            for under in _under(other, devices)
            for vlan in here[under]
        ]
        if number:
            routes.append(Route(Prefix(4, 0, 0), NextHop(Address(4, LINKS + 2 * number + 1))))
        own = tuple(2 + vlan for vlan in here[number])
        built[name] = Device(name, "l3switch", (4,), own, ports, interfaces, tuple(routes))
        for vlan in here[number]:
            quay = f"quay-{vlan}"
            seats = {f"p{seat}": Port(f"p{seat}", access=2 + vlan) for seat in range(-(-hosts // vlans))}
            built[quay] = Device(quay, "switch", None, (2 + vlan,), {"up": Port("up", access=2 + vlan), **seats})
            cables.append(Cable(End(name, f"q{vlan}"), End(quay, "up")))
    people = {}
    for number in range(hosts):
        vlan, seat = number % vlans, number // vlans
        name = f"host-{number}"
        held = InterfaceAddress(4, SPACE + (vlan << 9) + 2 + seat, 23)
        people[name] = Host(
            name, End(f"quay-{vlan}", f"p{seat}"), (held,), (NextHop(Address(4, SPACE + (vlan << 9) + 1)),)
        )
    return Network("Tern Bay at scale", names, built, people, tuple(cables))


def _under(device: int, devices: int) -> list[int]:
    """A routing device and all below it."""
    found, layer = [], [device]
    while layer:
        found += layer
        layer = [child for one in layer for child in (2 * one + 1, 2 * one + 2) if child < devices]
    return found
