"""The answer to a reach question as text, and its events on a time line."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from archipelago.addressing.values import Address
from archipelago.simulation.frames import (
    REFUSALS,
    Advertisement,
    Frame,
    Packet,
    Refusal,
    Resolution,
    Solicitation,
    mac_text,
)
from archipelago.simulation.reach import Answer, Step
from archipelago.simulation.world import Event
from archipelago.views.table import lines as table_lines
from archipelago.views.table import table

FAULTS = frozenset({"drops-frame", "loses", "unanswered", "refuses", "storm"})
"""The kinds of event that mean something went wrong."""


def lines(answer: Answer) -> list[str]:
    """The answer first, then why not and what mends it, then the way out and the way back; where both families were
    asked, whether they agree comes first."""
    other = answer.other_family
    if other is None:
        return [_headline(answer), *_why_not(answer), *_probes(answer), *_ways(answer)]
    if answer.reached == other.reached:
        found = [f"{_headline(answer)}, IPv4 and IPv6 alike"]
    else:
        said = [f"{'REACHED' if one.reached else 'NOT REACHED'} in IPv{one.family}" for one in (answer, other)]
        found = [f"{said[0]}, {said[1]}: {answer.source} to {answer.target}"]
    if not answer.reached and (answer.cause, answer.mend) == (other.cause, other.mend):
        found += _why_not(answer) + _probes(answer) + _probes(other)[:1]
    else:
        for one in (answer, other):
            found += _why_not(one, f"IPv{one.family}: ")
        found += _probes(answer) + _probes(other)
    same = [step.device for step in (*answer.out, *answer.back)] == [step.device for step in (*other.out, *other.back)]
    found += _ways(answer)
    if same and other.reached:
        return [*found, "", "IPv6 goes the same way"]
    return [*found, "", "in IPv6", *_ways(other)]


def _headline(answer: Answer) -> str:
    target = (
        f"{answer.target} ({answer.address})" if answer.address and answer.address != answer.target else answer.target
    )
    if answer.reached:
        return f"REACHED: {answer.source} reaches {target} and the answer comes back"
    return f"NOT REACHED: {answer.source} does not reach {target}"


def _why_not(answer: Answer, before: str = "") -> list[str]:
    if answer.reached:
        return []
    way = {"out": "on the way out", "back": "on the way back", None: ""}[answer.direction]
    stopped = f" at {answer.stopped_at}" if answer.stopped_at else ""
    return [
        f"  {before}where: {way}{stopped}",
        f"  {before}why:   {answer.says} [{answer.cause}]",
        f"  {before}mend:  {answer.mend}",
    ]


def _probes(answer: Answer) -> list[str]:
    family = f", IPv{answer.family}" if answer.family else ""
    found = [f"  probes: {answer.probes_answered} of {answer.probes_sent} answered{family}"]
    return found + [f"    {text}" for text in _grouped(answer.lost)]


def _ways(answer: Answer) -> list[str]:
    found = []
    for title, steps in (("way out", answer.out), ("way back", answer.back)):
        if steps:
            found += ["", *step_lines(title, steps)]
    return found


def _grouped(lost: Sequence[str]) -> list[str]:
    """Fates of lost probes, those alike told once."""
    groups: dict[str, list[str]] = {}
    for text in lost:
        number, _, fate = text.removeprefix("probe ").partition(": ")
        groups.setdefault(fate, []).append(number)
    return [f"probe{'s' if len(numbers) > 1 else ''} {', '.join(numbers)}: {fate}" for fate, numbers in groups.items()]


def step_lines(title: str, steps: Sequence[Step]) -> list[str]:
    """One line for each device on the way."""
    rows = [
        (
            number,
            step.device,
            _port(step.arrived, step.arrived_tag),
            step.looked_up,
            step.did,
            _port(step.left, step.left_tag),
        )
        for number, step in enumerate(steps, 1)
    ]
    columns = ("", "device", "came in by", "looked up", "did", "left by")
    return [title, *table_lines(table("", columns, rows), "  ")]


def _port(name: str | None, tag: int | None) -> str:
    if name is None:
        return "-"
    if tag == 0:
        return name
    return f"{name} untagged" if tag is None else f"{name} tag {tag}"


def timeline(
    events: Iterable[Event], device: str | None = None, protocol: str | None = None, from_fault: bool = False
) -> list[str]:
    """Every event on a line with its time; the arguments are those of `timeline_rows`."""
    rows = [tuple(row.values()) for row in timeline_rows(events, device, protocol, from_fault)]
    if not rows:
        return ["no event matches"]
    return table_lines(table("", ("ms", "device", "interface", "tag", "event", "what"), rows, ("ms", "tag")))


def timeline_rows(
    events: Iterable[Event], device: str | None = None, protocol: str | None = None, from_fault: bool = False
) -> list[dict[str, Any]]:
    """Every event in words. Times are in milliseconds.

    Args:
        events: what happened.
        device: only what happened there.
        protocol: "arp" (address resolution of either family) or "icmp" (probes and errors) alone.
        from_fault: leave out what happened before the first fault.
    """
    rows = []
    started = not from_fault
    for event in events:
        started = started or event.kind in FAULTS
        if not started or (device and event.node != device) or (protocol and protocol_of(event) != protocol):
            continue
        rows.append(
            {
                "milliseconds": f"{event.time / 1e6:.3f}",
                "device": event.node,
                "interface": event.interface,
                "tag": event.tag,
                "event": event.kind,
                "what": describe(event),
            }
        )
    return rows


def protocol_of(event: Event) -> str:
    """Whether an event is about address resolution ("arp") or packets ("icmp")."""
    thing = event.thing.payload if isinstance(event.thing, Frame) else event.thing
    return "icmp" if isinstance(thing, Packet) and event.kind != "unanswered" else "arp"


def describe(event: Event) -> str:
    """An event in words."""
    thing = event.thing
    if event.kind == "learns":
        return f"{thing} is at {mac_text(event.detail)}"
    if event.kind == "configures":
        return f"takes {thing}, with {event.detail} as a gateway"
    if event.kind == "unanswered":
        return f"nobody answered for {event.detail}"
    text = payload_text(thing.payload if isinstance(thing, Frame) else thing)
    if event.kind == "switches":
        vlan, outs = event.detail
        return f"{text}; VLAN {vlan}, to {', '.join(out.name for out in outs) or 'no other port'}"
    if event.kind == "drops-frame":
        return f"{text}; dropped: " + (
            "it came from that port" if event.detail else "the port does not accept that tag"
        )
    if event.kind == "loses":
        return f"{text}; lost: {event.detail[0]}"
    if event.kind == "waits":
        return f"{text}; {'held' if event.detail[3] else 'dropped'} while {event.detail[2]} is asked for"
    return str(text)


def payload_text(thing: Resolution | Packet | Solicitation | Advertisement | Address) -> str:
    """What travels, in words."""
    if isinstance(thing, Solicitation):
        return f"router solicitation: {thing.sender} asks every router of its link"
    if isinstance(thing, Advertisement):
        prefixes = ", ".join(str(prefix) for prefix in thing.told.prefixes)
        return f"router advertisement: {thing.told.router} tells {thing.target} of {prefixes}"
    if isinstance(thing, Resolution):
        name = ("ARP", "ARP") if thing.sender.version == 4 else ("neighbour solicitation", "neighbour advertisement")
        if thing.asks:
            return f"{name[0]}: who has {thing.target}? asks {thing.sender}"
        return f"{name[1]}: {thing.sender} is at {mac_text(thing.sender_mac)}"
    if isinstance(thing, Packet):
        limit, errors = ("TTL", "ICMP") if thing.target.version == 4 else ("hop limit", "ICMPv6")
        way = f"{thing.source} to {thing.target}, {limit} {thing.ttl}"
        if isinstance(thing.body, Refusal):
            return f"{errors} {REFUSALS[thing.body.kind]}: {way}, about {thing.body.about.target}"
        return f"echo {'reply' if thing.body.reply else 'request'} {thing.body.probe + 1}: {way}"
    return str(thing)
