"""Designs weighed against each other."""

from __future__ import annotations

from argparse import Namespace

import archipelago
from archipelago.cli import out
from archipelago.cli.verbs import tell_growth


def weigh(words: Namespace) -> int:
    """Answer; the designs and a picture are kept in a directory where one is named."""
    brief = archipelago.read_brief(words.brief)
    found = archipelago.weigh(
        brief,
        keep=archipelago.read_network(words.keep) if words.keep else None,
        host=words.host,
        suppose=words.suppose,
        growth=words.growth,
        full=words.full,
        tolerate=words.tolerate,
        devices=words.devices,
    )
    kept = _keep(found, words.output) if words.output else []
    if words.as_json:
        out.say_json(found.values())
        return 0
    out.answer(found)
    tell_growth(brief, found.designs[0].design)
    if found.left_out:
        out.say(f"{found.left_out} more places were not looked at")
    if kept:
        out.say()
        out.say(f"written: {', '.join(kept)} in {words.output}")
    return 0


def _keep(found: archipelago.Weighing, directory: str) -> list[str]:
    """Each design as a network of its own, and the picture; the names of the files."""
    from archipelago.files.disk import make_directory

    place = make_directory(directory)
    names = [f"design-{number}.yaml" for number in range(1, len(found.designs) + 1)]
    for name, one in zip(names, found.designs, strict=True):
        archipelago.write_network(one.design.network, place / name)
    archipelago.draw(found, place / "weighing.svg")
    return [*names, "weighing.svg"]
