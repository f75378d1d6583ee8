"""Which ports exist, what each is connected to, and which have carrier."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from archipelago.model.network import Aggregate, Cable, Device, End, Network, Port

HOST_PORT = "port"
"""How the one port, and the one interface, of a host is called."""
UNCABLED = "is not cabled"
"""How the reason ends that a port has no carrier for because nothing is plugged in."""
DEFAULT_SPEED = 10**9
"""Bits per second of a port whose speed is not written."""


@dataclass(frozen=True, slots=True)
class Link:
    """One port, physically. `blocked` says why it has no carrier, empty where it has; `delay` is in nanoseconds."""

    end: End
    peer: End | None
    cable: Cable | None
    blocked: str
    delay: int

    @property
    def carrier(self) -> bool:
        return not self.blocked


def port_names(network: Network) -> dict[str, dict[str, Port]]:
    """Every port of every device: those listed, then those that cables, hosts and aggregates make exist."""
    ports = {name: dict(device.ports) for name, device in network.devices.items()}
    for cable in network.cables:
        for end in (cable.a, cable.b):
            ports[end.device].setdefault(end.port, Port(end.port))
    for host in network.hosts.values():
        ports[host.at.device].setdefault(host.at.port, Port(host.at.port))
    for device in network.devices.values():
        for aggregate in aggregates(device):
            for member in aggregate.members:
                ports[device.name].setdefault(member, Port(member))
    return ports


def aggregates(device: Device) -> Iterator[Aggregate]:
    for interface in device.interfaces.values():
        if isinstance(interface, Aggregate):
            yield interface


def links(network: Network, ports: Mapping[str, Mapping[str, Port]]) -> dict[End, Link]:
    """Each port's peer and carrier. A port has carrier when it and its peer, both devices (or the host) and the
    cable are on; an aggregate that is off takes its members down."""
    off: dict[End, str] = {}
    speeds: dict[End, int] = {}
    for name, device in network.devices.items():
        held_down = {member: one.name for one in aggregates(device) if one.off for member in one.members}
        for port in ports[name].values():
            end = End(name, port.name)
            speeds[end] = port.speed or DEFAULT_SPEED
            if device.off:
                off[end] = f"{name} is off"
            elif port.off:
                off[end] = f"{end} is off"
            elif port.name in held_down:
                off[end] = f"aggregate {name}/{held_down[port.name]} is off"
    peers: dict[End, tuple[End, Cable | None]] = {}
    for cable in network.cables:
        peers[cable.a] = (cable.b, cable)
        peers[cable.b] = (cable.a, cable)
    for host in network.hosts.values():
        end = End(host.name, HOST_PORT)
        peers[host.at] = (end, None)
        peers[end] = (host.at, None)
        speeds[end] = speeds[host.at]
        if host.off:
            off[end] = f"{host.name} is off"
    found = {}
    for end, speed in speeds.items():
        peer, through = peers.get(end, (None, None))
        if peer is None:
            blocked = off.get(end) or f"{end} {UNCABLED}"
        else:
            blocked = off.get(end) or off.get(peer) or (f"cable {through} is off" if through and through.off else "")
        slowest = min(speed, speeds[peer]) if peer else speed
        found[end] = Link(end, peer, through, blocked, 500 + 1024 * 10**9 // slowest)
    return found
