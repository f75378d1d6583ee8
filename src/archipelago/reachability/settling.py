"""What the arrays cannot say: where several hold an address, and where packets are translated on their way."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import cached_property

import numpy as np

from archipelago.addressing.values import Address
from archipelago.diagnosis.stop import Direction
from archipelago.knowledge.conversing import Conversing
from archipelago.knowledge.devices import Node
from archipelago.knowledge.ends import common_families, common_family, first_address
from archipelago.knowledge.filtering import judge
from archipelago.knowledge.forwarding import source_towards
from archipelago.knowledge.header import probe_header
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge
from archipelago.model.filters import Filter
from archipelago.model.finding import Finding
from archipelago.progress import steps
from archipelago.reachability.arrays import Ints, Simulated
from archipelago.reachability.families import Decided
from archipelago.reachability.few import few_hosts
from archipelago.simulation.reach import ReachResult, reach, reaches

MOST_ASKED = 2_000
"""How often at most the simulation decides about an address that several hold."""

Settled = dict[tuple[int, int], tuple[Finding | None, Direction]]
"""What the simulation said of two kinds: the mistake and the direction, no mistake where they reach each other."""


def settle(index: NetworkIndex, answer: Decided, *, causes: bool = True, most: int = MOST_ASKED) -> Settled:
    """Decide what the arrays cannot, and enter it into their answer: where packets are translated on their way, by
    carrying one from station to station; where several hold an address, by the simulation, which is asked for
    `causes`, too, and `most` times; pairs that are left count as not reached. Where no causes are wanted it is asked
    once for all that the filters of the network treat alike."""
    sources, targets = np.nonzero(answer.doubtful | answer.doubtful_in_ipv6)
    settled: Settled = {}
    if not len(sources):
        return settled
    answer.own()
    answer.between[answer.doubtful] = answer.every[answer.doubtful | answer.doubtful_in_ipv6] = False
    settling = _Settling(index, answer, most)
    for i, j in steps(list(zip(sources.tolist(), targets.tolist(), strict=True)), "following single packets"):
        ends = settling.ends(i, j)
        if ends is None:
            continue
        reached = settling.carried(ends) if answer.translated[i, j] else None
        if not answer.doubtful[i, j]:
            reached = bool(answer.between[i, j])  # only IPv6 is in doubt
        elif reached:
            settled[i, j] = (None, "out")
        elif (reached is None or causes) and settling.asked < most:
            if causes:
                result = settling.explained(ends)
                reached = result.reached
                settled[i, j] = (result.finding, result.direction or "out")
            else:
                reached = settling.simulated(ends)
        if reached is None:
            continue
        in_both = [reached, *settling.in_ipv6(i, j, ends)]
        answer.every[i, j], answer.some[i, j], answer.between[i, j] = all(in_both), any(in_both), reached
    return settled


class _Settling:
    """Decides single pairs."""

    def __init__(self, index: NetworkIndex, answer: Decided, most: int) -> None:
        self._index = index
        self._most = most
        self._answer = answer
        self._members = members_of(answer)
        self._conversing = Conversing(index.carrier, answer.filters)
        self.asked = 0

    def ends(self, i: int, j: int) -> tuple[Node, Node] | None:
        """Two different hosts of two kinds; None where there are none."""
        if i == j and len(self._members[i]) == 1:
            return None
        source, target = int(self._members[i][0]), int(self._members[j][int(i == j)])
        nodes, hosts = self._index.knowledge.nodes, self._answer.arrays.hosts
        return nodes[hosts[source]], nodes[hosts[target]]

    def carried(self, ends: tuple[Node, Node]) -> bool | None:
        """Whether one reaches the other, from station to station; None where that is not to be told so."""
        if self._answer.probe.size:  # what does not fit is split, or is told: that is for the simulation
            return None
        target = first_address(ends[1], 4)
        source = source_towards(self._index.knowledge.state(ends[0].name), target) if target is not None else None
        if source is None or target is None:
            return None
        return self._conversing.answered((ends[0].name, ends[1].name), (source, target), self._answer.probe)

    def explained(self, ends: tuple[Node, Node]) -> ReachResult:
        """What the simulation says, and why."""
        self.asked += 1
        family, probe = self._answer.family, self._answer.probe
        return reach(self._index, *ends, probes=1, family=family, within=self._within, probe=probe)

    def simulated(self, ends: tuple[Node, Node], family: int | None = None) -> bool:
        """Whether they reach each other, as the simulation says; in one family, else in the first that both have."""
        self.asked += 1
        version = family or self._answer.family or common_family(*ends)
        if version is None:
            return False
        probe, known = self._answer.probe, self._answer.arrays.simulated
        said = known.setdefault((ends[0].name, ends[1].name, version, probe.size), [])
        for before in said:
            if self._let_through(before.filters, ends, version) == before.let_through:
                return before.answered
        result = reaches(self._index, *ends, family=version, within=self._within, probe=probe)
        filters = self._filters(result.crossed)
        said.append(Simulated(filters, self._let_through(filters, ends, version), result.answered))
        return result.answered

    def _filters(self, crossed: Iterable[tuple[str, str]]) -> tuple[Filter, ...]:
        """The filters of some interfaces."""
        nodes = self._index.knowledge.nodes
        nics = [nic for node, name in crossed if (nic := nodes[node].nics.get(name)) is not None]
        found = {id(one): one for nic in nics for one in (nic.filter_in, nic.filter_out) if one is not None}
        return tuple(found.values())

    def _let_through(self, filters: Sequence[Filter], ends: tuple[Node, Node], version: int) -> tuple[bool, ...]:
        """Which of some filters let a probe pass, and which its answer, by whatever address it is translated to."""
        if not filters:
            return ()
        translated = self._index.once(_translated)
        target = first_address(ends[1], version)
        source = source_towards(self._index.knowledge.state(ends[0].name), target) if target is not None else None
        probe, others = self._answer.probe, [one for one in translated if one.version == version]
        sources, targets = ([one, *others] if one is not None else others for one in (source, target))
        there = [probe_header(one, other, probe) for one in sources for other in targets[:1]]
        again = [probe_header(other, one, probe, answers=True) for one in sources for other in targets]
        return tuple([judge(one, header).passes for one in filters for header in (*there, *again)])

    def in_ipv6(self, i: int, j: int, ends: tuple[Node, Node]) -> list[bool]:
        """Whether they reach each other in IPv6, too; nothing where only one family is looked at."""
        answer = self._answer
        if answer.family is not None or set(common_families(*ends)) != {4, 6}:
            return []
        asked = bool(answer.probe.size) or (answer.doubtful_in_ipv6[i, j] and self.asked < self._most)
        return [self.simulated(ends, 6)] if asked else answer.in_ipv6(i, j)

    @cached_property
    def _within(self) -> Knowledge:
        """The network with two hosts of each kind."""
        hosts = self._answer.arrays.hosts
        return few_hosts(self._index, {hosts[place] for kind in self._members for place in kind[:2].tolist()})


def _translated(index: NetworkIndex) -> tuple[Address, ...]:
    """The addresses that sources are translated to."""
    nics = [nic for node in index.knowledge.devices.values() for nic in node.nics.values() if nic.source_nat]
    return tuple(dict.fromkeys(nic.translates_to for nic in nics if nic.translates_to is not None))


def members_of(answer: Decided) -> list[Ints]:
    """The hosts of each kind."""
    order = np.argsort(answer.kind, kind="stable")
    ends = np.cumsum(np.bincount(answer.kind, minlength=len(answer.between)))
    return np.split(order, ends[:-1])
