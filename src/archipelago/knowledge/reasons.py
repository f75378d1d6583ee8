"""Why a packet or a frame ends, and why something is down: one list of each, for every engine, view and file."""

from __future__ import annotations

from enum import StrEnum
from typing import NamedTuple


class Reason(StrEnum):
    """Why a packet or a frame got no further."""

    NO_ADDRESS = "no-address"
    """The sender has no address of the family."""
    NO_ROUTE = "no-route"
    """No route matches (RFC 1812 5.2.4), or a host has no usable gateway (RFC 1122 3.3.1)."""
    NOT_ROUTING = "not-routing"
    """It is for somebody else, and the station does not forward the family."""
    BROADCAST = "broadcast"
    """It is for a connected subnet's broadcast or all-zeros address (RFC 2644, RFC 1122 3.2.1.3)."""
    TTL_EXPIRED = "ttl-expired"
    """The TTL or hop limit ran out (RFC 1812 5.3.1, RFC 8200 3)."""
    CANNOT_SEND = "cannot-send"
    """The interface that the route leaves by sends no frame, or has no address to ask for a neighbour with."""
    UNRESOLVED = "unresolved"
    """Dropped while its next hop was asked for."""
    SUPERSEDED = "superseded"
    """A newer packet took its place while the next hop was asked for (RFC 1122 2.3.2.2, RFC 4861 7.2.2)."""
    UNANSWERED = "unanswered"
    """Nobody answered for the next hop."""
    LOST = "lost"
    """It was sent, and delivered to nobody."""
    OTHER_HOLDER = "other-holder"
    """It was delivered to a holder of the address that is not who was asked."""
    STORM = "storm"
    """A broadcast that never ends took the domain down."""
    TAG_NOT_ACCEPTED = "tag-not-accepted"
    """A frame whose tag, or lack of one, the port does not accept (IEEE 802.1Q 6.9, 8.6.2)."""
    FILTERED = "filtered"
    """A filter dropped it, in silence."""
    REJECTED = "rejected"
    """A filter rejected it; its sender is told (RFC 1812 5.2.7.1)."""
    TOO_LARGE = "too-large"
    """More octets than the interface or the link passes, and it may not be split (RFC 1191 3, RFC 8201 3)."""
    SAME_PORT = "same-port"
    """A frame for a station behind its ingress port (IEEE 802.1Q 8.6.1)."""


class DownCause(StrEnum):
    """Why a port, an aggregate or an interface is down."""

    ADMIN_DOWN = "admin-down"
    NOT_CABLED = "not-cabled"
    NO_MEMBERS = "no-members"
    MEMBERS_DOWN = "members-down"
    VLAN_ABSENT = "vlan-absent"
    VLAN_SUSPENDED = "vlan-suspended"
    NO_LIVE_PORT = "no-live-port"


_TEXTS = {
    DownCause.ADMIN_DOWN: "{thing} is off",
    DownCause.NOT_CABLED: "{thing} is not cabled",
    DownCause.NO_MEMBERS: "{thing} has no members",
    DownCause.MEMBERS_DOWN: "no member of {thing} has carrier: {first}",
    DownCause.VLAN_ABSENT: "VLAN {vlan} does not exist on {thing}",
    DownCause.VLAN_SUSPENDED: "VLAN {vlan} is suspended on {thing}",
    DownCause.NO_LIVE_PORT: "no port of {thing} that carries VLAN {vlan} has carrier",
}


class Down(NamedTuple):
    """Why something is down: the cause, the thing that has it, its VLAN where one is concerned, and what keeps the
    first member of an aggregate down. The text of it is for people."""

    cause: DownCause
    thing: str
    vlan: int = 0
    first: Down | None = None

    @property
    def root(self) -> DownCause:
        """The cause at the bottom: that of the first member where all members of an aggregate are down."""
        return self.first.root if self.first is not None else self.cause

    def __str__(self) -> str:
        return _TEXTS[self.cause].format(thing=self.thing, vlan=self.vlan, first=self.first)


def admin_down(thing: object) -> Down:
    """It is switched off where it is written."""
    return Down(DownCause.ADMIN_DOWN, str(thing))
