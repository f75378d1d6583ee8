"""What hosts send each other: how much, and of which kind."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from archipelago.answer import OneLine
from archipelago.model.filters import ECHO, Probe


@dataclass(frozen=True, slots=True, repr=False)
class Demand(OneLine):
    """What all hosts of one end together send the hosts of another, evenly over the pairs of them that reach each
    other. An end is a VLAN (name or id), a host, a subnet, an address, `outside`, or `any` (every host and the
    outside); or one device, by its name or as DEVICE/INTERFACE. `rate` is in bits per second of whole frames;
    `answers` is the share of it that comes back; `probe` says by which kind of traffic, where filters decide."""

    source: str
    target: str
    rate: int
    answers: Fraction = Fraction(0)
    probe: Probe = ECHO

    def __str__(self) -> str:
        by = f" by {self.probe}" if self.probe != ECHO else ""
        return f"{self.source} to {self.target}{by}"
