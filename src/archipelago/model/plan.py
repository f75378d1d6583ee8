"""What `design` answers with: the network, and every decision behind it."""

from __future__ import annotations

from dataclasses import dataclass

from archipelago.addressing.carve import Carving
from archipelago.answer import Answer, OneLine
from archipelago.model.filters import FilterRule
from archipelago.model.network import Network


@dataclass(frozen=True, slots=True, repr=False)
class Decision(OneLine):
    """One thing that was decided: about what, what, and why."""

    subject: str
    decided: str
    why: str


@dataclass(frozen=True, slots=True, repr=False)
class ServedLine(OneLine):
    """A line of a filter that was designed: where the filter sees packets, its name, the line and its number, and which
    line of the policy it serves."""

    at: str
    filter: str
    number: int
    rule: FilterRule
    serves: str


@dataclass(frozen=True, slots=True, repr=False)
class Design(Answer):
    """A network made from a brief. `requests` lists what others must set up on devices that the brief does not
    control, such as the upstream router's routes back; `lines` says of each line of each filter what it is for."""

    SHOWN = "design.DESIGN"

    network: Network
    carving: Carving
    decisions: tuple[Decision, ...]
    requests: tuple[str, ...] = ()
    lines: tuple[ServedLine, ...] = ()

    @property
    def headline(self) -> str:
        """What was designed, in one line."""
        network = self.network
        counts = ((network.devices, "device"), (network.vlans, "VLAN"), (network.hosts, "host"))
        return "designed: " + ", ".join(f"{len(parts):,} {noun}{'s' * (len(parts) != 1)}" for parts, noun in counts)
