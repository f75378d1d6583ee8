"""The verb `reach`: one question, and the others that are asked of one end."""

from __future__ import annotations

from argparse import Namespace
from dataclasses import replace
from typing import TYPE_CHECKING

import archipelago
from archipelago.cli import out
from archipelago.errors import QueryError

if TYPE_CHECKING:
    from archipelago.model.network import Network
    from archipelago.simulation.reach import ReachResult


def reach(words: Namespace) -> int:
    from archipelago.views import answer as view
    from archipelago.views import timeline as times

    if words.source is None and not words.in_order:
        raise QueryError("name two ends: FROM and TO (or FROM with --broadcast, --in-order or --lease)")
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
    answer = _asked(network, words, words.target)
    if words.next or words.after is not None or words.frame is not None:
        return _event(answer, words)
    chosen = times.Chosen(words.device, words.protocol, words.from_fault)
    steps = words.steps or bool(chosen)
    if words.as_json:
        out.say_json(view.REACH.headed(view.values(answer, chosen if steps else None)))
    else:
        out.answer(answer)
        if steps and not answer.others:
            title = "time line"
            out.say_tables([times.timeline(title, answer.events, chosen)])
            if answer.other_family is not None:
                out.say_tables([times.timeline("the same in IPv6", answer.other_family.events, chosen)])
    return 0 if answer else 1


def _asked(network: Network, words: Namespace, target: str) -> ReachResult:
    return archipelago.reach(
        network,
        words.source,
        target,
        probes=words.count,
        family=words.family,
        probe=words.probe,
        without=words.without,
        move=words.move,
    )


def _event(answer: ReachResult, words: Namespace) -> int:
    """One event in full: a certain one, or the next that matters."""
    from archipelago.views import timeline as times

    number = words.frame if words.frame is not None else times.next_that_matters(answer.events, words.after or 0)
    found = times.InFull(answer.headline, answer.reached, answer.events, number)
    if words.as_json:
        out.say_json(found.values())
    else:
        out.head(found.headline)
        out.say_tables(found.tables())
        out.say()
        out.say(f"the next that matters: --after {number}; all events: --steps")
    return 0 if found else 1


def _in_order(network: Network, words: Namespace) -> int:
    if words.source is None:
        return out.reply(archipelago.reach_all_in_order(network, family=words.family), words)
    return out.reply(archipelago.reach_in_order(network, words.source, family=words.family), words)


def _several(network: Network, words: Namespace) -> int:
    """One source and several targets, a line each; why not below those that are not reached."""
    if words.trace or words.steps:
        raise QueryError("--trace and --steps show one target; name one")
    first, *others = (answer for target in words.targets for answer in _asked(network, words, target).each)
    return out.reply(replace(first, others=tuple(others)), words)


def _broadcast(network: Network, words: Namespace) -> int:
    return out.reply(archipelago.broadcast(network, words.source), words)


def _lease(network: Network, words: Namespace) -> int:
    from archipelago.views import lease as view
    from archipelago.views import timeline as times

    if words.targets:
        raise QueryError("--lease asks about FROM alone; leave out TO")
    answer = archipelago.lease(network, words.source)
    chosen = times.Chosen(words.device, words.protocol, words.from_fault)
    steps = words.steps or bool(chosen)
    if words.as_json:
        values = view.values(answer, chosen) if steps else view.without_events(answer)
        out.say_json(view.LEASE.headed(values))
    else:
        out.answer(answer)
        if steps:
            out.say_tables([times.timeline("time line", answer.events, chosen)])
    return 0 if answer else 1


def _trace(network: Network, words: Namespace) -> int:
    return out.reply(archipelago.trace(network, words.source, words.target, family=words.family), words)
