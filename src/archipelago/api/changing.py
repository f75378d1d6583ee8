"""Two states of a network: what is otherwise, and the steps from one to the other."""

from __future__ import annotations

from os import PathLike
from typing import IO, TYPE_CHECKING

from archipelago.api.arguments import checked

if TYPE_CHECKING:
    from archipelago.changes.comparison import Comparison
    from archipelago.changes.from_empty import SettingUp
    from archipelago.changes.result import Change, Step
    from archipelago.model.network import Network
    from archipelago.model.recipe import Recipe


@checked
def compare(
    old: Network, new: Network, *, failures: bool = True, family: int | None = None, devices: bool = False
) -> Comparison:
    """What a new state of a network has otherwise than an old one, and what that does.

    Args:
        old: the network as it was.
        new: the network as it is, or is to be.
        failures: also break every part of each in turn, to see which failures are survived.
        family: 4 or 6: count the pairs of this family; by default those that are reached in any.
        devices: also count the pairs with an address of a device at an end.

    Returns:
        What was moved, renamed and renumbered, every difference device by device, the pairs of hosts that are gained,
        lost, or the same by another way, and the promises that are lost or mended.

    Example:
        >>> later = archipelago.amend(network, [])
        >>> archipelago.compare(network, later).headline
        'nothing is otherwise'
    """
    from archipelago.changes.comparison import compare_networks

    return compare_networks(old, new, failures=failures, family=family, devices=devices)


@checked
def change(old: Network, new: Network, host: str, *, devices: bool = False) -> Change:
    """The steps from one state of a network to another, each one change on one device, in an order that does not lock
    out who makes them from `host`, and cuts off the fewest pairs for the fewest steps.

    Args:
        old: the network that runs.
        new: the network that is wanted.
        host: where the person sits: a host or a device of both.
        devices: also count the pairs with an address of a device at an end that are cut off after each step.

    Returns:
        The steps, each with what takes it back, what to try after it, who is cut off after it and which devices still
        to be changed are not reached; `at(n)` is the network after a step.

    Raises:
        QueryError: there is no such host at both ends.

    Example:
        >>> print(archipelago.change(network, network, "winch"))
        nothing is to be changed
    """
    from archipelago.changes.plan import plan_change

    return plan_change(old, new, host, devices=devices)


@checked
def apply(network: Network, step: Step, *, undo: bool = False) -> Network:
    """The network once a step is made, or taken back.

    Args:
        network: the network before it, or after it.
        step: a step of a change.
        undo: take it back.

    Returns:
        The other network; what the step does not touch is the same.

    Raises:
        QueryError: something that the step changes is not as it was when the step was planned.

    Example:
        >>> steps = archipelago.change(network, network, "winch").steps
        >>> [archipelago.apply(network, step) for step in steps]
        []
    """
    from archipelago.changes.replacement import replaced

    done = step.difference.replacements
    return replaced(network, [one.undone for one in reversed(done)] if undo else done)


@checked
def read_recipe(source: str | PathLike[str] | IO[str] | IO[bytes], network: Network) -> Recipe:
    """Read a recipe: what is to become of a network, in the words of the work.

    Args:
        source: a path, an open file, or the text itself (a string with a newline in it).
        network: the network that it is for, which has the VLANs and names.

    Returns:
        The recipe.

    Raises:
        DocumentError: with every problem of the file, each with its line and column.

    Example:
        >>> text = "format: archipelago-recipe/1\nreplace: [{device: slip, by: jetty}]\n"
        >>> archipelago.read_recipe(text, network).replace
        (ReplacedDevice(device='slip', by='jetty'),)
    """
    from archipelago.api.reading import tree_of
    from archipelago.files.recipe import recipe_from

    return recipe_from(tree_of(source), network)


@checked
def follow(network: Network, recipe: Recipe, *, accept_losses: bool = False) -> Network:
    """The network that a recipe asks for, worked out from the one that runs, and decided: what works goes on working,
    by every kind of probe and in every family; leases are given, promises kept, and the audit finds nothing new.

    Args:
        network: the network that runs.
        recipe: what is to become of it.
        accept_losses: make it, too, where something is lost by it.

    Returns:
        The network that is wanted, to be compared, audited, and changed to.

    Raises:
        QueryError: something in the network does not let it be followed, or something would be lost.

    Example:
        >>> text = "format: archipelago-recipe/1\nreplace: [{device: slip, by: jetty}]\n"
        >>> "jetty" in archipelago.follow(network, archipelago.read_recipe(text, network)).devices
        True
    """
    from archipelago.changes.recipes import follow as run

    return run(network, recipe, accept_losses=accept_losses)


@checked
def setting_up(network: Network) -> SettingUp:
    """What a person types in and plugs in, device by device, where there is nothing but empty devices.

    Args:
        network: the network that is wanted.

    Returns:
        By device, in the order of the network, and last the cables: what to do, in words.

    Example:
        >>> list(archipelago.setting_up(network))[:1]
        ['slip']
    """
    from archipelago.changes.from_empty import from_empty

    return from_empty(network)
