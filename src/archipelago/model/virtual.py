"""Virtual routers: gateways that several devices share (VRRP version 3, RFC 9568)."""

from __future__ import annotations

from dataclasses import dataclass

from archipelago.addressing.values import Address, Prefix
from archipelago.answer import OneLine

USUAL_PRIORITY = 100
"""Of a member where none is written (RFC 9568 5.2.4)."""
OWNER_PRIORITY = 255
"""Of the member whose own the addresses are (RFC 9568 5.2.4)."""
USUAL_DECREMENT = 10
USUAL_INTERVAL = 1_000
"""Milliseconds between two advertisements, where not written (RFC 9568 6.1)."""
SHORTEST_INTERVAL, LONGEST_INTERVAL = 10, 40_950
"""Milliseconds: 12 bits of hundredths of a second, and not none (RFC 9568 5.2.7)."""


@dataclass(frozen=True, slots=True, repr=False)
class Track(OneLine):
    """What lessens a member's priority while it is not there: an interface (a port or an aggregate, too) that is up, or
    a route in use to exactly a network."""

    interface: str | None = None
    network: Prefix | None = None
    priority_decrement: int = USUAL_DECREMENT

    def __str__(self) -> str:
        return self.interface or str(self.network)


@dataclass(frozen=True, slots=True, repr=False)
class VirtualRouter(OneLine):
    """An interface's part in a virtual router: the addresses that whoever is active answers for, all of one family, and
    how it bids for them. Times are in milliseconds."""

    vrid: int
    addresses: tuple[Address, ...]
    priority: int = USUAL_PRIORITY
    preempt: bool = True
    hold_time: int = 0
    advertise_interval: int = USUAL_INTERVAL
    track: tuple[Track, ...] = ()

    @property
    def family(self) -> int:
        """4 or 6."""
        return self.addresses[0].version

    def __str__(self) -> str:
        return f"virtual router {self.vrid} ({', '.join(map(str, self.addresses))})"
