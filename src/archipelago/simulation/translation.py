"""Translation of sources (RFC 3022): what a router remembers of conversations that leave with another address."""

from __future__ import annotations

from archipelago.addressing.values import Address
from archipelago.knowledge.devices import Nic
from archipelago.knowledge.forwarding import translated_source
from archipelago.model.filters import Probe
from archipelago.simulation.frames import Echo, IcmpError, LeaseMessage, Packet

Outside = tuple[Probe, int, Address, Address]
"""A conversation as it looks from outside: what was sent, whose it is, the far end, the address that it left with."""


class Translations:
    """The table of one router."""

    __slots__ = ("_inside",)

    def __init__(self) -> None:
        self._inside: dict[Outside, Address] = {}

    def outwards(self, nic: Nic, packet: Packet) -> Packet:
        """A packet that is forwarded out by an interface, as it leaves: the first of a conversation from a source that
        is translated leaves with the interface's address, its errors too; answers to others leave as they are."""
        own = nic.translates_to
        if own is None or packet.target.version != 4:
            return packet
        body = packet.body
        if isinstance(body, IcmpError):
            about = body.about
            if isinstance(about.body, Echo) and self._inside.get(_key(about.body, about.source, own)) == about.target:
                return packet._replace(source=own, body=body._replace(about=about._replace(target=own)))
            return packet
        if isinstance(body, LeaseMessage):  # its answer goes to the address in it, not to where it came from
            inside = translated_source(nic, packet.source) is not None and not body.answers
            return packet._replace(source=own) if inside else packet
        if body.reply or translated_source(nic, packet.source) is None:
            return packet
        self._inside[_key(body, packet.target, own)] = packet.source
        return packet._replace(source=own)

    def inwards(self, packet: Packet) -> Packet:
        """A packet that comes in, with the address inside where it belongs to a conversation that was translated; the
        header that an ICMP error quotes is turned back too (RFC 3022 4.3)."""
        if not self._inside:
            return packet
        body = packet.body
        if isinstance(body, IcmpError):
            about = body.about
            if not isinstance(about.body, Echo):
                return packet
            inside = self._inside.get(_key(about.body, about.target, about.source))
            if inside is None:
                return packet
            return packet._replace(target=inside, body=body._replace(about=about._replace(source=inside)))
        if isinstance(body, LeaseMessage):
            return packet
        inside = self._inside.get(_key(body, packet.source, packet.target)) if body.reply else None
        return packet if inside is None else packet._replace(target=inside)


def _key(body: Echo, far: Address, own: Address) -> Outside:
    return body.sent, body.probe, far, own
