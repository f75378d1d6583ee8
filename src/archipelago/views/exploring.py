"""What else is asked of one end: checks in order, a trace, a broadcast."""

from __future__ import annotations

from typing import Any

from archipelago.simulation.explore import Broadcast, Trace
from archipelago.simulation.frames import ICMP_ERRORS
from archipelago.simulation.in_order import AllInOrder, InOrder
from archipelago.views.face import Face, Part, set_apart
from archipelago.views.plain import plain
from archipelago.views.schema import COUNT, FLAG, TEXT, extended, maybe, record, several
from archipelago.views.table import Table, table


def _checks(answer: InOrder) -> Table:
    rows = [(check.what, check.target, check.verdict.lower(), check.meaning) for check in answer.checks]
    return table("checks", ("what", "target", "verdict", "which means"), rows)


def _checks_body(answer: InOrder) -> list[Part]:
    failed = next((check.answer for check in answer.checks if not check.good and check.answer is not None), None)
    why = ["", *(f"  {line}" for line in failed.why_not)] if failed is not None else []
    return [*(f"  {check}" for check in answer.checks), *why]


def _checks_values(answer: InOrder) -> dict[str, Any]:
    keys = ("kept_apart", "cause", "at", "mend")
    checks = [
        {
            "what": check.what,
            "target": check.target,
            "verdict": check.verdict.lower(),
            "good": check.good,
            "meaning": check.meaning,
            "reached": check.answer.reached if check.answer is not None else None,
            **{key: getattr(check.answer, key, None) for key in keys},
        }
        for check in answer.checks
    ]
    return {"source": answer.source, "reached": answer.reached, "checks": checks}


def _first_wrong(answer: InOrder) -> str:
    """The first check that is not good, and what is behind it."""
    wrong = answer.first_wrong
    if wrong is None:
        return ""
    asked = wrong.answer
    return f"{wrong.what}: {f'{asked.cause} at {asked.at}' if asked is not None else wrong.meaning}"


def _all_checks(answer: AllInOrder) -> Table:
    rows = [
        (one.source, f"{sum(check.good for check in one.checks)} of {len(one.checks)}", _first_wrong(one))
        for one in answer.each
    ]
    return table("checks from a host of each VLAN", ("from", "good", "the first that is not"), rows)


_IN_ORDER = record(
    source=TEXT,
    reached=FLAG("whether every check is good"),
    checks=several(
        record(
            what=TEXT,
            target=TEXT,
            verdict=TEXT("in a word or two: reached, not reached, kept apart, up, down, leased, no lease"),
            good=FLAG("whether that is as it should be"),
            meaning=TEXT,
            reached=maybe(FLAG)("where a question was put"),
            kept_apart=maybe(TEXT)("what keeps them apart on purpose"),
            cause=maybe(TEXT)("the kind of mistake"),
            at=maybe(TEXT)("who holds it"),
            mend=maybe(TEXT),
        )
    ),
)
IN_ORDER = Face(
    name="reach-in-order",
    verb="reach",
    shape=_IN_ORDER,
    values=_checks_values,
    tables=lambda answer: [_checks(answer)],
    body=_checks_body,
)


ALL_IN_ORDER = Face(
    name="reach-all-in-order",
    verb="reach",
    shape=record(each=several(_IN_ORDER)("the checks from a host of each VLAN")),
    values=lambda answer: {"each": [_checks_values(one) for one in answer.each]},
    tables=lambda answer: [_all_checks(answer)],
)


def trace_table(trace: Trace) -> Table:
    """A line for each TTL: who answered, and what."""
    said: dict[str, str] = {"reply": "echo reply: the target itself", "no answer": "no answer"}
    said.update({str(reason): text for reason, text in ICMP_ERRORS.items()})
    rows = [(hop.ttl, hop.device or "-", hop.address or "-", said[hop.answer]) for hop in trace.trace]
    six = any(hop.address is not None and hop.address.version == 6 for hop in trace.trace)
    limit = "hop limit" if six else "TTL"
    return table("", (limit, "device", "address", "said"), rows, (limit,))


def _trace_values(trace: Trace) -> dict[str, Any]:
    return {"source": trace.source, "target": trace.target, "reached": trace.reached, "trace": plain(trace.trace)}


_TRACE = record(
    source=TEXT,
    target=TEXT,
    reached=FLAG,
    trace=several(
        record(
            ttl=COUNT,
            device=maybe(TEXT),
            address=maybe(TEXT),
            answer=TEXT("ttl-expired, no-route, unanswered, reply, no answer"),
        )
    ),
)


def _trace_body(trace: Trace) -> list[Part]:
    """The routers; of several targets a headline each above them."""
    parts: list[Part] = []
    for one in trace.each:
        parts += ["", one.headline] if trace.others else []
        parts += set_apart([trace_table(one)])
    return parts


TRACE = Face(
    name="trace",
    verb="reach",
    shape=extended(_TRACE, others=several(_TRACE)("of the hosts of a VLAN or a subnet those after the first")),
    values=lambda trace: {**_trace_values(trace), "others": [_trace_values(one) for one in trace.others]},
    tables=lambda trace: [trace_table(one) for one in trace.each],
    body=_trace_body,
)


def _heard(answer: Broadcast) -> Table:
    rows = [(one.name, one.kind, one.interface, ", ".join(one.through)) for one in answer.heard]
    return table("", ("heard by", "kind", "on", "through"), rows)


BROADCAST = Face(
    name="broadcast",
    verb="reach",
    shape=record(
        source=TEXT,
        hosts=COUNT("how many hosts hear it"),
        heard=several(record(name=TEXT, kind=TEXT, interface=TEXT, through=several(TEXT))),
    ),
    values=lambda answer: {"source": answer.source, "hosts": answer.hosts, "heard": plain(answer.heard)},
    tables=lambda answer: [_heard(answer)],
)
