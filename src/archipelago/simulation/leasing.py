"""The exchange by which a host is leased an address, message by message (RFC 2131 3.1), through relays (RFC 1542 4)."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Literal

from archipelago.addressing.values import Address, InterfaceAddress
from archipelago.knowledge.devices import Nic
from archipelago.knowledge.forwarding import ForwardingState
from archipelago.knowledge.header import FIRST_TTL
from archipelago.knowledge.leases import EVERYBODY, NOBODY, Leases
from archipelago.knowledge.pools import Shop, fitting, own_name
from archipelago.knowledge.routes import routes_of
from archipelago.model.leases import Pool
from archipelago.model.parts import Host, NextHop
from archipelago.simulation.build import Simulation
from archipelago.simulation.events import LeaseStep
from archipelago.simulation.frames import LeaseMessage, Packet
from archipelago.simulation.interface import Interface
from archipelago.simulation.station import SECOND, Station

WAIT = 2 * SECOND
"""How long a host gathers offers before it takes the best."""
AGAIN = (4 * SECOND, 8 * SECOND, 16 * SECOND, 32 * SECOND)
"""How long a host waits before it asks again (RFC 2131 4.1)."""
RENEWALS = 3
"""How often a renewal is sent, a second apart; the first may be lost while next hops are asked for."""


class Exchange:
    """One host that asks, and everybody who hears it. It lives in one simulation, whose stations hand it what they
    hear of leases."""

    def __init__(self, simulation: Simulation, leases: Leases, host: str) -> None:
        self.simulation = simulation
        self.leases = leases
        self.host = host
        self.shops: Mapping[str, Shop] = leases.shops_before(host)
        self.offers: list[LeaseMessage] = []
        self.taken: LeaseMessage | None = None
        self.acknowledged: LeaseMessage | None = None
        self.renewed = False
        self._given: dict[tuple[str, str], tuple[Pool, int] | None] = {}
        self._order = {name: number for number, name in enumerate(leases.servers)}
        simulation.world.leasing = self

    # The host

    def run(self) -> None:
        """Ask until an offer is taken, or five times in vain."""
        world = self.simulation.world
        for wait in (*AGAIN, AGAIN[-1]):
            self._say(LeaseMessage("discover", self.host))
            start = world.now
            world.run(until=start + WAIT)
            if world.storm is not None:
                return
            if self.offers:
                break
            world.run(until=start + wait)
        if not self.offers:
            return
        best = min(self.offers, key=self._preference)
        self.taken = best
        for _ in range(RENEWALS):
            self._say(LeaseMessage("request", self.host, address=best.address, server=best.server))
            world.run(until=world.now + WAIT)
            if self.acknowledged is not None or world.storm is not None:
                break

    def renew(self, until_settled: bool = True) -> None:
        """Half of the lease time later: ask the server itself to go on (RFC 2131 4.4.5). Where other things happen on
        the clock for ever, nobody waits until all has settled."""
        got = self.acknowledged
        if got is None or got.address is None or got.server is None:
            return
        world = self.simulation.world
        station = self.simulation.station(self.host)
        message = LeaseMessage("renew", self.host, address=got.address, server=got.server)
        for _ in range(RENEWALS):
            station.originate(Packet(got.address, got.server, FIRST_TTL, message))
            world.run(until=world.now + SECOND)
            if self.renewed or world.storm is not None:
                break
        if until_settled:
            world.run()

    def _say(self, message: LeaseMessage) -> None:
        station = self.simulation.station(self.host)
        for interface in station.interfaces.values():
            station.broadcast(interface, Packet(NOBODY, EVERYBODY, FIRST_TTL, message))

    def _preference(self, message: LeaseMessage) -> tuple[int, int, int]:
        """The best offer: from the host's own domain, then by the order of servers, then of relays."""
        relay = message.relay
        listeners = self.leases.listeners(self.host)
        place = next(
            (number for number, one in enumerate(listeners) if relay == (one.device, one.interface) and one.relay), 0
        )
        return relay is not None, self._order.get(message.by, len(self._order)), place

    # What stations hear

    def concerns(self, station: Station, interface: Interface) -> bool:
        """Whether a station has to do with what is said of leases on a link."""
        serves = bool(self.leases.pools_of(station.name))
        return station.name == self.host or serves or bool(interface.nic.dhcp_relay)

    def heard(self, station: Station, interface: Interface, packet: Packet) -> None:
        """A broadcast came in: the host takes what is for it; servers and relays take what it asks."""
        message = packet.body
        assert isinstance(message, LeaseMessage)
        if station.name == self.host:
            if message.kind in ("offer", "acknowledge"):
                self._answered(station, interface, message)
            return
        if message.kind not in ("discover", "request"):
            return
        if self.leases.pools_of(station.name):
            own = [address.address for address in interface.nic.addresses if address.version == 4]
            said = self._decide(station, interface.nic, message, own)
            if said is not None:
                station.broadcast(interface, Packet(own[0], EVERYBODY, FIRST_TTL, said))
        if interface.nic.dhcp_relay:
            self._relay(station, interface, message)

    def delivered(self, station: Station, interface: str, packet: Packet, vrf: str) -> None:
        """A unicast message came to the station that it is for."""
        message = packet.body
        assert isinstance(message, LeaseMessage)
        if message.kind == "renew":
            if self.leases.pools_of(station.name):
                said = message._replace(kind="acknowledge", by=station.name)
                station.originate(Packet(packet.target, message.address or packet.source, FIRST_TTL, said), vrf)
        elif station.name == self.host:
            self.renewed = self.renewed or message.kind == "acknowledge"
        elif message.kind in ("discover", "request") and message.giaddr is not None:
            if self.leases.pools_of(station.name):
                nic = station.node.nics[interface]
                answer = self._decide(station, nic, message, [message.giaddr])
                if answer is not None:
                    station.originate(Packet(packet.target, message.giaddr, FIRST_TTL, answer), vrf)
            else:
                self._note(station, interface, packet, "it leases nothing")
        elif message.giaddr is not None:
            self._pass_on(station, message, vrf)

    def _relay(self, station: Station, interface: Interface, message: LeaseMessage) -> None:
        own = next(address.address for address in interface.nic.addresses if address.version == 4)
        sent = message._replace(giaddr=own, relay=(station.name, interface.name))
        for server in dict.fromkeys(interface.nic.dhcp_relay):
            station.originate(Packet(own, server, FIRST_TTL, sent), interface.nic.vrf)

    def _pass_on(self, station: Station, message: LeaseMessage, vrf: str) -> None:
        """A relay passes the answer on by the interface whose address the question was sent from."""
        for interface in station.interfaces.values():
            if message.giaddr in interface.own and interface.nic.vrf == vrf:
                station.broadcast(interface, Packet(message.giaddr, EVERYBODY, FIRST_TTL, message))
                return

    # The server

    def _decide(self, station: Station, nic: Nic, message: LeaseMessage, near: list[Address]) -> LeaseMessage | None:
        """What a server answers: an offer to a discover, an acknowledgement where it is the server asked for."""
        server = station.name
        key = (server, f"{message.relay}" if message.relay else nic.name)
        if key not in self._given:
            never = {address.value for address in nic.addresses if address.version == 4}
            never |= {address.value for address in near}
            self._given[key] = self._give(server, near, frozenset(never))
        given = self._given[key]
        own = own_name(nic.addresses, given[0]) if given is not None else None
        if message.kind == "request" and message.server != own:
            return None
        packet = Packet(NOBODY, EVERYBODY, FIRST_TTL, message)
        if given is None:
            pools = fitting(self.leases.pools_of(server), near)
            why = "every pool that fits is used up" if pools else "it has no pool for the subnet"
            self._note(station, nic.name, packet, why)
            return None
        pool, value = given
        address = Address(4, value)
        kind: Literal["offer", "acknowledge"] = "offer" if message.kind == "discover" else "acknowledge"
        word = "offers" if kind == "offer" else "gives"
        self._note(station, nic.name, packet, f"{word} {address} of pool {pool.name}")
        return message._replace(
            kind=kind, address=address, server=own, by=server, length=pool.subnet.length, gateway=pool.gateway
        )

    def _give(self, server: str, near: list[Address], never: frozenset[int]) -> tuple[Pool, int] | None:
        for pool in fitting(self.leases.pools_of(server), near):
            value = self.shops[server].give(pool, self.host, never, keep=False)
            if value is not None:
                return pool, value
        return None

    def _answered(self, station: Station, interface: Interface, message: LeaseMessage) -> None:
        packet = Packet(NOBODY, EVERYBODY, FIRST_TTL, message)
        if message.kind == "offer":
            if self.taken is None:
                self.offers.append(message)
            return
        if self.taken is None or self.acknowledged is not None or message.server != self.taken.server:
            return
        self.acknowledged = message
        self._note(station, interface.name, packet, f"takes {message.address}/{message.length}")
        self._hold(station, interface, message)

    def _hold(self, station: Station, interface: Interface, message: LeaseMessage) -> None:
        """The host has its address, and its gateway, from now on."""
        written = station.node.written
        assert isinstance(written, Host) and message.address is not None
        address = InterfaceAddress(4, message.address.value, message.length)
        other = message.gateway if message.gateway != message.address else None  # its own address is no gateway
        gateways = (NextHop(other),) if other is not None else ()
        host = replace(written, addresses=(address, *written.addresses), gateway=(*gateways, *written.gateway))
        interface.hold(replace(interface.nic, addresses=(address, *interface.nic.addresses)))
        node = replace(station.node, nics={interface.name: interface.nic})
        station.state = ForwardingState(node, routes_of(node, host))

    def _note(self, station: Station, interface: str, packet: Packet, told: str) -> None:
        world = self.simulation.world
        world.record((LeaseStep, world.now, station.name, interface, packet, told))
