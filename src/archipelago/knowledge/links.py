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


@dataclass(frozen=True, slots=True)
class Plugs:
    """What is plugged in where, on or off: at each cabled port the far end and the cable's place in the network's
    list, and the host at each port that has one."""

    cabled: Mapping[End, tuple[End, int]]
    hosts: Mapping[End, str]


def plugs(network: Network) -> Plugs:
    cabled: dict[End, tuple[End, int]] = {}
    for index, cable in enumerate(network.cables):
        cabled[cable.a] = (cable.b, index)
        cabled[cable.b] = (cable.a, index)
    return Plugs(cabled, {host.at: host.name for host in network.hosts.values()})


def port_names(network: Network) -> dict[str, dict[str, Port]]:
    """Every port of every device: those listed, then those that cables, hosts and aggregates make exist."""
    ports = {name: dict(device.ports) for name, device in network.devices.items()}

    def exists(end: End) -> None:
        if end.port not in ports[end.device]:
            ports[end.device][end.port] = Port(end.port)

    for cable in network.cables:
        exists(cable.a)
        exists(cable.b)
    for host in network.hosts.values():
        exists(host.at)
    for device in network.devices.values():
        for aggregate in aggregates(device):
            for member in aggregate.members:
                exists(End(device.name, member))
    return ports


def aggregates(device: Device) -> Iterator[Aggregate]:
    for interface in device.interfaces.values():
        if isinstance(interface, Aggregate):
            yield interface


class Links:
    """Each port's link, worked out when it is asked for. A port has carrier when it and its peer, both devices (or
    the host) and the cable are on; an aggregate that is off takes its members down."""

    __slots__ = ("_known", "_network", "_plugs", "_ports")

    def __init__(self, network: Network, ports: Mapping[str, Mapping[str, Port]], plugged: Plugs) -> None:
        self._network = network
        self._ports = ports
        self._plugs = plugged
        self._known: dict[End, Link] = {}

    def __getitem__(self, end: End) -> Link:
        found = self._known.get(end)
        if found is None:
            found = self._work_out(end)
            if found.cable is not None:  # those of a million hosts are soon worked out again
                self._known[end] = found
        return found

    def _work_out(self, end: End) -> Link:
        peer, cable = self._peer(end)
        speed = self._speed(end)
        off = self._off(end)
        if peer is None:
            return Link(end, None, None, off or f"{end} {UNCABLED}", _delay(speed))
        off = off or self._off(peer) or (f"cable {cable} is off" if cable and cable.off else "")
        slowest = min(speed, self._speed(peer)) if cable else speed  # a host goes by its port's speed
        return Link(end, peer, cable, off, _delay(slowest))

    def _peer(self, end: End) -> tuple[End | None, Cable | None]:
        host = self._network.hosts.get(end.device)
        if host is not None and end.device not in self._ports:
            return host.at, None
        far = self._plugs.cabled.get(end)
        if far is not None:
            return far[0], self._network.cables[far[1]]
        name = self._plugs.hosts.get(end)
        return (None, None) if name is None else (End(name, HOST_PORT), None)

    def _speed(self, end: End) -> int:
        ports = self._ports.get(end.device)
        return (ports[end.port].speed if ports else self._speed(self._network.hosts[end.device].at)) or DEFAULT_SPEED

    def _off(self, end: End) -> str:
        """Why a port is off, empty where it is on."""
        ports = self._ports.get(end.device)
        if ports is None:
            return f"{end.device} is off" if self._network.hosts[end.device].off else ""
        device = self._network.devices[end.device]
        if device.off:
            return f"{end.device} is off"
        if ports[end.port].off:
            return f"{end} is off"
        for one in aggregates(device) if device.interfaces else ():
            if one.off and end.port in one.members:
                return f"aggregate {end.device}/{one.name} is off"
        return ""


def _delay(speed: int) -> int:
    """Nanoseconds that a frame takes across a link: 500, and 1,024 bits at its speed."""
    return 500 + 1024 * 10**9 // speed
