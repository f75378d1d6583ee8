"""The recipe document: a tree becomes a recipe for a network, every VLAN and name resolved in it."""

from __future__ import annotations

from typing import Any

from archipelago.files.sections import Reader
from archipelago.files.tree import Tree
from archipelago.model.key import Holder
from archipelago.model.network import Network
from archipelago.model.recipe import MovedGateways, Recipe, Renumbered, ReplacedDevice, Split, WithIpv6

FORMAT = "archipelago-recipe/1"
_MADE: dict[str, Any] = {
    "replace": ReplacedDevice,
    "split": Split,
    "renumber": Renumbered,
    "add_ipv6": WithIpv6,
    "move_gateways": MovedGateways,
}


def recipe_from(tree: Tree, network: Network) -> Recipe:
    """The recipe that a tree describes.

    Raises:
        DocumentError: with every problem of the file, those of VLANs and names that the network has not among them.
    """
    reader = Reader(tree, (FORMAT,))
    reader.context.vlans = dict(network.vlans)
    fields = reader.document(Holder.RECIPE)
    made = {name: tuple(kind(**own) for _, own in fields[name]) for name, kind in _MADE.items()}
    recipe = Recipe(**made)
    _check(reader, recipe, network)
    reader.finish()
    return recipe


def _check(reader: Reader, recipe: Recipe, network: Network) -> None:
    """Note what the network has not, or has already."""
    for number, one in enumerate(recipe.replace):
        if one.device not in network.devices:
            _unknown(reader, ("replace", number, "device"), one.device, "device", list(network.devices))
        if one.by in {*network.devices, *network.hosts}:
            reader.add(("replace", number, "by"), f"there is a '{one.by}' already; a new name is expected")
    for number, split in enumerate(recipe.split):
        for host in split.hosts:
            if host not in network.hosts:
                _unknown(reader, ("split", number, "hosts"), host, "host", list(network.hosts))
        if split.new in network.vlans or split.id in network.vlans.values():
            reader.add(
                ("split", number, "new"), f"VLAN {split.new} or the id {split.id} is in use; new ones are expected"
            )
    for number, moved in enumerate(recipe.move_gateways):
        if len(moved.to) not in (1, 2):
            reader.add(("move-gateways", number, "to"), "gateways move to one device, or to two that share them")
        for device in moved.to:
            if device not in network.devices:
                _unknown(reader, ("move-gateways", number, "to"), device, "device", list(network.devices))
            elif network.devices[device].kind != "l3switch":
                told = f"'{device}' is a {network.devices[device].kind}; gateways move to layer 3 switches"
                reader.add(("move-gateways", number, "to"), told)


def _unknown(reader: Reader, path: tuple[str | int, ...], word: str, noun: str, known: list[str]) -> None:
    reader.add(path, f"there is no {noun} '{word}'{reader.names.hint(word, known)}; there are: {', '.join(known[:12])}")
