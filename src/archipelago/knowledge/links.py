"""Which ports exist, what each is connected to, and which have carrier."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass

from archipelago.addressing.values import Address, is_link_local
from archipelago.knowledge.reasons import Down, DownCause, admin_down
from archipelago.model.network import Network
from archipelago.model.parts import Aggregate, Cable, Device, End, Port
from archipelago.model.projection import Projection

NAMES_READ = Projection(
    Network="devices hosts cables",
    Device="name ports interfaces",
    Port="name",
    Subinterface="name",
    VlanInterface="name",
    Loopback="name",
    Aggregate="name members",
    Host="name at",
    Cable="a b",
)
"""What the names of ports, and what is plugged into them, are derived from."""
READS = Projection(
    Network="devices hosts cables outside",
    Device="name kind off ports interfaces routes",
    Port="name speed off addresses vrf",
    Subinterface="name",
    VlanInterface="name",
    Loopback="name",
    Aggregate="name members off",
    Route="next_hop vrf",
    Host="at off",
    OutsidePort="at",
)
"""What carrier is derived from."""
HOST_PORT = "port"
"""How the one port, and the one interface, of a host is called."""
DEFAULT_SPEED = 10**9
"""Bits per second of a port whose speed is not written."""


@dataclass(frozen=True, slots=True)
class Link:
    """One port, physically. `down` says why it has no carrier, None where it has; `speed` is in bits per second."""

    end: End
    peer: End | None
    cable: Cable | None
    down: Down | None
    speed: int

    @property
    def carrier(self) -> bool:
        return self.down is None


@dataclass(frozen=True, slots=True)
class Plugs:
    """What is plugged in where, on or off: at each cabled port the far end and the cable's place in the network's
    list, and the host at each port that has one."""

    cabled: Mapping[End, tuple[End, int]]
    hosts: Mapping[End, str]


def plugs(network: Network) -> Plugs:
    """What is plugged into each port of a network."""
    cabled: dict[End, tuple[End, int]] = {}
    for index, cable in enumerate(network.cables):
        cabled[cable.a] = (cable.b, index)
        cabled[cable.b] = (cable.a, index)
    return Plugs(cabled, {host.at: host.name for host in network.hosts.values()})


def port_names(network: Network) -> dict[str, dict[str, Port]]:
    """Every port of every device: those listed, then those that cables, hosts and aggregates make exist."""
    ports = {name: dict(device.ports) for name, device in network.devices.items()}
    for end in _plugged_ends(network):
        of_device = ports[end.device]
        if end.port not in of_device:
            of_device[end.port] = Port(end.port)
    for device in network.devices.values():
        for aggregate in aggregates(device) if device.interfaces else ():
            for member in aggregate.members:
                ports[device.name].setdefault(member, Port(member))
    return ports


def _plugged_ends(network: Network) -> Iterator[End]:
    for cable in network.cables:
        yield cable.a
        yield cable.b
    for host in network.hosts.values():
        yield host.at


def aggregates(device: Device) -> Iterator[Aggregate]:
    """The link aggregates of a device."""
    for interface in device.interfaces.values():
        if isinstance(interface, Aggregate):
            yield interface


class Links:
    """Each port's link, worked out when it is asked for. A port has carrier when it and its peer, both devices (or
    the host) and the cable are on, or it leads outside and is on; an aggregate that is off takes its members down."""

    __slots__ = ("_known", "_network", "_off_with", "_plugs", "_ports")

    def __init__(self, network: Network, ports: Mapping[str, Mapping[str, Port]], plugged: Plugs) -> None:
        self._network = network
        self._ports = ports
        self._plugs = plugged
        self._known: dict[End, Link] = {}
        self._off_with: dict[str, Mapping[str, str]] = {}

    def __getitem__(self, end: End) -> Link:
        link = self._known.get(end)
        if link is None:
            link = self._work_out(end)
            if link.cable is not None:  # those of a million hosts are soon worked out again
                self._known[end] = link
        return link

    def down(self, end: End) -> Down | None:
        """Why a port has no carrier, None where it has."""
        host = self._plugs.hosts.get(end)
        if host is not None and end not in self._plugs.cabled:  # nearly all ports of a large network
            return self._off(end) or (admin_down(host) if self._network.hosts[host].off else None)
        return self._down(end, *self._peer(end))

    def _down(self, end: End, peer: End | None, cable: Cable | None) -> Down | None:
        down = self._off(end)
        if peer is None:
            beyond = self._beyond(end)
            return down or (None if beyond else Down(DownCause.NOT_CABLED, str(end)))
        return down or self._off(peer) or (admin_down(f"cable {cable}") if cable and cable.off else None)

    def _work_out(self, end: End) -> Link:
        peer, cable = self._peer(end)
        return Link(end, peer, cable, self._down(end, peer, cable), self.speed(end))

    def speed(self, end: End) -> int:
        """The bits per second that a port sends and takes in: of a cable's two ends the slower one's; a host goes by
        its port's."""
        peer, cable = self._peer(end)
        speed = self._speed(end)
        return min(speed, self._speed(peer)) if cable and peer else speed

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

    def _beyond(self, end: End) -> bool:
        if self._network.outside is not None:
            return any(entry.at == end for entry in self._network.outside)
        device = self._network.devices.get(end.device)
        port = self._ports.get(end.device, {}).get(end.port)
        return device is not None and port is not None and next_hop_beyond(device, port) is not None

    def differing(self, device: str, before: Links) -> Iterator[End]:
        """The ports of a device that have carrier now and had none before, or not for the same reason; or the other way
        round."""
        for port in {**before._ports.get(device, {}), **self._ports.get(device, {})}:
            end = End(device, port)
            was, now = (end.port in links._ports.get(device, {}) and links.down(end) for links in (before, self))
            if was != now:
                yield end

    def _off(self, end: End) -> Down | None:
        """Why a port is off; None where it is on."""
        ports = self._ports.get(end.device)
        if ports is None:
            return admin_down(end.device) if self._network.hosts[end.device].off else None
        device = self._network.devices[end.device]
        if device.off:
            return admin_down(end.device)
        if ports[end.port].off:
            return admin_down(end)
        aggregate = self._members_off(device).get(end.port) if device.interfaces else None
        return admin_down(f"aggregate {end.device}/{aggregate}") if aggregate else None

    def _members_off(self, device: Device) -> Mapping[str, str]:
        """The ports of a device that an aggregate takes down with it."""
        if device.name not in self._off_with:
            self._off_with[device.name] = {
                member: aggregate.name
                for aggregate in aggregates(device)
                if aggregate.off
                for member in aggregate.members
            }
        return self._off_with[device.name]


def next_hop_beyond(device: Device, port: Port) -> Address | None:
    """Who is beyond a routed port, by the device's own routes: the first next hop that is in a subnet of it. Where
    nothing is plugged in, the outside begins there, and the port counts as having carrier."""
    if device.kind == "switch" or not port.addresses:
        return None
    for route in device.routes:
        hop = route.next_hop
        if (route.vrf or "") != (port.vrf or ""):
            continue
        on_link = is_link_local(hop.address) and hop.interface == port.name
        within = (own for own in port.addresses if own.prefix.holds(hop.address) and own.address != hop.address)
        if on_link or (hop.interface in (None, port.name) and next(within, None) is not None):
            return hop.address
    return None


def facing(plugged: Plugs, device: str, ports: Iterable[str]) -> set[str]:
    """The devices that a cable leads to from some ports of a device."""
    return {far[0].device for port in ports if (far := plugged.cabled.get(End(device, port))) is not None}


def time_across(octets: int, speed: int) -> int:
    """Nanoseconds that a frame takes across a link: 500 for the way, and its octets, with the 20 of preamble and gap
    (IEEE 802.3 3.1, 4.4.2), at the speed of the link (bits per second)."""
    return 500 + (octets + 20) * 8 * 10**9 // speed
