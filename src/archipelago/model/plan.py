"""What `design` answers with: the network, and every decision behind it."""

from __future__ import annotations

from dataclasses import dataclass

from archipelago.addressing.carve import Carving
from archipelago.model.filters import FilterRule
from archipelago.model.network import Network


@dataclass(frozen=True, slots=True)
class Decision:
    """One thing that was decided: about what, what, and why."""

    subject: str
    decided: str
    why: str


@dataclass(frozen=True, slots=True)
class ServedLine:
    """A line of a filter that was designed: where the filter sees packets, its name, the line and its number, and which
    line of the policy it serves."""

    at: str
    filter: str
    number: int
    rule: FilterRule
    serves: str


@dataclass(frozen=True, slots=True)
class Design:
    """A network made from a brief. `requests` lists what others must set up on devices that the brief does not
    control, such as the upstream router's routes back; `lines` says of each line of each filter what it is for."""

    network: Network
    carving: Carving
    decisions: tuple[Decision, ...]
    requests: tuple[str, ...] = ()
    lines: tuple[ServedLine, ...] = ()

    def __str__(self) -> str:
        lines = [f"{decision.subject}: {decision.decided} ({decision.why})" for decision in self.decisions]
        return "\n".join([repr(self.network), *(f"to ask of others: {request}" for request in self.requests), *lines])

    def __repr__(self) -> str:
        return f"<Design: {self.network!r}, {len(self.decisions):,} decisions>"
