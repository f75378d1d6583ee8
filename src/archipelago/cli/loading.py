"""What links carry."""

from __future__ import annotations

from argparse import Namespace

import archipelago
from archipelago.cli import out


def traffic(words: Namespace) -> int:
    """Answer, and say by the exit code whether everything fits."""
    network = archipelago.read_network(words.network)
    if words.output:
        from archipelago.views.painting import ending

        ending(words.output)  # before the work
    load = archipelago.traffic(
        network,
        failures=words.failures,
        each=words.each,
        others=words.others,
        outside=words.outside,
        answers=words.answers,
    )
    if words.output:
        archipelago.draw(load, words.output)
    return out.reply(load, words)
