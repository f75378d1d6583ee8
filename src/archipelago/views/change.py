"""The steps of a change as a person works through them, and as plain values."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from archipelago.changes.entering import PERMANENT
from archipelago.changes.from_empty import SettingUp
from archipelago.changes.pairs import Cut
from archipelago.changes.result import Change, Step, Window
from archipelago.views.face import Face, Part, set_apart
from archipelago.views.plain import plain
from archipelago.views.schema import COUNT, FLAG, PAIR, TEXT, by_name, maybe, record, several
from archipelago.views.table import Table, counted, table

MOST_DEVICES = 12
"""So many devices are listed where not all is asked for."""
PACE = 2.0
"""Minutes that a step takes, where nobody says."""


def values(change: Change) -> dict[str, Any]:
    """The answer with the keys of `--json`."""
    return {
        "host": change.host,
        "steps": [_step(step) for step in change],
        "cut_steps": change.cut_steps,
        "locked_out": [step.number for step in change.locked_out],
        "no_order": change.no_order,
        "together": change.together,
        "would_help": list(change.would_help),
        "by_console": list(change.by_console),
        "point_of_no_return": change.point_of_no_return,
        "windows": [{"first": one.first, "last": one.last, "most": cut_values(one.most)} for one in change.windows],
        "tried": change.tried,
    }


def cut_values(cut: Cut) -> dict[str, Any]:
    """Pairs that are cut off: how many, and examples."""
    return {"pairs": cut.pairs, "examples": plain(cut.examples)}


def _step(step: Step) -> dict[str, Any]:
    check = step.check
    return {
        "number": step.number,
        "at": step.at,
        "what": step.what,
        "lines": list(step.difference.lines),
        "undo": step.undo,
        "check": {"source": check.source, "target": check.target, "reached": check.reached} if check else None,
        "broken": list(step.broken),
        "cut": cut_values(step.cut),
        "halved": cut_values(step.halved),
        "cut_devices": cut_values(step.cut_devices) if step.cut_devices is not None else None,
        "reached": step.reached,
        "unreached": list(step.unreached),
        "doubled": list(step.doubled),
        "at_console": step.at_console,
        "timed": step.timed,
        "undone_with_loss": step.undone_with_loss,
    }


def lead(change: Change) -> Iterator[str]:
    """What to know before the first step, line by line."""
    if change.by_console:
        yield f"{change.host} does not reach {', '.join(change.by_console)}: steps there take a console"
    if change.locked_out:
        if change.no_order and change.together == len(change):
            yield "no order avoids it: every one was looked at"
        elif change.no_order:
            steps = counted(change.together, "step")
            yield f"of the {steps} that interrupt together no order avoids it: every one was looked at"
        else:
            yield f"no order was found that avoids it, of {counted(change.tried, 'state')} that were decided"
        for one in change.would_help:
            yield f"with {one}, there is an order that locks nobody out"
    number = change.point_of_no_return
    if number is not None:
        yield f"from step {number} on, going back cuts off again who was: look before it"


def windows(change: Change, pace: float = PACE) -> Table:
    """The steps that interrupt together, and how long going back takes from within.

    Args:
        change: the steps.
        pace: minutes that a step takes.
    """
    rows = [
        (
            f"{one.first} to {one.last}",
            one.most.pairs,
            " to ".join(one.most.examples[0]) if one.most.examples else "",
            f"{one.steps * pace:g} min",
            f"{_back(one) * pace:g} min",
        )
        for one in change.windows
    ]
    heads = ("steps", "pairs cut off", "such as", "takes", "to back out")
    return table(f"windows, at {pace:g} min a step", heads, rows, ("pairs cut off",))


def _back(window: Window) -> int:
    """How many steps it takes at the most to go back to where nobody was cut off: from the last but one."""
    return max(window.steps - 1, 1)


def listed(change: Change, pace: float | None = None) -> Iterator[tuple[str, bool]]:
    """The steps to tick off, each line with whether it is a heading; by windows where somebody gives a pace."""
    opens = {one.first: one for one in change.windows} if pace is not None else {}
    closes = {one.last for one in change.windows} if pace is not None else set()
    for step in change:
        window = opens.get(step.number)
        if window is not None:
            took = f"{window.steps * pace:g} min, back out in {_back(window) * pace:g} min" if pace else ""
            yield f"window: steps {window.first} to {window.last}, {window.most} cut off at the most; {took}", True
        yield f"[ ] {step.number}. {step.at}: {step.what}", False
        yield from ((f"       {line}", False) for line in _about(step))
        if step.number in closes:
            yield "end of the window", True


def _about(step: Step) -> Iterator[str]:
    yield from step.difference.lines
    if step.at_console:
        yield f"at the console of {step.at}"
    if step.timed:
        minutes = "goes back by itself after 10 minutes unless confirmed"
        yield f"LOCKS YOU OUT of {', '.join(step.unreached)}: make it under a timed undo ({minutes})"
    elif step.unreached:
        yield f"locked out of {', '.join(step.unreached)}"
    if step.cut.pairs:
        pair = " to ".join(step.cut.examples[0])
        yield f"cut off now: {step.cut}, such as {pair}"
    if step.halved.pairs:
        pair = " to ".join(step.halved.examples[0])
        yield f"in one family only now: {step.halved}, such as {pair}"
    if step.cut_devices is not None and step.cut_devices.pairs:
        pair = " to ".join(step.cut_devices.examples[0])
        yield f"devices' addresses cut off now: {step.cut_devices}, such as {pair}"
    for line in step.broken:
        yield f"not kept now: {line}"
    if step.doubled:
        more = f" and {len(step.doubled) - 1} more" if len(step.doubled) > 1 else ""
        yield f"held twice now: {step.doubled[0]}{more}; who answers is by chance where nobody has asked before"
    if step.check is not None:
        yield f"check: {step.check}"
    yield f"undo:  {step.undo}" + (" (cuts off again who was)" if step.undone_with_loss else "")


def tick_list(items: Iterable[str], markdown: bool = False) -> Iterator[str]:
    """Things to tick off; the lines of one below it."""
    for item in items:
        first, *others = item.splitlines()
        yield f"- [ ] {first}" if markdown else f"[ ] {first}"
        yield from (f"  - {line}" if markdown else f"      {line}" for line in others)


def to_enter(found: SettingUp, device: str | None = None, markdown: bool = False) -> Iterator[str]:
    """What to enter, device by device, then hosts and cables, each below a heading of its own.

    Args:
        found: all that there is to enter.
        device: only what is entered there, at a device or host.
        markdown: with headings and boxes of Markdown.
    """
    mark = "## " if markdown else ""
    for name, items in (*found.devices.items(), *found.hosts.items()):
        if name == device or (device is None and name in found.devices):
            yield from ("", f"{mark}{name}: {counted(len(items), 'thing')} to enter", *([""] * markdown))
            yield from tick_list(items, markdown)
    if device is None and found.hosts:
        yield from ("", f"{mark}hosts", *([""] * markdown))
        yield from tick_list((f"{name}: {'; '.join(items)}" for name, items in found.hosts.items()), markdown)
    if device is None and found.cables:
        yield from ("", f"{mark}cables", *([""] * markdown))
        yield from tick_list(found.cables, markdown)


def entering(change: Change, device: str | None = None, markdown: bool = False) -> Iterator[str]:
    """What to enter at each step, a heading for each, with what to check after it.

    Args:
        change: the steps.
        device: only the steps there.
        markdown: with headings and boxes of Markdown.
    """
    yield from lead(change)
    for step in change:
        if device is None or device == step.at:
            mark = "## " if markdown else ""
            yield from ("", f"{mark}step {step.number} of {len(change)}, at {step.at}: {step.what}", *([""] * markdown))
            items = list(change.enter(step.number))
            if step.check is not None:  # before it is made permanent: until then a restart takes it back
                items.insert(len(items) - (items[-1] == PERMANENT), f"check: {step.check}")
            yield from tick_list(items, markdown)


def body(change: Change, pace: float | None = None) -> Iterator[Part]:
    """What to know first, then the steps to tick off; by windows where somebody gives a pace."""
    yield from lead(change)
    if pace is not None:
        yield from set_apart([windows(change, pace)])
    yield from _headed(listed(change, pace))


def _headed(lines: Iterable[tuple[str, bool]]) -> Iterator[str]:
    """Lines, an empty one above each heading, and above the first."""
    for number, (line, heading) in enumerate(lines):
        if heading or number == 0:
            yield ""
        yield line


def steps_table(change: Change) -> Table:
    """A row for each step."""
    rows = [(step.number, step.at, step.what, step.cut.pairs, step.undo) for step in change]
    return table("steps", ("step", "at", "what", "pairs cut off", "undo"), rows, ("step", "pairs cut off"))


CUT = record(pairs=COUNT("that are cut off"), examples=several(PAIR))
_STEP = record(
    number=COUNT("its place, from 1"),
    at=TEXT("the device"),
    what=TEXT("what is done"),
    lines=several(TEXT)("of what is done, line by line"),
    undo=TEXT("what takes it back"),
    check=maybe(record(source=TEXT, target=TEXT, reached=FLAG))("what to try after it"),
    broken=several(TEXT)("expectations and lines of the policy that both ends keep and that are not kept after it"),
    cut=CUT,
    halved=CUT("pairs that are left in one family only, of those that both ends answer in both"),
    cut_devices=maybe(CUT)("with --devices: of the pairs with an address of a device at an end"),
    reached=COUNT("pairs, in any family"),
    unreached=several(TEXT)("devices still to be changed that the person does not reach after it"),
    doubled=several(TEXT)("addresses that two hold after it"),
    at_console=FLAG("whether it is made at the device's own console"),
    timed=FLAG("whether it is made under an undo that comes by itself"),
    undone_with_loss=FLAG("whether taking it back cuts pairs off"),
)
CHANGE = Face(
    name="change",
    verb="change",
    shape=record(
        host=TEXT("where the person sits"),
        steps=several(_STEP),
        cut_steps=COUNT("pairs that are cut off on the way, each once for each step"),
        locked_out=several(COUNT)("the steps that lock the person out"),
        no_order=FLAG("whether no order of the steps that hang together locks nobody out"),
        together=COUNT("the steps that hang together"),
        would_help=several(TEXT),
        by_console=several(TEXT)("devices that the person does not reach at the beginning"),
        point_of_no_return=maybe(COUNT)("the step from which going back cuts off again who was"),
        windows=several(record(first=COUNT, last=COUNT, most=CUT)),
        tried=COUNT("states that were decided"),
    ),
    values=values,
    tables=lambda change: [windows(change), steps_table(change)],
    body=body,
    rows=lambda change: [_step(step) for step in change],
)


def setting_up_table(found: SettingUp) -> Table:
    """A row for each thing to enter."""
    parts = (*found.devices.items(), *found.hosts.items(), ("cables", found.cables))
    return table("what to enter", ("at", "what"), [(name, what) for name, said in parts for what in said])


def set_up_devices(found: SettingUp) -> Table:
    """A row for each device: how much there is to enter, and what first."""
    rows = [(name, len(items), items[0].splitlines()[0]) for name, items in found.devices.items()]
    return table("devices", ("device", "things", "first"), rows, ("things",), first=MOST_DEVICES)


def _set_up(found: SettingUp) -> list[Part]:
    below = ["", "'--all' prints everything, '--device NAME' what is entered there, '--markdown' a list to tick off"]
    return [*set_apart([set_up_devices(found)]), *below]


SETTING_UP = Face(
    name="setting-up",
    verb="change",
    shape=record(
        devices=by_name(several(TEXT))("what to enter at each, in order; lines of one thing are apart by line ends"),
        hosts=by_name(several(TEXT))("what each is set to"),
        cables=several(TEXT)("which to plug in"),
    ),
    values=lambda found: {
        "devices": {name: list(said) for name, said in found.devices.items()},
        "hosts": {name: list(said) for name, said in found.hosts.items()},
        "cables": list(found.cables),
    },
    tables=lambda found: [setting_up_table(found)],
    body=_set_up,
    whole=to_enter,
)
