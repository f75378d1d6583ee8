"""What a network is in arrays: plain data.

A *foot* is a place that frames reach: a VLAN on a device, or an interface. A *bunch* is hosts of one device that are
plugged in and set up alike, so far as any table of the network can tell their addresses apart. A *place* is something
with a routing table: a routing device (once for each of its `vrf`), then each bunch.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from archipelago.knowledge.devices import Knowledge
from archipelago.knowledge.domains import Foot

Ints = NDArray[np.int64]
Bools = NDArray[np.bool_]
NOWHERE = -1
"""The foot of a host whose port takes in no untagged frame."""
CONNECTED, MUTE = -1, -2
"""In place of a next hop: the target itself is asked for; the interface cannot send."""


@dataclass(frozen=True, slots=True)
class Joints:
    """Which feet frames pass between: from `foot` to `target`, sent by one device and heard by another (numbers);
    `mutual` where they pass back as well, and of the two of a mutual pair one is `first`."""

    foot: Ints
    target: Ints
    sender: Ints
    hearer: Ints
    mutual: Bools
    first: Bools


@dataclass(frozen=True, slots=True)
class Holders:
    """Who holds each next hop: the hop's number, the foot (of a device's interface), the place that forwards there
    (-1: it does not forward), and the host (its number; -1: a device)."""

    hop: Ints
    foot: Ints
    place: Ints
    host: Ints


@dataclass(frozen=True, slots=True)
class Entries:
    """Every route in use, of devices and of bunches: whose it is, the first and last piece of the address space that
    it covers, its prefix length, the foot it leaves by (a bunch's own foot is not written here), and the number of
    its next hop. `written` has each as the device knows it."""

    place: Ints
    first: Ints
    last: Ints
    length: Ints
    foot: Ints
    hop: Ints
    written: NDArray[np.object_]


@dataclass(frozen=True, slots=True)
class Sign:
    """What a host's addresses look like from outside: the piece that each lies in, the one that is probed first; and
    for each prefix, in the order written, which address speaks to it, and its pieces."""

    pieces: tuple[int, ...]
    speaks: tuple[tuple[int, int, int], ...]


@dataclass(frozen=True, slots=True)
class Family:
    """What one address family adds. `cuts` are where the pieces of the address space start; `rows` are the routing
    devices' tables; `sign` gives each bunch the number of its sign (-1: it has no address of the family). `deaf` are
    a place and a piece: a broadcast address that it forwards nothing to. `twice` are hosts with an address that
    somebody else holds too: (host, the other host or -1, the other's foot)."""

    version: int
    cuts: tuple[int, ...]
    rows: Mapping[tuple[str, str], int]
    sign: Ints
    signs: tuple[Sign, ...]
    hops: Mapping[int, int]
    holders: Holders
    entries: Entries
    deaf: Ints
    twice: tuple[tuple[int, int, int], ...]


@dataclass(frozen=True, slots=True)
class Fabric:
    """A network in arrays. `bunch` gives each host its bunch, `likeness` each bunch one of its hosts, `stands` its
    foot and `device` its device; `down` says that a host has no carrier; `up` that a device's interface is up."""

    knowledge: Knowledge
    hosts: tuple[str, ...]
    device_number: Mapping[str, int]
    feet: Mapping[Foot, int]
    up: Bools
    joints: Joints
    bunch: Ints
    down: Bools
    likeness: tuple[str, ...]
    stands: Ints
    device: Ints
    families: Mapping[int, Family]
