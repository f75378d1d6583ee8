"""A question and its answer in the steady state, station by station, with translation on the way (RFC 3022)."""

from __future__ import annotations

from typing import NamedTuple

from archipelago.addressing.values import Address
from archipelago.knowledge.delivery import Carrier
from archipelago.knowledge.forwarding import Delivered, Dropped, decide, decide_unfiltered, translated_source
from archipelago.knowledge.header import Header, probe_header
from archipelago.model.filters import Probe

Known = set[tuple[str, frozenset[Address]]]
"""Which stations know a conversation, and by which addresses."""
Inside = dict[tuple[str, Address], Address]
"""Whom a translating station knows inside, by itself and the address that it gave the conversation."""


class _Several(Exception):
    """Several answer for a next hop: whose answer stands is not to be told from here."""


class Conversing(NamedTuple):
    """Tells whether hosts get an answer from each other.

    Args:
        carrier: what packets are carried over.
        filters: whether filters have a say.
    """

    carrier: Carrier
    filters: bool = True

    def answered(self, ends: tuple[str, str], addresses: tuple[Address, Address], probe: Probe) -> bool | None:
        """Whether a probe comes to whom it is for and its answer back to who asked; None where several hold an address
        that is asked for on the way.

        Args:
            ends: who asks whom.
            addresses: what each of them speaks from.
            probe: what is sent.
        """
        known: Known = set()
        inside: Inside = {}
        try:
            came = self._carry(ends[0], probe_header(*addresses, probe), known, inside)
            if came is None or came[0] != ends[1]:
                return False
            answer = probe_header(addresses[1], came[1], probe, answers=True)
            back = self._carry(ends[1], answer, known, inside, answers=True)
        except _Several:
            return None
        return back is not None and back[0] == ends[0]

    def _carry(
        self, start: str, header: Header, known: Known, inside: Inside, *, answers: bool = False
    ) -> tuple[str, Address] | None:
        """Who a packet comes to, and whose it seems to be there; None where it ends before."""
        at, ingress = start, None
        while True:
            state = self.carrier.state(at)
            if answers and ingress is not None:
                header = header._replace(destination=inside.get((at, header.destination), header.destination))
            pair = at, frozenset((header.source, header.destination))
            if self.filters:
                decision = decide(state, header, ingress, "", pair in known)
            else:
                decision = decide_unfiltered(state, header, ingress)
            if isinstance(decision, Dropped):
                return None
            known.add(pair)
            if isinstance(decision, Delivered):
                return at, header.source
            own = translated_source(state.node.nics[decision.interface], header.source)
            if own is not None and ingress is not None and not answers:
                inside[at, own] = header.source
                header = header._replace(source=own)
            far = self._next((at, decision.interface), decision.next_hop)
            if far is None:
                return None
            at, ingress, header = far[0], far[1], header._replace(ttl=decision.ttl)

    def _next(self, link: tuple[str, str], hop: Address) -> tuple[str, str] | None:
        """Who answers for a next hop on a link."""
        if self.carrier.domains.loop_at(link) is not None:
            return None
        others = list(self.carrier.answering(link, hop))
        if len(others) > 1:
            raise _Several
        return (others[0][0], str(others[0][1])) if others else None
