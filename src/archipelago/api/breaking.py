"""Breaking a part on purpose, over time."""

from __future__ import annotations

from typing import TYPE_CHECKING

from archipelago.api.asking import ends_of
from archipelago.api.reading import a_network
from archipelago.errors import QueryError

if TYPE_CHECKING:
    from archipelago.addressing.values import Address
    from archipelago.knowledge.devices import Node
    from archipelago.model.network import Network
    from archipelago.simulation.breaking import Broken


def break_part(
    network: Network,
    part: str,
    source: str,
    target: str,
    *,
    every: float = 0.1,
    restore: float | None = None,
    orderly: bool = False,
    family: int | None = None,
) -> Broken:
    """Break a part while one end probes another, and watch: which probes are lost, who notices what when (carrier, the
    spanning tree, missed advertisements), when something else has taken over.

    Args:
        network: the network.
        part: what breaks: a device, `DEVICE/PORT`, `DEVICE/INTERFACE`, or a cable (`A/p1 ~ B/p2`).
        source: who probes: a host or a device.
        target: whom: the same, or an address.
        every: seconds between two probes, 0.001 to 1.
        restore: after how many seconds the part comes back; None where it does not.
        orderly: it is shut down in order, so that who is active for a shared gateway says goodbye.
        family: 4 or 6; by default IPv4 where both ends have it, else IPv6.

    Returns:
        What was lost, and what happened; printed, a time line. Times are in nanoseconds from the break on.

    Raises:
        QueryError: an end or the part does not exist, the ends share no address family, or a time is out of bounds.

    Example:
        >>> text = '''format: archipelago-network/1
        ... devices: {quay: {kind: switch}}
        ... hosts: {a: {at: quay/p1, address: 10.44.0.2/24}, b: {at: quay/p2, address: 10.44.0.3/24}}
        ... '''
        >>> archipelago.break_part(archipelago.read_network(text), "quay/p2", "a", "b").survived
        False
    """
    from archipelago.simulation.breaking import break_part as run
    from archipelago.simulation.station import SECOND

    index, ends = ends_of(a_network(network), source, target)
    if not (0.001 <= every <= 1 and (restore is None or 0 < restore <= 3600)):
        raise QueryError("probes are 0.001 s to 1 s apart, and what comes back does so within an hour")
    return run(
        index.knowledge,
        ends[0][0],
        _asked(*ends[0], family),
        part,
        every=round(every * SECOND),
        restore=None if restore is None else round(restore * SECOND),
        orderly=orderly,
    )


def _asked(start: Node, goal: Node | Address, family: int | None) -> tuple[str, Address]:
    """Whom one end asks, and at which address."""
    from archipelago.knowledge.devices import Node
    from archipelago.knowledge.ends import common_family, first_address

    if not isinstance(goal, Node):
        return str(goal), goal
    version = family or common_family(start, goal)
    address = first_address(goal, version) if version else None
    if address is None or first_address(start, address.version) is None:
        raise QueryError(f"{start.name} and {goal.name} share no address family that is asked for")
    return goal.name, address
