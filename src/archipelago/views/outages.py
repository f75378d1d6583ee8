"""Every failure as people decide by it: what must not break first, then what is taken over, then what nobody misses."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from archipelago.failures.result import Outage, Outages, named
from archipelago.views.face import Face
from archipelago.views.plain import plain
from archipelago.views.schema import COUNT, EDITS, PAIR, TEXT, maybe, one_of, record, several
from archipelago.views.table import Table, table

FIRST_ROWS, FIRST_DOUBLE = 40, 10
"""So many rows of a table are shown where nobody asks for all: of single failures, and of double ones."""


def tables(found: Outages) -> list[Table]:
    """A table for each outcome that occurs, the worst first."""
    made = [cutting_off(found), cutting_off(found, by_hand=True), own_hosts(found), taken_over(found)]
    made += [breaking_promises(found)]
    made += [of_devices(found), not_missed(found)]
    first = FIRST_DOUBLE if _double(found) else FIRST_ROWS
    return [replace(one, first=first) for one in made if one.rows]


def _double(found: Outages) -> bool:
    return any(len(outage.parts) > 1 for outage in found)


def cutting_off(found: Outages, *, by_hand: bool = False) -> Table:
    """The failures that cut off others than the hosts plugged in there, and what would make each harmless: of what
    breaks by itself, or of the interfaces that people switch off."""
    rows = [
        (
            outage.name,
            _share(outage.elsewhere or outage.one_family, found.reached),
            outage.hosts or "",
            " to ".join(outage.example or ()),
            named([*outage.expectations, *outage.policy]),
            outage.addition.says if outage.addition is not None else outage.without,
        )
        for outage in found.single_points
        if outage.by_hand is by_hand
    ]
    columns = (
        "switched off" if by_hand else "breaks",
        "pairs cut off",
        "hosts alone",
        "such as",
        "promises broken",
        "what would help",
    )
    title = "cut somebody off elsewhere" if _double(found) else "single points of failure"
    title = "interfaces that cut somebody off when they are switched off" if by_hand else title
    return table(title, columns, rows, ("pairs cut off", "hosts alone"), ("promises broken", "such as", "hosts alone"))


def own_hosts(found: Outages) -> Table:
    """The failures that cut off nobody but the hosts plugged in there."""
    rows = [
        (
            outage.name,
            outage.hosts,
            _share(outage.lost, found.reached),
            named([*outage.expectations, *outage.policy]),
            named(outage.takeovers, "; "),
        )
        for outage in found
        if outage.outcome == "cuts off its own hosts"
    ]
    columns = ("breaks", "hosts alone", "pairs cut off", "promises broken", "taken over by")
    return table("only the hosts plugged in there", columns, rows, ("hosts alone", "pairs cut off"), columns[3:])


def taken_over(found: Outages) -> Table:
    """The failures that cost no pair, since something else does the work then."""
    rows = [
        (outage.name, named(outage.takeovers, "; "), named([*outage.expectations, *outage.policy]))
        for outage in found
        if outage.outcome == "taken over"
    ]
    return table("taken over", ("breaks", "by", "promises broken"), rows, least=("promises broken",))


def breaking_promises(found: Outages) -> Table:
    """The failures that cost no pair and break what is expected all the same."""
    rows = [
        (outage.name, named([*outage.expectations, *outage.policy]))
        for outage in found
        if outage.outcome == "not missed" and not outage.harmless
    ]
    return table("no pair of hosts, and yet a promise", ("breaks", "promises broken"), rows)


def not_missed(found: Outages) -> Table:
    """The failures that nothing changes with."""
    rows = [(outage.name,) for outage in found if outage.outcome == "not missed" and outage.harmless]
    return table("not missed by anybody", ("breaks",), rows)


def of_devices(found: Outages) -> Table:
    """What failures do to devices' addresses, where somebody asked."""
    rows = [
        (outage.name, outage.devices.pairs, " to ".join(outage.devices.example or ()))
        for outage in sorted(found, key=lambda outage: -(outage.devices.pairs if outage.devices else 0))
        if outage.devices is not None and outage.devices.pairs
    ]
    return table(
        "devices' addresses", ("breaks", "pairs cut off elsewhere", "such as"), rows, ("pairs cut off elsewhere",)
    )


def every(found: Outages) -> Table:
    """A row for each failure, the worst first."""
    rows = [
        (
            outage.name,
            " and ".join(outage.kinds),
            outage.outcome,
            outage.elsewhere,
            outage.lost,
            outage.one_family,
            outage.hosts,
            outage.gained,
            " to ".join(outage.example or ()),
            "; ".join([*outage.expectations, *outage.policy]),
            "; ".join(map(str, outage.takeovers)),
            outage.addition.says if outage.addition is not None else outage.without,
        )
        for outage in found
    ]
    columns = (
        *("breaks", "kind", "outcome", "pairs elsewhere", "pairs", "one family only", "hosts alone", "pairs gained"),
        *("such as", "promises broken", "taken over by", "what would help"),
    )
    return table("", columns, rows)


def values(found: Outages) -> dict[str, Any]:
    """The answer as `--json` prints it."""
    return {"pairs": found.pairs, "reached": found.reached, "outages": [_values(outage) for outage in found]}


def _values(outage: Outage) -> dict[str, Any]:
    addition = outage.addition
    return {
        "parts": list(outage.parts),
        "kinds": list(outage.kinds),
        "outcome": outage.outcome,
        "pairs": outage.lost,
        "pairs_elsewhere": outage.elsewhere,
        "one_family_only": outage.one_family,
        "hosts_alone": outage.hosts,
        "pairs_gained": outage.gained,
        "example": list(outage.example) if outage.example else None,
        "expectations": list(outage.expectations),
        "policy": list(outage.policy),
        "taken_over_by": [str(one) for one in outage.takeovers],
        "add": addition.says if addition is not None else None,
        "edits": [plain(edit) for edit in addition.edits] if addition is not None else [],
        "nothing_helps": outage.without or None,
        "devices": None
        if outage.devices is None
        else {
            "pairs": outage.devices.pairs,
            "example": list(outage.devices.example) if outage.devices.example else None,
        },
    }


def _share(pairs: int, of: int) -> str:
    """A count of pairs, and the share that it is of those reached while nothing is broken."""
    return f"{pairs:,} ({pairs / of:.0%})" if of else f"{pairs:,}"


OUTAGES = Face(
    name="outages",
    verb="outages",
    shape=record(
        pairs=COUNT("ordered pairs of hosts"),
        reached=COUNT("how many are reached, in any family, while nothing is broken"),
        outages=several(
            record(
                parts=several(TEXT),
                kinds=several(one_of("device", "cable", "port", "interface")),
                outcome=one_of("cuts off", "cuts off its own hosts", "taken over", "not missed"),
                pairs=COUNT("that are lost"),
                pairs_elsewhere=COUNT("of them, neither end plugged into what breaks"),
                one_family_only=COUNT,
                hosts_alone=COUNT("hosts that reach nobody any more"),
                pairs_gained=COUNT,
                example=maybe(PAIR),
                expectations=several(TEXT)("that are kept no more"),
                policy=several(TEXT)("what of it is kept no more"),
                taken_over_by=several(TEXT),
                add=maybe(TEXT)("what would make it harmless"),
                edits=EDITS,
                nothing_helps=maybe(TEXT)("why there is none"),
                devices=maybe(record(pairs=COUNT("with an address of a device at an end"), example=maybe(PAIR)))(
                    "with --devices: lost elsewhere"
                ),
            )
        )("the worst first"),
    ),
    values=values,
    tables=tables,
    rows=lambda found: every(found).records(),
    picture="hanging.outages_picture",
)
