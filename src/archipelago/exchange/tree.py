"""The kernel's own spanning tree: what bridges and their ports are told, so that it comes to what ours does."""

from __future__ import annotations

from collections.abc import Iterator
from math import gcd

from archipelago.knowledge.tree import SpanningTree

HIGHEST_COST = 65_535
"""The kernel's largest path cost."""


class KernelTree:
    """The settings of a network's bridges. Where nothing would be blocked they take no part, and need not settle. Costs
    are divided by their greatest common divisor, as the kernel's are small; `fits` says whether they are small enough
    then."""

    def __init__(self, tree: SpanningTree) -> None:
        self._tree = tree
        costs = [port.cost for bridge in tree.bridges.values() for port in bridge.ports.values()]
        self._unit = gcd(*costs) or 1
        self.fits = max(costs, default=0) // self._unit <= HIGHEST_COST

    def bridge(self, device: str) -> str:
        """The options of a device's bridge: it takes part, with timers as short as the kernel takes them, or not."""
        bridge = self._tree.bridges.get(device)
        if bridge is None or not self._tree.blocked:
            return "stp_state 0"
        return f"stp_state 1 forward_delay 200 hello_time 100 max_age 600 priority {bridge.id.priority}"

    def port(self, device: str, port: str, name: str) -> Iterator[str]:
        """What a port of a bridge is told, by its name in the kernel."""
        bridge = self._tree.bridges.get(device)
        if self._tree.blocked and bridge is not None and port in bridge.ports:
            cost = min(bridge.ports[port].cost // self._unit, HIGHEST_COST)
            yield f"link set dev {name} type bridge_slave cost {cost}"
