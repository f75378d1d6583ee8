"""Where a packet stopped: what an engine tells the diagnosis."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from archipelago.addressing.values import Address
from archipelago.knowledge.filtering import Refusal
from archipelago.knowledge.reasons import Reason
from archipelago.model.filters import ECHO, Probe

Direction = Literal["out", "back"]
"""On the way to the target, or on the way back from it."""


@dataclass(frozen=True, slots=True)
class Stop:
    """Where a packet stopped, and why. `vrf` is the routing table that it was looked up in there; `next_hop` whom the
    node asked for; `passed` the stations it had passed, in order; `refusal` what a filter said, `probe` what
    was sent; `silent` that a port dropped it without a word, `told` what becomes of what its sender is told."""

    direction: Direction
    node: str
    reason: Reason
    source: Address
    target: Address
    interface: str = ""
    vrf: str = ""
    next_hop: Address | None = None
    passed: tuple[str, ...] = ()
    refusal: Refusal | None = None
    probe: Probe = ECHO
    silent: bool = False
    told: str = ""
