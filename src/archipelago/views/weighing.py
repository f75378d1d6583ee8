"""Designs side by side: what people choose between."""

from __future__ import annotations

from typing import Any

from archipelago.load.result import times
from archipelago.views.face import Face, Part, set_apart
from archipelago.views.plain import plain
from archipelago.views.schema import COUNT, FLAG, NUMBER, TEXT, maybe, record, several
from archipelago.views.table import Table, table
from archipelago.weighing.measures import NOBODY
from archipelago.weighing.result import Weighed, Weighing

MOST_REFUSED = 8
"""So many refused choices are listed."""


def tables(found: Weighing) -> list[Table]:
    """The designs by what they do and by what they take, where their gateways are, and what was refused."""
    return [one for one in (doing(found), of_devices(found), taking(found), places(found), refused(found)) if one.rows]


def doing(found: Weighing) -> Table:
    """What each design does, the best first."""
    rows = [
        (
            number,
            one.title,
            one.kind,
            f"{one.measures.surviving.survive:,} of {one.measures.surviving.reached:,}",
            _worst(one),
            one.measures.fullest,
            f"{one.measures.share:.1%}",
            times(1 / one.measures.share) if one.measures.share else "",
            f"{one.measures.hops:.2f}",
            f"{one.measures.delay / 1000:.1f} us",
        )
        for number, one in enumerate(found.designs, 1)
    ]
    columns = (
        *("no.", "design", "kind", "pairs surviving", "worst failure", "fullest link", "full", "full at", "hops"),
        "delay",
    )
    right = ("no.", "pairs surviving", "full", "full at", "hops", "delay")
    return table("what each does, the best first", columns, rows, right, ("kind", "full at", "delay"))


def of_devices(found: Weighing) -> Table:
    """How many pairs of devices' addresses each design reaches, where somebody asked."""
    rows = [
        (number, one.title, f"{one.measures.devices.reached:,} of {one.measures.devices.pairs:,}")
        for number, one in enumerate(found.designs, 1)
        if one.measures.devices is not None
    ]
    return table("devices' addresses", ("no.", "design", "pairs reached"), rows, ("no.", "pairs reached"))


def taking(found: Weighing) -> Table:
    """What each design takes."""
    rows = [
        (
            number,
            one.title,
            one.measures.cost.lines,
            one.measures.cost.addresses,
            one.measures.cost.cables,
            one.measures.cost.ports,
            " and ".join(one.supposed),
            one.measures.steps.steps if one.measures.steps else None,
            _cut(one),
        )
        for number, one in enumerate(found.designs, 1)
    ]
    columns = (
        *("no.", "design", "lines", "addresses", "cables", "ports", "layer 3 switch to buy", "steps from today"),
        "pairs cut off meanwhile",
    )
    return table("what each takes", columns, rows, (columns[0], *columns[2:6], *columns[7:]), ("ports", "addresses"))


def places(found: Weighing) -> Table:
    """Where the gateways of each design are."""
    rows = [(number, "; ".join(one.places)) for number, one in enumerate(found.designs, 1)]
    return table("where the gateways are", ("no.", "gateways"), rows, ("no.",))


def refused(found: Weighing) -> Table:
    """The choices that are none, and why."""
    ordered = sorted(found.refused, key=lambda one: not one.built)
    said = {True: "would not work", False: "cannot be built"}
    rows = [(one.title, said[one.built], one.why) for one in ordered[:MOST_REFUSED]]
    more = len(found.refused) - len(rows)
    title = f"not possible{f' (and {more} more; --json has all)' if more > 0 else ''}"
    return table(title, ("design", "it", "why"), rows)


def _worst(one: Weighed) -> str:
    surviving = one.measures.surviving
    return f"{surviving.worst}: {surviving.worst_cut:,} pairs" if surviving.worst else "none"


def _cut(one: Weighed) -> str:
    steps = one.measures.steps
    if steps is None:
        return ""
    return f"{steps.cut:,}{', locked out' if steps.locked_out else ''}"


def values(found: Weighing) -> dict[str, Any]:
    """The answer as `--json` prints it; delays are in nanoseconds, shares of 1."""
    return {
        "recommendation": list(found.recommendation),
        "flip": None if found.flip is None else plain(found.flip),
        "figures": plain(found.figures),
        "rule": found.rule,
        "designs": [
            {
                "title": one.title,
                "kind": one.kind,
                "places": list(one.places),
                "supposed": list(one.supposed),
                **plain(one.measures),
            }
            for one in found.designs
        ],
        "refused": plain(found.refused),
        "left_out": found.left_out,
        "host": found.host,
    }


def body(found: Weighing) -> list[Part]:
    """The recommendation and what it hangs on, then the tables."""
    told = list(found.recommendation)
    measures = found.designs[0].measures if found.designs else None
    if measures is not None and measures.assumed:
        told.append(measures.assumed if measures.assumed == NOBODY else f"assumed: {measures.assumed}")
    told.append(f"ranked so: {found.rule}")
    if found.host:
        told.append(f"steps are those of a person at {found.host}")
    return [*told, *set_apart(tables(found))]


WEIGH = Face(
    name="weigh",
    verb="weigh",
    shape=record(
        recommendation=several(TEXT)("sentences"),
        flip=maybe(record(figure=TEXT, value=NUMBER, says=TEXT))("at which figure the second comes first"),
        figures=record(growth=NUMBER, full=NUMBER("of 1"), tolerate=NUMBER("of 1")),
        rule=TEXT("how they are ranked"),
        designs=several(
            record(
                title=TEXT,
                kind=TEXT,
                places=several(TEXT)("where the gateways are"),
                supposed=several(TEXT)("switches that are taken for layer 3 switches"),
                hops=NUMBER("routers between VLANs, on average over pairs"),
                delay=NUMBER("nanoseconds"),
                fullest=TEXT("the link that fills first"),
                share=NUMBER("of it that is in use, of 1"),
                assumed=TEXT,
                surviving=record(reached=COUNT, survive=COUNT, worst=TEXT, worst_cut=COUNT),
                cost=record(ports=COUNT, cables=COUNT, addresses=COUNT, lines=COUNT, bought=COUNT),
                devices=maybe(record(reached=COUNT, pairs=COUNT))(
                    "with --devices: with an address of a device at an end"
                ),
                steps=maybe(record(steps=COUNT, cut=COUNT, locked_out=FLAG))("null without --keep"),
            )
        )("the best first"),
        refused=several(record(title=TEXT, why=TEXT, built=FLAG)),
        left_out=COUNT("choices that were not looked at"),
        host=maybe(TEXT)("whose steps are counted"),
    ),
    values=values,
    tables=tables,
    body=body,
    picture="weighing_picture.weighing_picture",
)
