"""Two states of a network: compared, and changed step by step."""

from __future__ import annotations

from argparse import Namespace

import archipelago
from archipelago.cli import out
from archipelago.errors import QueryError
from archipelago.model.problems import listed


def compare(words: Namespace) -> int:
    """Answer, and say by the exit code whether pairs or promises are lost."""
    if words.output:
        from archipelago.views.painting import ending

        ending(words.output)  # before the work
    old, new = archipelago.read_network(words.old), archipelago.read_network(words.new)
    found = archipelago.compare(old, new, failures=not words.quick, family=words.family, devices=words.devices)
    if words.output:
        archipelago.draw(found, words.output)
    return out.reply(found, words)


def change(words: Namespace) -> int:
    """The steps from one network to another, or from empty devices; 1 where somebody is locked out."""
    from archipelago.views import change as view

    if words.new is None and words.recipe is None:
        return _from_empty(words)
    if words.new is not None and words.recipe is not None:
        raise QueryError("write the network that is wanted, or a recipe for it, not both")
    if words.host is None:
        raise QueryError("--from is missing: the host where the person sits who makes the changes")
    if words.output is None and words.at is not None:
        raise QueryError("--at goes with --output: the network after a step is written")
    if words.output is not None and words.at is None and words.recipe is None:
        raise QueryError("--output goes with --at, or with a recipe, whose network is written")
    old = archipelago.read_network(words.old)
    if words.recipe is not None:
        recipe = archipelago.read_recipe(words.recipe, old)
        new = archipelago.follow(old, recipe, accept_losses=words.accept_losses)
    else:
        new = archipelago.read_network(words.new)
    found = archipelago.change(old, new, words.host, devices=words.devices)
    if words.output is not None:
        archipelago.write_network(found.at(len(found) if words.at is None else words.at), words.output)
    if words.as_json:
        out.say_json(found.values())
    elif words.at is not None:
        out.head(f"the network after step {words.at} of {len(found)}, written to {words.output}")
        if words.at:
            out.say(str(found.steps[words.at - 1]))
    else:
        if words.enter or words.device or words.markdown:
            out.answer(found, body=view.entering(found, _device(words, new), words.markdown))
            return 0 if found else 1
        pace = view.PACE if words.pace is None else words.pace
        out.answer(found, body=view.body(found, pace if words.window else None))
    return 0 if found else 1


def _from_empty(words: Namespace) -> int:
    from archipelago.views.change import to_enter

    for option, value in (
        ("--output", words.output),
        ("--from", words.host),
        ("--at", words.at),
        ("--window", words.window),
    ):
        if value:
            raise QueryError(f"{option} needs two networks: the one that runs, and the one that is wanted")
    network = archipelago.read_network(words.old)
    done = archipelago.setting_up(network)
    if words.as_json:
        out.say_json(done.values())
    elif words.device or words.markdown:
        out.answer(done, body=to_enter(done, _device(words, network), words.markdown))
    else:
        out.answer(done, whole=words.all)
    return 0


def _device(words: Namespace, network: archipelago.Network) -> str | None:
    """The device or host that is asked for.

    Raises:
        QueryError: there is none of that name.
    """
    names = [*network.devices, *network.hosts]
    if words.device is not None and words.device not in names:
        raise QueryError(f"there is no device or host '{words.device}'; there are: {listed(names)}")
    name: str | None = words.device
    return name
