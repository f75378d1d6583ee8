"""A recipe followed: the network that it asks for, worked out from the one that runs."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import Any

from archipelago.audit.registry import run
from archipelago.changes.moved_gateways import moved
from archipelago.changes.renamed import Renamed
from archipelago.changes.renumbered import renumbered, with_ipv6
from archipelago.changes.split_vlan import split
from archipelago.design.policy import with_filters
from archipelago.errors import ModelError, QueryError
from archipelago.knowledge.index import index_network
from archipelago.knowledge.known import know
from archipelago.knowledge.outside import widened
from archipelago.model.filters import Filter
from archipelago.model.network import Network, with_changes
from archipelago.model.recipe import Recipe, ReplacedDevice
from archipelago.proof.gate import Standing, kinds_of_probe, losses
from archipelago.proof.pairs import causes_of_loss
from archipelago.proof.placing import entrances, filter_at, wanted_filters
from archipelago.reachability.build import build_arrays
from archipelago.reachability.policy import BreachKey
from archipelago.reachability.promises import Promises


def follow(network: Network, recipe: Recipe, *, accept_losses: bool = False) -> Network:
    """The network once a recipe is followed, decided before it is given out.

    Args:
        network: the network.
        recipe: what is to become of it.
        accept_losses: give it out, too, where it loses something that works now.

    Raises:
        QueryError: something in the network does not let it be followed, or something is lost: pairs of hosts, those
            aside that the policy forbids, leases, promises; or there are new mistakes.
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
    if made.policy is not None:
        made = _checked(_with_policy(network, made))
    probes = kinds_of_probe(network, made)
    before, after = (Standing(know(each), probes, run) for each in (network, made))
    lost = [] if accept_losses else list(losses(before, after))
    if lost:
        more = f", and {len(lost) - 1} more" * (len(lost) > 1)
        raise QueryError(
            f"followed as it stands it loses something: {lost[0].says}{_because(before, after)}{more}; nothing is made "
            "of it unless losses are accepted (--accept-losses)"
        )
    return made


def _with_policy(network: Network, made: Network) -> Network:
    """The new network with the filters that its policy asks for, wherever those of the old network were what a design
    makes of it. A filter that somebody wrote otherwise goes along as it is, unless the policy is not kept by that any
    more."""
    old, new = index_network(network), index_network(made)
    before = wanted_filters(old, entrances(old))
    as_designed = {
        (one.entrance.who, one.inwards): _does_the_same(filter_at(old, place), one.filter)
        for place, one in before.items()
    }
    other = any(one.filter is not None and not as_designed[one.entrance.who, one.inwards] for one in before.values())
    wanted = list(wanted_filters(new, entrances(new)).values())
    chosen = [one for one in wanted if as_designed.get((one.entrance.who, one.inwards), not other)]
    with_own = with_filters(made, chosen)
    kept = len(chosen) == len(wanted) or bool(_broken(network)) or not _broken(with_own)
    return with_own if kept else with_filters(made, wanted)


def _broken(network: Network) -> Mapping[BreachKey, str]:
    """What of a network's policy is not kept."""
    known = know(network)
    return Promises(known, build_arrays(widened(known))).policy


def _does_the_same(one: Filter | None, other: Filter | None) -> bool:
    """Whether two filters are the same but for their names."""
    if one is None or other is None:
        return one is other
    return replace(one, name=other.name) == other


def _because(before: Standing, after: Standing) -> str:
    """What cuts off the pairs that are lost, where that can be said."""
    if before.decision.arrays.hosts != after.decision.arrays.hosts:
        return ""
    causes = causes_of_loss(before.decision, after.decision)
    return f" ({causes[0].says})" if causes else ""


def _checked(network: Network) -> Network:
    """The network, if it is one that can be."""
    try:
        return replace(network)
    except ModelError as error:
        raise QueryError(f"the recipe does not fit this network: {error}") from None


def _replaced(network: Network, asked: ReplacedDevice) -> Network:
    """A device by another name, with everything that is set up on it and plugged into it."""
    made = Renamed(devices={asked.device: asked.by}).applied(network)
    devices = {name: replace(device, mac=None) if name == asked.by else device for name, device in made.devices.items()}
    return with_changes(made, devices=devices)
