"""What a network would be designed from: its brief, as far as a network tells it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from typing import NamedTuple, TypeVar

from archipelago.addressing.values import Address, InterfaceAddress, Prefix
from archipelago.model.brief import Brief, DeviceNeed, GatewayPlace, HostNeed, VlanNeed
from archipelago.model.network import Network
from archipelago.model.parts import Device, Host, Port, Subinterface, VlanInterface
from archipelago.model.virtual import VirtualRouter

Value = TypeVar("Value", Address, Prefix)


class Speaker(NamedTuple):
    """An interface of a routing device in a VLAN, the router's port that it is a part of, and its parts in shared
    gateways."""

    vlan: int
    device: str
    port: str | None
    addresses: tuple[InterfaceAddress, ...]
    virtual: tuple[VirtualRouter, ...]

    @property
    def gateways(self) -> tuple[Address, ...]:
        """What hosts may have as their gateway: what is shared, else the own addresses."""
        shared = [address for one in self.virtual for address in one.addresses]
        return tuple(shared or (address.address for address in self.addresses))

    @property
    def priority(self) -> int:
        """The highest that it bids in a shared gateway."""
        return max((one.priority for one in self.virtual), default=0)


def needs_of(network: Network) -> Brief:
    """The brief of a network: its VLANs with the subnets and gateways that they have, its devices, hosts and cables.

    The subnets are its whole space: to allocate more, a person widens it. What a brief has no word for is not in it:
    routes, and the addresses of links between routing devices. How many ports a device has is left open: those that
    nothing goes into need not be written in a network.

    Args:
        network: the network; one that an address list described will do.

    Returns:
        The brief.
    """
    hosts = {name: need for name, host in network.hosts.items() if (need := _host(network, host)) is not None}
    vlans: dict[str, VlanNeed] = {}
    used = {need.vlan for need in hosts.values()}
    every = _by_vlan(network)
    linking = {vlan for vlan, speaking in every.items() if vlan not in used and _only_links(speaking)}
    speakers = {vlan: speaking for vlan, speaking in every.items() if vlan not in linking}
    for name, vlan in network.vlans.items():
        if vlan in linking:
            continue
        speaking = speakers.get(vlan, [])
        spoken = [address for speaker in speaking for address in speaker.addresses]
        held = [address for need in hosts.values() if need.vlan == vlan for address in need.addresses]
        subnets = _one_of_each_family(address.prefix for address in (*spoken, *held))
        vlans[name] = VlanNeed(
            name=name,
            id=vlan,
            hosts=sum(need.vlan == vlan for need in hosts.values()),
            subnet=subnets,
            gateway=_one_of_each_family(address for speaker in speaking for address in speaker.gateways),
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
        traffic=network.traffic,
    )


def _by_vlan(network: Network) -> dict[int, list[Speaker]]:
    """The speakers of each VLAN, those that more hosts use as their gateway first."""
    uses = Counter(hop.address for host in network.hosts.values() for hop in host.gateway)
    found: dict[int, list[Speaker]] = {}
    for device in network.devices.values():
        for speaker in _speakers(device):
            found.setdefault(speaker.vlan, []).append(speaker)
    for speaking in found.values():
        speaking.sort(key=lambda speaker: -sum(uses[address] for address in speaker.gateways))
    return found


def _speakers(device: Device) -> Iterator[Speaker]:
    for one in device.interfaces.values():
        if isinstance(one, Subinterface) and one.tag is not None:
            yield Speaker(one.tag, device.name, one.parent, one.addresses, one.virtual)
        elif isinstance(one, VlanInterface) and device.kind == "l3switch":
            yield Speaker(one.vlan, device.name, None, one.addresses, one.virtual)


def _only_links(speaking: list[Speaker]) -> bool:
    """Whether a VLAN without hosts is there to link routing devices: several speak in it, and not all share one
    gateway."""
    return len({one.device for one in speaking}) > 1 and not all(one.virtual for one in speaking)


def _gateways(speakers: dict[int, list[Speaker]]) -> Iterator[GatewayPlace]:
    """The first speaker of each VLAN is its gateway, with the layer 3 switches that share it, in the order of what they
    bid; the VLANs of the same places stand together."""
    places: dict[tuple[tuple[str, str | None], ...], list[int]] = {}
    for vlan, speaking in sorted(speakers.items()):
        first = next((speaker for speaker in speaking if speaker.addresses), None)
        if first is None:
            continue
        shared = {address for one in first.virtual for address in one.addresses}
        members = [one for one in speaking if one.virtual and one.port is None and shared.intersection(one.gateways)]
        members = sorted(members if len(members) > 1 else [first], key=lambda one: -one.priority)
        places.setdefault(tuple((one.device, one.port) for one in members), []).append(vlan)
    for place, vlans in places.items():
        yield GatewayPlace(tuple(vlans), *place[0], partners=place[1:], shared=len(place) > 1)


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
