"""The verb `matrix`: all pairs told as text, as rows or as JSON."""

from __future__ import annotations

from argparse import Namespace

import archipelago
from archipelago.cli import out
from archipelago.model.filters import parse_probe
from archipelago.proof.all_pairs import all_pairs
from archipelago.views import matrix as shown


def matrix(words: Namespace) -> int:
    """Answer, and say by the exit code whether everything is as it should be."""
    network = archipelago.read_network(words.network)
    if words.policy:
        return _policy(network, words)
    probes = [parse_probe(kind) for kind in words.probe.split(",")]
    every = all_pairs(
        network,
        words.family,
        words.without,
        causes=not words.csv,
        probes=probes,
        devices=words.devices,
        moves=words.move,
    )
    if words.output:
        archipelago.draw(every[0], words.output)
    if words.csv:
        out.say_lines(shown.csv_lines(every))
    elif words.as_json:
        out.say_json(shown.MATRIX.headed(shown.several_values(every)))
    else:
        if len(every) > 1:
            out.head("; ".join(f"{one.probe}: {one.reached:,} reached" for one in every))
            out.say()
        for number, one in enumerate(every):
            if number:
                out.say()
            out.answer(one)
            if words.hosts:
                out.say()
                out.say_lines(shown.host_by_host(one))
        out.drawn(words.output)
    return 0 if all(every) else 1


def _policy(network: archipelago.Network, words: Namespace) -> int:
    """What the policy allows, beside what the network does."""
    found = archipelago.check_policy(network)
    if words.output:
        archipelago.draw(found, words.output)
    return out.reply(found, words)
