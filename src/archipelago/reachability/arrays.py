"""What a network is in arrays: plain data.

An *endpoint* is a place that frames reach: a VLAN on a device, or an interface. A *host class* is hosts of one device
that are plugged in and set up alike, so far as any table of the network can tell their addresses apart. A *place* is
something with a routing table: a routing device (once for each of its `vrf`), then each host class. A *piece* is a part
of the address space that no table, mask or next hop of the network tells apart.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from archipelago.knowledge.known import Knowledge
from archipelago.knowledge.topology import Layer2Endpoint, LinkName
from archipelago.model.filters import Filter

Ints = NDArray[np.int64]
Bools = NDArray[np.bool_]
Codes = NDArray[Any]
"""Numbers of states and outcomes: 32 bits wide where that is enough, else 64."""
NO_ENDPOINT = -1
"""The endpoint of a host whose port takes in no untagged frame."""
CONNECTED, CANNOT_SEND = -1, -2
"""In place of a next hop: the target itself is asked for; the interface cannot send."""


@dataclass(frozen=True, slots=True)
class Adjacencies:
    """Which endpoints frames pass between: from `endpoint` to `target`, sent by one device and heard by another
    (numbers), by the sender's `link` (its number); `mutual` where they pass back as well, and of the two of a mutual
    pair one is `first`."""

    endpoint: Ints
    target: Ints
    sender: Ints
    receiver: Ints
    link: Ints
    mutual: Bools
    first: Bools


@dataclass(frozen=True, slots=True)
class Holders:
    """Who holds each next hop: the hop's number, the endpoint (of a device's interface), the place that forwards there
    (-1: it does not forward), and the host (its number; -1: a device)."""

    hop: Ints
    endpoint: Ints
    place: Ints
    host: Ints


@dataclass(frozen=True, slots=True)
class Entries:
    """Every route in use, of devices and of host classes: whose it is, the first and last piece of the address space
    that it covers, its prefix length, the endpoint it leaves by (a host class's own is not written here), and the
    number of its next hop. `written` has each as the device knows it."""

    place: Ints
    first: Ints
    last: Ints
    length: Ints
    endpoint: Ints
    hop: Ints
    written: NDArray[np.object_]


@dataclass(frozen=True, slots=True)
class AddressProfile:
    """What a host's addresses look like from outside: the piece that each lies in, the one that is probed first; and
    for each prefix, in the order written, which address speaks to it, and its pieces."""

    pieces: tuple[int, ...]
    speaks: tuple[tuple[int, int, int], ...]


@dataclass(frozen=True, slots=True)
class Family:
    """What one address family adds. `cuts` are where the pieces of the address space start; `rows` are the routing
    devices' tables; `profile` gives each host class the number of its profile (-1: it has no address of the family).
    `dropped_broadcasts` are a place and a piece, a broadcast address that it forwards nothing to; `own_addresses` a
    place and a piece that it holds itself. `duplicate_addresses` are hosts with an address that somebody else holds
    too: (host, the other host or -1, the other's endpoint)."""

    version: int
    cuts: tuple[int, ...]
    rows: Mapping[tuple[str, str], int]
    profile: Ints
    profiles: tuple[AddressProfile, ...]
    hops: Mapping[int, int]
    holders: Holders
    entries: Entries
    dropped_broadcasts: Ints
    own_addresses: Ints
    duplicate_addresses: tuple[tuple[int, int, int], ...]

    def piece_of(self, value: int) -> int:
        """The piece of the address space that an address lies in."""
        return bisect_right(self.cuts, value) - 1


class Simulated(NamedTuple):
    """A probe that the simulation sent: the filters that it came to, which of them let it pass and which its answer,
    and whether it was answered. One that these treat alike goes the same way."""

    filters: tuple[Filter, ...]
    let_through: tuple[bool, ...]
    answered: bool


@dataclass(frozen=True, slots=True)
class NetworkArrays:
    """A network in arrays. `host_class` gives each host its class; each class has one host as its `example`, an
    `endpoint` that it is joined to and a `device`; `links` numbers the attachments of devices ("": what is inside one),
    more of them as they turn up; `down` says that a host has no carrier; `up` that an endpoint's interface is up.
    `simulated` is what the simulation said of each two hosts, by family and size, added to."""

    knowledge: Knowledge
    hosts: tuple[str, ...]
    device_number: Mapping[str, int]
    endpoints: Mapping[Layer2Endpoint, int]
    links: dict[LinkName, int]
    up: Bools
    adjacencies: Adjacencies
    host_class: Ints
    down: Bools
    examples: tuple[str, ...]
    endpoint: Ints
    device: Ints
    families: Mapping[int, Family]
    simulated: dict[tuple[str, str, int, int], list[Simulated]] = field(
        init=False, default_factory=dict, compare=False, repr=False
    )
