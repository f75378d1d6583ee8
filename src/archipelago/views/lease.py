"""The answer to how a host is leased its address, as people read it: the answer, who heard, the exchange."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from archipelago.knowledge.hearing import Hearing, Listener
from archipelago.knowledge.reasons import Reason
from archipelago.simulation.events import Event, LeaseStep, MessageBroadcast, PacketDropped, PacketForwarded, PacketSent
from archipelago.simulation.lease import LeaseResult
from archipelago.simulation.steps import DROPS
from archipelago.views.face import Face, Part, set_apart
from archipelago.views.messages import message_of, message_text
from archipelago.views.plain import plain
from archipelago.views.schema import FINDING, FLAG, ROW, TEXT, maybe, record, several
from archipelago.views.table import Table, table
from archipelago.views.timeline import ALL, EVENT, Chosen, timeline_rows

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


def body(answer: LeaseResult) -> list[Part]:
    """What is wrong, who heard, and the messages in order."""
    told: list[Part] = [f"  {line}" for line in answer.why_not]
    if answer.renewed is not None:
        told.append(f"  renewal after half of the lease: {'acknowledged' if answer.renewed else 'NOT acknowledged'}")
    return [*told, *set_apart(tables(answer))]


def tables(answer: LeaseResult) -> list[Table]:
    """Who heard, and the exchange."""
    return [heard(answer), exchange(answer)]


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


def values(answer: LeaseResult, chosen: Chosen = ALL) -> dict[str, Any]:
    """The answer with the keys of `--json`.

    Args:
        answer: the answer.
        chosen: which events are among them.
    """
    return _values(answer, timeline_rows(answer.events, chosen))


def without_events(answer: LeaseResult) -> dict[str, Any]:
    """The same, no event among them."""
    return _values(answer, [])


def _values(answer: LeaseResult, events: list[dict[str, Any]]) -> dict[str, Any]:
    return {
        "host": answer.host,
        "address": answer.address,
        "gateway": answer.gateway,
        "server": answer.server,
        "relay": answer.relay,
        "leased": answer.leased,
        "renewed": answer.renewed,
        "heard": heard(answer).records(),
        "exchange": exchange(answer).records(),
        "finding": plain(answer.finding),
        "events": events,
    }


LEASE = Face(
    name="lease",
    verb="reach",
    shape=record(
        host=TEXT,
        address=maybe(TEXT)("with the prefix length"),
        gateway=maybe(TEXT),
        server=maybe(TEXT)("a device or host"),
        relay=maybe(TEXT)("DEVICE/INTERFACE; null where the server is in the host's own VLAN"),
        leased=FLAG,
        renewed=maybe(FLAG)("whether the renewal was acknowledged; null where there is none"),
        heard=several(ROW)("who hears the question"),
        exchange=several(ROW)("the messages, station by station"),
        finding=maybe(FINDING),
        events=several(EVENT)("with --steps; else empty"),
    ),
    values=values,
    tables=tables,
    body=body,
)
