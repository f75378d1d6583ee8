"""What a network's links carry: its demands, or a rule of thumb where it has none, carried and told link by link."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from archipelago.addressing.values import Address
from archipelago.errors import QueryError
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge, know
from archipelago.knowledge.outside import beyond, with_outside
from archipelago.knowledge.topology import far_end
from archipelago.load.carried import Carried, carry
from archipelago.load.parties import Senders, Stream, hosts_by_vlan
from archipelago.load.result import DemandLoad, LinkLoad, Load, rate_text
from archipelago.model.ends import OUTSIDE, find
from archipelago.model.filters import ECHO, Probe
from archipelago.model.network import Network
from archipelago.model.parts import End
from archipelago.reachability.arrays import NetworkArrays
from archipelago.reachability.build import build_arrays
from archipelago.reachability.families import Decided
from archipelago.reachability.settling import settle


@dataclass(frozen=True, slots=True)
class RuleOfThumb:
    """What hosts send where nobody wrote it down: `each` so many bits per second, `others` of it (a share) to hosts of
    other VLANs, `outside` of it outside, the rest within its VLAN; `answers` of it come back."""

    each: float = 2_000_000.0
    others: float = 0.5
    outside: float = 0.3
    answers: float = 0.5

    def __str__(self) -> str:
        return (
            f"every host sends {rate_text(self.each)}: {self.others:.0%} to other VLANs, {self.outside:.0%} outside, "
            f"the rest within its VLAN; {self.answers:.0%} of it comes back"
        )


class ByPair(NamedTuple):
    """One packet for each pair that is reached: how many these are, how often one is routed in all, and of each link
    how many cross it and its speed."""

    pairs: int
    routed: float
    crossed: tuple[tuple[float, int], ...]


class Loading:
    """A network and what its hosts send each other, as often as somebody breaks something in it.

    Args:
        network: the network.
        rule: what hosts send where the network has no demands, or where the rule is asked for.

    Raises:
        QueryError: there is no host in it.
    """

    def __init__(self, network: Network, rule: RuleOfThumb | None = None) -> None:
        self.plain = know(network)
        widened, outside = with_outside(self.plain, tuple(_out_there(self.plain)))
        knowledge = know(widened) if outside else self.plain
        self.arrays = build_arrays(knowledge)
        self.rule = rule if rule is not None else None if network.traffic else RuleOfThumb()
        self._senders = senders = Senders(knowledge, self.arrays.hosts, outside)
        if not network.hosts:
            raise QueryError("there is no host here, so nothing is sent")
        self.streams = list(map(senders.stream, network.traffic))
        if self.rule is not None:
            self.streams = list(_by_rule(self.arrays, senders, self.rule))
        self._upstream = frozenset(knowledge.network.devices).difference(network.devices)
        self.outside = frozenset(outside)
        self._before = self._carry(self.arrays, self.streams, None)

    def load(self) -> Load:
        """What the links carry."""
        return self._told(self.arrays, self._before)

    def between_vlans(self) -> ByPair:
        """What one packet for each pair of hosts in different VLANs that reach each other comes to."""
        rule = RuleOfThumb(each=1.0, others=1.0, outside=0.0, answers=0.0)
        streams = list(_by_rule(self.arrays, self._senders, rule))
        carried = self._carry(self.arrays, streams, [1.0] * len(streams))
        crossed = [(link.to_b + link.to_a, link.speed) for link in self._cables(self.arrays, carried)]
        crossed += [(link.to_b + link.to_a, link.speed) for link in self._host_ports(self.arrays, carried)]
        return ByPair(sum(one.reached for one in carried.demands), carried.routed, tuple(crossed))

    def without(self, arrays: NetworkArrays) -> Load:
        """What they carry in the network in another state, where every pair sends what it sends in this one."""
        return self._told(arrays, self._carry(arrays, self.streams, self._before.each))

    def _carry(self, arrays: NetworkArrays, streams: Sequence[Stream], each: Sequence[float] | None) -> Carried:
        probes = list(dict.fromkeys(stream.probe for stream in streams)) or [ECHO]
        first = Decided(arrays, None, probes)
        decided: dict[Probe, Decided] = {probe: first.for_probe(probe) for probe in probes[1:]}
        decided[probes[0]] = first
        if any(one.doubtful.any() for one in decided.values()):
            index = NetworkIndex(arrays.knowledge)
            for one in decided.values():
                settle(index, one, causes=False)
        return carry(arrays, decided, streams, each)

    def _told(self, arrays: NetworkArrays, carried: Carried) -> Load:
        links = sorted(self._cables(arrays, carried), key=lambda link: -link.share)
        own = sorted(self._host_ports(arrays, carried), key=lambda link: -link.share)
        assumed = str(self.rule) if self.rule is not None else ""
        demands = carried.demands if self.rule is None else tuple(_together(carried.demands))
        return Load(
            assumed,
            demands,
            tuple(links),
            tuple(own),
            broken=None,
            uncounted=carried.uncounted,
            network=self.plain.written,
        )

    def _cables(self, arrays: NetworkArrays, carried: Carried) -> Iterator[LinkLoad]:
        knowledge = arrays.knowledge
        leaves: dict[End, tuple[float, float]] = {}
        busy = np.flatnonzero(carried.leaves)
        names = list(arrays.links)
        for number in busy.tolist():
            device, part = names[number]
            attachment = knowledge.devices[device].attachments[part]
            far = far_end(knowledge.devices, attachment)
            for member in attachment.members:
                if far is not None and knowledge.links[member].peer == far.peer:
                    leaves[member] = float(carried.leaves[number]), float(carried.returns[number])
        nothing = (0.0, 0.0)
        for cable in knowledge.written.cables:
            a, b = cable.ends if cable.a.device not in self._upstream else (cable.b, cable.a)
            (to_b, to_b_again), (to_a, to_a_again) = leaves.get(a, nothing), leaves.get(b, nothing)
            beyond = OUTSIDE if b.device in self._upstream else str(b)
            loads = {"to_b": to_b, "to_a": to_a, "to_b_again": to_b_again, "to_a_again": to_a_again}
            yield LinkLoad(str(a), beyond, knowledge.links.speed(a), **loads)
        for place, name in enumerate(arrays.hosts):
            at = knowledge.network.hosts[name].at
            if name in self.outside and at.device not in self._upstream:
                rates = float(carried.received[place]), float(carried.sent[place])
                yield LinkLoad(str(at), name, knowledge.links.speed(at), *rates)

    def _host_ports(self, arrays: NetworkArrays, carried: Carried) -> Iterator[LinkLoad]:
        knowledge = arrays.knowledge
        rates = zip(arrays.hosts, carried.sent.tolist(), carried.received.tolist(), strict=True)
        for name, sent, received in rates:
            if name not in self.outside:
                at = knowledge.network.hosts[name].at
                yield LinkLoad(str(at), name, knowledge.links.speed(at), received, sent)


def _out_there(knowledge: Knowledge) -> Iterator[Address]:
    """The addresses outside that demands name."""
    network = knowledge.written
    ends = (find(word, network) for demand in network.traffic for word in (demand.source, demand.target))
    named = [end.address for end in ends if end is not None and end.address is not None]
    return iter(beyond(NetworkIndex(knowledge), named) if named else ())


def _by_rule(arrays: NetworkArrays, senders: Senders, rule: RuleOfThumb) -> Iterator[Stream]:
    """The streams that a rule of thumb makes of each VLAN."""
    every = np.arange(len(senders.hosts))
    for hosts in hosts_by_vlan(arrays, senders.outside):
        total = rule.each * len(hosts)
        others = np.concatenate((hosts, senders.outside))
        shares = (
            ("to other VLANs", rule.others, every if len(others) < len(every) else _NOBODY, others),
            ("outside", rule.outside, senders.outside, _NOBODY),
            ("within its VLAN", 1 - rule.others - rule.outside, hosts if len(hosts) > 1 else _NOBODY, _NOBODY),
        )
        for what, share, target, but in shares:
            if share > 0 and len(target):  # where there is nobody to send to, nothing is sent
                yield Stream(what, total * share, rule.answers, ECHO, source=hosts, target=target, but=but)


_NOBODY = np.array([], dtype=np.int64)


def _together(demands: Iterable[DemandLoad]) -> Iterator[DemandLoad]:
    """Demands of one name as one."""
    by_name: dict[str, list[DemandLoad]] = {}
    for demand in demands:
        by_name.setdefault(demand.name, []).append(demand)
    for name, same in by_name.items():
        pairs, reached = sum(one.pairs for one in same), sum(one.reached for one in same)
        yield DemandLoad(name, pairs, reached, sum(one.sent for one in same), sum(one.arrived for one in same))
