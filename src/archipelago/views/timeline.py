"""What happened in a simulation, event by event: numbered, repeats folded; the next that matters; one in full."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from archipelago.answer import Answer
from archipelago.errors import QueryError
from archipelago.knowledge.routes import Entry
from archipelago.model.problems import folded
from archipelago.simulation.events import (
    FAULTS,
    WORDS,
    ErrorReported,
    Event,
    FrameDropped,
    FrameSwitched,
    HostConfigured,
    LeaseStep,
    NeighbourLearned,
    PacketDropped,
    PacketEvent,
    PacketForwarded,
    PacketSent,
    PacketWaits,
    StormStarted,
    Unanswered,
)
from archipelago.simulation.frames import (
    ICMP_ERRORS,
    Advertisement,
    Echo,
    Frame,
    GatewayBid,
    IcmpError,
    LeaseMessage,
    Packet,
    Resolution,
    Solicitation,
    length_of,
    mac_text,
)
from archipelago.simulation.steps import DROPS, FRAME_DROPS
from archipelago.views.face import Face
from archipelago.views.messages import message_text
from archipelago.views.schema import COUNT, FLAG, NUMBER, TEXT, maybe, record, several
from archipelago.views.table import Table, table


@dataclass(frozen=True, slots=True)
class Chosen:
    """Which events are shown: those of one device, of one protocol ("arp", address resolution of either family;
    "icmp", "tcp" and "udp", probes, and errors; "dhcp", leases), from the first fault on."""

    device: str | None = None
    protocol: str | None = None
    from_fault: bool = False

    def __bool__(self) -> bool:
        return self != Chosen()


ALL = Chosen()
"""Every event."""
EVENT = record(
    number=COUNT,
    milliseconds=NUMBER,
    device=TEXT,
    interface=TEXT,
    tag=maybe(COUNT),
    event=TEXT("what kind of event"),
    what=TEXT("what happened, in words"),
    fault=FLAG,
)
"""The shape of an event."""


def timeline(title: str, events: Sequence[Event], chosen: Chosen) -> Table:
    """The chosen events, numbered; a probe that went the same way as one before it is one row."""
    repeats, first = _repeats(events)
    rows: list[tuple[Any, ...]] = []
    for row in timeline_rows(events, chosen):
        probe = _probe(events[row["number"] - 1])
        if probe is not None and probe in repeats:
            if first[probe] == row["number"]:
                told = f"probe {probe + 1} went the same way as probe {repeats[probe] + 1}"
                rows.append((row["number"], _milliseconds(row), "", "", "", "repeats", told, ""))
            continue
        number, _, *rest, fault = row.values()
        rows.append((number, _milliseconds(row), *rest, "fault" if fault else ""))
    columns = ("#", "ms", "device", "interface", "tag", "event", "what", "mark")
    return table(title if rows else f"{title}: none matches", columns, rows, ("#", "ms", "tag"))


def timeline_rows(events: Sequence[Event], chosen: Chosen) -> list[dict[str, Any]]:
    """Every chosen event in words, with its number among all; times are in milliseconds."""
    rows = []
    started = not chosen.from_fault
    for number, event in enumerate(events, 1):
        started = started or isinstance(event, FAULTS)
        other = chosen.protocol is not None and protocol_of(event) != chosen.protocol
        if not started or other or chosen.device not in (None, event.node):
            continue
        rows.append(
            {
                "number": number,
                "milliseconds": round(event.time / 1e6, 3),
                "device": event.node,
                "interface": event.interface,
                "tag": event.vlan if isinstance(event, StormStarted) else getattr(event, "tag", None),
                "event": WORDS[type(event)],
                "what": describe(event),
                "fault": isinstance(event, FAULTS),
            }
        )
    return rows


def _milliseconds(row: Mapping[str, Any]) -> str:
    return f"{row['milliseconds']:.3f}"


def _packet(event: Event) -> Packet | None:
    packet = getattr(event, "packet", None) or getattr(getattr(event, "frame", None), "payload", None)
    return packet if isinstance(packet, Packet) else None


def _probe(event: Event) -> int | None:
    """Which probe an event is of, counted from 0; None where it is of none."""
    packet = _packet(event)
    body = packet.body if packet is not None else None
    if isinstance(body, IcmpError):
        body = body.about.body
    return body.probe if isinstance(body, Echo) else None


def _repeats(events: Iterable[Event]) -> tuple[dict[int, int], dict[int, int]]:
    """The probes that went the same way as an earlier one, each with that one; and the number of the first event of
    each probe."""
    ways: dict[int, list[object]] = {}
    first: dict[int, int] = {}
    for number, event in enumerate(events, 1):
        probe = _probe(event)
        if probe is not None:
            first.setdefault(probe, number)
            outlets = tuple(out.name for out in event.outlets) if isinstance(event, FrameSwitched) else ()
            way = (type(event), event.node, event.interface, getattr(event, "reason", None), outlets)
            ways.setdefault(probe, []).append(way)
    known: dict[tuple[object, ...], int] = {}
    repeats: dict[int, int] = {}
    for probe, steps in ways.items():
        earlier = known.setdefault(tuple(steps), probe)
        if earlier != probe:
            repeats[probe] = earlier
    return repeats, first


def next_that_matters(events: Sequence[Event], after: int) -> int:
    """The number of the next event that matters: a loss, a flood, a question that nobody answered, a decision.

    Args:
        events: what happened.
        after: the number of an event; 0 for the first that matters.

    Raises:
        QueryError: none follows.
    """
    for number in range(after + 1, len(events) + 1):
        event = events[number - 1]
        flood = isinstance(event, FrameSwitched) and len(event.outlets) > 1
        if flood or isinstance(event, (*FAULTS, PacketSent, PacketForwarded)):
            return number
    raise QueryError(f"nothing that matters follows event {after}; there are {len(events)} events")


def in_full(events: Sequence[Event], number: int) -> Table:
    """One event with all that is in its frame and packet, what the device looked up, and why it chose so.

    Raises:
        QueryError: there is no such event.
    """
    if not 1 <= number <= len(events):
        raise QueryError(f"there is no event {number}; there are {len(events)}")
    event = events[number - 1]
    rows: list[tuple[str, object]] = [
        ("time", f"{event.time / 1e6:.3f} ms"),
        ("where", f"{event.node}/{event.interface}"),
        ("event", WORDS[type(event)] + (" (fault)" if isinstance(event, FAULTS) else "")),
    ]
    frame: Frame | None = getattr(event, "frame", None)
    if frame is not None:
        tag = getattr(event, "tag", None)
        rows += [
            ("from MAC address", mac_text(frame.source)),
            ("to MAC address", mac_text(frame.target) + (", a group" if _for_many(frame) else "")),
            ("tag", "untagged" if tag is None else f"VLAN {tag}"),
        ]
    packet = _packet(event)
    if packet is not None:
        limit = "TTL" if packet.target.version == 4 else "hop limit"
        rows += [("from", packet.source), ("to", packet.target), (limit, packet.ttl)]
    rows += [("what", describe(event)), *_looked_up(event)]
    return table(f"event {number} of {len(events)}", ("", "value"), rows)


@dataclass(frozen=True, slots=True, repr=False)
class InFull(Answer):
    """One event of an answer with all that there is to tell of it: what the answer is, and whether that is a yes."""

    SHOWN = "timeline.EVENT_IN_FULL"

    said: str
    yes: bool
    events: tuple[Event, ...]
    number: int

    @property
    def headline(self) -> str:
        """What the answer is."""
        return self.said

    def __bool__(self) -> bool:
        return self.yes


EVENT_IN_FULL = Face(
    name="event",
    verb="reach",
    shape=record(
        number=COUNT("among all events"), of=COUNT("how many there are"), details=several(record(what=TEXT, value=TEXT))
    ),
    values=lambda one: {
        "number": one.number,
        "of": len(one.events),
        "details": [{"what": what, "value": str(value)} for what, value in in_full(one.events, one.number).values],
    },
    tables=lambda one: [in_full(one.events, one.number)],
)


def _for_many(frame: Frame) -> bool:
    """Whether a frame is a broadcast or multicast (IEEE 802: the group bit of its target)."""
    return bool(frame.target >> 40 & 1)


def _looked_up(event: Event) -> list[tuple[str, object]]:
    """What a device looked up, and why it chose what it did."""
    if isinstance(event, FrameSwitched):
        names = folded(out.name for out in event.outlets) or "no other port"
        unknown = len(event.outlets) > 1
        why = "nothing is known of that MAC address in the VLAN" if unknown else "the table has that MAC address there"
        why = "it is for a group, and goes to the whole VLAN" if _for_many(event.frame) else why
        return [("looked up", f"the MAC table of VLAN {event.vlan}"), ("chose", names), ("because", why)]
    route: Entry | None = getattr(event, "route", None)
    packet = _packet(event)
    if packet is None or not isinstance(event, (PacketSent, PacketForwarded, PacketDropped)):
        return []
    if route is None:
        return [
            ("looked up", f"{packet.target} in the routing table"),
            ("chose", "nothing"),
            ("because", "no route holds it"),
        ]
    hop = f"via {route.next_hop}" if route.next_hop is not None else "connected"
    why = f"{route.prefix} is the longest prefix that holds {packet.target}"
    if route.route is not None:
        why += f"; metric {route.metric}"
    chose = f"{route.prefix} {hop}, by {route.interface}"
    return [("looked up", f"{packet.target} in the routing table"), ("chose", chose), ("because", why)]


def protocol_of(event: Event) -> str:
    """What an event is about: address resolution ("arp"), leases ("dhcp"), or packets ("icmp", "tcp", "udp")."""
    packet = _packet(event)
    if packet is None:
        return "arp"
    body = packet.body.about.body if isinstance(packet.body, IcmpError) else packet.body
    if isinstance(packet.body, IcmpError):
        return "icmp"
    return "dhcp" if isinstance(body, LeaseMessage) else body.sent.protocol if isinstance(body, Echo) else "icmp"


def describe(event: Event) -> str:
    """An event in words."""
    if isinstance(event, NeighbourLearned):
        return f"{event.address} has {mac_text(event.mac)}"
    if isinstance(event, HostConfigured):
        return f"takes {event.address}, with {event.router} as a gateway"
    if isinstance(event, Unanswered):
        return f"nobody answered for {event.next_hop}"
    if isinstance(event, LeaseStep):
        return event.told
    if isinstance(event, (PacketEvent, ErrorReported)):
        return payload_text(event.packet) + _packet_end(event)
    text = payload_text(event.frame.payload)
    if isinstance(event, FrameSwitched):
        return f"{text}; VLAN {event.vlan}, to {', '.join(out.name for out in event.outlets) or 'no other port'}"
    if isinstance(event, FrameDropped):
        return f"{text}; dropped: {FRAME_DROPS[event.reason]}"
    return text


def _packet_end(event: PacketEvent | ErrorReported) -> str:
    if isinstance(event, PacketWaits):
        return f"; held while {event.next_hop} is asked for"
    if not isinstance(event, PacketDropped):
        return ""
    asked = f" {event.next_hop}" if event.next_hop is not None else ""
    return f"; dropped: {event.refusal or DROPS[event.reason]}{asked}"


def payload_text(payload: Resolution | Packet | Solicitation | Advertisement | GatewayBid) -> str:
    """What travels, in words."""
    if isinstance(payload, GatewayBid):
        return f"VRRP advertisement: {payload.sender} bids {payload.priority} for virtual router {payload.vrid}"
    if isinstance(payload, Solicitation):
        return f"router solicitation: {payload.sender} asks every router of its link"
    if isinstance(payload, Advertisement):
        prefixes = ", ".join(str(prefix) for prefix in payload.told.prefixes)
        return f"router advertisement: {payload.told.router} tells {payload.target} of {prefixes}"
    if isinstance(payload, Resolution):
        four = payload.sender.version == 4
        if payload.asks:
            name = "ARP request" if four else "neighbour solicitation"
            return f"{name} for {payload.target} from {payload.sender}"
        name = "ARP reply" if four else "neighbour advertisement"
        return f"{name}: {payload.sender} has {mac_text(payload.sender_mac)}"
    limit, errors = ("TTL", "ICMP") if payload.target.version == 4 else ("hop limit", "ICMPv6")
    way = f"{payload.source} to {payload.target}, {limit} {payload.ttl}"
    if isinstance(payload.body, IcmpError):
        fits = f", {payload.body.mtu:,} octets fit" if payload.body.mtu else ""
        return f"{errors} {ICMP_ERRORS[payload.body.reason]}{fits}: {way}, about {payload.body.about.target}"
    if isinstance(payload.body, LeaseMessage):
        return f"{message_text(payload.body)}: {way}"
    size = f" of {length_of(payload):,} octets" if payload.body.sent.size else ""
    return f"{probe_text(payload.body)} {payload.body.probe + 1}{size}: {way}"


def probe_text(body: Echo) -> str:
    """What a probe, or the answer to one, is called."""
    if body.sent.protocol == "icmp":
        return f"echo {'reply' if body.reply else 'request'}"
    if body.sent.protocol == "tcp":
        return f"{body.sent} {'SYN and ACK' if body.reply else 'SYN'}"
    return f"{body.sent} {'answer' if body.reply else 'datagram'}"
