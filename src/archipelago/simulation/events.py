"""What can happen in a simulation: one record for each kind of event, with a name for each of its fields.

Times are in nanoseconds.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from archipelago.addressing.values import Address
from archipelago.knowledge.filtering import Refusal
from archipelago.knowledge.reasons import Reason
from archipelago.knowledge.routes import Entry
from archipelago.simulation.frames import Frame, Outlet, Packet


class FrameReceived(NamedTuple):
    """A station takes a frame in."""

    time: int
    node: str
    interface: str
    tag: int | None
    frame: Frame


class FrameIgnored(NamedTuple):
    """A frame for another station comes by."""

    time: int
    node: str
    interface: str
    tag: int | None
    frame: Frame


class FrameSwitched(NamedTuple):
    """A switch passes a frame on; `interface` is its ingress port."""

    time: int
    node: str
    interface: str
    tag: int | None
    frame: Frame
    vlan: int
    outlets: tuple[Outlet, ...]


class FrameDropped(NamedTuple):
    """A frame ends at a port."""

    time: int
    node: str
    interface: str
    tag: int | None
    frame: Frame
    reason: Reason


class NeighbourAsked(NamedTuple):
    """A station asks who holds an address (RFC 826, RFC 4861)."""

    time: int
    node: str
    interface: str
    tag: int | None
    frame: Frame


class NeighbourAnswered(NamedTuple):
    """A station answers for an address of its own."""

    time: int
    node: str
    interface: str
    tag: int | None
    frame: Frame


class NeighbourLearned(NamedTuple):
    """A station notes where an address is."""

    time: int
    node: str
    interface: str
    address: Address
    mac: int


class RoutersAsked(NamedTuple):
    """A host asks the routers of its link to tell of themselves (RFC 4861 4.1)."""

    time: int
    node: str
    interface: str
    tag: int | None
    frame: Frame


class RouterAdvertised(NamedTuple):
    """A router tells a host the prefixes of its link (RFC 4861 4.2)."""

    time: int
    node: str
    interface: str
    tag: int | None
    frame: Frame


class HostConfigured(NamedTuple):
    """A host takes an address, and a router as its gateway (RFC 4862 5.5.3)."""

    time: int
    node: str
    interface: str
    address: Address
    router: Address


class MessageBroadcast(NamedTuple):
    """A station sends a message about a lease to everybody on a link (RFC 2131 4.1)."""

    time: int
    node: str
    interface: str
    tag: int | None
    frame: Frame


class LeaseStep(NamedTuple):
    """What a server, a relay or a host makes of a message about a lease."""

    time: int
    node: str
    interface: str
    packet: Packet
    told: str


class PacketSent(NamedTuple):
    """A packet of the station's own leaves, in a frame, by a route."""

    time: int
    node: str
    interface: str
    tag: int | None
    frame: Frame
    packet: Packet
    ingress: str
    route: Entry


class PacketForwarded(NamedTuple):
    """A packet of somebody else's leaves again."""

    time: int
    node: str
    interface: str
    tag: int | None
    frame: Frame
    packet: Packet
    ingress: str
    route: Entry


class PacketDelivered(NamedTuple):
    """A packet has arrived at a station that holds its destination."""

    time: int
    node: str
    interface: str
    packet: Packet


class PacketWaits(NamedTuple):
    """A packet is held while its next hop is asked for."""

    time: int
    node: str
    interface: str
    packet: Packet
    next_hop: Address


class PacketDropped(NamedTuple):
    """A packet ends here: why, by which interface it would have left or came in, by which route, and who was asked
    for."""

    time: int
    node: str
    interface: str
    packet: Packet
    reason: Reason
    route: Entry | None
    next_hop: Address | None
    refusal: Refusal | None = None


class Unanswered(NamedTuple):
    """Nobody has answered for a next hop; `packet` is the last that was to go there."""

    time: int
    node: str
    interface: str
    packet: Packet
    next_hop: Address


class ErrorReported(NamedTuple):
    """A station tells the sender of a packet by ICMP why it went no further."""

    time: int
    node: str
    interface: str
    packet: Packet


class StormStarted(NamedTuple):
    """A flooded frame came round again: it will never end."""

    time: int
    node: str
    interface: str
    vlan: int
    frame: Frame


PacketEvent = PacketSent | PacketForwarded | PacketDelivered | PacketWaits | PacketDropped
"""What a station does with a packet."""
FrameEvent = (
    FrameReceived
    | FrameIgnored
    | FrameSwitched
    | FrameDropped
    | NeighbourAsked
    | NeighbourAnswered
    | RoutersAsked
    | RouterAdvertised
    | MessageBroadcast
)
Event = (
    PacketEvent | FrameEvent | LeaseStep | NeighbourLearned | HostConfigured | Unanswered | ErrorReported | StormStarted
)

WORDS: Mapping[type, str] = {
    FrameReceived: "receives",
    FrameIgnored: "ignores",
    FrameSwitched: "switches",
    FrameDropped: "drops-frame",
    NeighbourAsked: "asks",
    NeighbourAnswered: "answers",
    NeighbourLearned: "learns",
    RoutersAsked: "solicits",
    RouterAdvertised: "advertises",
    HostConfigured: "configures",
    MessageBroadcast: "broadcasts",
    LeaseStep: "decides",
    PacketSent: "sends",
    PacketForwarded: "forwards",
    PacketDelivered: "delivers",
    PacketWaits: "waits",
    PacketDropped: "drops",
    Unanswered: "unanswered",
    ErrorReported: "reports-error",
    StormStarted: "storm",
}
"""How a time line calls each kind of event."""
FAULTS = (FrameDropped, PacketDropped, Unanswered, ErrorReported, StormStarted)
"""The kinds of event that mean something went wrong."""
