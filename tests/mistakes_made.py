"""One mistake in a sound network, of every kind that was told wrongly once, with who holds it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from random import Random

from archipelago import Host, InterfaceAddress, Loopback, Network, Prefix, Route, Subinterface
from archipelago.model.network import with_changes
from archipelago.model.parts import Device, End, Interface

Made = tuple[str, tuple[str, ...], Network]
"""The kind of mistake, who may be named for it, and the network with it."""


def single_mistakes(network: Network, random: Random) -> Iterator[Made]:
    """Networks with one mistake each."""
    for device in network.devices.values():
        if device.kind != "switch":
            yield from _at_interfaces(network, device, random)
            yield from _at_ports(network, device)
            yield from _at_routes(network, device, random)
    for host in network.hosts.values():
        yield (
            "a host with an address of nowhere",
            (host.name,),
            _with_host(network, host, _elsewhere(host.addresses[0])),
        )
    for cable in network.cables:
        without = tuple(other for other in network.cables if other is not cable)
        yield "a cable missing", (cable.a.device, cable.b.device), with_changes(network, cables=without)


def _with_device(network: Network, device: Device) -> Network:
    return with_changes(network, devices={**network.devices, device.name: device})


def _with_host(network: Network, host: Host, address: InterfaceAddress) -> Network:
    changed = replace(host, addresses=(address, *host.addresses[1:]))
    return with_changes(network, hosts={**network.hosts, host.name: changed})


def _elsewhere(address: InterfaceAddress) -> InterfaceAddress:
    return address._replace(value=address.value + (1 << 16 if address.version == 4 else 1 << 70))


def _at_interfaces(network: Network, device: Device, random: Random) -> Iterator[Made]:
    def made(kind: str, interface: Interface) -> Made:
        interfaces = {**device.interfaces, interface.name: interface}
        return kind, (device.name,), _with_device(network, replace(device, interfaces=interfaces))

    for interface in device.interfaces.values():
        if not interface.addresses or isinstance(interface, Loopback):
            continue
        first, *others = interface.addresses
        yield made("a gateway of another subnet", replace(interface, addresses=(_elsewhere(first), *others)))
        yield made("a gateway without an address", replace(interface, addresses=()))
        left = {name: part for name, part in device.interfaces.items() if name != interface.name}
        yield "an interface missing", (device.name,), _with_device(network, replace(device, interfaces=left))
        if first.version == 4 and first.length < 30:
            narrow = first._replace(length=first.length + 2)
            yield made("a gateway's mask too narrow", replace(interface, addresses=(narrow, *others)))
        if isinstance(interface, Subinterface):
            taken = {other.tag for other in device.interfaces.values() if isinstance(other, Subinterface)}
            free = [vlan for vlan in network.vlans.values() if vlan not in taken]
            if free:
                yield made("a wrong tag", replace(interface, tag=random.choice(free)))


def _at_ports(network: Network, device: Device) -> Iterator[Made]:
    cabled = {end for cable in network.cables for end in (cable.a, cable.b)}
    for port in device.ports.values():
        if port.addresses and End(device.name, port.name) in cabled:
            moved = replace(port, addresses=(_elsewhere(port.addresses[0]), *port.addresses[1:]))
            ports = {**device.ports, port.name: moved}
            yield "a link of two subnets", (device.name,), _with_device(network, replace(device, ports=ports))


def _at_routes(network: Network, device: Device, random: Random) -> Iterator[Made]:
    def made(kind: str, routes: tuple[Route, ...]) -> Made:
        return kind, (device.name,), _with_device(network, replace(device, routes=routes))

    for route in device.routes:
        yield made("a route missing", tuple(other for other in device.routes if other is not route))
    hosts = [host for host in network.hosts.values() if host.addresses and host.addresses[0].version == 4]
    hops = [route.next_hop for route in device.routes if route.destination.version == 4]
    if hosts and hops:
        value = random.choice(hosts).addresses[0].value
        longer = Route(Prefix(4, value >> 2 << 2, 30), random.choice(hops))
        yield made("a longer route", (*device.routes, longer))
