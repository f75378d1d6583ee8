"""The steps of a change as a person works through them, and as plain values."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from archipelago.changes.result import Change, Step, Window
from archipelago.views.plain import plain
from archipelago.views.table import Table, counted, table

PACE = 2.0
"""Minutes that a step takes, where nobody says."""


def values(change: Change) -> dict[str, Any]:
    """The answer with the keys of `--json`."""
    return {
        "from": change.host,
        "steps": [_step(step) for step in change],
        "cut-off": change.cut_steps,
        "locked-out": bool(change.locked_out),
        "no-order-without-a-lock-out": change.no_order,
        "steps-that-hang-together": change.together,
        "would-help": list(change.would_help),
        "at-their-console": list(change.by_console),
        "no-return-from": change.point_of_no_return,
        "windows": [
            {"first": one.first, "last": one.last, "pairs": one.most.pairs, "such-as": plain(one.most.examples)}
            for one in change.windows
        ],
        "states-decided": change.tried,
    }


def _step(step: Step) -> dict[str, Any]:
    check = step.check
    return {
        "step": step.number,
        "at": step.device,
        "do": step.what,
        "lines": list(step.difference.lines),
        "undo": step.undo,
        "check": {"from": check.source, "to": check.target, "reached": check.reached} if check else None,
        "not-kept": list(step.broken),
        "cut-off": step.cut.pairs,
        "such-as": plain(step.cut.examples),
        "reached": step.reached,
        "not-reached-by-you": list(step.unreached),
        "held-twice": list(step.doubled),
        "at-its-console": step.at_console,
        "timed-undo": step.timed,
        "undone-with-loss": step.undone_with_loss,
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
        yield f"[ ] {step.number}. {step.device}: {step.what}", False
        yield from ((f"       {line}", False) for line in _about(step))
        if step.number in closes:
            yield "end of the window", True


def _about(step: Step) -> Iterator[str]:
    yield from step.difference.lines
    if step.at_console:
        yield f"at the console of {step.device}"
    if step.timed:
        minutes = "goes back by itself after 10 minutes unless confirmed"
        yield f"LOCKS YOU OUT of {', '.join(step.unreached)}: make it under a timed undo ({minutes})"
    elif step.unreached:
        yield f"locked out of {', '.join(step.unreached)}"
    if step.cut.pairs:
        pair = " to ".join(step.cut.examples[0])
        yield f"cut off now: {step.cut}, such as {pair}"
    for line in step.broken:
        yield f"not kept now: {line}"
    if step.doubled:
        more = f" and {len(step.doubled) - 1} more" if len(step.doubled) > 1 else ""
        yield f"held twice now: {step.doubled[0]}{more}; who answers is by chance where nobody has asked before"
    if step.check is not None:
        yield f"check: {step.check}"
    yield f"undo:  {step.undo}" + (" (cuts off again who was)" if step.undone_with_loss else "")


def tick_list(network: dict[str, tuple[str, ...]]) -> Iterator[tuple[str, bool]]:
    """What to do where nothing is set up, device by device, each line with whether it is a heading."""
    for name, said in network.items():
        if said:
            yield f"{name}: {counted(len(said), 'thing')} to do", True
            yield from ((line, False) for what in said for line in f"[ ] {what}".splitlines())
