"""What would let a person make a change without being locked out: each tried, by every order there is."""

from __future__ import annotations

from collections.abc import Iterator

from archipelago.addressing.values import WIDTHS, Address, Prefix
from archipelago.changes.differences import Difference, Stage
from archipelago.changes.order import EXHAUSTIVE, Order, Search
from archipelago.changes.replacement import Replacement
from archipelago.changes.words import route_text
from archipelago.model.parts import Route

MOST_ROUTES = 4
"""So many temporary routes are tried on each device."""


def would_help(search: Search, order: Order) -> Iterator[str]:
    """What makes an order possible that locks nobody out: a temporary route on a device, or its console.

    Args:
        search: the steps.
        order: the best order, which locks somebody out.
    """
    start, middle = search.interrupting(order)
    if len(middle) > EXHAUSTIVE:
        return
    locked = dict.fromkeys(name for one in order.standings for name in one.unreached)
    for name in locked:
        for route in _routes(search, name):
            place = ("devices", name, "routes")
            step = Difference(name, "", "", Stage.ADDS, (Replacement(place, (), (route,), (route,)),))
            if search.lock_free(start, middle, [step]):
                yield f"a temporary {route_text(route)} on {name}, taken away again at the end"
                break
        if search.lock_free(start, middle, at_console=frozenset({name})):
            yield f"the console of {name}"


def _routes(search: Search, name: str) -> Iterator[Route]:
    """Temporary routes from a device to the person's own addresses, by each next hop that it has at the end."""
    states = search.states
    host = states.host
    new = states.last.network.devices.get(name)
    if new is None:
        return
    hops = dict.fromkeys(route.next_hop for route in new.routes)
    addresses = _addresses(search, host)
    tried = 0
    for hop in hops:
        for address in addresses:
            if address.version == hop.address.version and tried < MOST_ROUTES:
                tried += 1
                yield Route(Prefix(address.version, address.value, WIDTHS[address.version]), hop)


def _addresses(search: Search, host: str) -> list[Address]:
    state = search.states.last.arrays.knowledge
    node = state.nodes[host]
    return [own.address for nic in node.nics.values() for own in nic.addresses]
