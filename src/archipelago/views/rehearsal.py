"""The kernel's answers beside ours, as tables and as plain values."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

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
    told = {
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
    }
    if rehearsal.broken is not None:
        told["broken"] = {"part": rehearsal.broken.part, **_lost(rehearsal.broken)}
    return told


def _lost(broken: BreakRehearsed) -> dict[str, Any]:
    if broken.ours is None:
        return {}
    return {
        "source": broken.ours.source,
        "target": broken.ours.target,
        "every": broken.ours.every / SECOND,
        "lost": broken.lost_by_us,
        "lost-in-kernel": broken.lost_in_the_kernel,
        "agree": broken.alike,
        "not-compared": broken.not_compared,
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
