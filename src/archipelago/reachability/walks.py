"""Many packets at once, carried station by station: a way is found once for each destination, whatever is sent over
it, and each filter on it is asked once for all kinds of traffic and for all addresses that its lines do not tell
apart."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Collection, Iterator, Sequence
from typing import NamedTuple

import numpy as np

from archipelago.addressing.values import Address
from archipelago.knowledge.delivery import Step
from archipelago.knowledge.filtering import address_pieces
from archipelago.knowledge.forwarding import translated_source
from archipelago.knowledge.header import FIRST_TTL
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.filters import Filter, Probe
from archipelago.reachability.arrays import Bools
from archipelago.reachability.filter_lines import PASSES, FilterLines


class _Walk(NamedTuple):
    """The stations of a way, each with where the packet came in and went out, and where it arrives, by which
    interface; None where it ends before. Where several answer for a next hop on it, it is `contested`."""

    stations: tuple[tuple[str, str | None, str], ...]
    arrived: tuple[str, str] | None
    contested: bool


class _Crossing(NamedTuple):
    """A filter that the packet of a question comes to, by their numbers, and the packet's addresses."""

    question: int
    filter: int
    source: int
    destination: int


class Question(NamedTuple):
    """Who asks, from which address and by which routing table (`vrf`); who is asked, at which address. Where no
    `target` is named, whoever answers for the address is asked."""

    source: str
    own: Address
    target: str
    address: Address
    vrf: str = ""


class Outcomes(NamedTuple):
    """For each question (a row) and each kind of traffic (a column) whether it is reached, and whether a filter keeps
    it from that; for each question whether its ways are not to be followed here (`unclear`): an address is translated,
    or several answer for a next hop."""

    reached: Bools
    cut: Bools
    unclear: Bools


class Walks:
    """Carries conversations of some kinds between stations of one network.

    Args:
        index: the network.
        version: the family, 4 or 6.
        probes: the kinds of traffic.
    """

    def __init__(self, index: NetworkIndex, version: int, probes: Sequence[Probe]) -> None:
        self._index = index
        self._carrier = index.carrier
        self._version = version
        self._probes = probes
        self._steps: dict[tuple[str, str | None, str, Address], Step] = {}
        self._numbers: dict[int, int] = {}
        self._filters: list[Filter] = []

    def ask(self, questions: Sequence[Question]) -> Outcomes:
        """Whether stations, speaking from an address, reach others by theirs and are answered."""
        count = len(questions)
        unclear = np.zeros(count, dtype=np.bool_)
        arrived = np.zeros(count, dtype=np.bool_)
        answered = np.zeros(count, dtype=np.bool_)
        legs: tuple[list[_Crossing], list[_Crossing]] = ([], [])
        for number, (source, own, target, address, vrf) in enumerate(questions):
            out = self._walk(source, vrf, address)
            legs[0].extend(self._crossings(number, out, own, address))
            unclear[number] = out.contested or self._translates(out, own)
            if out.arrived is None or unclear[number]:
                continue
            arrived[number] = True
            node, interface = out.arrived
            back = self._walk(node, self._index.knowledge.nodes[node].nics[interface].vrf, own)
            knowing = frozenset(station for station, _, _ in out.stations)
            legs[1].extend(self._crossings(number, back, address, own, knowing))
            unclear[number] = back.contested
            answered[number] = node == (target or node) and back.arrived is not None and back.arrived[0] == source
        named = (
            prefixes
            for filter_ in self._filters
            for rule in filter_.rules
            for prefixes in (rule.source, rule.destination)
        )
        pieces = address_pieces(named, self._version)
        lines = FilterLines(self._version, pieces, self._filters)
        there, again = (
            self._let_through(lines, pieces, leg, count, answers)
            for leg, answers in zip(legs, (False, True), strict=True)
        )
        there_too = there & arrived[:, None]
        return Outcomes(there_too & again & answered[:, None], ~there | (there_too & ~again), unclear)

    def _walk(self, start: str, vrf: str, destination: Address) -> _Walk:
        """The way of a packet, as if there were no filters."""
        at: str = start
        ingress: str | None = None
        stations: list[tuple[str, str | None, str]] = []
        contested = False
        for _ in range(FIRST_TTL):
            step = self._step(at, ingress, vrf if ingress is None else "", destination)
            stations.append((at, ingress, step.egress))
            contested |= step.contested
            if step.there is None:
                arrived = (at, step.arrives) if step.arrives else None
                return _Walk(tuple(stations), arrived, contested)
            at, ingress = step.there
        return _Walk(tuple(stations), None, contested)

    def _step(self, at: str, ingress: str | None, vrf: str, destination: Address) -> Step:
        key = at, ingress, vrf, destination
        step = self._steps.get(key)
        if step is None:
            step = self._steps[key] = self._carrier.step(at, ingress, destination, vrf)
        return step

    def _translates(self, walk: _Walk, source: Address) -> bool:
        nodes = self._index.knowledge.nodes
        forwarded = ((at, egress) for at, ingress, egress in walk.stations if ingress is not None and egress)
        return any(
            nodes[at].nics[egress].source_nat and translated_source(nodes[at].nics[egress], source) is not None
            for at, egress in forwarded
        )

    # Filters

    def _crossings(
        self, number: int, walk: _Walk, source: Address, destination: Address, knowing: Collection[str] = ()
    ) -> Iterator[_Crossing]:
        """The filters that a packet comes to; the one that it belongs to a known conversation for lets it pass."""
        nodes = self._index.knowledge.nodes
        for at, ingress, egress in walk.stations:
            if ingress is None:
                continue
            nics = nodes[at].nics
            for filter_ in (nics[ingress].filter_in, nics[egress].filter_out if egress else None):
                if filter_ is not None and not (filter_.stateful and at in knowing):
                    yield _Crossing(number, self._number(filter_), source.value, destination.value)

    def _number(self, filter_: Filter) -> int:
        number = self._numbers.setdefault(id(filter_), len(self._filters))
        if number == len(self._filters):
            self._filters.append(filter_)
        return number

    def _let_through(
        self, lines: FilterLines, pieces: Sequence[int], leg: Sequence[_Crossing], count: int, answers: bool
    ) -> Bools:
        """For each question and kind whether no filter of a leg ends it."""
        passes = np.ones((count, len(self._probes)), dtype=np.bool_)
        by_filter: dict[int, list[_Crossing]] = {}
        for crossing in leg:
            by_filter.setdefault(crossing.filter, []).append(crossing)
        for number, crossings in by_filter.items():
            asked = np.array([one.question for one in crossings], dtype=np.int64)
            source, target = (
                np.array([bisect_right(pieces, value) - 1 for value in values], dtype=np.int64)
                for values in ([one.source for one in crossings], [one.destination for one in crossings])
            )
            for kind, probe in enumerate(self._probes):
                grid = lines.grid(number, lines.speaking(number, probe, answers))
                np.logical_and.at(passes[:, kind], asked, grid.judge(source, target) == PASSES)
        return passes
