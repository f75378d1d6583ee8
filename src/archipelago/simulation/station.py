"""What holds addresses: hosts, routers, and the interfaces of switches (RFC 1122, RFC 1812)."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace

from archipelago.addressing.values import Address
from archipelago.knowledge.advertised import Advertised, advertises, configured, speakers
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.forwarding import (
    Delivered,
    Dropped,
    ForwardingState,
    Sent,
    asking_address,
    decide,
    own_holder,
    refused,
    source_towards,
)
from archipelago.knowledge.header import FIRST_TTL
from archipelago.knowledge.leases import EVERYBODY
from archipelago.knowledge.reasons import Reason
from archipelago.knowledge.routes import Entry, routes_of
from archipelago.model.parts import Host
from archipelago.simulation.events import (
    ErrorReported,
    FrameDropped,
    FrameIgnored,
    FrameReceived,
    HostConfigured,
    MessageBroadcast,
    NeighbourAnswered,
    NeighbourAsked,
    NeighbourLearned,
    PacketDelivered,
    PacketDropped,
    PacketForwarded,
    PacketSent,
    PacketWaits,
    RouterAdvertised,
    RoutersAsked,
    Unanswered,
)
from archipelago.simulation.frames import (
    ALL_ROUTERS,
    BROADCAST,
    ICMP_ERRORS,
    Advertisement,
    Conversation,
    Echo,
    Frame,
    GatewayBid,
    IcmpError,
    LeaseMessage,
    Packet,
    Resolution,
    Solicitation,
    conversation_of,
    group_mac,
    header_of,
)
from archipelago.simulation.interface import Interface, Leaving, Waiting
from archipelago.simulation.shared import SharedGateway
from archipelago.simulation.translation import Translations
from archipelago.simulation.world import Wire, World

SECOND = 10**9
TRIES = 3
"""How often, a second apart, a question for an address is sent (RFC 4861 10; RFC 1122 2.3.2.1)."""


class Station:
    """The IP part of one device or host. `answered` holds the probes that it sent and whose reply came back,
    `conversations` those that have passed it, where it has a filter that is stateful, `path_mtus` how large packets to
    some addresses may be."""

    __slots__ = (
        "_by_tag",
        "_told",
        "_tracks",
        "_translations",
        "_world",
        "answered",
        "conversations",
        "interfaces",
        "name",
        "path_mtus",
        "state",
    )

    def __init__(self, world: World, state: ForwardingState) -> None:
        self._world = world
        self.state = state
        self.name = state.node.name
        self._told: list[Advertised] = []
        self.interfaces: dict[str, Interface] = {}
        self._by_tag: dict[tuple[str, int | None], Interface] = {}
        self.answered: set[int] = set()
        self.conversations: set[Conversation] = set()
        self.path_mtus: dict[Address, int] = {}
        nics = state.node.nics.values()
        self._translations = Translations()
        self._tracks = any(one.stateful for nic in nics for one in (nic.filter_in, nic.filter_out) if one)

    @property
    def node(self) -> Node:
        """What the device or host knows of itself."""
        return self.state.node

    def shared_holder(self, vrf: str, address: Address) -> str | None:
        """The interface by which it answers for a shared address now, in one of its tables."""
        for interface in self.interfaces.values():
            if interface.nic.vrf == vrf and any(shared.answers_for(address) for shared in interface.shared):
                return interface.name
        return None

    def renew(self, state: ForwardingState) -> None:
        """Something has changed: what is up, and what it decides by. Interfaces that were there keep their tables."""
        shares = any(interface.shared for interface in self.interfaces.values())
        self.state = replace(state, answers=self.shared_holder if shares else None)
        for name, interface in self.interfaces.items():
            nic = state.node.nics[name]
            interface.hold(nic if nic.up else replace(nic, addresses=()))
            interface.put = interface.wired if nic.up else None

    def forget(self) -> None:
        """It was without power: what it knew of neighbours, conversations and translations is gone."""
        self.conversations.clear()
        self._translations = Translations()
        self.forget_neighbours()

    def forget_neighbours(self) -> None:
        """What it knew of next hops, and of how large packets may be, is gone."""
        self.path_mtus.clear()
        for interface in self.interfaces.values():
            interface.neighbours.clear()

    def add(self, nic: Nic, put: Callable[[Frame], None] | None, shared: Iterable[SharedGateway] = ()) -> Interface:
        """Bring an interface into operation; of two with one tag on one wire the first written hears."""
        interface = Interface(self, nic, put)
        interface.shared.extend(shared)
        self.interfaces[nic.name] = interface
        if nic.attachment is not None and nic.speaks:
            self._by_tag.setdefault((nic.attachment, nic.tag), interface)
        return interface

    def arrive(self, wire: Wire, tag: int | None, frame: Frame) -> None:
        """A frame came in by a routed wire: the interface with its tag takes it, if there is one."""
        interface = self._by_tag.get((wire.name, tag))
        if interface is None:
            world = self._world
            world.record((FrameDropped, world.now, self.name, wire.name, tag, frame, Reason.TAG_NOT_ACCEPTED))
        else:
            self.receive(interface, tag, frame)

    def receive(self, interface: Interface, tag: int | None, frame: Frame) -> None:
        """An interface that is up takes a frame in, if it is sent to it or to a group."""
        world = self._world
        if not interface.nic.up or not interface.takes(frame.target):
            world.record((FrameIgnored, world.now, self.name, interface.name, tag, frame))
            return
        world.record((FrameReceived, world.now, self.name, interface.name, tag, frame))
        payload = frame.payload
        if isinstance(payload, Resolution):
            self._resolve(interface, payload)
        elif isinstance(payload, Packet):
            if payload.target == EVERYBODY:
                self._hear(interface, payload)
            else:
                self._act(payload, interface.name, interface.nic.vrf)
        elif isinstance(payload, GatewayBid):
            for shared in interface.shared:
                if shared.member.router == (payload.vrid, payload.family) and shared.bidder is not None:
                    shared.bidder.hear(payload)
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
                world.record((RoutersAsked, world.now, self.name, interface.name, interface.nic.tag, frame))
                interface.put(frame)

    def _advertise(self, interface: Interface, asker: int, heard: Solicitation) -> None:
        """Tell the host that asked, and nobody else (RFC 4861 6.2.6)."""
        active = {shared.member: shared.active for shared in interface.shared}
        world = self._world
        for speaker in speakers(interface.nic, active, active.__getitem__):
            told = advertises(self.node, interface.nic, speaker.address)
            if told is not None and interface.put is not None:
                frame = Frame(speaker.mac, asker, Advertisement(told, heard.sender), world.serial())
                world.record((RouterAdvertised, world.now, self.name, interface.name, interface.nic.tag, frame))
                interface.put(frame)

    def _configure(self, interface: Interface, told: Advertised) -> None:
        """Take addresses and gateways from what routers have told so far."""
        written = self.node.written
        if not isinstance(written, Host) or not written.auto:
            return
        self._told.append(told)
        host = configured(written, interface.mac, self._told)
        interface.hold(replace(interface.nic, addresses=host.addresses))
        node = replace(self.node, nics={interface.name: interface.nic})
        self.state = ForwardingState(node, routes_of(node, host))
        world = self._world
        last = host.addresses[-1].address
        world.record((HostConfigured, world.now, self.name, interface.name, last, told.router))

    # Leases

    def broadcast(self, interface: Interface, packet: Packet) -> None:
        """Send a packet to everybody on a link."""
        if interface.put is None:
            return
        world = self._world
        frame = Frame(interface.mac, BROADCAST, packet, world.serial())
        world.record((MessageBroadcast, world.now, self.name, interface.name, interface.nic.tag, frame))
        interface.put(frame)

    def _hear(self, interface: Interface, packet: Packet) -> None:
        """A packet to everybody came in: the filter sees it; nobody forwards it, and nobody tells its sender."""
        world = self._world
        refusal = refused(interface.nic, "in", header_of(packet))
        if refusal is not None:
            reason = Reason.FILTERED
            world.record((PacketDropped, world.now, self.name, interface.name, packet, reason, None, None, refusal))
        elif world.leasing is not None and world.leasing.concerns(self, interface):
            world.record((PacketDelivered, world.now, self.name, interface.name, packet))
            world.leasing.heard(self, interface, packet)

    # Packets

    def originate(self, packet: Packet, vrf: str = "") -> None:
        """Send a packet of this station's own."""
        self._act(packet, None, vrf)

    def _act(self, packet: Packet, ingress: str | None, vrf: str) -> None:
        """Do with a packet what the forwarding decision says."""
        if ingress is not None:
            packet = self._translations.inwards(packet)
        known = self._tracks and conversation_of(packet) in self.conversations
        header = header_of(packet)
        decision = decide(self.state, header, ingress, vrf, known)
        if isinstance(decision, Sent) and header.length > (mtu := self.node.nics[decision.interface].mtu):
            packet = packet._replace(piece=mtu)
        if isinstance(decision, Delivered):
            self._deliver(vrf, ingress or decision.interface, packet)
        elif isinstance(decision, Dropped):
            world = self._world
            reason, route, refusal = decision
            interface = ingress or (route.interface if route is not None else "")
            world.record((PacketDropped, world.now, self.name, interface, packet, reason, route, None, refusal))
            if ingress is not None and reason in ICMP_ERRORS:
                self._report(packet, reason, vrf, self.node.nics[route.interface].mtu if route is not None else 0)
        elif ingress is None:
            self._send(PacketSent, "", packet, decision.route)
        else:
            self._send(PacketForwarded, ingress, packet._replace(ttl=decision.ttl), decision.route)

    def _send(self, leaving: Leaving, ingress: str, packet: Packet, route: Entry) -> None:
        """Send a packet by a route, or let it wait while its next hop is asked for. In IPv6 it always waits
        (RFC 4861 7.2.2)."""
        interface = self.interfaces[route.interface]
        hop = route.next_hop or packet.target
        world = self._world
        mac = interface.neighbours.get(hop)
        if mac is not None and interface.put is not None:
            self._enter(packet)
            sent = self._translations.outwards(interface.nic, packet) if leaving is PacketForwarded else packet
            frame = Frame(interface.mac, mac, sent, world.serial())
            tag = interface.nic.tag
            world.record((leaving, world.now, self.name, interface.name, tag, frame, packet, ingress, route))
            interface.put(frame)
            return
        holds = self.node.holds_unresolved or hop.version == 6
        if holds:
            world.record((PacketWaits, world.now, self.name, interface.name, packet, hop))
        asked = hop in interface.waiting
        if asked and holds:
            self._drop(interface, interface.waiting[hop].packet, Reason.SUPERSEDED, route, hop)
        interface.waiting[hop] = Waiting(packet, holds, leaving, ingress, route)
        if not holds:
            self._drop(interface, packet, Reason.UNRESOLVED, route, hop)
        if not asked:
            self._ask(interface, hop, TRIES)

    def _drop(self, interface: Interface, packet: Packet, reason: Reason, route: Entry, hop: Address) -> None:
        world = self._world
        world.record((PacketDropped, world.now, self.name, interface.name, packet, reason, route, hop, None))

    def _enter(self, packet: Packet) -> None:
        """Know the conversation of a packet that leaves or is taken in; an ICMP error begins none."""
        if self._tracks and not isinstance(packet.body, IcmpError):
            self.conversations.add(conversation_of(packet))

    def _deliver(self, vrf: str, interface: str, packet: Packet) -> None:
        world = self._world
        self._enter(packet)
        world.record((PacketDelivered, world.now, self.name, interface, packet))
        body = packet.body
        if isinstance(body, IcmpError):
            self._hear_error(body)
        elif isinstance(body, LeaseMessage):
            if world.leasing is not None:
                world.leasing.delivered(self, interface, packet, vrf)
        elif body.reply:
            self.answered.add(body.probe)
        else:
            world.asked[body.probe] = self.name
            world.seen_as[body.probe] = packet.source
            piece = self.path_mtus.get(packet.source, 0) if body.sent.size else 0
            reply = Packet(packet.target, packet.source, FIRST_TTL, body._replace(reply=True), piece)
            self.originate(reply, vrf)

    def _hear_error(self, error: IcmpError) -> None:
        """Learn how large packets to somebody may be: what may be split goes in pieces of that size (RFC 8201 4)."""
        known, about = self.path_mtus, error.about
        if error.mtu and isinstance(about.body, Echo) and about.body.reply and about.target not in known:
            known[about.target] = error.mtu
            self._world.learned += 1

    def _report(self, packet: Packet, reason: Reason, vrf: str, mtu: int = 0) -> None:
        """Tell the sender why; never about an ICMP error (RFC 1122 3.2.2), and only if a way back is known."""
        if isinstance(packet.body, IcmpError):
            return
        source = source_towards(self.state, packet.source, vrf)
        if reason is Reason.REJECTED and source is not None and own_holder(self.state, vrf, packet.target):
            source = packet.target
        if source is not None:
            error = Packet(
                source, packet.source, FIRST_TTL, IcmpError(reason, packet, mtu if reason is Reason.TOO_LARGE else 0)
            )
            world = self._world
            world.record((ErrorReported, world.now, self.name, "", error))
            self.originate(error, vrf)

    # Address resolution

    def _ask(self, interface: Interface, hop: Address, left: int) -> None:
        """Ask who holds an address; ask again each second until someone answers or the tries are used up."""
        if hop not in interface.waiting:
            return
        world = self._world
        if left == 0:
            self._give_up(interface, hop)
            return
        sender = asking_address(interface.nic, hop)
        if sender is None or interface.put is None:
            return
        question = Resolution(True, sender.address, interface.mac, hop)
        frame = Frame(interface.mac, group_mac(hop), question, world.serial())
        world.record((NeighbourAsked, world.now, self.name, interface.name, interface.nic.tag, frame))
        interface.put(frame)
        world.after(SECOND, self._ask, interface, hop, left - 1)

    def _give_up(self, interface: Interface, hop: Address) -> None:
        """Nobody has answered: the packet that waited ends, and its sender is told."""
        world = self._world
        packet, packets, _, _, route = interface.waiting.pop(hop)
        world.record((Unanswered, world.now, self.name, interface.name, packet, hop))
        if packets:
            self._drop(interface, packet, Reason.UNANSWERED, route, hop)
        if all(other.answering(packet.source) is None for other in self.interfaces.values()):
            self._report(packet, Reason.UNANSWERED, interface.nic.vrf)

    def _resolve(self, interface: Interface, heard: Resolution) -> None:
        """A question or an answer came in. Only the interface that holds the address answers, whoever asks; a known
        neighbour's new MAC address is taken from its questions too (RFC 826)."""
        if interface.answering(heard.sender) is not None:
            return  # another station claims this address: the audit's to say
        if not heard.asks:
            if heard.sender in interface.waiting or heard.sender in interface.neighbours:
                self._learn(interface, heard.sender, heard.sender_mac)
        elif (mac := interface.answering(heard.target)) is not None:
            self._learn(interface, heard.sender, heard.sender_mac)
            world = self._world
            answer = Resolution(False, heard.target, mac, heard.sender)
            frame = Frame(mac, heard.sender_mac, answer, world.serial())
            world.record((NeighbourAnswered, world.now, self.name, interface.name, interface.nic.tag, frame))
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
            world.record((NeighbourLearned, world.now, self.name, interface.name, address, mac))
        waiting = interface.waiting.pop(address, None)
        if waiting is not None and waiting.held:
            self._send(waiting.leaving, waiting.ingress, waiting.packet, waiting.route)
