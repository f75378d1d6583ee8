"""Whether a policy is kept, VLAN by VLAN and kind of traffic by kind of traffic."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from archipelago.answer import Answer
from archipelago.errors import QueryError
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import know
from archipelago.knowledge.outside import with_outside
from archipelago.model.ends import OUTSIDE
from archipelago.model.filters import Probe
from archipelago.model.network import Network
from archipelago.model.problems import listed
from archipelago.reachability.arrays import Ints
from archipelago.reachability.build import build_arrays
from archipelago.reachability.management import named_devices, own_addresses
from archipelago.reachability.policy import Intent, compared, of_answers, probes_of

NOWHERE = "no VLAN"


MOST_NAMED = 6
"""So many devices are named in a line."""


@dataclass(frozen=True, slots=True, repr=False)
class Kept(Answer):
    """A policy and what the network does, by place: VLANs and the outside.

    `places` are the names, `sizes` how many hosts each has, `probes` the kinds of traffic that are told apart. The
    others count pairs of hosts, those of both families together. `pairs` (int64, of shape (places, places), from a row
    to a column) counts all; of shape (probes, places, places), `allowed` those that may, `wrongly_open` those that are
    let through although they may not, `for_answers` likewise, but to the ports that answers go to, which lines for
    answers cannot tell apart, `wrongly_closed` those that a filter ends although they may. `devices` says
    whether the policy speaks of devices' own addresses.
    """

    SHOWN = "policy.POLICY"

    places: tuple[str, ...]
    sizes: tuple[int, ...]
    probes: tuple[Probe, ...]
    pairs: Ints
    allowed: Ints
    wrongly_open: Ints
    for_answers: Ints
    wrongly_closed: Ints
    devices: str

    @property
    def holds(self) -> bool:
        """Whether nothing is wrongly open or closed."""
        return not self.wrongly_open.any() and not self.wrongly_closed.any()

    @property
    def headline(self) -> str:
        """The answer in one line."""
        return f"{self.verdict}; {self.devices}"

    @property
    def verdict(self) -> str:
        """Whether the policy is kept, without a word about devices."""
        kinds = f"{len(self.probes)} kind{'s' * (len(self.probes) != 1)} of traffic"
        if self.holds:
            aside = int(self.for_answers.any(axis=0).sum())
            more = f"; lines for answers let UDP pass for {aside:,} pair{'s' * (aside != 1)} of VLANs" if aside else ""
            return f"the policy is kept: every pair, {kinds}{more}"
        told = [
            f"wrongly {word} for {count:,} pair{'s' * (count != 1)} of VLANs"
            for word, cells in (("open", self.wrongly_open), ("closed", self.wrongly_closed))
            if (count := int(cells.any(axis=0).sum()))
        ]
        return f"the policy is not kept: {' and '.join(told)}, of {kinds}"

    def __bool__(self) -> bool:
        return self.holds


def devices_covered(network: Network) -> str:
    """Whether a policy speaks of devices' own addresses, in words."""
    named = named_devices(network)
    unnamed = [name for name in network.devices if name not in named]
    others = [name for name in unnamed if any(own_addresses(network, name, version) for version in (4, 6))]
    if not named:
        return "devices' own addresses are open to all: no line names a device"
    if others:
        return f"addresses of {listed(named, MOST_NAMED)} are open to whom a line names, those of other devices to all"
    return "devices' own addresses are open to whom a line names"


def kept(network: Network) -> Kept:
    """What a network's policy says beside what the network does.

    Raises:
        QueryError: the network has no policy, or something in it is called as the outside is.
    """
    if network.policy is None:
        raise QueryError("the network has no 'policy'; write who may talk to whom")
    wider, outside = with_outside(know(network))
    index = NetworkIndex(know(wider))
    arrays = build_arrays(index.knowledge)
    intent = Intent(index.knowledge, arrays.hosts, outside)
    names = {number: name for name, number in network.vlans.items()}
    where = [
        OUTSIDE if host in outside else names.get(vlan, NOWHERE if vlan < 0 else str(vlan))
        for host, vlan in zip(arrays.hosts, intent.vlan.tolist(), strict=True)
    ]
    order = {name: at for at, name in enumerate([*network.vlans, NOWHERE, OUTSIDE])}
    places = sorted(set(where), key=lambda name: order.get(name, len(network.vlans)))
    numbers = {name: at for at, name in enumerate(places)}
    place = np.array([numbers[name] for name in where], dtype=np.int64)
    probes = probes_of(network)
    shape = (len(places), len(places))
    pairs = np.zeros(shape, dtype=np.int64)
    counts = np.zeros((4, len(probes), *shape), dtype=np.int64)
    for version in arrays.families:
        for number, one in enumerate(compared(intent, arrays, version, probes)):
            at = np.ix_(place[one.first], place[one.first])
            if number == 0:
                np.add.at(pairs, at, one.pairs)
            nothing = np.zeros_like(one.open)
            open_ = (nothing, one.open) if of_answers(one.probe) else (one.open, nothing)
            for cells, which in zip(counts[:, number], (one.allowed, *open_, one.closed), strict=True):
                np.add.at(cells, at, one.pairs * which)
    sizes = tuple(np.bincount(place, minlength=len(places)).tolist())
    allowed, wrongly_open, for_answers, wrongly_closed = counts
    return Kept(
        places=tuple(places),
        sizes=sizes,
        probes=tuple(probes),
        pairs=pairs,
        allowed=allowed,
        wrongly_open=wrongly_open,
        for_answers=for_answers,
        wrongly_closed=wrongly_closed,
        devices=devices_covered(network),
    )
