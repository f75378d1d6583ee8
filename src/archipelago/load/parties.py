"""Who sends and who is sent to: hosts in groups that fare alike, so that a million cost as much as a few kinds."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from archipelago.addressing.values import Address
from archipelago.diagnosis.places import plugged_vlan
from archipelago.knowledge.devices import Node
from archipelago.knowledge.known import Knowledge
from archipelago.model.demand import Demand
from archipelago.model.ends import OUTSIDE
from archipelago.model.filters import Probe
from archipelago.reachability.arrays import Bools, Ints, NetworkArrays
from archipelago.reachability.parties import Parties

Rates = NDArray[np.float64]
"""Bits per second."""


def summed(of: Ints, rate: Rates, size: int) -> Rates:
    """The sums of rates, by the number that each is of."""
    return np.bincount(of.reshape(-1), weights=rate, minlength=size).astype(np.float64)


@dataclass(frozen=True, slots=True)
class Stream:
    """One demand as hosts: the places of those who send and of those who are sent to (without those of `but`), and how
    much the answers are of it. A device, or an address that no host holds, is `sender` or `receiver` in their place."""

    name: str
    rate: float
    answers: float
    probe: Probe
    source: Ints
    target: Ints
    but: Ints
    sender: Node | Address | None = None
    receiver: Node | Address | None = None

    @property
    def of_hosts(self) -> bool:
        """Whether hosts send to hosts."""
        return self.sender is None and self.receiver is None


class Senders:
    """The hosts of a network by the ends of demands.

    Args:
        knowledge: the network, the outside in it where it says so.
        hosts: its hosts, in the order of the arrays.
        outside: those that stand for the outside.
    """

    def __init__(self, knowledge: Knowledge, hosts: tuple[str, ...], outside: tuple[str, ...]) -> None:
        self._parties = Parties(knowledge, hosts, outside)
        self.hosts = hosts

    def stream(self, demand: Demand) -> Stream:
        """A demand of the document."""
        source, target = self._parties.of(demand.source), self._parties.of(demand.target)
        return Stream(
            name=str(demand),
            rate=float(demand.rate),
            answers=float(demand.answers),
            probe=demand.probe,
            source=source if isinstance(source, np.ndarray) else _NOBODY,
            target=target if isinstance(target, np.ndarray) else _NOBODY,
            but=_NOBODY,
            sender=source if not isinstance(source, np.ndarray) else None,
            receiver=target if not isinstance(target, np.ndarray) else None,
        )

    @cached_property
    def outside(self) -> Ints:
        """The hosts that stand for the outside."""
        return self._parties.hosts(OUTSIDE)


def hosts_by_vlan(arrays: NetworkArrays, but: Ints) -> list[Ints]:
    """The hosts that are plugged into each VLAN, and those at each routed port: hosts of one class are into the same.

    Args:
        arrays: the network.
        but: hosts that are left out, as those that stand for the outside.
    """
    knowledge = arrays.knowledge
    hosts = knowledge.network.hosts
    places = [plugged_vlan(knowledge, hosts[name]) for name in arrays.examples]
    vlans = [-number if vlan is None else vlan for number, vlan in enumerate(places, 1)]
    of_host = np.array(vlans, dtype=np.int64)[arrays.host_class]
    of_host[but] = 0  # in none
    order = np.argsort(of_host, kind="stable")
    starts = np.flatnonzero(np.diff(of_host[order], prepend=-len(vlans) - 1))
    return [together for together in np.split(order, starts[1:]) if of_host[together[0]]]


_NOBODY = np.array([], dtype=np.int64)


@dataclass(frozen=True, slots=True)
class Groups:
    """Hosts in groups: those of one kind that are plugged into one device and are in the same ends of all streams.
    `of` gives each host its group; by group its `host_class`, `size`, and the `party` that it belongs to: what
    fares and is named alike, wherever it is plugged in. By party its `kind_of` and `size_of`."""

    of: Ints
    host_class: Ints
    size: Ints
    party: Ints
    kind_of: Ints
    size_of: Ints


def group_hosts(kind: Ints, host_class: Ints, streams: Sequence[Stream]) -> Groups:
    """Put hosts into groups.

    Args:
        kind: the kind of each host, as pairs are decided.
        host_class: its host class.
        streams: who sends to whom.
    """
    named = np.zeros(len(kind), dtype=np.uint64)
    seen: set[bytes] = set()
    for end in (end for stream in streams for end in (stream.source, stream.target, stream.but)):
        key = end.tobytes()
        if key not in seen and 0 < len(end) < len(kind):
            seen.add(key)
            named[end] += _mark(len(seen))
    party_key, party = np.unique(np.stack((kind.astype(np.uint64), named)), axis=1, return_inverse=True)
    party = party.reshape(-1)
    width = int(host_class.max(initial=0)) + 1
    _, first, of = np.unique(party * width + host_class, return_index=True, return_inverse=True)
    of = of.reshape(-1)
    return Groups(
        of=of,
        host_class=host_class[first],
        size=np.bincount(of, minlength=len(first)),
        party=party[first],
        kind_of=party_key[0].astype(np.int64),
        size_of=np.bincount(party, minlength=party_key.shape[1]),
    )


def _mark(number: int) -> np.uint64:
    """A number for each end, such that sums of different ends differ (the mixer of SplitMix64)."""
    mixed = (number * 0x9E3779B97F4A7C15) & 0xFFFF_FFFF_FFFF_FFFF
    for shift, factor in ((30, 0xBF58476D1CE4E5B9), (27, 0x94D049BB133111EB), (31, 1)):
        mixed = ((mixed ^ mixed >> shift) * factor) & 0xFFFF_FFFF_FFFF_FFFF
    return np.uint64(mixed)


@dataclass(frozen=True, slots=True)
class Ends:
    """A stream by party: who sends and how many of each, who is sent to and how many of each."""

    source: Ints
    senders: Ints
    target: Ints
    receivers: Ints

    def pairs(self) -> NDArray[np.float64]:
        """How many pairs of hosts there are of each two parties; nobody sends to himself."""
        counted = np.outer(self.senders, self.receivers).astype(np.float64)
        own = np.searchsorted(self.source, self.target)
        own = np.minimum(own, max(len(self.source) - 1, 0))
        both = np.flatnonzero(self.source[own] == self.target) if len(self.source) else own[:0]
        counted[own[both], both] -= np.minimum(self.senders[own[both]], self.receivers[both])
        return counted


def ends_of(groups: Groups, party_of: Ints, stream: Stream) -> Ends:
    """A stream's ends by party.

    Args:
        groups: the hosts.
        party_of: the party of each host.
        stream: the stream.
    """
    count = len(groups.size_of)
    source = np.bincount(party_of[stream.source], minlength=count)
    target = np.bincount(party_of[stream.target], minlength=count)
    if len(stream.but):
        target = target - np.bincount(party_of[stream.but], minlength=count)
    sends, hears = np.flatnonzero(source), np.flatnonzero(target)
    return Ends(sends, source[sends], hears, target[hears])


@dataclass(frozen=True, slots=True)
class Flows:
    """What parties send each other."""

    source: Ints
    target: Ints
    rate: Rates


def some(flows: Flows, which: Bools) -> Flows:
    """Those of some flows that are wanted."""
    return Flows(flows.source[which], flows.target[which], flows.rate[which])
