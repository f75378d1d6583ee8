"""A recipe: what is to become of a network, in the words of the work; how is worked out from the network."""

from __future__ import annotations

from dataclasses import dataclass

from archipelago.addressing.values import Prefix
from archipelago.answer import OneLine


@dataclass(frozen=True, slots=True, repr=False)
class MovedGateways(OneLine):
    """The gateways of some VLANs (by their ids) move to a layer 3 switch, or to two that share them; `transit` is the
    subnet over which these and the old place route to each other."""

    vlans: tuple[int, ...]
    to: tuple[str, ...]
    transit: tuple[Prefix, ...] = ()


@dataclass(frozen=True, slots=True, repr=False)
class Renumbered(OneLine):
    """A VLAN gets another subnet in each family that is written; every address keeps its place in it."""

    vlan: int
    subnet: tuple[Prefix, ...]


@dataclass(frozen=True, slots=True, repr=False)
class Split(OneLine):
    """A new VLAN, with a subnet of its own, takes some hosts of another."""

    vlan: int
    new: str
    id: int
    subnet: tuple[Prefix, ...]
    hosts: tuple[str, ...]


@dataclass(frozen=True, slots=True, repr=False)
class ReplacedDevice(OneLine):
    """A device goes, and another, set up the same, takes its place and its cables."""

    device: str
    by: str


@dataclass(frozen=True, slots=True, repr=False)
class WithIpv6(OneLine):
    """A VLAN gets an IPv6 subnet, too: its gateways, its hosts with written addresses, and the routes to it."""

    vlan: int
    subnet: tuple[Prefix, ...]


@dataclass(frozen=True, slots=True, repr=False)
class Recipe(OneLine):
    """What is done, in this order."""

    replace: tuple[ReplacedDevice, ...] = ()
    split: tuple[Split, ...] = ()
    renumber: tuple[Renumbered, ...] = ()
    add_ipv6: tuple[WithIpv6, ...] = ()
    move_gateways: tuple[MovedGateways, ...] = ()
