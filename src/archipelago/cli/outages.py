"""Breaking parts on purpose: one over time, each in turn, every two."""

from __future__ import annotations

from argparse import Namespace

import archipelago
from archipelago.cli import out
from archipelago.errors import QueryError


def outages(words: Namespace) -> int:
    """Answer, and say by the exit code whether every failure is harmless."""
    network = archipelago.read_network(words.network)
    if words.output:
        from archipelago.views.painting import ending

        ending(words.output)  # before the work
    if words.part:
        return _over_time(network, words)
    return _in_turn(network, words)


def _over_time(network: archipelago.Network, words: Namespace) -> int:
    if words.source is None or words.target is None:
        raise QueryError("--break needs --from and --to: who probes whom while the part breaks")
    result = archipelago.break_part(
        network,
        words.part,
        words.source,
        words.target,
        every=words.every,
        restore=words.restore,
        orderly=words.orderly,
        family=words.family,
        probe=words.probe,
    )
    if words.output:
        archipelago.draw(result, words.output)
    return out.reply(result, words)


def _in_turn(network: archipelago.Network, words: Namespace) -> int:
    found = archipelago.outages(
        network,
        double=words.double,
        additions=not words.quick,
        workers=words.workers,
        scheduler=words.scheduler,
        resume=words.resume,
        devices=words.devices,
    )
    if words.output:
        archipelago.draw(found, words.output)
    return out.reply(found, words)
