"""What the arrays cannot follow: packets for an address that several hold, or that is translated on the way. The
simulation walks one of each, and its way is what is loaded."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator
from functools import cached_property
from itertools import product
from typing import NamedTuple

import numpy as np

from archipelago.addressing.values import Address
from archipelago.knowledge.devices import Node
from archipelago.knowledge.ends import source_at
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge
from archipelago.load.parties import Flows, Groups, Rates, Stream
from archipelago.reachability.arrays import Ints, NetworkArrays
from archipelago.reachability.families import Decided
from archipelago.reachability.few import few_hosts
from archipelago.reachability.settling import MOST_ASKED
from archipelago.simulation.reach import reach
from archipelago.simulation.steps import Step


class Way(NamedTuple):
    """A way that was walked for some `pairs`: the groups of hosts at its ends (None: a device), and its steps."""

    source: int | None
    target: int | None
    pairs: int
    reached: bool
    out: tuple[Step, ...]
    back: tuple[Step, ...]


class Walked:
    """Loads links with what the simulation walks.

    Args:
        arrays: the network.
        groups: its hosts.
        reverse: for each link the one by which frames come back; -1 where there is none.
        loads: what leaves by each link, and what of it had come in by it before; both are added to.
    """

    def __init__(self, arrays: NetworkArrays, groups: Groups, reverse: Ints, loads: tuple[Rates, Rates]) -> None:
        self._arrays = arrays
        self._groups = groups
        self._reverse = reverse
        self._leaves, self._returns = loads
        self._asked = 0
        self.uncounted = 0

    def take(self, decided: Decided, flows: Flows, stream: Stream) -> None:
        """Load the links with flows of a stream, there and back."""
        groups = self._groups
        example, other = self._examples
        for source, target, rate in zip(flows.source.tolist(), flows.target.tolist(), flows.rate.tolist(), strict=True):
            senders, receivers = (np.flatnonzero(groups.party == party) for party in (source, target))
            own = source == target
            pairs = groups.size_of[source] * (groups.size_of[target] - own)
            for sender in senders.tolist():
                for receiver in receivers.tolist():
                    again = own and sender == receiver
                    count = groups.size[sender] * (groups.size[receiver] - again)
                    ends = int(example[sender]), int((other if again else example)[receiver])
                    if count:
                        self._walk(decided, ends, (rate * count / pairs, stream.answers))

    @cached_property
    def _examples(self) -> tuple[Ints, Ints]:
        """Two hosts of each group; -1 where there is none."""
        of = self._groups.of
        order = np.argsort(of, kind="stable")
        size = self._groups.size
        first = np.cumsum(size) - size
        return order[first], np.where(size > 1, order[np.minimum(first + 1, len(order) - 1)], -1)

    @cached_property
    def _index(self) -> NetworkIndex:
        return NetworkIndex(self._arrays.knowledge)

    @cached_property
    def _within(self) -> Knowledge:
        """The network with few of its hosts."""
        named = np.unique(np.concatenate(self._examples)).tolist()
        return few_hosts(self._index, {self._arrays.hosts[place] for place in named if place >= 0})

    def ways(self, stream: Stream) -> list[Way]:
        """The ways of a stream from or to a device: one for each group of hosts at its other end."""
        return list(self._ways(stream))

    def _ways(self, stream: Stream) -> Iterator[Way]:
        sources = self._ends(stream.source, stream.sender)
        targets = self._ends(stream.target, stream.receiver)
        for (source, sender), (target, receiver) in product(sources, targets):
            pairs = math.prod(int(self._groups.size[group]) for group in (source, target) if group is not None)
            node = source_at(self._index, sender) if isinstance(sender, Address) else sender
            if node is None or self._asked >= MOST_ASKED:
                self.uncounted += node is not None
                yield Way(source, target, pairs, reached=False, out=(), back=())
                continue
            self._asked += 1
            answer = reach(self._index, node, receiver, probes=1, within=self._within, probe=stream.probe)
            yield Way(source, target, pairs, answer.reached, tuple(answer.out), tuple(answer.back))

    def _ends(self, places: Ints, single: Node | Address | None) -> list[tuple[int | None, Node | Address]]:
        """Who is at one end of a stream: the device or the address, or a host of each group of some hosts."""
        if single is not None:
            return [(None, single)]
        nodes, hosts = self._index.knowledge.nodes, self._arrays.hosts
        groups = np.unique(self._groups.of[places]).tolist()
        return [(group, nodes[hosts[int(self._examples[0][group])]]) for group in groups]

    def load(self, way: Way, rate: float, answers: float) -> None:
        """Load the links of a way, there and back."""
        for steps, load in ((way.out, rate), (way.back, rate * answers)):
            self._load(steps, load)

    def _load(self, steps: Iterable[Step], load: float) -> None:
        crossed: set[int] = set()
        for link in links_of(self._index.knowledge, steps):
            number = self._arrays.links.get(link)
            if number is not None:
                crossed.add(number)
                self._leaves[number] += load
                self._returns[number] += load * (int(self._reverse[number]) in crossed)

    def _walk(self, decided: Decided, ends: tuple[int, int], rates: tuple[float, float]) -> None:
        """Ask for one pair, and load the links of its way."""
        if self._asked >= MOST_ASKED:
            self.uncounted += 1
            return
        self._asked += 1
        index, nodes = self._index, self._index.knowledge.nodes
        source, target = (nodes[self._arrays.hosts[place]] for place in ends)
        answer = reach(index, source, target, probes=1, family=decided.family, within=self._within, probe=decided.probe)
        rate, answers = rates
        for steps, load in ((answer.out, rate), (answer.back, rate * answers)):
            self._load(steps, load)


def links_of(knowledge: Knowledge, steps: Iterable[Step]) -> Iterator[tuple[str, str]]:
    """The ports and aggregates of devices that a packet leaves by on its way: those that face where it comes in, since
    a layer 3 switch says only from which of its interfaces it sends."""
    for step in steps:
        if step.ingress is None:
            continue
        node = knowledge.nodes[step.device]
        name = step.ingress if step.ingress in node.attachments else node.nics[step.ingress].attachment
        for end in node.attachments[name].members if name is not None else ():
            peer = knowledge.links[end].peer
            if peer is not None and knowledge.links[end].carrier:
                if peer.device in knowledge.devices:
                    yield peer.device, knowledge.attachment_at(peer).name
                break
