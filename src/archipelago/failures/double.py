"""Every two parts of a network broken together, in pieces of work that can be done anywhere and in any order."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import lru_cache
from typing import NamedTuple

from archipelago.failures.breaking import Breaker
from archipelago.failures.few import with_few_hosts
from archipelago.failures.parts import Part, breakable
from archipelago.failures.result import DevicesLost, Outage, Outages
from archipelago.model.network import Network

PAIRS_AT_A_TIME = 64
"""So many double failures are one piece of work at most."""

Row = tuple[int, int, int, int, int, int, int, tuple[str, str] | None, tuple[str, ...], DevicesLost | None]
"""One double failure in plain values: the numbers of both parts; the pairs that are lost, those of them elsewhere,
those left with one address family; hosts that reach nobody; pairs gained; an example; the expectations that fall; what
is lost of devices' addresses, where that is asked."""


class Piece(NamedTuple):
    """A piece of work: one part with each of some later ones, by their numbers."""

    first: int
    second: range

    def __str__(self) -> str:
        return f"{self.first}:{self.second.start}-{self.second.stop}"


@dataclass(frozen=True, slots=True, eq=False)
class Work:
    """All double failures of a network: its parts, all that a worker needs to know of it, and whether devices'
    addresses are counted too."""

    network: Network
    stands_for: Mapping[str, int]
    parts: tuple[Part, ...]
    devices: bool = False

    def pieces(self) -> list[Piece]:
        """All of it, in order."""
        made = []
        for first in range(len(self.parts)):
            for start in range(first + 1, len(self.parts), PAIRS_AT_A_TIME):
                made.append(Piece(first, range(start, min(start + PAIRS_AT_A_TIME, len(self.parts)))))
        return made


def work_of(network: Network, *, devices: bool = False) -> Work:
    """The double failures of a network; `devices` also counts devices' addresses."""
    few = with_few_hosts(network)
    breaker = Breaker(few.network, few.stands_for)
    return Work(few.network, few.stands_for, tuple(breakable(breaker.plain)), devices)


@lru_cache(maxsize=1)
def _breaker_of(work: Work) -> Breaker:
    return Breaker(work.network, work.stands_for)


def rows_of(work: Work, piece: Piece) -> list[Row]:
    """Do one piece of work."""
    breaker, parts, devices = _breaker_of(work), work.parts, work.devices
    half = breaker.without([parts[piece.first]])
    rows: list[Row] = []
    for second in piece.second:
        outage = breaker.outage([parts[piece.first], parts[second]], half, over=False, policy=False, devices=devices)
        counts = (outage.lost, outage.elsewhere, outage.one_family, outage.hosts, outage.gained)
        rows.append((piece.first, second, *counts, outage.example, outage.expectations, outage.devices))
    return rows


def outages_of(work: Work, rows: Iterable[Row]) -> Outages:
    """All double failures, the worst first, from the rows of every piece in order."""
    breaker = _breaker_of(work)
    found = sorted(_outages(work, rows), key=lambda outage: outage.rank)
    return Outages(breaker.pairs, breaker.reached, tuple(found), work.network)


def _outages(work: Work, rows: Iterable[Row]) -> Iterator[Outage]:
    for first, second, lost, elsewhere, one_family, hosts, gained, example, expectations, devices in rows:
        parts = work.parts[first], work.parts[second]
        yield Outage(
            parts=tuple(part.name for part in parts),
            kinds=tuple(part.kind for part in parts),
            lost=lost,
            elsewhere=elsewhere,
            one_family=one_family,
            hosts=hosts,
            gained=gained,
            example=(example[0], example[1]) if example is not None else None,
            expectations=expectations,
            devices=devices,
        )
