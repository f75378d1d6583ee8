"""How a packet between two stations gets on in the steady state, station by station, before any host is known."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator
from typing import NamedTuple

from archipelago.addressing.values import Address
from archipelago.knowledge.domains import Domain, Domains
from archipelago.knowledge.filtering import Refusal
from archipelago.knowledge.forwarding import Delivered, Dropped, ForwardingState, Sent, decide, translated_source
from archipelago.knowledge.header import Header
from archipelago.knowledge.reasons import Reason
from archipelago.knowledge.topology import Layer2Endpoint


class Arrived(NamedTuple):
    """A packet that came to who holds its destination: there, by that interface; `passed` are the stations that its
    conversation is known to, in order, as long as its addresses were not `translated`; `crossed` the broadcast domains
    that it crossed."""

    node: str
    interface: str
    passed: tuple[str, ...]
    translated: bool = False
    crossed: tuple[Domain, ...] = ()


class Ended(NamedTuple):
    """A packet that ended at a station: why, at which interface or towards which next hop, or what a filter said."""

    node: str
    reason: Reason
    interface: str = ""
    next_hop: Address | None = None
    refusal: Refusal | None = None


class Carrier(NamedTuple):
    """What a packet is carried over: what stations decide by, the broadcast domains, and who answers for an address."""

    state: Callable[[str], ForwardingState]
    domains: Domains
    holders: Callable[[Address], Collection[Layer2Endpoint]]

    def carry(
        self, start: str, header: Header, vrf: str = "", knowing: Collection[str] = frozenset()
    ) -> Arrived | Ended:
        """Carry a packet of a station's own to its end.

        Args:
            start: who sends it.
            header: the packet's.
            vrf: the routing table that it is looked up in there.
            knowing: the stations that know the conversation that it belongs to.
        """
        at, ingress = start, None
        passed: tuple[str, ...] = ()
        crossed: list[Domain] = []
        translated = False
        while True:
            state = self.state(at)
            decision = decide(state, header, ingress, vrf, at in knowing)
            if isinstance(decision, Dropped):
                return Ended(at, decision.reason, ingress or "", refusal=decision.refusal)
            translated |= ingress is not None and _translates(state, header, decision)
            passed = passed if translated else (*passed, at)
            if isinstance(decision, Delivered):
                return Arrived(at, ingress or decision.interface, passed, translated, tuple(crossed))
            link = (at, decision.interface)
            if self.domains.loop_at(link) is not None:
                return Ended(at, Reason.STORM, decision.interface, decision.next_hop)
            far = next(self.answering(link, decision.next_hop), None)
            if far is None:
                return Ended(at, Reason.UNANSWERED, decision.interface, decision.next_hop)
            domain = self.domains.of(link)
            assert domain is not None
            crossed.append(domain)
            at, ingress = far[0], str(far[1])
            header = header._replace(ttl=decision.ttl)

    def answering(self, link: Layer2Endpoint, hop: Address) -> Iterator[Layer2Endpoint]:
        """Who else answers for a next hop on a link."""
        near = (far for far in self.holders(hop) if self.domains.together(link, far))
        return (far for far in near if far[0] != link[0])


def _translates(state: ForwardingState, header: Header, decision: Delivered | Sent) -> bool:
    """Whether what is forwarded leaves with another source (RFC 3022)."""
    if isinstance(decision, Delivered):
        return False
    return translated_source(state.node.nics[decision.interface], header.source) is not None
