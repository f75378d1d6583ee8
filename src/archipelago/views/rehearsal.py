"""The kernel's answers beside ours, as tables and as plain values."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from archipelago.views.table import Table, table

if TYPE_CHECKING:
    from archipelago.exchange.rehearsal import Rehearsal

WHERE = {"here": "in this machine's kernel", "uml": "in a kernel that boots as a process (user-mode-linux)"}
"""Where the network was built, in words."""


def values(rehearsal: Rehearsal) -> dict[str, Any]:
    """The answer with the keys of `--json`."""
    return {
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
        table("pairs that neither reaches, by cause", ("pairs", "cause", "why", "mend"), rows, ("pairs",)),
        table("pairs that differ", ("from", "to", "simulation", "kernel"), unlike),
        table("leases", ("host", "by our account", "by real servers", "agree"), leases),
        table(
            "spanning tree and shared gateways",
            ("what", "by our account", "by the kernel and daemons", "agree"),
            redundant,
        ),
    ]
    return [row for row in made if row.rows]
