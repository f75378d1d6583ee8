"""Lines of a policy that decide nothing."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from archipelago.model.network import Network
from archipelago.reachability.arrays import NetworkArrays
from archipelago.reachability.matrix import unfiltered
from archipelago.reachability.policy import WITHIN, Intent, probes_of


@dataclass(frozen=True, slots=True)
class IdleLine:
    """A line (its place) that decides nothing although there are hosts that it names: the places of the earlier lines
    that decide for them, whether one of these says the opposite, and whether some of its hosts share a VLAN."""

    line: int
    earlier: tuple[int, ...]
    contradicted: bool
    within: bool


def idle_lines(network: Network, intent: Intent, arrays: NetworkArrays) -> Iterator[IdleLine]:
    """The lines that decide nothing for any pair of hosts and any kind of traffic, in either family."""
    rules = intent.policy.rules
    left = dict.fromkeys(range(len(rules)))
    deciding: dict[int, set[int]] = {number: set() for number in left}
    for version in arrays.families:
        # Hosts that the policy takes alike: how they are plugged in plays no part.
        answer = unfiltered(arrays, version)
        first, sort = intent.sorts(answer, version)
        several = np.bincount(sort) > 1
        for probe in probes_of(network):
            _, line = intent.decides(first, version, probe)
            there = ~np.eye(len(first), dtype=np.bool_) | several[:, None]
            for number in np.unique(line[there]).tolist():
                left.pop(number, None)
            for number in left:
                if rules[number].speaks_of(probe):
                    ends = (rules[number].source, rules[number].target)
                    both = np.ix_(*(intent.members(end, version)[first] for end in ends))
                    deciding[number] |= set(np.unique(line[both][there[both]]).tolist())
    for number in left:
        earlier = sorted(other for other in deciding[number] if other >= 0)
        if deciding[number]:
            opposite = any(bool(rules[other].may) != bool(rules[number].may) for other in earlier)
            yield IdleLine(number, tuple(earlier), opposite, WITHIN in deciding[number])
