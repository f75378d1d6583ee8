"""What holds addresses: hosts, routers, and the interfaces of switches (RFC 1122, RFC 1812)."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import NamedTuple

from archipelago.addressing.values import Address, source_for
from archipelago.knowledge.advertised import Advertised, advertises, taken
from archipelago.knowledge.devices import Nic, Node, speaks_ipv6
from archipelago.knowledge.routes import Entry, device_routes
from archipelago.model.network import Host
from archipelago.simulation.frames import (
    ALL_ROUTERS,
    FIRST_TTL,
    GROUP_BIT,
    Advertisement,
    Echo,
    Frame,
    Packet,
    Refusal,
    Resolution,
    Solicitation,
    group_mac,
)
from archipelago.simulation.world import Wire, World

SECOND = 10**9
TRIES = 3
"""How often, a second apart, a question for an address is sent (RFC 4861 10; RFC 1122 2.3.2.1)."""


class Waiting(NamedTuple):
    """The latest packet that waits for an answer: whether it is held or was dropped, and how it goes on."""

    packet: Packet
    held: bool
    kind: str
    arrived: str
    entry: Entry


class Interface:
    """An interface in operation: its neighbour table, and the packets that wait for an answer."""

    __slots__ = ("mac", "name", "neighbours", "nic", "own", "put", "station", "vlan", "waiting")

    def __init__(self, station: Station, nic: Nic, put: Callable[[Frame], None] | None) -> None:
        self.station = station
        self.nic = nic
        self.name = nic.name
        self.vlan = nic.vlan or 0
        self.mac = nic.mac
        self.put = put
        self.own: frozenset[Address] = frozenset()
        self.hold(nic)
        self.neighbours: dict[Address, int] = {}
        self.waiting: dict[Address, Waiting] = {}

    def hold(self, nic: Nic) -> None:
        """Answer for the addresses that the interface has, its link-local one among them where it speaks IPv6."""
        self.nic = nic
        self.own = frozenset(held.address for held in nic.addresses)
        if speaks_ipv6(nic):
            self.own |= {nic.link_local}

    def transmit(self, vlan: int, frame: Frame) -> None:
        """Take in a frame that the device's own switch hands over."""
        self.station.hear(self, None, frame)


class Station:
    """The IP part of one device or host."""

    __slots__ = ("_by_tag", "_routes", "_told", "_world", "answered", "interfaces", "name", "node")

    def __init__(self, world: World, node: Node) -> None:
        self._world = world
        self.node = node
        self.name = node.name
        self._routes = node.routes
        self._told: list[Advertised] = []
        self.interfaces: dict[str, Interface] = {}
        self._by_tag: dict[tuple[str, int | None], Interface] = {}
        self.answered: set[int] = set()
        """The probes that this station sent and whose reply came back."""

    def add(self, nic: Nic, put: Callable[[Frame], None] | None) -> Interface:
        """Bring an interface into operation; of two with one tag on one wire the first written hears."""
        interface = Interface(self, nic, put)
        self.interfaces[nic.name] = interface
        if nic.attachment is not None and nic.speaks:
            self._by_tag.setdefault((nic.attachment, nic.tag), interface)
        return interface

    def arrive(self, wire: Wire, tag: int | None, frame: Frame) -> None:
        """A frame came in by a routed wire: the interface with its tag takes it, if there is one."""
        interface = self._by_tag.get((wire.name, tag))
        if interface is None:
            world = self._world
            world.record((world.now, "drops-frame", self.name, wire.name, tag, frame, None))
        else:
            self.hear(interface, tag, frame)

    def hear(self, interface: Interface, tag: int | None, frame: Frame) -> None:
        """An interface takes a frame in, if it is sent to it or to a group."""
        world = self._world
        if frame.target != interface.mac and not frame.target & GROUP_BIT:
            world.record((world.now, "ignores", self.name, interface.name, tag, frame, None))
            return
        world.record((world.now, "hears", self.name, interface.name, tag, frame, None))
        payload = frame.payload
        if isinstance(payload, Resolution):
            self._resolve(interface, payload)
        elif isinstance(payload, Packet):
            self._take(interface, payload)
        elif isinstance(payload, Solicitation):
            self._advertise(interface, frame.source, payload)
        else:
            self._configure(interface, payload.told)

    # Routers on the link

    def solicit(self) -> None:
        """Ask the routers of each link to tell of themselves."""
        world = self._world
        for interface in self.interfaces.values():
            if interface.put is not None:
                question = Solicitation(interface.nic.link_local)
                frame = Frame(interface.mac, ALL_ROUTERS, question, world.serial())
                world.record((world.now, "solicits", self.name, interface.name, interface.nic.tag, frame, None))
                interface.put(frame)

    def _advertise(self, interface: Interface, asker: int, heard: Solicitation) -> None:
        """Tell the host that asked, and nobody else (RFC 4861 6.2.6)."""
        told = advertises(self.node, interface.nic)
        if told is None or interface.put is None:
            return
        world = self._world
        frame = Frame(interface.mac, asker, Advertisement(told, heard.sender), world.serial())
        world.record((world.now, "advertises", self.name, interface.name, interface.nic.tag, frame, None))
        interface.put(frame)

    def _configure(self, interface: Interface, told: Advertised) -> None:
        """Take addresses and gateways from what routers have told so far."""
        written = self.node.written
        if not isinstance(written, Host) or not written.auto:
            return
        self._told.append(told)
        host = taken(written, interface.mac, self._told)
        interface.hold(replace(interface.nic, addresses=host.addresses))
        self._routes = device_routes([interface.nic], (), host.gateway)
        world = self._world
        held = host.addresses[-1]
        world.record((world.now, "configures", self.name, interface.name, None, held.address, told.router))

    # Packets

    def originate(self, packet: Packet, vrf: str = "") -> None:
        """Send a packet of this station's own."""
        if self._routes.holds(vrf, packet.target):
            self._deliver(vrf, self._routes.holds(vrf, packet.target) or "", packet)
            return
        entry = self._routes.lookup(vrf, packet.target)
        if self._routes.is_broadcast(vrf, packet.target):
            self._lose(packet, "broadcast")
        elif entry is None:
            self._lose(packet, "no-route")
        else:
            self._emit("sends", "", packet, entry)

    def source_towards(self, target: Address, vrf: str = "") -> Address | None:
        """The address that this station speaks from to a target: one of the interface that the way leaves by."""
        held = self._routes.holds(vrf, target)
        entry = self._routes.lookup(vrf, target)
        names = [held] if held else [entry.interface] if entry else []
        nics = [self.interfaces[name].nic for name in [*names, *self.interfaces]]
        for nic in nics:
            found = source_for(nic.addresses, target) if nic.vrf == vrf else None
            if found is not None:
                return found.address
        return None

    def _take(self, interface: Interface, packet: Packet) -> None:
        vrf, target = interface.nic.vrf, packet.target
        routes = self._routes
        held = routes.holds(vrf, target)
        if held:
            self._deliver(vrf, interface.name, packet)
        elif target.version not in self.node.forwards:
            self._lose(packet, "not-routing", interface.name)
        elif routes.is_broadcast(vrf, target):
            self._lose(packet, "broadcast", interface.name)
        else:
            entry = routes.lookup(vrf, target)
            if entry is None:
                self._lose(packet, "no-route", interface.name)
                self._refuse(packet, "no-route", vrf)
            elif packet.ttl <= 1:
                self._lose(packet, "ttl-expired", interface.name)
                self._refuse(packet, "ttl-expired", vrf)
            else:
                self._emit("forwards", interface.name, packet._replace(ttl=packet.ttl - 1), entry)

    def _emit(self, kind: str, arrived: str, packet: Packet, entry: Entry) -> None:
        """Send a packet by a route, or let it wait while its next hop is asked for."""
        interface = self.interfaces[entry.interface]
        hop = entry.next_hop or packet.target
        world = self._world
        mac = interface.neighbours.get(hop)
        if mac is not None and interface.put is not None:
            frame = Frame(interface.mac, mac, packet, world.serial())
            world.record((world.now, kind, self.name, interface.name, interface.nic.tag, frame, (arrived, entry)))
            interface.put(frame)
            return
        sender = source_for(interface.nic.addresses, hop)
        if interface.put is None or sender is None:
            self._lose(packet, "mute", arrived, entry)
            return
        holds = self.node.holds_unresolved
        world.record((world.now, "waits", self.name, interface.name, None, packet, (arrived, entry, hop, holds)))
        asked = hop in interface.waiting
        if asked and holds:
            older = interface.waiting[hop].packet
            world.record((world.now, "loses", self.name, interface.name, None, older, ("superseded", arrived, entry)))
        interface.waiting[hop] = Waiting(packet, holds, kind, arrived, entry)
        if not holds:
            world.record((world.now, "loses", self.name, interface.name, None, packet, ("unresolved", arrived, entry)))
        if not asked:
            self._ask(interface, hop, TRIES)

    def _deliver(self, vrf: str, arrived: str, packet: Packet) -> None:
        world = self._world
        world.record((world.now, "delivers", self.name, arrived, None, packet, None))
        body = packet.body
        if isinstance(body, Refusal):
            return
        if body.reply:
            self.answered.add(body.probe)
        else:
            reply = Packet(packet.target, packet.source, FIRST_TTL, Echo(True, body.probe))
            self.originate(reply, vrf)

    def _lose(self, packet: Packet, why: str, arrived: str = "", entry: Entry | None = None) -> None:
        world = self._world
        world.record((world.now, "loses", self.name, arrived, None, packet, (why, arrived, entry)))

    def _refuse(self, packet: Packet, kind: str, vrf: str) -> None:
        """Tell the sender why; never about an ICMP error (RFC 1122 3.2.2), and only if a way back is known."""
        if isinstance(packet.body, Refusal):
            return
        source = self.source_towards(packet.source, vrf)
        if source is not None:
            error = Packet(source, packet.source, FIRST_TTL, Refusal(kind, packet))
            world = self._world
            world.record((world.now, "refuses", self.name, "", None, error, kind))
            self.originate(error, vrf)

    # Address resolution

    def _ask(self, interface: Interface, hop: Address, left: int) -> None:
        """Ask who holds an address; ask again each second until someone answers or the tries are used up."""
        if hop not in interface.waiting:
            return
        world = self._world
        if left == 0:
            packet, held, _, arrived, entry = interface.waiting.pop(hop)
            world.record((world.now, "unanswered", self.name, interface.name, None, packet, hop))
            if held:
                world.record(
                    (world.now, "loses", self.name, interface.name, None, packet, ("unanswered", arrived, entry))
                )
            if packet.source not in {one for other in self.interfaces.values() for one in other.own}:
                self._refuse(packet, "unanswered", interface.nic.vrf)
            return
        sender = source_for(interface.nic.addresses, hop)
        if sender is None or interface.put is None:
            return
        question = Resolution(True, sender.address, interface.mac, hop)
        frame = Frame(interface.mac, group_mac(hop), question, world.serial())
        world.record((world.now, "asks", self.name, interface.name, interface.nic.tag, frame, hop))
        interface.put(frame)
        world.after(SECOND, self._ask, interface, hop, left - 1)

    def _resolve(self, interface: Interface, heard: Resolution) -> None:
        """A question or an answer came in. Only the interface that holds the address answers, whoever asks; a known
        neighbour's new MAC address is taken from its questions too (RFC 826)."""
        if heard.sender in interface.own:
            return  # another station claims this address: the audit's to say
        if not heard.asks:
            if heard.sender in interface.waiting or heard.sender in interface.neighbours:
                self._learn(interface, heard.sender, heard.sender_mac)
        elif heard.target in interface.own:
            self._learn(interface, heard.sender, heard.sender_mac)
            world = self._world
            answer = Resolution(False, heard.target, interface.mac, heard.sender)
            frame = Frame(interface.mac, heard.sender_mac, answer, world.serial())
            world.record((world.now, "answers", self.name, interface.name, interface.nic.tag, frame, heard.target))
            if interface.put is not None:
                interface.put(frame)
        elif heard.sender.version == 4 and heard.sender in interface.neighbours:
            self._learn(interface, heard.sender, heard.sender_mac)

    def _learn(self, interface: Interface, address: Address, mac: int) -> None:
        world = self._world
        if interface.neighbours.get(address) != mac:
            world.met += address not in interface.neighbours
            interface.neighbours[address] = mac
            world.learned += 1
            world.record((world.now, "learns", self.name, interface.name, None, address, mac))
        waiting = interface.waiting.pop(address, None)
        if waiting is not None and waiting.held:
            self._emit(waiting.kind, waiting.arrived, waiting.packet, waiting.entry)
