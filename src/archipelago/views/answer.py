"""The answer to a reach question as text and as plain values."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import fields
from itertools import zip_longest
from typing import Any

from archipelago.simulation.reach import ReachResult
from archipelago.simulation.steps import Step
from archipelago.views.face import Face, Part
from archipelago.views.plain import plain
from archipelago.views.schema import COUNT, EDITS, FLAG, NOTHING, TEXT, extended, maybe, one_of, record
from archipelago.views.schema import several as several_of
from archipelago.views.table import Table, table
from archipelago.views.timeline import ALL, EVENT, Chosen, timeline_rows


def body(answer: ReachResult) -> list[Part]:
    """Why not and what mends it, then the way out and the way back, in each family that was asked; of several answers a
    line each, and why not."""
    if answer.others:
        return [line for one in answer.each for line in (one.headline, *(f"  {text}" for text in one.why_not))]
    other = answer.other_family
    if other is None:
        return [*_why_not(answer), *_probes(answer), *_ways(answer)]
    text: list[Part] = []
    if not answer.reached and (answer.cause, answer.mend) == (other.cause, other.mend):
        text += _why_not(answer) + _probes(answer) + _probes(other)[:1]
    else:
        text += _why_not_in_both(answer, other) + _probes(answer) + _probes(other)
    text += _ways(answer)
    if not answer.out and not other.out:
        return text
    if _places(answer) == _places(other) and answer.reached == other.reached:
        return [*text, "", "IPv6 goes the same way" + ("" if other.reached else " and stops there")]
    return [*text, "", "in IPv6", *_ways(other)]


def _places(answer: ReachResult) -> list[tuple[object, ...]]:
    """Where a packet and its answer came by: what is told once of both families where it is the same."""
    steps = (*answer.out, *answer.back)
    return [(step.device, step.ingress, step.ingress_tag, step.egress, step.egress_tag) for step in steps]


def _why_not_in_both(answer: ReachResult, other: ReachResult) -> list[str]:
    """Why not in each family, what is the same once."""
    lines = []
    for four, six in zip_longest(answer.why_not, other.why_not):
        if four == six:
            lines.append(f"  {four}")
        else:
            told = ((one, line) for one, line in ((answer, four), (other, six)) if line is not None)
            lines += [f"  IPv{one.family}: {line}" for one, line in told]
    return lines


def _why_not(answer: ReachResult) -> list[str]:
    return [f"  {line}" for line in answer.why_not]


def _probes(answer: ReachResult) -> list[str]:
    family = f", IPv{answer.family}" if answer.family else ""
    count = len(answer.lost)
    first = "the first was" if count == 1 else f"the first {count} were"
    filled = f"; {first} lost while tables filled, and only then" if _cold(answer) else ""
    lines = [f"  probes: {answer.probes_answered} of {answer.probes_sent} answered{family}{filled}"]
    return lines + [f"    {text}" for text in _grouped(answer.lost)]


def _cold(answer: ReachResult) -> bool:
    """Whether all that is lost are the first probes, before the tables on the way were filled."""
    first = tuple(f"probe {number}:" for number in range(1, len(answer.lost) + 1))
    return answer.reached and bool(first) and all(map(str.startswith, answer.lost, first))


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


def values(answer: ReachResult, chosen: Chosen | None = ALL) -> dict[str, Any]:
    """The answer with the keys of `--json`.

    Args:
        answer: the answer.
        chosen: which events are among them; none where several were asked.
    """
    chosen = None if answer.others else chosen
    others = [_values(one, chosen) for one in answer.others]
    return {**_values(answer, chosen), "others": others}


def _values(answer: ReachResult, chosen: Chosen | None) -> dict[str, Any]:
    told: dict[str, Any] = {
        field.name: plain(getattr(answer, field.name))
        for field in fields(answer)
        if field.name not in ("finding", "events", "other_family", "others")
    }
    told["events"] = timeline_rows(answer.events, chosen) if chosen is not None else []
    other = answer.other_family
    return {**told, "other_family": _values(other, chosen) if other is not None else None}


def way_rows(answer: ReachResult) -> list[dict[str, Any]]:
    """The steps out and back, for a pandas table."""
    return [{"direction": way, **plain(step)} for way in ("out", "back") for step in getattr(answer, way)]


_STEP = record(
    device=TEXT,
    ingress=maybe(TEXT),
    ingress_tag=maybe(COUNT("null: untagged; 0: inside the device")),
    looked_up=TEXT,
    did=TEXT,
    egress=maybe(TEXT),
    egress_tag=maybe(COUNT),
)
_KEYS = {
    "source": TEXT,
    "target": TEXT,
    "address": maybe(TEXT)("what was probed"),
    "family": maybe(one_of(4, 6)),
    "reached": FLAG,
    "cause": maybe(TEXT)("the kind of mistake"),
    "direction": maybe(one_of("out", "back")),
    "at": maybe(TEXT)("who holds the mistake"),
    "stopped_at": maybe(TEXT)("where the packet ended"),
    "says": maybe(TEXT),
    "mend": maybe(TEXT),
    "edits": EDITS,
    "probes_sent": COUNT,
    "probes_answered": COUNT,
    "lost": several_of(TEXT)("a sentence for each probe without a reply"),
    "out": several_of(_STEP)("the way out"),
    "back": several_of(_STEP)("the way back"),
    "answered_by": maybe(TEXT)("who answered, where that is not who was asked"),
    "probe": TEXT("what was sent"),
    "kept_apart": maybe(TEXT)("what keeps them apart on purpose: a line of the policy, or what is expected"),
    "error_from": maybe(TEXT)("who told the source by ICMP that its packet ended; null: nobody"),
    "error": maybe(TEXT)("what it said"),
    "events": several_of(EVENT)("with --steps; else empty"),
}
_ONE = record(**_KEYS, other_family=maybe(record(**_KEYS, other_family=NOTHING))("the answer in IPv6"))
REACH = Face(
    name="reach",
    verb="reach",
    shape=extended(_ONE, others=several_of(_ONE)("of several targets, or hosts of a VLAN, after the first")),
    values=values,
    tables=lambda answer: [steps_table("way out", answer.out), steps_table("way back", answer.back)],
    body=body,
    rows=way_rows,
)
