"""The messages about leases, in words."""

from __future__ import annotations

from archipelago.simulation.events import Event
from archipelago.simulation.frames import LeaseMessage, Packet


def message_of(event: Event) -> LeaseMessage | None:
    """The message about a lease that an event is about; None where it is about none."""
    packet = getattr(event, "packet", None) or getattr(getattr(event, "frame", None), "payload", None)
    return packet.body if isinstance(packet, Packet) and isinstance(packet.body, LeaseMessage) else None


def message_text(message: LeaseMessage) -> str:
    """A message in words."""
    via = f", through {'/'.join(message.relay)}" if message.relay else ""
    if message.kind == "discover":
        return f"discover for {message.host}{via}"
    if message.kind == "offer":
        return f"offer of {message.address} to {message.host} by {message.by}{via}"
    if message.kind == "request":
        return f"request for {message.address} of {message.server}, for {message.host}{via}"
    if message.kind == "renew":
        return f"request of {message.host} to keep {message.address}"
    return f"acknowledgement of {message.address} for {message.host} by {message.by}{via}"
