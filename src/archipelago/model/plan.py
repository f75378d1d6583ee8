"""What `design` answers with: the network, and every decision behind it."""

from __future__ import annotations

from dataclasses import dataclass

from archipelago.addressing.carve import Carving
from archipelago.model.network import Network


@dataclass(frozen=True, slots=True)
class Decision:
    """One thing that was decided: about what, what, and why."""

    subject: str
    decided: str
    why: str


@dataclass(frozen=True, slots=True)
class Design:
    """A network made from a brief. `requests` lists what others must set up on devices that the brief does not
    control, such as the upstream router's routes back."""

    network: Network
    carving: Carving
    decisions: tuple[Decision, ...]
    requests: tuple[str, ...] = ()
