"""What lies behind interfaces that translate sources (RFC 3022): addresses that nobody beyond need know."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import combinations, permutations
from typing import NamedTuple

from archipelago.addressing.values import Prefix
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.held import Held, TableName
from archipelago.knowledge.index import NetworkIndex


@dataclass(frozen=True, slots=True)
class Inside:
    """What is behind an interface of a router: the routing tables that get to others past it only, and the sources that
    it translates."""

    device: str
    interface: str
    tables: frozenset[TableName]
    sources: tuple[Prefix, ...]

    def hides(self, held: Held, table: TableName, prefix: Prefix) -> bool:
        """Whether a subnet that somebody holds in here is translated before it comes to a routing table elsewhere."""
        return (
            table not in self.tables
            and held.table in self.tables
            and any(source.covers(prefix) for source in self.sources)
        )

    def __str__(self) -> str:
        return f"{self.device}/{self.interface}"


def insides(index: NetworkIndex) -> tuple[Inside, ...]:
    """Every part of a network that is behind an interface which translates."""
    found = (
        _behind(index, node, nic)
        for node in index.knowledge.devices.values()
        if node.kind == "router" and not node.off
        for nic in node.nics.values()
        if nic.up and nic.translates_to is not None
    )
    return tuple(inside for inside in found if inside is not None)


def _behind(index: NetworkIndex, node: Node, nic: Nic) -> Inside | None:
    """What is behind one interface; None where there is another way past it."""
    ways, start = index.ways(4), (node.name, nic.vrf)
    beyond = {far for far, address in ways.neighbours(start) if any(own.prefix.holds(address) for own in nic.addresses)}
    tables, queue = {start}, [start]
    for table in queue:
        for far, _ in ways.neighbours(table):
            if far in beyond and table != start:
                return None
            if far not in tables and far not in beyond:
                tables.add(far)
                queue.append(far)
    return Inside(node.name, nic.name, frozenset(tables), nic.source_nat)


class Apart(NamedTuple):
    """Two subnets that share addresses, and what translates those of one before they come to the other."""

    one: Held
    other: Held
    inside: Inside


def apart(index: NetworkIndex, one: Held, other: Held) -> Apart | None:
    """Whether the subnets of two addresses are kept apart by translation; the same whichever comes first."""
    every = index.once(insides)
    if not every:
        return None
    homes = [held if held.node.can_route else index.home_of(held.node, held.address) for held in (one, other)]
    known = sorted((home for home in homes if home is not None), key=lambda home: home.endpoint)
    for home, far in permutations(known, 2):
        for inside in every:
            if inside.hides(home, far.table, home.address.prefix):
                return Apart(known[0], known[1], inside)
    return None


def hidden_from(index: NetworkIndex, table: TableName, prefix: Prefix) -> Apart | None:
    """Whether a subnet is in several places, each of them behind an interface that translates it before it comes to a
    routing table: two of them."""
    every = index.once(insides)
    if not every:
        return None
    homes = [home for home in index.homes_in(prefix.first, table[1]) if home.address.prefix == prefix]
    if not all(any(inside.hides(home, table, prefix) for inside in every) for home in homes):
        return None
    both = (apart(index, one, other) for one, other in combinations(homes, 2))
    return next((found for found in both if found is not None), None)
