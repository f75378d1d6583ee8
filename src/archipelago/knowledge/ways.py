"""Ways between routing devices: who is next to whom, and the next hop of the shortest way, routes or no routes."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping

from archipelago.addressing.values import Address, InterfaceAddress
from archipelago.knowledge.devices import Node
from archipelago.knowledge.held import Held, TableName
from archipelago.knowledge.known import Knowledge


class Ways:
    """The shortest ways between the routing tables of a network in one address family, over subnets that two of them
    share; each is searched once."""

    __slots__ = ("_from", "_homes", "_knowledge", "_neighbours", "version")

    def __init__(self, knowledge: Knowledge, homes: Callable[[InterfaceAddress], list[Held]], version: int) -> None:
        self._knowledge = knowledge
        self._homes = homes
        self.version = version
        self._neighbours: dict[TableName, list[tuple[TableName, Address]]] = {}
        self._from: dict[TableName, Mapping[TableName, Address | None]] = {}

    def neighbours(self, table: TableName) -> list[tuple[TableName, Address]]:
        """The routing tables that share a live subnet and broadcast domain with one, and their addresses there."""
        neighbours = self._neighbours.get(table)
        if neighbours is None:
            node = self._knowledge.nodes[table[0]]
            neighbours = self._neighbours[table] = list(self._adjoining(node, table[1]))
        return neighbours

    def next_hop(self, start: TableName, goal: TableName) -> Address | None:
        """The next hop of the shortest way from one routing table to another; None where there is none, and where the
        two are one."""
        return self.from_table(start).get(goal)

    def from_table(self, start: TableName) -> Mapping[TableName, Address | None]:
        """For each routing table that can be got to from one, the first next hop on the way (None for itself)."""
        reached_from = self._from.get(start)
        if reached_from is None:
            reached: dict[TableName, Address | None] = {start: None}
            queue = [start]
            for table in queue:
                first = reached[table]
                for far, address in self.neighbours(table):
                    if far not in reached:
                        reached[far] = first or address
                        queue.append(far)
            reached_from = self._from[start] = reached
        return reached_from

    def _adjoining(self, node: Node, vrf: str) -> Iterator[tuple[TableName, Address]]:
        domains, version = self._knowledge.domains, self.version
        for nic in node.nics.values():
            for address in nic.addresses if nic.up and nic.vrf == vrf else ():
                for other in self._homes(address) if address.version == version else ():
                    if (
                        other.node is not node
                        and version in other.node.forwards
                        and other.nic.up
                        and address.prefix.holds(other.address.address)
                        and not other.address.at_reserved_end()
                        and domains.together((node.name, nic.name), other.endpoint)
                    ):
                        yield other.table, other.address.address
