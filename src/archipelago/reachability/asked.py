"""Expectations of devices, of single interfaces and of gateways, which the arrays do not hold: the simulation is asked,
once for each kind of host."""

from __future__ import annotations

from collections.abc import Iterator, Sequence, Set
from functools import cached_property
from typing import NamedTuple

import numpy as np

from archipelago.addressing.values import Address, is_link_local
from archipelago.diagnosis.faults.hosts import gateway_missing
from archipelago.diagnosis.gateway_place import without_gateway
from archipelago.diagnosis.outvoted import gateway_meant
from archipelago.knowledge.devices import Node
from archipelago.knowledge.ends import common_families, source_at
from archipelago.knowledge.known import Knowledge
from archipelago.model.ends import GATEWAY, OUTSIDE
from archipelago.model.expectation import Expectation
from archipelago.model.filters import ECHO, Probe
from archipelago.model.finding import Finding
from archipelago.reachability.arrays import Ints
from archipelago.reachability.few import few_hosts
from archipelago.reachability.matrix import Matrix
from archipelago.reachability.parties import Parties
from archipelago.reachability.verdict import MOST_NAMED, Verdict
from archipelago.simulation.reach import reach


class Asked(NamedTuple):
    """One family of one pair, asked: whether it is reached, and if not, by which mistake."""

    reached: bool
    finding: Finding | None


class _Unit(NamedTuple):
    """Who fares alike: one of them, and the names of all."""

    example: Node | Address
    names: tuple[str, ...]


class Asking:
    """Puts questions about single pairs to the simulation, in a network with few of the hosts.

    Args:
        parties: the ends of expectations, and the network.
        answers: all pairs of its hosts.
        family: 4 or 6; by default every family that both ends have.
        probes: what is sent.
    """

    def __init__(
        self, parties: Parties, answers: Matrix, family: int | None, probes: Sequence[Probe] = (ECHO,)
    ) -> None:
        self.parties = parties
        self.answers = answers
        self.family = family
        self.probes = probes

    def few(self, names: Set[str] = frozenset()) -> Knowledge:
        """The network with one host of each kind, and with those of the names."""
        kinds = np.unique(self.answers.kind, return_index=True)[1].tolist()
        examples = {self.answers.hosts[place] for place in kinds}
        return few_hosts(self.parties.index, examples.union(names, self.parties.outside))

    @cached_property
    def _examples(self) -> Knowledge:
        return self.few()

    def pair(self, source: Node, target: Node | Address, within: Knowledge | None = None) -> list[Asked]:
        """One pair, in every family that both ends have; where they share none, that is the answer."""
        index = self.parties.index
        families: list[int | None] = [self.family] if self.family else [*common_families(source, target)] or [None]
        answers = [
            reach(index, source, target, probes=1, family=version, within=within or self._examples, probe=probe)
            for version in families
            for probe in self.probes
        ]
        return [Asked(answer.reached, answer.finding) for answer in answers]

    def verdict(self, expectation: Expectation) -> Verdict:
        """An expectation that has a device, an address or everybody's gateway as one of its ends."""
        senders = self._units(expectation.source, True)
        receivers = self._units(expectation.target, False)
        pairs, wrong, mistake = 0, list[tuple[str, str]](), None
        broken = 0
        for names, answers in self._pairs(expectation, senders, receivers):
            pairs += len(names)
            reached = [asked.reached for asked in answers]
            if (bool(reached) and all(reached)) if expectation.reached else not any(reached):
                continue
            broken += len(names)
            wrong += names[: MOST_NAMED - len(wrong)]
            found = (asked.finding for asked in answers if asked.finding is not None)
            mistake = mistake or (next(found, None) if expectation.reached else None)
        return Verdict(expectation, pairs, broken, tuple(wrong), mistake)

    def _pairs(
        self, expectation: Expectation, senders: Sequence[_Unit], receivers: Sequence[_Unit]
    ) -> Iterator[tuple[list[tuple[str, str]], list[Asked]]]:
        """The names of pairs that fare alike, and what was answered about one of them."""
        if self.parties.is_gateway(expectation.target):
            for sender in senders:
                if isinstance(sender.example, Node):
                    yield [(name, GATEWAY) for name in sender.names], self._gateways(sender.example)
            return
        if OUTSIDE in (expectation.source, expectation.target):
            yield from self._outside(expectation, senders, receivers)
            return
        for sender in senders:
            for receiver in receivers:
                names = [(a, b) for a in sender.names for b in receiver.names if a != b]
                if names and isinstance(sender.example, Node):
                    yield names, self.pair(sender.example, receiver.example)

    def _outside(
        self, expectation: Expectation, senders: Sequence[_Unit], receivers: Sequence[_Unit]
    ) -> Iterator[tuple[list[tuple[str, str]], list[Asked]]]:
        """Whoever gets out, or in, by any of the ports that lead outside, does."""
        outwards = expectation.target == OUTSIDE
        inner, outer = (senders, receivers) if outwards else (receivers, senders)
        for unit in inner:
            ways: list[list[Asked]] = []
            for beyond in outer:
                source, target = (unit.example, beyond.example) if outwards else (beyond.example, unit.example)
                if isinstance(source, Node):
                    ways.append(self.pair(source, target))
            best = next((way for way in ways if all(asked.reached for asked in way)), ways[0] if ways else [])
            yield [(name, OUTSIDE) if outwards else (OUTSIDE, name) for name in unit.names], best

    def _units(self, end: str, sends: bool) -> list[_Unit]:
        """Who an end stands for: its hosts by kind, or the one device or address. Who sends from an address holds
        it."""
        if self.parties.is_gateway(end):
            return []
        party = self.parties.of(end)
        if isinstance(party, np.ndarray):
            return self._by_kind(party)
        sender = source_at(self.parties.index, party) if sends and isinstance(party, Address) else party
        return [_Unit(sender, (end,))] if sender is not None else []

    def _by_kind(self, places: Ints) -> list[_Unit]:
        hosts, kind = self.answers.hosts, self.answers.kind
        nodes = self.parties.index.knowledge.nodes
        members: dict[int, list[str]] = {}
        for place in places.tolist():
            members.setdefault(int(kind[place]), []).append(hosts[place])
        first = dict(zip(*np.unique(kind, return_index=True), strict=True))
        return [_Unit(nodes[hosts[int(first[number])]], tuple(names)) for number, names in members.items()]

    def _gateways(self, source: Node) -> list[Asked]:
        """A source's own gateway, in every family that it has an address of."""
        index = self.parties.index
        asked: list[Asked] = []
        own = [address for nic in source.nics.values() for address in nic.addresses if not is_link_local(address)]
        for version in [self.family] if self.family else sorted({address.version for address in own}):
            hop = next((hop.address for hop in source.written.gateway if hop.address.version == version), None)
            if hop is not None and is_link_local(hop):  # asked by an address that is valid beyond its link
                holder = index.neighbour((source.name, next(iter(source.nics))), hop)
                held = [a for nic in (holder.nic,) for a in nic.addresses] if holder is not None else []
                hop = next((a.address for a in held if a.version == version and not is_link_local(a)), hop)
            if hop is not None:
                asked += self.pair(source, hop)
                continue
            address = next((address for address in own if address.version == version), None)
            home = index.home_of(source, address) if address is not None else None
            if home is not None:
                meant = gateway_meant(index, source, address) if address is not None else home
                asked.append(Asked(False, gateway_missing(source, version, meant)))
            elif address is not None:
                asked.append(Asked(False, without_gateway(index, source, address)))
        return asked
