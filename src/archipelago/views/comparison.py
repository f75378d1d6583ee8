"""Two states of a network beside each other, as tables and as plain values."""

from __future__ import annotations

from typing import Any

from archipelago.changes.comparison import Comparison, DevicesBeside, by_owner
from archipelago.changes.pairs import Cut
from archipelago.failures.result import named
from archipelago.views.change import CUT, cut_values
from archipelago.views.face import Face
from archipelago.views.schema import COUNT, PLACE, TEXT, maybe, record, several
from archipelago.views.table import Table, table


def values(comparison: Comparison) -> dict[str, Any]:
    """The answer with the keys of `--json`."""
    failures = comparison.failures
    return {
        "events": [{"subject": one.subject, "what": one.what} for one in comparison.events],
        "differences": [
            {"at": one.at, "what": one.what, "undo": one.undo, "place": list(one.place)}
            for one in comparison.differences
        ],
        "before": comparison.before,
        "after": comparison.after,
        "gained": cut_values(comparison.gained),
        "lost": cut_values(comparison.lost),
        "lost_with_an_end": comparison.lost_with_an_end,
        "left_in_one_family": cut_values(comparison.left_in_one_family),
        "family": comparison.family,
        "devices": _devices(comparison.devices) if comparison.devices is not None else None,
        "another_way": cut_values(comparison.another_way) if comparison.another_way is not None else None,
        "promises_lost": list(comparison.promises_lost),
        "promises_mended": list(comparison.promises_mended),
        "single_points_before": list(failures[0].single_points) if failures else None,
        "single_points_after": list(failures[1].single_points) if failures else None,
    }


def _devices(devices: DevicesBeside) -> dict[str, Any]:
    return {
        "before": devices.before,
        "after": devices.after,
        "gained": cut_values(devices.gained),
        "lost": cut_values(devices.lost),
    }


def tables(comparison: Comparison) -> list[Table]:
    """What became of the whole, what it does, then every difference device by device."""
    made = [
        table("what became of it", ("what", "became"), [tuple(one) for one in comparison.events]),
        effects(comparison),
        table("promises lost", ("promise",), [(one,) for one in comparison.promises_lost]),
        table("promises kept again", ("promise",), [(one,) for one in comparison.promises_mended]),
        table(
            "device by device",
            ("where", "what is otherwise"),
            [
                (owner if first else "", one.what)
                for owner, found in by_owner(comparison.differences).items()
                for first, one in ((place == 0, one) for place, one in enumerate(found))
            ],
        ),
    ]
    return [one for one in made if one.rows]


def effects(comparison: Comparison) -> Table:
    """What it does: pairs, promises, failures, before and after."""
    if not comparison.differences:
        return table("what it does", ("what",), [])
    reached = f"pairs reached in IPv{comparison.family}" if comparison.family is not None else "pairs reached"
    rows: list[tuple[str, Any, Any, str]] = [
        (reached, comparison.before, comparison.after, ""),
        ("pairs lost", "", comparison.lost.pairs, _such(comparison.lost)),
    ]
    if comparison.lost_with_an_end:
        rows.append(("of them with a host that is gone", "", comparison.lost_with_an_end, ""))
    rows.append(("pairs gained", "", comparison.gained.pairs, _such(comparison.gained)))
    if comparison.left_in_one_family.pairs:
        left = comparison.left_in_one_family
        rows.append(("pairs left in one family only", "", left.pairs, _such(left)))
    devices = comparison.devices
    if devices is not None:
        rows.append(("pairs of devices' addresses reached", devices.before, devices.after, ""))
        rows.append(("of them lost", "", devices.lost.pairs, _such(devices.lost)))
        rows.append(("of them gained", "", devices.gained.pairs, _such(devices.gained)))
    way = comparison.another_way
    if way is None:
        rows.append(("pairs by another way", "", "not followed", "too many sorts of pairs"))
    else:
        rows.append(("pairs by another way", "", way.pairs, _such(way)))
    before, after = len(comparison.broken_before), len(comparison.broken_after)
    rows.append(("promises not kept", before, after, named(comparison.promises_lost)))
    if comparison.failures is not None:
        was, now = comparison.failures
        rows.append(("parts that can break", was.parts, now.parts, ""))
        told = named(comparison.new_single_points)
        rows.append(
            ("of them cut somebody off", len(was.single_points), len(now.single_points), told and f"new: {told}")
        )
    return table("what it does", ("", "before", "after", "such as"), rows, ("before", "after"))


def _such(cut: Cut) -> str:
    return " to ".join(cut.examples[0]) if cut.examples else ""


COMPARE = Face(
    name="compare",
    verb="compare",
    shape=record(
        events=several(record(subject=TEXT, what=TEXT("what became of it"))),
        differences=several(record(at=TEXT, what=TEXT("what is done"), undo=TEXT("what takes it back"), place=PLACE)),
        before=COUNT("pairs reached in OLD, in any family"),
        after=COUNT("pairs reached in NEW; before, less those lost, with those gained"),
        gained=CUT("pairs that only NEW answers"),
        lost=CUT("pairs that only OLD answers; a host that NEW lacks is not reached"),
        lost_with_an_end=COUNT("pairs that are lost as NEW lacks an end of them"),
        left_in_one_family=CUT("pairs that both answer, NEW in one family only"),
        family=maybe(COUNT)("the family that was asked for"),
        devices=maybe(record(before=COUNT, after=COUNT, gained=CUT, lost=CUT))(
            "with --devices: the same of pairs with an address of a device at an end"
        ),
        another_way=maybe(CUT)("null: there were too many to follow"),
        promises_lost=several(TEXT),
        promises_mended=several(TEXT),
        single_points_before=maybe(several(TEXT))("null with --quick"),
        single_points_after=maybe(several(TEXT))("null with --quick"),
    ),
    values=values,
    tables=tables,
    picture="both_states.comparison_picture",
)
