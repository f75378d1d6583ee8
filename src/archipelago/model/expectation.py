"""What a plan promises: who must reach whom, and who must not."""

from __future__ import annotations

from dataclasses import dataclass

from archipelago.answer import OneLine
from archipelago.model.filters import Probe


@dataclass(frozen=True, slots=True, repr=False)
class Expectation(OneLine):
    """From every host of one end to every host of the other: reached, or not. An end is a VLAN (name or id), a host, a
    subnet, an address, a device, an interface of one (`landing/p1.210`), or "outside"; as a target also "gateway", each
    source's own."""

    source: str
    target: str
    reached: bool = True
    probe: tuple[Probe, ...] = ()

    def __str__(self) -> str:
        by = f" by {' and '.join(map(str, self.probe))}" if self.probe else ""
        return f"{self.source} must {'' if self.reached else 'not '}reach {self.target}{by}"
