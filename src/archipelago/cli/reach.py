"""The verb `reach`: one question, and the others that are asked of one end."""

from __future__ import annotations

from argparse import Namespace
from typing import TYPE_CHECKING

import archipelago
from archipelago.cli import out
from archipelago.errors import QueryError

if TYPE_CHECKING:
    from archipelago.model.network import Network
    from archipelago.simulation.reach import ReachResult


SCHEMA_LINE = "# yaml-language-server: $schema=archipelago-network.schema.json"
"""How editors find the schema of a document that stands beside it: `archipelago schema network -o` that name."""


def reach(words: Namespace) -> int:
    from archipelago.views import answer as view
    from archipelago.views import timeline as times
    from archipelago.views.plain import plain

    network = archipelago.read_network(words.network)
    if words.targets and (words.broadcast or words.in_order):
        option = "--broadcast" if words.broadcast else "--in-order"
        raise QueryError(f"{option} asks of FROM alone; leave out {words.targets[0]}, or the option")
    if words.broadcast:
        return _broadcast(network, words)
    if words.in_order:
        return _in_order(network, words)
    if words.lease:
        return _lease(network, words)
    if not words.targets:
        raise QueryError("name two ends: FROM and TO (or FROM with --broadcast, --in-order or --lease)")
    if len(words.targets) > 1:
        return _several(network, words)
    words.target = words.targets[0]
    if words.trace:
        return _trace(network, words)
    if words.device is not None and words.device not in network.devices and words.device not in network.hosts:
        raise QueryError(f"there is no device or host '{words.device}' to show the steps of")
    answer = archipelago.reach(
        network, words.source, words.target, probes=words.probes, family=words.family, probe=words.probe
    )
    if words.next or words.after is not None or words.frame is not None:
        return _event(answer, words)
    chosen = times.Chosen(words.device, words.protocol, words.from_fault)
    steps = words.steps or bool(chosen)
    if words.as_json:
        values = plain(answer)
        for family_values in (values, values["other_family"] or {"finding": 0, "events": 0}):
            del family_values["finding"], family_values["events"]
        if steps:
            values["events"] = times.timeline_rows(answer.events, chosen)
            if answer.other_family:
                values["other_family"]["events"] = times.timeline_rows(answer.other_family.events, chosen)
        out.say_json(values)
    else:
        first, *rest = view.parts(answer)
        out.head(str(first))
        out.say_parts(rest)
        if steps:
            title = "events" if chosen else "every event"
            out.say_tables([times.timeline(title, answer.events, chosen)])
            if answer.other_family:
                out.say_tables([times.timeline("the same in IPv6", answer.other_family.events, chosen)])
    return 0 if answer.reached else 1


def _event(answer: ReachResult, words: Namespace) -> int:
    """One event in full: a certain one, or the next that matters."""
    from archipelago.views import timeline as times

    number = words.frame if words.frame is not None else times.next_that_matters(answer.events, words.after or 0)
    shown = times.in_full(answer.events, number)
    if words.as_json:
        fields = {row[0]: row[1] for row in shown.rows}
        out.say_json({"number": number, "events": len(answer.events), "event": fields})
        return 0 if answer.reached else 1
    out.head(answer.headline)
    out.say_tables([shown])
    out.say()
    out.say(f"the next that matters: --after {number}; all events: --steps")
    return 0 if answer.reached else 1


def _in_order(network: Network, words: Namespace) -> int:
    result = archipelago.reach_in_order(network, words.source, family=words.family)
    if words.as_json:
        checks = [
            {
                "what": check.what,
                "meaning": check.meaning,
                **{key: getattr(check.answer, key) for key in ("target", "reached", "cause", "at", "mend")},
            }
            for check in result.checks
        ]
        out.say_json({"source": result.source, "reached": result.reached, "checks": checks, "stopped": result.stopped})
    else:
        headline, *rest = str(result).splitlines()
        out.head(headline)
        out.say_lines(rest)
        failed = next((check.answer for check in result.checks if not check.answer.reached), None)
        if failed is not None:
            out.say()
            out.say_lines(f"  {line}" for line in failed.why_not)
    return 0 if result.reached else 1


def _several(network: Network, words: Namespace) -> int:
    """One source and several targets, a line each; why not below those that are not reached."""
    from archipelago.views.plain import plain

    if words.trace or words.steps:
        raise QueryError("--trace and --steps show one target; name one")
    answers = [
        archipelago.reach(network, words.source, target, probes=words.probes, family=words.family)
        for target in words.targets
    ]
    good = sum(answer.reached for answer in answers)
    if words.as_json:
        keys = ("source", "target", "address", "family", "reached", "cause", "at", "mend")
        out.say_json([{key: plain(getattr(answer, key)) for key in keys} for answer in answers])
    else:
        out.head(f"{words.source}: {good} of {len(answers)} reached")
        for answer in answers:
            out.say_lines(str(answer).splitlines())
    return 0 if good == len(answers) else 1


def _broadcast(network: Network, words: Namespace) -> int:
    from archipelago.views.table import table

    result = archipelago.broadcast(network, words.source)
    if words.as_json:
        out.say_json({"source": result.source, "hosts": result.hosts, "heard": archipelago.to_json(result.heard)})
        return 0
    out.head(result.headline)
    rows = [
        (receiver.name, receiver.kind, receiver.interface, ", ".join(receiver.through)) for receiver in result.heard
    ]
    out.say_tables([table("", ("heard by", "kind", "on", "through"), rows)])
    return 0


def _lease(network: Network, words: Namespace) -> int:
    from archipelago.views import lease as view
    from archipelago.views import timeline as times
    from archipelago.views.plain import plain

    if words.targets:
        raise QueryError("--lease asks about FROM alone; leave out TO")
    answer = archipelago.lease(network, words.source)
    chosen = times.Chosen(words.device, words.protocol, words.from_fault)
    steps = words.steps or bool(chosen)
    if words.as_json:
        values = plain(answer)
        values["finding"] = plain(answer.finding)
        values["heard"] = [dict(zip(view.heard(answer).columns, row, strict=True)) for row in view.heard(answer).rows]
        values["exchange"] = view.exchange(answer).records()
        values["events"] = times.timeline_rows(answer.events, chosen) if steps else len(answer.events)
        out.say_json(values)
    else:
        first, *rest = view.parts(answer)
        out.head(str(first))
        out.say_parts(rest)
        if steps:
            out.say_tables([times.timeline("events" if chosen else "every event", answer.events, chosen)])
    return 0 if answer.leased else 1


def _trace(network: Network, words: Namespace) -> int:
    from archipelago.views.answer import trace_table

    result = archipelago.trace(network, words.source, words.target, family=words.family)
    if words.as_json:
        out.say_json({"reached": result.reached, "trace": archipelago.to_json(result.trace)})
    else:
        out.head(result.headline)
        out.say_tables([trace_table(result)])
    return 0 if result.reached else 1
