"""What travels: frames, the two kinds of address resolution as one, packets and their bodies."""

from __future__ import annotations

from typing import Literal, NamedTuple, Protocol

from archipelago.addressing.values import Address
from archipelago.knowledge.advertised import Advertised
from archipelago.knowledge.header import Header, error_header, probe_header
from archipelago.knowledge.leases import EVERYBODY
from archipelago.knowledge.reasons import Reason
from archipelago.model.filters import ECHO, UDP, Probe

BROADCAST = 0xFFFF_FFFF_FFFF
ALL_ROUTERS = 0x3333_0000_0002
"""Where the question for routers is sent (RFC 2464 7, RFC 4291 2.7.1)."""
GROUP_BIT = 1 << 40
"""Set in the MAC address of a broadcast or multicast frame (IEEE 802 8.2)."""


class Frame(NamedTuple):
    """An Ethernet frame; its tag travels beside it. `serial` is one for each frame that a station sends."""

    source: int
    target: int
    payload: Resolution | Packet | Solicitation | Advertisement | GatewayBid
    serial: int


class Outlet(Protocol):
    """Where a switch can pass a frame to: a wire, or the device's own interface in the VLAN."""

    name: str

    def transmit(self, vlan: int, frame: Frame) -> None: ...


class Resolution(NamedTuple):
    """An ARP request or reply (RFC 826), or a neighbour solicitation or advertisement (RFC 4861)."""

    asks: bool
    sender: Address
    sender_mac: int
    target: Address


class Solicitation(NamedTuple):
    """A host asks the routers of its link to tell of themselves (RFC 4861 4.1)."""

    sender: Address


class Advertisement(NamedTuple):
    """A router tells a host the prefixes of its link, and itself as a gateway (RFC 4861 4.2, RFC 4862 5.5)."""

    told: Advertised
    target: Address


class GatewayBid(NamedTuple):
    """A VRRP advertisement (RFC 9568 5.2): which virtual router, what its sender bids (0: it goes), how often it
    advertises, in nanoseconds, and from which address."""

    vrid: int
    family: int
    priority: int
    interval: int
    sender: Address


class Packet(NamedTuple):
    """An IP packet. One that was split on its way travels as its largest `piece`, of so many octets; 0: it is whole."""

    source: Address
    target: Address
    ttl: int
    body: Echo | IcmpError | LeaseMessage
    piece: int = 0


class Echo(NamedTuple):
    """A probe, or the answer to one: an echo request or reply (RFC 792, RFC 4443), or what `sent` says."""

    reply: bool
    probe: int
    sent: Probe = ECHO


class LeaseMessage(NamedTuple):
    """A message about a lease (RFC 2131 2): what it is, for which host, the address given, the server's own, the
    relay's (`giaddr`), which relay that is, who answers, the prefix length and the gateway given."""

    kind: Literal["discover", "offer", "request", "acknowledge", "renew"]
    host: str
    address: Address | None = None
    server: Address | None = None
    giaddr: Address | None = None
    relay: tuple[str, str] | None = None
    by: str = ""
    length: int = 0
    gateway: Address | None = None

    @property
    def answers(self) -> bool:
        """Whether a server sends it."""
        return self.kind in ("offer", "acknowledge")


class IcmpError(NamedTuple):
    """An ICMP error about a packet: why it went no further; where it was too large, the octets that go on from there
    (RFC 1191 4, RFC 4443 3.2)."""

    reason: Reason
    about: Packet
    mtu: int = 0


ICMP_ERRORS = {
    Reason.NO_ROUTE: "network unreachable (no route)",
    Reason.UNANSWERED: "host unreachable (nobody answers for the address)",
    Reason.TOO_LARGE: "too large (it may not be split)",
    Reason.TTL_EXPIRED: "time exceeded (the TTL or hop limit ran out)",
    Reason.REJECTED: "administratively prohibited (a filter rejected it)",
}
"""ICMP errors: destination unreachable codes 0, 1, 4 and 13 (0, 3 and 1 in ICMPv6, where too large is a type of its
own), time exceeded code 0."""


def header_of(packet: Packet) -> Header:
    """What the forwarding decision sees of a packet."""
    source, target, ttl, body, piece = packet
    if isinstance(body, Echo):
        header = probe_header(source, target, body.sent, answers=body.reply, number=body.probe, ttl=ttl)
        return header._replace(length=piece) if piece else header
    if isinstance(body, LeaseMessage):
        client = 67 if body.giaddr is not None and EVERYBODY not in (source, target) else 68
        ports = (67, client) if body.answers else (client, 67)
        return Header(source, target, UDP, *ports, ttl=ttl)
    return error_header(source, target, ttl)


_OTHERS = {Solicitation: 56, Advertisement: 96, GatewayBid: 40}
"""About how many octets these have; each fits the smallest frame or is near it."""
_HEADER = {4: 20, 6: 40}
_USUAL_DATA = 56
"""The octets of data in an echo request whose size is not written."""


def length_of(packet: Packet) -> int:
    """The octets of an IP packet."""
    body = packet.body
    header = _HEADER[packet.target.version]
    if packet.piece:
        return packet.piece
    if isinstance(body, Echo):
        if body.sent.protocol == "icmp":
            return header + 8 + (body.sent.size or _USUAL_DATA)
        return header + (40 if body.sent.protocol == "tcp" else 20)
    return header + (308 if isinstance(body, LeaseMessage) else 36)


def octets_of(frame: Frame, tag: int | None) -> int:
    """The octets of a frame on a wire, from its addresses to its check sequence (IEEE 802.3 3.1, IEEE 802.1Q 9.6)."""
    payload = frame.payload
    if isinstance(payload, Packet):
        size = length_of(payload)
    elif isinstance(payload, Resolution):
        size = 28 if payload.target.version == 4 else 72
    else:
        size = _OTHERS[type(payload)]
    return max(18 + size, 64) + (0 if tag is None else 4)


Conversation = tuple[Probe, int, frozenset[Address]]
"""What packets belong together: protocol and port, whose question it is, both addresses."""


LEASING = Probe("udp", 67)


def conversation_of(packet: Packet) -> Conversation:
    """The conversation that a packet, or the packet that an ICMP error is about, belongs to."""
    about = packet.body.about if isinstance(packet.body, IcmpError) else packet
    body = about.body
    if isinstance(body, LeaseMessage):
        return LEASING, -1, frozenset((about.source, about.target))
    assert isinstance(body, Echo)  # nobody reports about an error
    return body.sent, body.probe, frozenset((about.source, about.target))


def mac_text(mac: int) -> str:
    """A MAC address as text, such as `02:00:00:00:00:07`."""
    return ":".join(f"{mac >> shift & 0xFF:02x}" for shift in range(40, -1, -8))


def group_mac(target: Address) -> int:
    """Where a question for an address is sent: broadcast for ARP, the solicited-node group for neighbour discovery
    (RFC 4291 2.7.1, RFC 2464 7)."""
    return BROADCAST if target.version == 4 else 0x3333_FF00_0000 | target.value & 0xFF_FFFF
