"""The probes of one question in one simulation: sent until the tables are warm; where the last one ended."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from archipelago.addressing.values import Address
from archipelago.diagnosis.stop import Direction, Stop
from archipelago.knowledge.devices import Node
from archipelago.knowledge.ends import first_address
from archipelago.knowledge.forwarding import source_towards
from archipelago.knowledge.header import FIRST_TTL
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.reasons import Reason
from archipelago.model.filters import ECHO, Probe
from archipelago.simulation.build import Simulation
from archipelago.simulation.events import (
    Event,
    FrameDropped,
    PacketDelivered,
    PacketDropped,
    PacketForwarded,
    PacketSent,
    PacketWaits,
)
from archipelago.simulation.frames import Echo, IcmpError, Packet
from archipelago.simulation.station import SECOND
from archipelago.simulation.steps import DROPS, Track

MOST_PROBES = 600
"""More than any way that the first TTL allows can lose on cold tables."""
MOST_CHANGES = 8
"""So many probes are sent after nobody new was met, while tables still change."""
_ASKING = (Reason.UNRESOLVED, Reason.UNANSWERED, Reason.SUPERSEDED)
"""A packet that was dropped for one of these was not answered for, whenever its time was up."""


class Probing:
    """One simulation with the probes of one question in it."""

    def __init__(
        self, simulation: Simulation, source: Node, address: Address, asked: str | None = None, kind: Probe = ECHO
    ) -> None:
        self.simulation = simulation
        self.asked = asked
        self.kind = kind
        self.node = source
        self.address = address
        self.station = simulation.station(source.name)
        self.vrf = next((nic.vrf for nic in source.nics.values() if nic.addresses), "")
        towards = source_towards(self.station.state, address, self.vrf)
        self.source = towards or first_address(source, address.version) or Address(address.version, 0)
        self.sent = 0
        self.start = simulation.world.now
        simulation.world.sized |= bool(kind.size)

    def probe(self, number: int) -> None:
        """Send one probe and let a second pass."""
        self.send(number)
        self.simulation.world.run(until=self.start + (number + 1) * SECOND)

    def send(self, number: int) -> None:
        """Send one probe."""
        self.sent += 1
        packet = Packet(self.source, self.address, FIRST_TTL, self.body(False, number))
        self.station.originate(packet, self.vrf)

    def body(self, reply: bool, number: int) -> Echo:
        """What a probe, or the answer to it, is."""
        return Echo(reply, number, self.kind)

    def until_settled(self, probes: int, warm: bool = False) -> None:
        """Probe until one is answered, or one changes no neighbour table: the next would fare the same. Where several
        hold an address (`warm`), the next may fare otherwise than one that was answered, so only the second counts.
        Tables can change for ever there; once nobody new is met, a few more probes are enough."""
        world = self.simulation.world
        since = 0
        for number in range(MOST_PROBES):
            learned, met = world.learned, world.met
            self.probe(number)
            since = since + 1 if world.met == met else 0
            stable = world.learned == learned or since >= MOST_CHANGES
            settled = stable or (self.answered(number) and not warm)
            if world.storm is not None or (number + 1 >= probes and settled):
                break
        world.run()

    def answered(self, number: int) -> bool:
        """Whether the reply to a probe came back."""
        return number in self.station.answered

    @property
    def reached(self) -> bool:
        """Whether the last probe was answered, and by who was asked."""
        return self.reaches(self.sent - 1) and self.simulation.world.storm is None

    def reaches(self, number: int) -> bool:
        """Whether a probe was answered, and by who was asked: an address can have more holders."""
        return self.answered(number) and self.took_instead(number) is None

    def took_instead(self, number: int) -> str | None:
        """Who took a probe in where it is not who was asked."""
        holder = self.simulation.world.asked.get(number)
        return holder if self.asked is not None and holder != self.asked else None

    @property
    def other_holder(self) -> str | None:
        """Who took the last probe in where it is not who was asked."""
        return self.took_instead(self.sent - 1)

    def stop(self, index: NetworkIndex, events: tuple[Event, ...], tracks: Mapping[Echo, Track]) -> Stop:
        """Where the last probe, or its reply, ended."""
        if self.simulation.world.storm is not None:
            stormed = self._storm_stop(index, events)
            if stormed is not None:
                return stormed
        if self.other_holder is not None:
            vrf = next((nic.vrf for nic in self.simulation.station(self.other_holder).node.nics.values()), "")
            return Stop("out", self.other_holder, Reason.OTHER_HOLDER, self.source, self.address, vrf=vrf)
        stop = self._last_stop(tracks[self.body(False, self.sent - 1)], tracks[self.body(True, self.sent - 1)])
        return self._too_large(stop, events) if self.kind.size else stop

    def _storm_stop(self, index: NetworkIndex, events: tuple[Event, ...]) -> Stop | None:
        """The first place where a probe or its reply asked in a domain whose broadcasts never end."""
        for event in events:
            asks = isinstance(event, PacketWaits) or (
                isinstance(event, PacketDropped) and event.reason is Reason.UNRESOLVED
            )
            if asks and isinstance(event, (PacketWaits, PacketDropped)) and isinstance(event.packet.body, Echo):
                packet = event.packet
                if index.domains.loop_at((event.node, event.interface)) is not None:
                    direction: Direction = "back" if event.packet.body.reply else "out"
                    return Stop(direction, event.node, Reason.STORM, packet.source, packet.target, event.interface)
        return None

    def _last_stop(self, out: Track, back: Track) -> Stop:
        delivered = any(isinstance(event, PacketDelivered) for event in out)
        track = back if delivered else out
        passed = tuple(stop.node for stop in track if isinstance(stop, (PacketSent, PacketForwarded, PacketDropped)))
        final = track[-1] if track else None
        reason, interface, next_hop = Reason.NO_ROUTE, final.interface if final else "", None
        if isinstance(final, PacketWaits):
            reason, next_hop = Reason.UNANSWERED, final.next_hop
        elif isinstance(final, (PacketSent, PacketForwarded)):
            reason, next_hop = Reason.LOST, final.route.next_hop
        elif isinstance(final, PacketDropped) and final.reason in _ASKING:
            reason, next_hop = Reason.UNANSWERED, final.next_hop
        elif isinstance(final, PacketDropped):
            reason = final.reason
            interface = final.route.interface if final.route is not None else interface
        node = final.node if final is not None else self.node.name
        nics = self.simulation.station(node).node.nics
        return Stop(
            direction="back" if delivered else "out",
            node=node,
            reason=reason,
            source=final.packet.source if final is not None else self.source,
            target=final.packet.target if final is not None else self.address,
            interface=interface,
            vrf=nics[interface].vrf if interface in nics else self.vrf if node == self.node.name else "",
            next_hop=next_hop,
            passed=passed,
            refusal=final.refusal if isinstance(final, PacketDropped) else None,
            probe=self.kind,
        )

    def _too_large(self, stop: Stop, events: tuple[Event, ...]) -> Stop:
        """Where a packet that was lost was too large for a port; else what its sender hears of it."""
        if stop.reason is Reason.LOST:
            for event in reversed(events):
                if isinstance(event, FrameDropped) and event.reason is Reason.TOO_LARGE:
                    return replace(stop, node=event.node, reason=event.reason, interface=event.interface, silent=True)
        if stop.reason is not Reason.TOO_LARGE or len(stop.passed) < 2:
            return stop
        said = f"{stop.node} tells its sender"
        for event in reversed(events):
            body = event.packet.body if isinstance(event, (PacketDelivered, PacketDropped)) else None
            if isinstance(body, IcmpError) and body.reason is Reason.TOO_LARGE:
                if isinstance(event, PacketDelivered):
                    return replace(stop, told=f"{said} (RFC {1191 if stop.target.version == 4 else 8201})")
                why = f": {event.refusal or DROPS[event.reason]}" if isinstance(event, PacketDropped) else ""
                return replace(stop, told=f"{said}, which never hears it: it ends at {event.node}{why}")
        return replace(stop, told=f"{said}, which never hears it")

    def fate(self, out: Track, back: Track) -> str:
        """Where a probe without a reply was lost, in words."""
        if self.simulation.world.storm is not None:
            return f"caught in a broadcast storm at {self.simulation.world.storm.node}"
        delivered = any(isinstance(event, PacketDelivered) for event in out)
        way, track = ("on its way back", back) if delivered else ("on its way out", out)
        moves = [stop for stop in track if isinstance(stop, (PacketDropped, PacketSent, PacketForwarded))]
        if not moves:
            return "never sent"
        final = moves[-1]
        if isinstance(final, PacketDropped):
            asked = f" {final.next_hop}" if final.next_hop is not None else ""
            return f"lost {way} at {final.node}: {DROPS[final.reason]}{asked}"
        return f"lost {way} behind {final.node}"
