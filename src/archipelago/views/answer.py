"""The answer to a reach question as text, and its events on a time line."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

from archipelago.knowledge.reasons import Reason
from archipelago.simulation.events import (
    FAULTS,
    WORDS,
    ErrorReported,
    Event,
    FrameDropped,
    FrameSwitched,
    HostConfigured,
    NeighbourLearned,
    PacketDropped,
    PacketEvent,
    PacketWaits,
    StormStarted,
    Unanswered,
)
from archipelago.simulation.frames import (
    ICMP_ERRORS,
    Advertisement,
    IcmpError,
    Packet,
    Resolution,
    Solicitation,
    mac_text,
)
from archipelago.simulation.reach import ReachResult
from archipelago.simulation.steps import DROPS, Step
from archipelago.views.table import Table, table
from archipelago.views.table import lines as table_lines

if TYPE_CHECKING:
    from archipelago.simulation.explore import Trace


Part = str | Table
"""A line, or a table, of an answer."""


def lines(answer: ReachResult) -> list[str]:
    """The answer as lines alone."""
    text: list[str] = []
    for part in parts(answer):
        text += [part] if isinstance(part, str) else table_lines(part, "  ")
    return text


def parts(answer: ReachResult) -> list[Part]:
    """The answer first, then why not and what mends it, then the way out and the way back; where both families were
    asked, whether they agree comes first."""
    other = answer.other_family
    if other is None:
        return [answer.headline, *_why_not(answer), *_probes(answer), *_ways(answer)]
    text: list[Part]
    if answer.reached == other.reached:
        text = [f"{answer.headline}, IPv4 and IPv6 alike"]
    else:
        said = [
            f"{'REACHED' if family_answer.reached else 'NOT REACHED'} in IPv{family_answer.family}"
            for family_answer in (answer, other)
        ]
        text = [f"{said[0]}, {said[1]}: {answer.source} to {answer.target}"]
    if not answer.reached and (answer.cause, answer.mend) == (other.cause, other.mend):
        text += _why_not(answer) + _probes(answer) + _probes(other)[:1]
    else:
        for family_answer in (answer, other):
            text += _why_not(family_answer, f"IPv{family_answer.family}: ")
        text += _probes(answer) + _probes(other)
    same = [step.device for step in (*answer.out, *answer.back)] == [step.device for step in (*other.out, *other.back)]
    text += _ways(answer)
    if same and other.reached:
        return [*text, "", "IPv6 goes the same way"]
    return [*text, "", "in IPv6", *_ways(other)]


def _why_not(answer: ReachResult, before: str = "") -> list[str]:
    return [f"  {before}{line}" for line in answer.why_not]


def _probes(answer: ReachResult) -> list[str]:
    family = f", IPv{answer.family}" if answer.family else ""
    lines = [f"  probes: {answer.probes_answered} of {answer.probes_sent} answered{family}"]
    return lines + [f"    {text}" for text in _grouped(answer.lost)]


def _ways(answer: ReachResult) -> list[Part]:
    text: list[Part] = []
    for title, steps in (("way out", answer.out), ("way back", answer.back)):
        if steps:
            text += ["", steps_table(title, steps)]
    return text


def _grouped(lost: Sequence[str]) -> list[str]:
    """Fates of lost probes, those alike told once."""
    groups: dict[str, list[str]] = {}
    for text in lost:
        number, _, fate = text.removeprefix("probe ").partition(": ")
        groups.setdefault(fate, []).append(number)
    return [f"probe{'s' if len(numbers) > 1 else ''} {', '.join(numbers)}: {fate}" for fate, numbers in groups.items()]


def steps_table(title: str, steps: Sequence[Step]) -> Table:
    """One line for each device on the way."""
    rows = [
        (
            number,
            step.device,
            _port(step.ingress, step.ingress_tag),
            step.looked_up,
            step.did,
            _port(step.egress, step.egress_tag),
        )
        for number, step in enumerate(steps, 1)
    ]
    return table(title, ("", "device", "ingress", "looked up", "did", "egress"), rows, least=("ingress",))


def _port(name: str | None, tag: int | None) -> str:
    if name is None:
        return "-"
    if tag == 0:
        return name
    return f"{name} untagged" if tag is None else f"{name} tag {tag}"


def trace_table(trace: Trace) -> Table:
    """A line for each TTL: who answered, and what."""
    said: dict[str, str] = {"reply": "echo reply: the target itself", "no answer": "no answer"}
    said.update({str(reason): text for reason, text in ICMP_ERRORS.items()})
    rows = [(hop.ttl, hop.device or "-", hop.address or "-", said[hop.answer]) for hop in trace.trace]
    six = any(hop.address is not None and hop.address.version == 6 for hop in trace.trace)
    limit = "hop limit" if six else "TTL"
    return table("", (limit, "device", "address", "said"), rows, (limit,))


def timeline(
    title: str,
    events: Iterable[Event],
    device: str | None = None,
    protocol: str | None = None,
    from_fault: bool = False,
) -> Table:
    """Every event on a line with its time; the arguments are those of `timeline_rows`."""
    rows = [tuple(row.values()) for row in timeline_rows(events, device, protocol, from_fault)]
    columns = ("ms", "device", "interface", "tag", "event", "what")
    return table(title if rows else f"{title}: none matches", columns, rows, ("ms", "tag"))


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
        started = started or isinstance(event, FAULTS)
        if not started or (device and event.node != device) or (protocol and protocol_of(event) != protocol):
            continue
        rows.append(
            {
                "milliseconds": f"{event.time / 1e6:.3f}",
                "device": event.node,
                "interface": event.interface,
                "tag": event.vlan if isinstance(event, StormStarted) else getattr(event, "tag", None),
                "event": WORDS[type(event)],
                "what": describe(event),
            }
        )
    return rows


def protocol_of(event: Event) -> str:
    """Whether an event is about address resolution ("arp") or packets ("icmp")."""
    if isinstance(event, (PacketEvent, ErrorReported)):
        return "icmp"
    if isinstance(event, (NeighbourLearned, HostConfigured, Unanswered)):
        return "arp"
    return "icmp" if isinstance(event.frame.payload, Packet) else "arp"


def describe(event: Event) -> str:
    """An event in words."""
    if isinstance(event, NeighbourLearned):
        return f"{event.address} has {mac_text(event.mac)}"
    if isinstance(event, HostConfigured):
        return f"takes {event.address}, with {event.router} as a gateway"
    if isinstance(event, Unanswered):
        return f"nobody answered for {event.next_hop}"
    if isinstance(event, (PacketEvent, ErrorReported)):
        return payload_text(event.packet) + _packet_end(event)
    text = payload_text(event.frame.payload)
    if isinstance(event, FrameSwitched):
        return f"{text}; VLAN {event.vlan}, to {', '.join(out.name for out in event.outlets) or 'no other port'}"
    if isinstance(event, FrameDropped):
        return f"{text}; dropped: {_FRAME_DROPS[event.reason]}"
    return text


_FRAME_DROPS = {
    Reason.SAME_PORT: "it came from that port",
    Reason.TAG_NOT_ACCEPTED: "the port does not accept that tag",
}


def _packet_end(event: PacketEvent | ErrorReported) -> str:
    if isinstance(event, PacketWaits):
        return f"; held while {event.next_hop} is asked for"
    if not isinstance(event, PacketDropped):
        return ""
    asked = f" {event.next_hop}" if event.next_hop is not None else ""
    return f"; dropped: {DROPS[event.reason]}{asked}"


def payload_text(payload: Resolution | Packet | Solicitation | Advertisement) -> str:
    """What travels, in words."""
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
        return f"{errors} {ICMP_ERRORS[payload.body.reason]}: {way}, about {payload.body.about.target}"
    return f"echo {'reply' if payload.body.reply else 'request'} {payload.body.probe + 1}: {way}"
