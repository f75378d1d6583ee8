"""The way of one probe as a line for each device, the switches between the stations included."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from archipelago.answer import OneLine
from archipelago.knowledge.reasons import Reason
from archipelago.knowledge.routes import Entry
from archipelago.simulation.build import Simulation
from archipelago.simulation.events import (
    Event,
    FrameDropped,
    FrameReceived,
    FrameSwitched,
    PacketDelivered,
    PacketDropped,
    PacketEvent,
    PacketForwarded,
    PacketSent,
)
from archipelago.simulation.frames import Echo, Packet
from archipelago.simulation.world import Wire

Track = list[PacketEvent]
"""What the stations did with one packet, in order."""

DROPS: Mapping[Reason, str] = {
    Reason.UNRESOLVED: "it dropped the packet while it asked for",
    Reason.SUPERSEDED: "a newer packet took its place while it asked for",
    Reason.UNANSWERED: "nobody answered for",
    Reason.NO_ROUTE: "no route",
    Reason.NOT_ROUTING: "it does not route",
    Reason.TTL_EXPIRED: "the TTL or hop limit ran out",
    Reason.TOO_LARGE: "too large for the interface, and nobody may split it",
    Reason.BROADCAST: "broadcast addresses are not forwarded to",
    Reason.CANNOT_SEND: "its interface cannot send",
    Reason.FILTERED: "a filter dropped it",
    Reason.REJECTED: "a filter rejected it",
}
"""What a station did when it dropped a packet, in words; who was asked for goes after the first three."""
FRAME_DROPS = {
    Reason.SAME_PORT: "it came from that port",
    Reason.TAG_NOT_ACCEPTED: "the port does not accept that tag",
    Reason.TOO_LARGE: "it is too large for the port",
}
"""Why a port dropped a frame, in words."""

_LOOKED_UP = {
    Reason.NO_ROUTE: "no route matches",
    Reason.NOT_ROUTING: "not its own address",
    Reason.TTL_EXPIRED: "TTL or hop limit 1",
    Reason.FILTERED: "the filters",
    Reason.TOO_LARGE: "the size",
    Reason.REJECTED: "the filters",
}


@dataclass(frozen=True, slots=True, repr=False)
class Step(OneLine):
    """What one device did with the probe: where it came in, with which tag (None: untagged; 0: inside the device, by
    its own VLAN interface), what was looked up, what was done, and where it left."""

    device: str
    ingress: str | None
    ingress_tag: int | None
    looked_up: str
    did: str
    egress: str | None
    egress_tag: int | None


def tracks_of(events: Iterable[Event]) -> Mapping[Echo, Track]:
    """What the stations did with each probe and each reply."""
    tracks: defaultdict[Echo, Track] = defaultdict(list)
    for event in events:
        if isinstance(event, PacketEvent) and isinstance(event.packet.body, Echo):
            tracks[event.packet.body].append(event)
    return tracks


class Steps:
    """Turns what the stations did into a line for each device."""

    def __init__(self, simulation: Simulation, events: Iterable[Event]) -> None:
        self._simulation = simulation
        self._switched: dict[tuple[int, str], FrameSwitched] = {}
        self._received: dict[int, FrameReceived] = {}
        self._dropped: dict[int, list[FrameDropped]] = {}
        for event in events:
            if isinstance(event, FrameSwitched):
                self._switched[event.frame.serial, event.node] = event
            elif isinstance(event, FrameReceived) and isinstance(event.frame.payload, Packet):
                self._received[event.frame.serial] = event
            elif isinstance(event, FrameDropped):
                self._dropped.setdefault(event.frame.serial, []).append(event)

    def of(self, track: Track) -> tuple[Step, ...]:
        """The way of one packet."""
        return tuple(self._steps(track))

    def _steps(self, track: Track) -> Iterator[Step]:
        came: tuple[str, int | None] | None = None
        arrived: object = None
        for event in track:
            ingress, tag = came if came else (None, None)
            if isinstance(event, (PacketSent, PacketForwarded)):
                did = "sent it" if isinstance(event, PacketSent) else f"routed it{_translated(event, arrived)}"
                egress = (event.interface, self._tag(event))
                yield _step(event.node, (ingress, tag), _route_text(event.route), did, egress)
                yield from self._between(event)
                received = self._received.get(event.frame.serial)
                came = (received.interface, self._tag(received)) if received else None
                arrived = event.frame.payload
            elif isinstance(event, PacketDelivered):
                yield _step(event.node, (ingress, tag), "the address is its own", "delivered it")
            elif isinstance(event, PacketDropped) and event.reason is not Reason.SUPERSEDED:
                looked_up = _LOOKED_UP.get(event.reason, "")
                if not looked_up and event.route is not None:
                    looked_up = _route_text(event.route)
                yield _step(event.node, (ingress, tag), looked_up, _drop_text(event))

    def _tag(self, event: PacketSent | PacketForwarded | FrameReceived) -> int | None:
        """The tag that a station's frame had; 0 where it was handed over inside the device."""
        inside = self._simulation.station(event.node).interfaces[event.interface].nic.attachment is None
        return 0 if inside else event.tag

    def _between(self, sent: PacketSent | PacketForwarded) -> list[Step]:
        """The switches that a frame passed between two stations, found from the far end backwards."""
        serial = sent.frame.serial
        received = self._received.get(serial)
        if received is None:
            passed = [event for (number, _), event in self._switched.items() if number == serial]
            return [_switch_step(event, None) for event in passed] + [
                _step(event.node, (event.interface, event.tag), "", f"dropped the frame: {FRAME_DROPS[event.reason]}")
                for event in self._dropped.get(serial, [])
            ]
        interface = self._simulation.station(received.node).interfaces[received.interface]
        nic = interface.nic
        steps: list[Step] = []
        outlet: Any
        if nic.attachment is None:
            node, outlet = received.node, interface
        else:
            wire = self._simulation.wire(received.node, nic.attachment).peer
            node, outlet = (wire.node, wire) if wire else ("", None)
        while (event := self._switched.get((serial, node))) is not None and len(steps) < 4096:
            steps.append(_switch_step(event, outlet))
            before = self._simulation.wire(node, event.interface).peer
            if before is None:
                break
            node, outlet = before.node, before
        return steps[::-1]


def _translated(event: PacketForwarded, arrived: object) -> str:
    """Which address of a packet a router changed on its way in, or on its way out."""
    sent = event.frame.payload
    if isinstance(sent, Packet) and sent.source != event.packet.source:
        return f", its source {event.packet.source} translated to {sent.source}"
    if isinstance(arrived, Packet) and arrived.target != event.packet.target:
        return f", its destination {arrived.target} turned back to {event.packet.target}"
    return ""


def _drop_text(event: PacketDropped) -> str:
    if event.next_hop is not None:
        return f"asked for {event.next_hop}: no answer"
    return f"dropped it: {event.refusal or DROPS[event.reason]}"


def _step(
    device: str,
    ingress: tuple[str | None, int | None],
    looked_up: str,
    did: str,
    egress: tuple[str | None, int | None] = (None, None),
) -> Step:
    return Step(device, *ingress, looked_up=looked_up, did=did, egress=egress[0], egress_tag=egress[1])


def _switch_step(event: FrameSwitched, outlet: Any) -> Step:
    vlan, outs = event.vlan, event.outlets
    known = "MAC table" if len(outs) == 1 else "not in the MAC table"
    did = "switched it" if len(outs) == 1 else f"flooded it to {len(outs)} ports"
    out = outlet or outs[0] if outs else None
    egress = out.name if out is not None else None
    tag = (None if out.untagged == vlan else vlan) if isinstance(out, Wire) else 0
    return _step(event.node, (event.interface, event.tag), f"VLAN {vlan}, {known}", did, (egress, tag))


def _route_text(entry: Entry) -> str:
    if entry.next_hop is None:
        return f"{entry.prefix} is connected"
    return f"{entry.prefix} via {entry.next_hop}"
