"""The answer to how a host is leased its address, as people read it: the answer, who heard, the exchange."""

from __future__ import annotations

from collections.abc import Iterator

from archipelago.knowledge.hearing import Hearing, Listener
from archipelago.knowledge.reasons import Reason
from archipelago.simulation.events import Event, LeaseStep, MessageBroadcast, PacketDropped, PacketForwarded, PacketSent
from archipelago.simulation.frames import LeaseMessage, Packet
from archipelago.simulation.lease import LeaseResult
from archipelago.simulation.steps import DROPS
from archipelago.views.table import Table, table

OUTCOMES = {
    Hearing.OFFERS: "answers",
    Hearing.NO_POOL: "has no pool for the subnet",
    Hearing.FILTERED: "its filter ends the question",
    Hearing.NO_SERVER: "nobody leases at that address",
    Hearing.NO_WAY: "what it sends does not get there",
    Hearing.NO_WAY_BACK: "the answer does not get back to the relay",
    Hearing.ONE_WAY: "the answer does not get to the host",
    Hearing.STORM: "a broadcast there never ends",
}


def parts(answer: LeaseResult) -> list[str | Table]:
    """The answer first, then what is wrong, who heard, and the messages in order."""
    told: list[str | Table] = [answer.headline, *(f"  {line}" for line in answer.why_not)]
    if answer.renewed is not None:
        told.append(f"  renewal after half of the lease: {'acknowledged' if answer.renewed else 'NOT acknowledged'}")
    shown = (heard(answer), exchange(answer))
    return [*told, *(part for one in shown if one.rows for part in ("", one))]


def heard(answer: LeaseResult) -> Table:
    """Who hears the question, and what becomes of it."""
    rows = [
        (
            f"{one.device}/{one.interface}",
            "relay" if one.relay else "server",
            one.asked or "",
            one.server or "",
            OUTCOMES[one.outcome] + _where(one),
        )
        for one in answer.heard
    ]
    return table("who hears the question", ("at", "as", "relays to", "server", "what becomes of it"), rows)


def _where(one: Listener) -> str:
    if one.refusal is not None:
        return f": {one.refusal}"
    if one.ended is None:
        return ""
    if one.ended.refusal is not None:
        return f": ended at {one.ended.node}, {one.ended.refusal}"
    reason = DROPS.get(one.ended.reason, "a broadcast there never ends" if one.ended.reason is Reason.STORM else "")
    hop = f" {one.ended.next_hop}" if one.ended.next_hop is not None and one.ended.reason is Reason.UNANSWERED else ""
    return f": ended at {one.ended.node}, {reason}{hop}"


def exchange(answer: LeaseResult) -> Table:
    """The messages, station by station."""
    return table("the exchange", ("ms", "device", "interface", "what"), _rows(answer.events), ("ms",))


def _rows(events: tuple[Event, ...]) -> Iterator[tuple[str, str, str, str]]:
    for event in events:
        message = message_of(event)
        if message is None or not isinstance(
            event, (MessageBroadcast, LeaseStep, PacketSent, PacketForwarded, PacketDropped)
        ):
            continue
        text = message_text(message)
        if isinstance(event, LeaseStep):
            text = event.told
        elif isinstance(event, MessageBroadcast):
            text = f"broadcasts: {text}"
        elif isinstance(event, PacketSent):
            text = f"sends to {event.packet.target}: {text}"
        elif isinstance(event, PacketForwarded):
            text = f"forwards to {event.packet.target}: {text}"
        else:
            asked = f" {event.next_hop}" if event.next_hop is not None else ""
            text = f"ends: {text}; {event.refusal or DROPS[event.reason]}{asked}"
        yield f"{event.time / 1e6:.3f}", event.node, event.interface, text


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
