"""The answer to a reach question as text, and its events on a time line."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from archipelago.simulation.frames import ICMP_ERRORS
from archipelago.simulation.reach import ReachResult
from archipelago.simulation.steps import Step
from archipelago.views.table import Table, table

if TYPE_CHECKING:
    from archipelago.simulation.explore import Trace


Part = str | Table
"""A line, or a table, of an answer."""


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


def trace_table(trace: Trace) -> Table:
    """A line for each TTL: who answered, and what."""
    said: dict[str, str] = {"reply": "echo reply: the target itself", "no answer": "no answer"}
    said.update({str(reason): text for reason, text in ICMP_ERRORS.items()})
    rows = [(hop.ttl, hop.device or "-", hop.address or "-", said[hop.answer]) for hop in trace.trace]
    six = any(hop.address is not None and hop.address.version == 6 for hop in trace.trace)
    limit = "hop limit" if six else "TTL"
    return table("", (limit, "device", "address", "said"), rows, (limit,))
