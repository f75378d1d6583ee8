"""The forwarding decision: what a station does with a packet. Written once; every engine and every view asks it."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import NamedTuple

from archipelago.addressing.values import Address, InterfaceAddress, source_for
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.filtering import Refusal, Way, judge
from archipelago.knowledge.header import FIRST_TTL, Header
from archipelago.knowledge.reasons import Reason
from archipelago.knowledge.routes import DeviceRoutes, Entry


@dataclass(frozen=True, slots=True)
class ForwardingState:
    """What a station decides by: itself, its routing tables, and by which interface of a table it answers for an
    address that it shares with others (None: it shares none)."""

    node: Node
    routes: DeviceRoutes
    answers: Callable[[str, Address], str | None] | None = None


class Delivered(NamedTuple):
    """The packet is for the station itself; `interface` holds its address."""

    interface: str


class Sent(NamedTuple):
    """The packet leaves by a route's interface, for a next hop on its link, with that TTL."""

    route: Entry
    next_hop: Address
    ttl: int

    @property
    def interface(self) -> str:
        return self.route.interface


class Dropped(NamedTuple):
    """The packet ends here; `route` is the one that was chosen, `refusal` what a filter said, where one did."""

    reason: Reason
    route: Entry | None = None
    refusal: Refusal | None = None


Decision = Delivered | Sent | Dropped


def decide(
    state: ForwardingState, header: Header, ingress: str | None = None, vrf: str = "", known: bool = False
) -> Decision:
    """What a station does with a packet (RFC 1122 3.3.1, RFC 1812 5.2, RFC 2644). The filter of its ingress interface
    sees it first; that of its egress interface what is forwarded, not what is the station's own.

    Args:
        state: the station.
        header: the packet's.
        ingress: its ingress interface; None where it is the station's own.
        vrf: the routing table of a packet of its own; one that came in is looked up in that of its interface.
        known: it belongs to a conversation that the station knows, which stateful filters let pass.
    """
    nics = state.node.nics
    if ingress is not None and nics[ingress].filter_in is not None:
        refusal = refused(nics[ingress], "in", header, known)
        if refusal is not None:
            return Dropped(_REFUSED[refusal.judged.action], None, refusal)
    decision = _decide(state, header.destination, header.ttl, ingress, vrf)
    if header.length and isinstance(decision, Sent) and too_large(nics[decision.interface], header, ingress):
        return Dropped(Reason.TOO_LARGE, decision.route)
    if ingress is not None and isinstance(decision, Sent) and nics[decision.interface].filter_out is not None:
        refusal = refused(nics[decision.interface], "out", header, known)
        if refusal is not None:
            return Dropped(_REFUSED[refusal.judged.action], decision.route, refusal)
    return decision


def decide_unfiltered(state: ForwardingState, header: Header, ingress: str | None, vrf: str = "") -> Decision:
    """What a station would do with a packet if it had no filters, whatever the packet's size."""
    return _decide(state, header.destination, header.ttl, ingress, vrf)


def too_large(nic: Nic, header: Header, ingress: str | None) -> bool:
    """Whether a packet does not fit an interface and may not be split there: in IPv6 only its sender splits
    (RFC 8200 5)."""
    return header.length > nic.mtu and not (header.splits and (ingress is None or header.destination.version == 4))


_REFUSED = {"drop": Reason.FILTERED, "reject": Reason.REJECTED}


def refused(nic: Nic, way: Way, header: Header, known: bool = False) -> Refusal | None:
    """What the filter of an interface has against a packet; None where it lets it pass, or there is none."""
    filter_ = nic.filter_in if way == "in" else nic.filter_out
    if filter_ is None or (known and filter_.stateful):
        return None
    judged = judge(filter_, header)
    return None if judged.passes else Refusal(nic.name, way, filter_.name, judged)


def _decide(state: ForwardingState, destination: Address, ttl: int, ingress: str | None, vrf: str) -> Decision:
    node = state.node
    if ingress is not None:
        vrf = node.nics[ingress].vrf
    route = _looked_up(state, destination, vrf)
    if isinstance(route, Delivered):
        return route
    if ingress is not None and destination.version not in node.forwards:
        return Dropped(Reason.NOT_ROUTING)
    if isinstance(route, Reason):
        return Dropped(route)
    if ingress is not None and ttl <= 1:
        return Dropped(Reason.TTL_EXPIRED, route)
    next_hop = route.next_hop or destination
    if not can_ask(node.nics[route.interface], next_hop):
        return Dropped(Reason.CANNOT_SEND, route)
    return Sent(route, next_hop, ttl - (ingress is not None))


def _looked_up(state: ForwardingState, destination: Address, vrf: str) -> Entry | Reason | Delivered:
    """What the tables of a station have for a destination: the route, why there is none, or that it is the station's
    own."""
    holder = holder_of(state, vrf, destination)
    if holder is not None:
        return Delivered(holder)
    table = state.routes.tables.get((vrf, destination.version))
    if table is None:
        return Reason.NO_ROUTE
    if destination.version == 4 and destination.value in table.broadcasts:
        return Reason.BROADCAST
    return table.lookup(destination.value) or Reason.NO_ROUTE


def own_routes(
    state: ForwardingState, destinations: Iterable[Address], vrf: str = ""
) -> list[Entry | Reason | Delivered]:
    """The routes that a station's own packets take to many destinations; why they take none, or that one is its own."""
    return [_looked_up(state, destination, vrf) for destination in destinations]


def decide_own(state: ForwardingState, destination: Address, vrf: str = "") -> Decision:
    """What a station does with a packet of its own, whatever it holds."""
    return _decide(state, destination, FIRST_TTL, None, vrf)


def route_to(state: ForwardingState, destination: Address, vrf: str = "") -> Entry | None:
    """The route that a station's own packets take; None where they take none or need none."""
    decision = decide_own(state, destination, vrf)
    return None if isinstance(decision, Delivered) else decision.route


def holder_of(state: ForwardingState, vrf: str, address: Address) -> str | None:
    """The interface, up, by which a station holds an address in one of its tables, or answers for a shared one."""
    held = own_holder(state, vrf, address)
    return state.answers(vrf, address) if held is None and state.answers is not None else held


def own_holder(state: ForwardingState, vrf: str, address: Address) -> str | None:
    """The interface, up, by which a station holds an address of its own in one of its tables."""
    return state.routes.held.get((vrf, address.version, address.value))


def translated_source(nic: Nic, source: Address) -> Address | None:
    """What the source of a conversation becomes that is forwarded out by an interface (RFC 3022); None where it
    stays."""
    return nic.translates_to if any(prefix.holds(source) for prefix in nic.source_nat) else None


def can_ask(nic: Nic, next_hop: Address) -> bool:
    """Whether an interface can send to a neighbour: it holds an address of that family to ask from."""
    if nic.sends_frames:
        for address in nic.addresses:
            if address.version == next_hop.version:
                return True
    return False


def asking_address(nic: Nic, next_hop: Address) -> InterfaceAddress | None:
    """The address that an interface asks for a neighbour from; None where it cannot send to it."""
    return source_for(nic.addresses, next_hop) if nic.sends_frames else None


def source_towards(state: ForwardingState, target: Address, vrf: str = "") -> Address | None:
    """The address that a station speaks from to a target: one of the interface that the way leaves by, else of any
    other of that routing table (RFC 1122 3.3.4.3)."""
    node = state.node
    holder = holder_of(state, vrf, target)
    route = None if holder else route_to(state, target, vrf)
    first = holder or (route.interface if route else None)
    names = ([first] if first else []) + [name for name, nic in node.nics.items() if nic.up]
    for name in names:
        nic = node.nics[name]
        source = source_for(nic.addresses, target) if nic.vrf == vrf else None
        if source is not None:
            return source.address
    return None
