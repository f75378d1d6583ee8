"""What becomes of a question for a lease where it is heard, and what a host was given."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum

from archipelago.addressing.values import Address, InterfaceAddress
from archipelago.knowledge.delivery import Ended
from archipelago.knowledge.domains import Domain
from archipelago.knowledge.filtering import Refusal
from archipelago.model.leases import Pool


class Hearing(StrEnum):
    """What becomes of a question where it is heard."""

    OFFERS = "offers"
    """A server answers, as long as a pool has an address for the host."""
    NO_POOL = "no-pool"
    """A server has no pool for the subnet that the question comes from."""
    FILTERED = "filtered"
    """The filter of the interface that hears it ends it."""
    NO_SERVER = "no-server"
    """A relay sends it to an address whose holder leases nothing."""
    NO_WAY = "no-way"
    """What a relay sends does not get to the server."""
    NO_WAY_BACK = "no-way-back"
    """The server's answer does not get to the relay."""
    ONE_WAY = "one-way"
    """The answer is a broadcast that does not get to the host."""
    STORM = "storm"
    """A broadcast there never ends."""


@dataclass(frozen=True, slots=True)
class Listener:
    """Somebody who hears what a host asks, and what becomes of it.

    Args:
        device: who hears it: a device or a host.
        interface: where.
        outcome: what becomes of it.
        server: who answers; empty where nobody does.
        relay: whether `device` is a relay, and the question got on as unicast.
        asked: the address that the relay sent it to.
        came_in: the interface of the server by which it came.
        pools: those that fit, in order.
        never: addresses, as numbers, that the server does not give there: its own and the relay's.
        ended: where a relayed message ended.
        refusal: what the filter said that ended the question.
        passed: the stations that relayed messages pass, there and back.
        crossed: the broadcast domains that they cross.
    """

    device: str
    interface: str
    outcome: Hearing
    server: str = ""
    relay: bool = False
    asked: Address | None = None
    came_in: str = ""
    pools: tuple[Pool, ...] = ()
    never: frozenset[int] = frozenset()
    ended: Ended | None = None
    refusal: Refusal | None = None
    passed: frozenset[str] = field(default=frozenset(), compare=False, repr=False)
    crossed: frozenset[Domain] = field(default=frozenset(), compare=False, repr=False)


@dataclass(frozen=True, slots=True)
class Lease:
    """What a host was given: by which server, out of which pool, heard by which listener."""

    address: InterfaceAddress
    gateway: Address | None
    server: str
    pool: Pool
    heard: Listener

    @property
    def relay(self) -> str | None:
        """The relay's interface as DEVICE/INTERFACE; None where the server was in the host's own domain."""
        return f"{self.heard.device}/{self.heard.interface}" if self.heard.relay else None
