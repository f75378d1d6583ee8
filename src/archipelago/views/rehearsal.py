"""The kernel's answers beside ours, as tables and as plain values."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from archipelago.views.table import Table, table

if TYPE_CHECKING:
    from archipelago.exchange.rehearsal import Rehearsal

WHERE = {"here": "in this machine's kernel", "uml": "in a kernel that boots as a process (user-mode-linux)"}
"""Where the network was built, in words."""


def values(found: Rehearsal) -> dict[str, Any]:
    """The answer with the keys of `--json`."""
    return {
        "pairs": len(found.ours),
        "agree": len(found.ours) - len(found.differ),
        "reached": len(found.theirs),
        "differ": [
            {
                "source": a,
                "target": b,
                "simulation": found.ours[a, b].reached,
                "kernel": (a, b) in found.theirs,
                "cause": found.ours[a, b].cause,
            }
            for a, b in found.differ
        ],
    }


def tables(found: Rehearsal) -> list[Table]:
    """The causes of what neither reaches, then the pairs that the two answer differently."""
    causes: dict[tuple[str, str, str], int] = {}
    for answer in found.ours.values():
        if not answer.reached:
            key = (answer.cause or "", answer.says or "", answer.mend or "")
            causes[key] = causes.get(key, 0) + 1
    rows = [(count, *key) for key, count in sorted(causes.items(), key=lambda item: -item[1])]
    unlike = [
        (
            a,
            b,
            "reached" if found.ours[a, b].reached else f"not reached: {found.ours[a, b].says}",
            "answered" if (a, b) in found.theirs else "silent",
        )
        for a, b in found.differ
    ]
    made = [
        table("pairs that neither reaches, by cause", ("pairs", "cause", "why", "mend"), rows, ("pairs",)),
        table("pairs that differ", ("from", "to", "simulation", "kernel"), unlike),
    ]
    return [one for one in made if one.rows]
