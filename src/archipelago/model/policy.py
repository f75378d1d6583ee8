"""The policy of a network: who may begin which conversations with whom. It is the intent; filters carry it out."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from archipelago.answer import OneLine
from archipelago.model.filters import Probe, Traffic


@dataclass(frozen=True, slots=True, repr=False)
class PolicyRule(OneLine):
    """A line: from some ends to others, what may be begun, or what may not; one of the two is empty. Answers to what
    may be begun are meant with it."""

    source: tuple[str, ...]
    target: tuple[str, ...]
    may: tuple[Traffic, ...] = ()
    may_not: tuple[Traffic, ...] = ()

    @property
    def traffic(self) -> tuple[Traffic, ...]:
        """What it speaks of."""
        return self.may or self.may_not

    def speaks_of(self, probe: Probe) -> bool:
        """Whether it speaks of what a probe begins."""
        return any(speaks_of(kind, probe) for kind in self.traffic)

    def __str__(self) -> str:
        word, kinds = ("may", self.may) if self.may else ("may not", self.may_not)
        return f"{', '.join(self.source)} {word} {', '.join(map(str, kinds))} to {', '.join(self.target)}"


@dataclass(frozen=True, slots=True, repr=False)
class Policy(OneLine):
    """Lines in order: for a pair and a kind of traffic the first that names both decides; after the last, `otherwise`.
    Hosts of one VLAN talk within it whatever it says."""

    otherwise: Literal["any", "none"]
    rules: tuple[PolicyRule, ...] = ()


def speaks_of(kind: Traffic, probe: Probe) -> bool:
    """Whether a probe is of a kind of traffic."""
    if kind.protocol == "any":
        return True
    if probe.protocol == "icmp":
        return kind.protocol in ("icmp", "1", "58")
    return kind.protocol == probe.protocol and (kind.ports is None or kind.ports.first <= probe.port <= kind.ports.last)
