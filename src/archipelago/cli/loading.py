"""What links carry."""

from __future__ import annotations

from argparse import Namespace

import archipelago
from archipelago.cli import out

MOST_LINKS = 40
"""So many links are shown; --json has all."""


def traffic(words: Namespace) -> int:
    """Answer, and say by the exit code whether everything fits."""
    from archipelago.views import traffic as view

    network = archipelago.read_network(words.network)
    if words.output:
        from archipelago.views.draw import ending

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
        archipelago.draw_traffic(network, load, words.output)
    if words.as_json:
        out.say_json(view.values(load))
    else:
        out.head(load.headline)
        out.say_lines(view.lines(load))
        out.say_tables(one for one in view.tables(load, MOST_LINKS) if one.rows)
        out.drawn(words.output)
    return 1 if load.overfull or (load.dropped and not load.assumed) else 0
