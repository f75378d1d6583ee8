"""Every pair of classes decided in arrays: each device's way to every class, followed to its end, out and back."""

from __future__ import annotations

from bisect import bisect_right
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from archipelago.addressing.values import source_for
from archipelago.diagnosis.picture import Picture
from archipelago.knowledge.devices import Node
from archipelago.knowledge.routes import Entry
from archipelago.reachability.classes import Classes, fold

MOST_ROUTERS = 63
"""A packet with a first TTL of 64 passes so many routers at most (RFC 1812 5.3.1)."""


@dataclass(frozen=True, slots=True)
class Outcome:
    """One family's answer: `onward[a, b]` says that packets of class a arrive at class b; a pair is reached where
    they do both ways."""

    classes: Classes
    onward: NDArray[np.bool_]

    @property
    def reached(self) -> NDArray[np.bool_]:
        return self.onward & self.onward.T


def solve(view: Picture, version: int) -> Outcome:
    """Decide every ordered pair of classes of a family.

    Each routing device (once for each of its tables) is a row, each class a column, and the value where a packet for
    that class goes next: another row, arrived, or lost. Following the rows at most 63 times ends every packet.
    """
    return _Solver(view, fold(view, version)).outcome()


class _Solver:
    def __init__(self, view: Picture, classes: Classes) -> None:
        self.view = view
        self.classes = classes
        self.version = classes.version
        self.rows: dict[tuple[str, str], int] = {}
        for node in view.knowledge.nodes.values():
            if self.version in node.forwards:
                for vrf in dict.fromkeys(nic.vrf for nic in node.nics.values()):
                    self.rows[node.name, vrf] = len(self.rows)
        self.lost = len(self.rows)
        self.arrived = self.lost + 1
        order = np.argsort(np.array(classes.atoms, dtype=np.int64), kind="stable")
        self.order = order
        self.atoms = np.array(classes.atoms, dtype=np.int64)[order]
        self.domains = np.array(classes.domains, dtype=np.int64)[order]
        self.column_of = {
            classes.members[index][0]: column for column, index in enumerate(order) if len(classes.members[index]) == 1
        }

    def outcome(self) -> Outcome:
        count = len(self.classes.members)
        onward = np.zeros((count, count), dtype=np.bool_)
        if count:
            end = self._follow(self._steps())
            first = np.empty((count, count), dtype=np.int32)
            for row, index in enumerate(self.order):
                node = self.view.knowledge.nodes[self.classes.members[index][0]]
                first[row] = self._row(node, "")
            arrived = np.take_along_axis(end, first, axis=0) == self.arrived
            onward[np.ix_(self.order, self.order)] = arrived
        return Outcome(self.classes, onward)

    def _steps(self) -> NDArray[np.int32]:
        """Where every device sends each class next; what is lost or has arrived stays so."""
        steps = np.empty((self.lost + 2, len(self.atoms)), dtype=np.int32)
        for (name, vrf), row in self.rows.items():
            steps[row] = self._row(self.view.knowledge.nodes[name], vrf)
        steps[self.lost] = self.lost
        steps[self.arrived] = self.arrived
        return steps

    def _follow(self, steps: NDArray[np.int32]) -> NDArray[np.int32]:
        """63 steps at once, by squaring."""
        result, power, left = steps, steps, MOST_ROUTERS - 1
        while left:
            if left & 1:
                result = np.take_along_axis(power, result, axis=0)
            left >>= 1
            if left:
                power = np.take_along_axis(power, power, axis=0)
        return result

    def _row(self, node: Node, vrf: str) -> NDArray[np.int32]:
        """One station's next step for every class: the longest prefix is written last."""
        row = np.full(len(self.atoms), self.lost, dtype=np.int32)
        table = node.routes.tables.get((vrf, self.version))
        if table is None:
            return row
        for _, entries in reversed(table.lengths):
            for entry in entries.values():
                low, high = self._columns(entry)
                if low < high:
                    row[low:high] = self._next(node, entry, low, high)
        for value in table.broadcasts:
            low, high = self._between(value, value)
            row[low:high] = self.lost
        return row

    def _columns(self, entry: Entry) -> tuple[int, int]:
        return self._between(entry.prefix.value, entry.prefix.last)

    def _between(self, first: int, last: int) -> tuple[int, int]:
        """The columns whose classes lie in a range of addresses that starts and ends at a cut."""
        edges = self.classes.edges
        low = bisect_right(edges, first) - 1
        high = bisect_right(edges, last) - 1
        return int(np.searchsorted(self.atoms, low)), int(np.searchsorted(self.atoms, high, side="right"))

    def _next(self, node: Node, entry: Entry, low: int, high: int) -> Any:
        """Where packets by one entry go: straight to the classes of its domain, or to whoever holds the next hop."""
        nic = node.nics[entry.interface]
        domain = self.view.domains.of.get((node.name, nic.name))
        hop = entry.next_hop
        if domain is None or domain in self.view.domains.loops or not nic.speaks:
            return self.lost
        if hop is None:
            return np.where(self.domains[low:high] == domain, self.arrived, self.lost)
        if source_for(nic.addresses, hop) is None:
            return self.lost
        for held in self.view.holders.get(hop, ()):
            if held.node is not node and self.view.domains.of.get(held.foot) == domain:
                row = self.rows.get((held.node.name, held.nic.vrf))
                if row is not None:
                    return row
                column = self.column_of.get(held.node.name)
                if column is not None and low <= column < high:
                    found = np.full(high - low, self.lost, dtype=np.int32)
                    found[column - low] = self.arrived
                    return found
                return self.lost
        return self.lost
