"""The kernel's answers beside ours, as tables and as plain values."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from archipelago.views.face import Face, Part, set_apart
from archipelago.views.schema import COUNT, FLAG, NUMBER, TEXT, maybe, one_of, record, several
from archipelago.views.table import Table, table

if TYPE_CHECKING:
    from archipelago.exchange.break_rehearsed import BreakRehearsed
    from archipelago.exchange.rehearsal import Rehearsal
    from archipelago.simulation.breaking import Lost

SECOND = 10**9
"""In nanoseconds, which times are in."""
MOST_RUNS = 3
"""So many runs of lost probes are told in a cell; more are counted."""
WHERE = {"here": "in this machine's kernel", "uml": "in a kernel that boots as a process (user-mode-linux)"}
"""Where the network was built, in words."""


def values(rehearsal: Rehearsal) -> dict[str, Any]:
    """The answer with the keys of `--json`."""
    return {
        "where": rehearsal.where,
        "pairs": len(rehearsal.ours),
        "agree": len(rehearsal.ours) - len(rehearsal.differ),
        "reached": len(rehearsal.theirs),
        "differ": [
            {
                "source": a,
                "target": b,
                "simulation": rehearsal.ours[a, b].reached,
                "kernel": (a, b) in rehearsal.theirs,
                "cause": rehearsal.ours[a, b].cause,
            }
            for a, b in rehearsal.differ
        ],
        "leases": [
            {"host": host, "ours": _lease(ours), "kernel": _lease(theirs), "agree": ours == theirs}
            for host, (ours, theirs) in rehearsal.leases.items()
        ],
        "redundancy": [
            {"what": what, "ours": ours, "kernel": theirs, "agree": ours == theirs}
            for what, (ours, theirs) in rehearsal.redundancy.items()
        ],
        "broken": _broken(rehearsal.broken) if rehearsal.broken is not None else None,
    }


def _broken(broken: BreakRehearsed) -> dict[str, Any]:
    ours = broken.ours
    return {
        "part": broken.part,
        "source": ours.source if ours is not None else None,
        "target": ours.target if ours is not None else None,
        "every": ours.every / SECOND if ours is not None else None,
        "lost": broken.lost_by_us,
        "lost_in_kernel": broken.lost_in_the_kernel,
        "agree": broken.alike if ours is not None else None,
        "not_compared": broken.not_compared,
        "probes": [{"time": round(time, 3), "answered": answered} for time, answered in broken.theirs],
    }


def _lease(given: tuple[str, str, str] | None) -> str:
    return f"{given[0]}, gateway {given[1]}, from {given[2]}" if given is not None else "none"


def tables(rehearsal: Rehearsal) -> list[Table]:
    """The causes of what neither reaches, then the pairs that the two answer differently."""
    causes: dict[tuple[str, str, str], int] = {}
    for answer in rehearsal.ours.values():
        if not answer.reached:
            key = (answer.cause or "", answer.says or "", answer.mend or "")
            causes[key] = causes.get(key, 0) + 1
    rows = [(count, *key) for key, count in sorted(causes.items(), key=lambda item: -item[1])]
    unlike = [
        (
            a,
            b,
            "reached" if rehearsal.ours[a, b].reached else f"not reached: {rehearsal.ours[a, b].says}",
            "answered" if (a, b) in rehearsal.theirs else "silent",
        )
        for a, b in rehearsal.differ
    ]
    leases = [
        (host, _lease(ours), _lease(theirs), "yes" if ours == theirs else "NO")
        for host, (ours, theirs) in rehearsal.leases.items()
    ]
    redundant = [
        (what, ours, theirs, "yes" if ours == theirs else "NO") for what, (ours, theirs) in rehearsal.redundancy.items()
    ]
    made = [
        _meanwhile(rehearsal.broken),
        table("pairs that neither reaches, by cause", ("pairs", "cause", "why", "mend"), rows, ("pairs",)),
        table("pairs that differ", ("from", "to", "simulation", "kernel"), unlike),
        table("leases", ("host", "by our account", "by real servers", "agree"), leases),
        table(
            "spanning tree and shared gateways",
            ("what", "by our account", "by the kernel and daemons", "agree"),
            redundant,
        ),
    ]
    return [one for one in made if one.rows]


def _meanwhile(broken: BreakRehearsed | None) -> Table:
    """What was lost while a part broke."""
    heads = ("lost", "by our account", "in the kernel", "agree")
    if broken is None or broken.ours is None:
        return table("while it broke", heads, [])
    agree = {True: "yes", False: "NO", None: broken.not_compared or ""}[broken.alike]
    who = f"{broken.ours.source} probes {broken.ours.target} every {broken.ours.every / SECOND:g} s"
    title = f"{who} while {broken.part} breaks"
    rows = [
        ("probes", f"{broken.lost_by_us:,}", f"{broken.lost_in_the_kernel:,}", agree),
        ("when", _when(broken.ours.lost), _when(broken.lost_runs), ""),
    ]
    return table(title, heads, rows)


def _when(lost: Sequence[Lost]) -> str:
    """When probes were lost, in words."""
    told = [
        f"{run.first / SECOND:+.1f} to {run.last / SECOND:+.1f} s"
        if run.ended
        else f"from {run.first / SECOND:+.1f} s on"
        for run in lost[:MOST_RUNS]
    ]
    return "; ".join(told) + (f"; {len(lost) - MOST_RUNS} more times" if len(lost) > MOST_RUNS else "") or "never"


def body(rehearsal: Rehearsal) -> list[Part]:
    """The tables, and which addresses are decided by chance where the two differ."""
    shared = ", ".join(rehearsal.shared_addresses) if rehearsal.differ else ""
    more = [f"addresses that several hold, whose holder is decided by chance: {shared}"] if shared else []
    return [*set_apart(tables(rehearsal)), *more]


REHEARSE = Face(
    name="rehearse",
    verb="rehearse",
    shape=record(
        where=one_of("here", "uml")("in this machine's kernel, or in one that boots as a process"),
        pairs=COUNT,
        agree=COUNT("pairs"),
        reached=COUNT("pairs"),
        differ=several(record(source=TEXT, target=TEXT, simulation=FLAG, kernel=FLAG, cause=maybe(TEXT))),
        leases=several(record(host=TEXT, ours=TEXT, kernel=TEXT, agree=FLAG)),
        redundancy=several(record(what=TEXT, ours=TEXT, kernel=TEXT, agree=FLAG))("roots, blocked ports, active ones"),
        broken=maybe(
            record(
                part=TEXT,
                source=maybe(TEXT)("who probed another meanwhile"),
                target=maybe(TEXT),
                every=maybe(NUMBER)("seconds"),
                lost=COUNT("probes"),
                lost_in_kernel=COUNT("probes"),
                agree=maybe(FLAG)("null where the two are not compared"),
                not_compared=maybe(TEXT)("why not"),
                probes=several(record(time=NUMBER("seconds"), answered=FLAG)),
            )
        )("with --break"),
    ),
    values=values,
    tables=tables,
    body=body,
)
