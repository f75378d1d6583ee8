"""Where packets come in first: at the gateways of VLANs, and at the port to the outside."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from archipelago.addressing.values import Address, InterfaceAddress, Prefix
from archipelago.model.ends import OUTSIDE
from archipelago.model.network import Network
from archipelago.model.parts import End, Interface, Loopback, Port


@dataclass(frozen=True, slots=True)
class Entrance:
    """Where somebody's packets come in first: whose, at which interface of which device, and their subnets."""

    who: str
    at: End
    subnets: tuple[Prefix, ...]


def entrances_of(
    network: Network, gateways: Mapping[str, Sequence[tuple[Prefix, object]]], outside: End | None
) -> list[Entrance]:
    """Where each VLAN comes in: at each interface that holds its gateway's address, or shares it; and the outside, at
    its port.

    Args:
        network: the network.
        gateways: of each VLAN its subnets, each with the gateway's address.
        outside: the port that leads there, if one does.
    """
    answering: dict[tuple[Prefix, object], dict[End, None]] = {}
    for device in network.devices.values():
        for part in (*device.ports.values(), *device.interfaces.values()) if device.kind != "switch" else ():
            for own in part.addresses:
                for address in _answered(part, own):
                    answering.setdefault((own.prefix, address), {})[End(device.name, part.name)] = None
    found = []
    for who, subnets in gateways.items():
        ends = dict.fromkeys(end for held in subnets for end in answering.get(held, ()))
        found += [Entrance(who, end, tuple(prefix for prefix, _ in subnets)) for end in ends]
    if outside is not None:
        port = network.devices[outside.device].ports[outside.port]
        every = tuple(Prefix(version, 0, 0) for version in sorted({a.version for a in port.addresses}))
        found.append(Entrance(OUTSIDE, outside, every))
    return found


def _answered(part: Port | Interface, own: InterfaceAddress) -> tuple[Address, ...]:
    """An interface's own address, and those that it shares."""
    virtual = () if isinstance(part, Loopback) else part.virtual
    return (own.address, *(address for one in virtual for address in one.addresses))
