"""Mistakes between routing devices: subnets that one has no route to, and ways that go round."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace

from archipelago.addressing.values import Address, Prefix, is_link_local
from archipelago.audit.redundancy import without_partners
from archipelago.audit.registry import rule
from archipelago.audit.routing import routing_nodes
from archipelago.diagnosis.cabling import leads_outside
from archipelago.diagnosis.faults.routing import (
    ROUTE_MISSING,
    route_missing,
    routing_circle,
    table_meant,
    written_route,
)
from archipelago.diagnosis.kind import ALWAYS, Example, Kind, finding
from archipelago.diagnosis.no_route import led_outside
from archipelago.diagnosis.places import hosts_by_vlan, sample, vlan_of
from archipelago.knowledge.devices import Node
from archipelago.knowledge.forwarding import Delivered, own_routes, route_to
from archipelago.knowledge.held import TableName
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.insides import hidden_from, insides
from archipelago.knowledge.outside import ways_outside
from archipelago.knowledge.reasons import Reason
from archipelago.knowledge.routes import Entry
from archipelago.knowledge.ways import Ways
from archipelago.model.finding import Edit, Finding
from archipelago.model.parts import Device, End, Path, Route

NOT_NEEDED = "nothing that hosts send each other; what is sent from there to the devices' own addresses is lost"
Missing = dict[tuple[TableName, Address | None], list[Prefix]]
"""The subnets that a routing table lacks, by the next hop that leads to them."""


@rule
def ways(index: NetworkIndex) -> Iterator[Finding]:
    """A routing table without a route to a subnet that its neighbours lead to, or with one that goes round."""
    subnets: dict[tuple[Prefix, str], set[TableName]] = {}
    for holder in index.device_addresses():
        if holder.node.can_route and holder.nic.up and not is_link_local(holder.address):
            subnets.setdefault((holder.address.prefix, holder.nic.vrf), set()).add(holder.table)
    nodes = routing_nodes(index)
    for version in (4, 6):
        tables = [
            (node.name, vrf)
            for node in nodes
            if version in node.forwards
            for vrf in dict.fromkeys(nic.vrf for nic in node.nics.values())
        ]
        parts = table_parts(index.ways(version), tables)
        prefixes = [(prefix, homes) for (prefix, _), homes in subnets.items() if prefix.version == version]
        targets = [sample(prefix) for prefix, _ in prefixes]
        by_table = (own_routes(index.knowledge.state(table[0]), targets, table[1]) for table in parts)
        missing: Missing = {}
        for (prefix, homes), routes in zip(prefixes, zip(*by_table, strict=True), strict=bool(parts)):
            yield from _towards(index, prefix, homes, parts, routes, missing)
        for (table, next_hop), lacking in missing.items():
            node = index.knowledge.devices[table[0]]
            own = sorted(without_partners(index, table, lacking))
            if own:
                told = routes_missing((node, table[1]), own, next_hop)
                needed = any(not _is_of_a_link(index, prefix) for prefix in own)
                if next_hop is not None and default_wanted(index, table, version) == next_hop:
                    if not needed:
                        continue  # that the way outside is missing is told below, as bad as that is
                    told = without_default(node, table[1], version, next_hop)  # one route for all of them
                yield told if needed else replace(told, severity="note", breaks=NOT_NEEDED)


def routes_missing(table: tuple[Node, str], prefixes: list[Prefix], next_hop: Address | None) -> Finding:
    """Several subnets that a device has no route to, all in one direction: one mistake, such as a forgotten default."""
    node, vrf = table
    if len(prefixes) == 1:
        effect = f"nothing from {node.name} or behind it gets to {prefixes[0]}, nor back"
        return route_missing(table, prefixes[0], next_hop, effect)
    path: Path = ("devices", node.name, "routes")
    where = f"{node.name} in vrf {vrf}" if vrf else node.name
    names = ", ".join(map(str, prefixes))
    add = f"add routes to {names} via {next_hop} on {where}"
    return finding(
        ROUTE_MISSING,
        at=node.name,
        path=path,
        says=f"{where} has no route to {len(prefixes)} subnets: {names}",
        mend=add if next_hop else f"give {where} routes to them",
        edits=tuple(Edit((*path, "+"), written_route(destination, next_hop, vrf)) for destination in prefixes)
        if next_hop
        else (),
        effect=f"nothing from {node.name} or behind it gets there, nor back",
    )


def _is_of_a_link(index: NetworkIndex, prefix: Prefix) -> bool:
    """Whether a subnet is that of a link between devices, or of one device's own address, where no host is."""
    small = prefix.length >= (30 if prefix.version == 4 else 126)
    return small and not any(held.node.kind == "host" for held in index.subnet_holders(prefix))


def table_parts(ways: Ways, tables: list[TableName]) -> Mapping[TableName, int]:
    """Which routing tables can be joined by routes at all: those with the same number."""
    part: dict[TableName, int] = {}
    for number, start in enumerate(tables):
        stack = [start]
        while stack:
            table = stack.pop()
            if table not in part:
                part[table] = number
                stack.extend(far for far, _ in ways.neighbours(table))
    return part


def _towards(
    index: NetworkIndex,
    prefix: Prefix,
    homes: set[TableName],
    parts: Mapping[TableName, int],
    routes: Sequence[Entry | Reason | Delivered],
    missing: Missing,
) -> Iterator[Finding]:
    """Follow every table's way to one subnet; those that have none go to `missing`, by next hop."""
    shortest, translating = index.ways(prefix.version), bool(index.once(insides))
    nearest: dict[int, TableName] = {}
    for home in sorted(homes & parts.keys()):
        nearest.setdefault(parts[home], home)
    onward: dict[TableName, TableName | None] = {}
    for (table, part), route in zip(parts.items(), routes, strict=True):
        if part not in nearest or table in homes or isinstance(route, Delivered):
            continue
        entry = None if isinstance(route, Reason) else route
        if entry is not None and entry.next_hop is not None and index.is_held(entry.next_hop):
            holder = index.neighbour((table[0], entry.interface), entry.next_hop)
            onward[table] = holder.table if holder is not None else None
            continue
        if route is not Reason.NO_ROUTE and (entry is None or entry.next_hop is None):
            continue
        if translating and hidden_from(index, table, prefix) is not None:
            continue  # which of them a route would lead to is nobody's to say
        next_hop = shortest.next_hop(table, nearest[part])
        led = None
        if entry is not None:
            led = led_outside(index, index.knowledge.devices[table[0]], entry, prefix, next_hop)
        if led is not None:
            yield led
        elif not _written_unused(index, table, prefix):
            missing.setdefault((table, next_hop), []).append(prefix)
    settled: set[TableName] = set()
    for start in onward:
        trail: dict[TableName, int] = {}
        at: TableName | None = start
        while at is not None and at in onward and at not in settled and at not in trail:
            trail[at] = len(trail)
            at = onward[at]
        if at is not None and at in trail:
            yield from _circle(index, prefix, list(trail)[trail[at] :], homes)
        settled.update(trail)


def _written_unused(index: NetworkIndex, table: TableName, prefix: Prefix, length: int = 0) -> bool:
    """Whether a device has the route that one of its tables lacks, of a prefix length at least, and does not use it, or
    has it in another table: a finding of its own."""
    node = index.knowledge.devices[table[0]]
    unused = (one.route for one in index.knowledge.routes(node.name).unused)
    meant = ((route, (route.vrf or "", table_meant(node, route))) for route in unused)
    return any(
        route.destination.length >= length and route.destination.covers(prefix) and table[1] in tables
        for route, tables in meant
    )


def _circle(index: NetworkIndex, prefix: Prefix, tables: list[TableName], homes: set[TableName]) -> Iterator[Finding]:
    """Tables that send a subnet's packets round: the first whose route leads away from the subnet is to blame."""
    target, ways = sample(prefix), index.ways(prefix.version)
    names = list(dict.fromkeys(name for name, _ in tables))
    for table in sorted(tables):
        node = index.knowledge.devices[table[0]]
        entry = route_to(index.knowledge.state(table[0]), target, table[1])
        better = next((hop for home in sorted(homes) if (hop := ways.next_hop(table, home)) is not None), None)
        if entry is None or better is None or better == entry.next_hop:
            continue
        if entry.prefix.length < prefix.length or entry.route is None:
            if _written_unused(index, table, prefix, entry.prefix.length + 1):
                return
            effect = f"packets to {prefix} go round between {' and '.join(names)}"
            yield route_missing((node, table[1]), prefix, better, effect)
        elif (number := index.route_number(node.name, entry.route)) is not None:
            yield routing_circle(node, entry.route, number, names, better)
        return


@rule
def no_way_outside(index: NetworkIndex) -> Iterator[Finding]:
    """A routing table with hosts that has no default route, while another leads outside and can be got to from it."""
    hosts = index.once(hosts_by_vlan)
    ports = [nic for _, nic, _ in ways_outside(index.knowledge)]
    served = {
        (held.table, held.address.version): held
        for held in index.routed()
        if hosts.get(vlan_of(index, held) or 0) and held.address.version in held.node.forwards
    }
    for (table, version), held in served.items():
        hop = default_wanted(index, table, version)
        if hop is not None:
            translated = any(prefix.covers(held.address.prefix) for nic in ports for prefix in nic.source_nat)
            meant = translated or index.knowledge.written.outside is not None
            found = without_default(held.node, table[1], version, hop)
            yield found if meant else replace(found, severity="risk")


@rule
def nothing_sent_outside(index: NetworkIndex) -> Iterator[Finding]:
    """A port that is named as leading outside, by which no route leaves, while nothing else has a default route out."""
    if not index.knowledge.written.outside:
        return
    edges = index.once(_edges)
    for node, nic, hops in ways_outside(index.knowledge):
        static = node.written.routes if isinstance(node.written, Device) else ()
        for version, hop in hops.items():
            links = [address.prefix for address in nic.addresses if address.version == version]
            leaving = any(
                link.holds(route.next_hop.address) or route.destination == Prefix(version, 0, 0)
                for route in static
                for link in links
            )  # a default route that is not used is a finding of its own
            if not leaving and version not in edges:
                yield without_default(node, nic.vrf, version, hop)


@rule
def unnamed_edges(index: NetworkIndex) -> Iterator[Finding]:
    """A route to beyond a port that nothing is plugged into, where the network says what leads outside, and not that
    this port does."""
    entries = index.knowledge.written.outside
    if entries is None:
        return
    named = {(entry.at.device, entry.at.port) for entry in entries}
    for node in routing_nodes(index):
        static = node.written.routes if isinstance(node.written, Device) else ()
        for nic in node.nics.values():
            if (node.name, nic.name) in named or nic.kind != "port" or not leads_outside(index, node, nic):
                continue
            links = [address.prefix for address in nic.addresses]
            route = next((one for one in static if any(link.holds(one.next_hop.address) for link in links)), None)
            if route is not None:
                yield outside_unnamed(index, End(node.name, nic.name), route)


OUTSIDE_UNNAMED = Kind(
    "outside-unnamed",
    "risk",
    "a port that a route leaves by, with nothing plugged in, which `outside` does not name",
    "the port is down, and nothing leaves by it",
    ALWAYS,
    example=Example("pair", "outside: []"),
)


def outside_unnamed(index: NetworkIndex, end: End, route: Route) -> Finding:
    """A port by which a route leads out of the network, and that is not named as one that leads outside."""
    number = len(index.knowledge.written.outside or ())
    new = {"at": str(end)}
    return finding(
        OUTSIDE_UNNAMED,
        at=end.device,
        path=("outside",),
        says=f"the route to {route.destination} via {route.next_hop} leaves by {end}, which `outside` does not name",
        mend=f"name {end} in `outside`",
        edits=(Edit(("outside", "+"), new) if number else Edit(("outside",), [new]),),
    )


def without_default(node: Node, vrf: str, version: int, hop: Address) -> Finding:
    """A routing table that lacks the default route that leads outside."""
    effect = f"nothing from behind {node.name} gets outside, nor to any subnet that it has no route to"
    return route_missing((node, vrf), Prefix(version, 0, 0), hop, effect)


def default_wanted(index: NetworkIndex, table: TableName, version: int) -> Address | None:
    """The next hop towards a device that leads outside by a default route of its own, where a routing table has no
    default route and can be led there; else None."""
    if _default(index, table, version):
        return None
    edges = index.once(_edges).get(version, ())
    ways = index.ways(version)
    return next((hop for edge in edges if edge != table and (hop := ways.next_hop(table, edge)) is not None), None)


def _edges(index: NetworkIndex) -> dict[int, list[TableName]]:
    """By family the routing tables with a port that leads outside and a default route."""
    edges: dict[int, list[TableName]] = {}
    for node, nic, hops in ways_outside(index.knowledge):
        table = (node.name, nic.vrf)
        for version in hops:
            if _default(index, table, version):
                edges.setdefault(version, []).append(table)
    return edges


def _default(index: NetworkIndex, table: TableName, version: int) -> bool:
    """Whether a routing table has a default route."""
    entries = index.knowledge.routes(table[0]).tables.get((table[1], version))
    return entries is not None and entries.exact(Prefix(version, 0, 0)) is not None
