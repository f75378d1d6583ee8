"""An interface in operation: what it answers for, whom it knows, and what waits for an answer."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, NamedTuple

from archipelago.addressing.values import Address
from archipelago.knowledge.devices import Nic, speaks_ipv6
from archipelago.knowledge.routes import Entry
from archipelago.simulation.events import PacketForwarded, PacketSent
from archipelago.simulation.frames import GROUP_BIT, Frame, Packet
from archipelago.simulation.shared import SharedGateway

if TYPE_CHECKING:
    from archipelago.simulation.station import Station

Leaving = type[PacketSent] | type[PacketForwarded]


class Waiting(NamedTuple):
    """The latest packet that waits for an answer: whether it is held or was dropped, and how it goes on."""

    packet: Packet
    held: bool
    leaving: Leaving
    ingress: str
    route: Entry


class Interface:
    """An interface in operation: its neighbour table, and the packets that wait for an answer."""

    __slots__ = ("_own", "mac", "name", "neighbours", "nic", "put", "shared", "station", "vlan", "waiting", "wired")

    def __init__(self, station: Station, nic: Nic, put: Callable[[Frame], None] | None) -> None:
        self.station = station
        self.nic = nic
        self.name = nic.name
        self.vlan = nic.vlan or 0
        self.mac = nic.mac
        self.put = self.wired = put
        self._own: frozenset[Address] | None = None
        self.shared: list[SharedGateway] = []
        self.neighbours: dict[Address, int] = {}
        self.waiting: dict[Address, Waiting] = {}

    def hold(self, nic: Nic) -> None:
        """Have the addresses of an interface as it is now."""
        self.nic = nic
        self._own = None

    @property
    def own(self) -> frozenset[Address]:
        """The addresses that it answers for, its link-local one among them where it speaks IPv6; worked out when first
        asked for, as most interfaces never are."""
        if self._own is None:
            own = [address.address for address in self.nic.addresses]
            self._own = frozenset([*own, self.nic.link_local] if speaks_ipv6(self.nic) else own)
        return self._own

    def takes(self, mac: int) -> bool:
        """Whether a frame to a MAC address is for it: its own, a group's, or a gateway's that it is active for."""
        if mac == self.mac or mac & GROUP_BIT:
            return True
        return any(shared.mac == mac and shared.active for shared in self.shared)

    def answering(self, address: Address) -> int | None:
        """The MAC address that it answers for an address with: its own, or the one that a shared gateway's addresses go
        with (RFC 9568 8.1.2, 8.2.2); None where it answers for it not at all."""
        for shared in self.shared:
            if shared.answers_for(address):
                return shared.mac
        return self.mac if address in self.own else None

    def transmit(self, vlan: int, frame: Frame) -> None:
        """Take in a frame that the device's own switch hands over."""
        self.station.receive(self, None, frame)
