from __future__ import annotations

from archipelago.addressing.values import Address
from archipelago.diagnosis.faults.links import unexplained
from archipelago.diagnosis.faults.routing import more_specific_route, route_missing, routing_circle
from archipelago.diagnosis.kind import NEVER, Kind, finding
from archipelago.diagnosis.no_home import no_home
from archipelago.diagnosis.no_route import idle_route, led_outside
from archipelago.diagnosis.places import is_upstream
from archipelago.diagnosis.stop import Stop
from archipelago.knowledge.devices import Node
from archipelago.knowledge.forwarding import route_to
from archipelago.knowledge.header import FIRST_TTL
from archipelago.knowledge.held import Held, TableName
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.ends import OUTSIDE
from archipelago.model.finding import Finding
from archipelago.model.parts import Device


def routing_loop(index: NetworkIndex, node: Node, stop: Stop) -> Finding:
    """Routers that send to each other: the one whose way to the target's home leads elsewhere is to blame."""
    missing = no_home(index, stop.target, stop.vrf)
    if missing is not None:
        return missing
    tables = circle_of(index, stop)
    if not tables:
        return way_too_long(node, stop.target)
    for name, vrf in tables:  # who is connected to the target's subnet and sends its packets away again
        entry = route_to(index.knowledge.state(name), stop.target, vrf)
        number = index.route_number(name, entry.route) if entry is not None else None
        own = (
            h for h in index.homes_in(stop.target, stop.vrf) if h.node.name == name and h.nic.up and h.nic.vrf == vrf
        )
        wider = next((holder.address.prefix for holder in own), None)
        if entry is not None and number is not None and wider is not None and entry.prefix.length > wider.length:
            return more_specific_route(index.knowledge.nodes[name], entry, number, wider)
    names = list(dict.fromkeys(name for name, _ in tables))
    home = next((holder for holder in index.homes_in(stop.target, stop.vrf) if holder.nic.up), None)
    fallback: Finding | None = None
    for table in tables:
        finding = _to_blame(index, table, names, stop, home)
        if finding is not None and finding[1]:
            return finding[0]
        fallback = fallback or (finding[0] if finding is not None else None)
    return fallback or unexplained(
        stop.node, f"packets to {stop.target} go round until their TTL or hop limit runs out"
    )


WAY_TOO_LONG = Kind(
    "way-too-long", "error", "a way over more routers than a packet may pass", "nothing gets that far", NEVER
)


def way_too_long(node: Node, target: Address) -> Finding:
    """A way that ends somewhere, but not before the packet has passed as many routers as it may."""
    return finding(
        WAY_TOO_LONG,
        at=node.name,
        path=("devices",),
        says=f"packets to {target} end at {node.name}: their way passes more routers than they may",
        mend=f"lead it over fewer routers: a packet passes {FIRST_TTL - 1} at most",
    )


def circle_of(index: NetworkIndex, stop: Stop) -> list[TableName]:
    """The routing tables that a packet goes round between, told from the one that comes first in the network, wherever
    the packet came into it; none where it would come to an end."""
    circle = index.circle((stop.node, stop.vrf), stop.target)
    order = {name: number for number, name in enumerate(index.network.devices)} if circle else {}
    first = min(range(len(circle)), key=lambda at: order[circle[at][0]], default=0)
    return [*circle[first:], *circle[:first]]


def _to_blame(
    index: NetworkIndex, table: TableName, names: list[str], stop: Stop, home: Held | None
) -> tuple[Finding, bool] | None:
    """What is wrong with the route of one device in a circle, and whether that is sure; None where it has none of its
    own."""
    node = index.knowledge.nodes[table[0]]
    if not isinstance(node.written, Device):
        return None
    entry = route_to(index.knowledge.state(node.name), stop.target, table[1])
    idle = idle_route(index, (node, table[1]), stop.target, entry)
    if idle is not None:
        return idle, True
    position = index.route_number(node.name, entry.route) if entry is not None else None
    if entry is None or entry.route is None or position is None:
        return None
    better = index.ways(stop.target.version).next_hop(table, home.table) if home else None
    if home is not None and any(is_upstream(index, index.knowledge.nodes[name]) for name in names):
        led = led_outside(index, node, entry, home.address.prefix, better)
        if led is not None:
            return led, True
    beyond = any(holder.node.name == OUTSIDE for holder in index.holders(stop.target))  # a default is to lead there
    if better is not None and better != entry.next_hop:
        if entry.prefix.length == 0 and home is not None and not beyond:
            effect = f"packets to {stop.target} go round between {' and '.join(names)}"
            return route_missing((node, table[1]), home.address.prefix, better, effect), True
        return routing_circle(node, entry.route, position, names, better), True
    return routing_circle(node, entry.route, position, names, None), False
