"""What a network would be designed from: its brief, as far as a network tells it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from typing import TypeVar

from archipelago.addressing.values import Address, InterfaceAddress, Prefix
from archipelago.model.brief import Brief, DeviceNeed, GatewayPlace, HostNeed, VlanNeed
from archipelago.model.network import Network
from archipelago.model.parts import Device, Host, Port, Subinterface, VlanInterface

Value = TypeVar("Value", Address, Prefix)
Speaker = tuple[int, str, str | None, tuple[InterfaceAddress, ...]]
"""A VLAN that a routing device has an interface in: its id, the device, the router's port, the addresses."""


def needs_of(network: Network) -> Brief:
    """The brief of a network: its VLANs with the subnets and gateways that they have, its devices, hosts and cables.

    The subnets are its whole space: to allocate more, a person widens it. What a brief has no word for is not in it:
    routes, and the addresses of links between routing devices. How many ports a device has is left open: those that
    nothing goes into need not be written in a network.

    Args:
        network: the network; one that an addressing table described will do.

    Returns:
        The brief.
    """
    speakers = _by_use(network)
    hosts = {name: need for name, host in network.hosts.items() if (need := _host(network, host)) is not None}
    vlans: dict[str, VlanNeed] = {}
    for name, vlan in network.vlans.items():
        spoken = [address for number, _, _, addresses in speakers if number == vlan for address in addresses]
        held = [address for need in hosts.values() if need.vlan == vlan for address in need.addresses]
        subnets = _one_of_each_family(address.prefix for address in (*spoken, *held))
        vlans[name] = VlanNeed(
            name=name,
            id=vlan,
            hosts=sum(need.vlan == vlan for need in hosts.values()),
            subnet=subnets,
            gateway=_one_of_each_family(address.address for address in spoken),
            families=tuple(sorted({subnet.version for subnet in subnets})) or (4, 6),
        )
    return Brief(
        title=network.title,
        space=tuple(dict.fromkeys(subnet for need in vlans.values() for subnet in need.subnet)),
        vlans=vlans,
        devices={name: DeviceNeed(name, device.kind) for name, device in network.devices.items()},
        gateways=tuple(_gateways(speakers)),
        hosts=hosts,
        cables=network.cables,
        expect=network.expect,
    )


def _by_use(network: Network) -> list[Speaker]:
    """The speakers, those that more hosts use as their gateway first."""
    uses = Counter(hop.address for host in network.hosts.values() for hop in host.gateway)
    speakers = [speaker for device in network.devices.values() for speaker in _speakers(device)]
    return sorted(speakers, key=lambda speaker: -sum(uses[address.address] for address in speaker[3]))


def _speakers(device: Device) -> Iterator[Speaker]:
    for interface in device.interfaces.values():
        if isinstance(interface, Subinterface) and interface.tag is not None:
            yield interface.tag, device.name, interface.parent, interface.addresses
        elif isinstance(interface, VlanInterface) and device.kind == "l3switch":
            yield interface.vlan, device.name, None, interface.addresses


def _gateways(speakers: list[Speaker]) -> Iterator[GatewayPlace]:
    """The first speaker of each VLAN is its gateway; the VLANs of one place stand together."""
    first: dict[int, tuple[str, str | None]] = {}
    for vlan, device, port, addresses in speakers:
        if addresses:
            first.setdefault(vlan, (device, port))
    first = dict(sorted(first.items()))
    for place in dict.fromkeys(first.values()):
        yield GatewayPlace(tuple(vlan for vlan, where in first.items() if where == place), *place)


def _host(network: Network, host: Host) -> HostNeed | None:
    """What a host needs; None where its port is in no VLAN that has a name."""
    port = network.devices[host.at.device].ports.get(host.at.port, Port(host.at.port))
    vlan = port.access if port.trunk is None else port.untagged
    if not isinstance(vlan, int) or vlan not in network.vlans.values():
        return None
    return HostNeed(host.name, vlan, *host.at, addresses=host.addresses, auto=host.auto, dhcp=host.dhcp)


def _one_of_each_family(values: Iterator[Value]) -> tuple[Value, ...]:
    chosen: dict[int, Value] = {}
    for value in values:
        chosen.setdefault(value.version, value)
    return tuple(value for _, value in sorted(chosen.items()))
