"""A recipe followed: the network that it asks for, worked out from the one that runs."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from archipelago.changes.moved_gateways import moved
from archipelago.changes.pairs import Between, by_family
from archipelago.changes.renamed import Renamed
from archipelago.changes.renumbered import renumbered, with_ipv6
from archipelago.changes.split_vlan import split
from archipelago.design.policy import with_filters
from archipelago.errors import ModelError, QueryError
from archipelago.failures.promises import Promises
from archipelago.knowledge.index import index_network
from archipelago.knowledge.known import Knowledge, know
from archipelago.knowledge.outside import widened
from archipelago.model.network import Network, with_changes
from archipelago.model.recipe import Recipe, ReplacedDevice
from archipelago.proof.pairs import causes_of_loss, decide
from archipelago.proof.placing import entrances, wanted_filters
from archipelago.reachability.build import build_arrays


def follow(network: Network, recipe: Recipe) -> Network:
    """The network once a recipe is followed, decided before it is given out.

    Raises:
        QueryError: something in the network does not let it be followed, pairs of hosts would be lost (those aside that
            the policy forbids), or what the policy says would not be kept.
    """
    steps: list[tuple[Callable[[Network, Any], Network], tuple[Any, ...]]] = [
        (_replaced, recipe.replace),
        (split, recipe.split),
        (renumbered, recipe.renumber),
        (with_ipv6, recipe.add_ipv6),
        (moved, recipe.move_gateways),
    ]
    made = network
    for step, entries in steps:
        for entry in entries:
            made = _checked(step(made, entry))
    arrays = [build_arrays(widened(know(one))) for one in (network, made)]
    lost = Between(*map(by_family, arrays)).lost
    if lost.pairs:
        pair = " to ".join(lost.examples[0])
        if network.hosts.keys() == made.hosts.keys():
            causes = causes_of_loss(*map(decide, arrays))
            pair += f": {causes[0].says}" if causes else ""
        raise QueryError(f"followed as it stands it would cut off {lost}, such as {pair}; nothing is made of it")
    return _with_policy(network, made) if made.policy is not None else made


def _checked(network: Network) -> Network:
    """The network, if it is one that can be."""
    try:
        return replace(network)
    except ModelError as error:
        raise QueryError(f"the recipe does not fit this network: {error}") from None


def _with_policy(network: Network, made: Network) -> Network:
    """The new network with the filters that its policy asks for, where they are asked for now.

    Raises:
        QueryError: something of the policy is not kept then that is kept now.
    """
    index = index_network(made)
    made = _checked(with_filters(made, wanted_filters(index, entrances(index)).values()))
    before, after = (_not_kept(know(one)) for one in (network, made))
    worse = [promise for promise in after if promise.startswith("policy") and promise not in before]
    if worse:
        raise QueryError(f"followed as it stands, what the policy says is not kept: {worse[0]}; nothing is made of it")
    return made


def _not_kept(knowledge: Knowledge) -> tuple[str, ...]:
    return Promises(knowledge, build_arrays(widened(knowledge))).broken


def _replaced(network: Network, asked: ReplacedDevice) -> Network:
    """A device by another name, with everything that is set up on it and plugged into it."""
    made = Renamed(devices={asked.device: asked.by}).applied(network)
    devices = {name: replace(device, mac=None) if name == asked.by else device for name, device in made.devices.items()}
    return with_changes(made, devices=devices)
