"""How a packet between two stations gets on in the steady state, station by station, before any host is known."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator
from itertools import islice
from typing import NamedTuple

from archipelago.addressing.values import Address
from archipelago.knowledge.domains import Domain, Domains
from archipelago.knowledge.filtering import Refusal
from archipelago.knowledge.forwarding import (
    Delivered,
    Dropped,
    ForwardingState,
    Sent,
    decide,
    decide_unfiltered,
    translated_source,
)
from archipelago.knowledge.header import FIRST_TTL, Header
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


class Step(NamedTuple):
    """What a station does with a packet, whatever its filters say: it leaves by an interface (`egress`) for a station
    that it comes in at (`there`: its name and interface), it `arrives` by an interface, or neither. Where several
    answer for its next hop (`contested`), that is the first of them."""

    egress: str = ""
    there: tuple[str, str] | None = None
    arrives: str = ""
    contested: bool = False


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

    def step(self, at: str, ingress: str | None, destination: Address, vrf: str = "") -> Step:
        """What a station does with a packet, as if there were no filters.

        Args:
            at: the station.
            ingress: where the packet came in; None where it is the station's own.
            destination: whom it is for.
            vrf: the routing table of one of its own.
        """
        decision = decide_unfiltered(self.state(at), Header(destination, destination), ingress, vrf)
        if isinstance(decision, Dropped):
            return Step()
        if isinstance(decision, Delivered):
            return Step(arrives=ingress or decision.interface)
        link = (at, decision.interface)
        stormy = self.domains.loop_at(link) is not None
        answering = () if stormy else islice(self.answering(link, decision.next_hop), 2)
        there = [(name, str(interface)) for name, interface in answering]
        return Step(decision.interface, there[0] if there else None, contested=len(there) > 1)

    def way(self, start: str, destination: Address, vrf: str = "") -> Iterator[tuple[str, str | None, str]]:
        """The stations of a packet's way, as if there were no filters, each with where it came in and goes out. The
        first one sends it by the routing table `vrf`."""
        at, ingress = start, None
        for _ in range(FIRST_TTL):
            step = self.step(at, ingress, destination, vrf if ingress is None else "")
            yield at, ingress, step.egress
            if step.there is None:
                return
            at, ingress = step.there

    def answering(self, link: Layer2Endpoint, hop: Address) -> Iterator[Layer2Endpoint]:
        """Who else answers for a next hop on a link."""
        near = (far for far in self.holders(hop) if self.domains.together(link, far))
        return (far for far in near if far[0] != link[0])


def _translates(state: ForwardingState, header: Header, decision: Delivered | Sent) -> bool:
    """Whether what is forwarded leaves with another source (RFC 3022)."""
    if isinstance(decision, Delivered):
        return False
    return translated_source(state.node.nics[decision.interface], header.source) is not None
