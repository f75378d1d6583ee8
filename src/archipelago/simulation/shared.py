"""An interface's part in a virtual router, in operation (VRRP, RFC 9568)."""

from __future__ import annotations

from typing import TYPE_CHECKING

from archipelago.addressing.values import Address
from archipelago.knowledge.elected import Elected, Member, shared_addresses

if TYPE_CHECKING:
    from archipelago.simulation.bidding import Bidder


class SharedGateway:
    """A member of a virtual router: whether it is active is the steady state's to say, which is asked once somebody
    needs it, until something happens that is carried on here."""

    __slots__ = ("_active", "_elected", "addresses", "bidder", "mac", "member")

    def __init__(self, member: Member, elected: Elected) -> None:
        self.member = member
        self.mac = member.mac
        self.addresses = frozenset(shared_addresses(member.written))
        self._elected = elected
        self._active: bool | None = None
        self.bidder: Bidder | None = None

    @property
    def active(self) -> bool:
        """Whether it answers for the shared addresses."""
        if self._active is None:
            self._active = self.member.up and self._elected.active(self.member)
        return self._active

    @active.setter
    def active(self, now: bool) -> None:
        self._active = now

    def answers_for(self, address: Address) -> bool:
        """Whether it answers for an address now."""
        return address in self.addresses and self.active
