from __future__ import annotations

from archipelago.addressing.values import WIDTHS, Address, Prefix, is_private
from archipelago.diagnosis.faults.hosts import gateway_missing, gateway_wrong, insides_overlap, mask_mismatch
from archipelago.diagnosis.faults.routing import next_hop_unusable, route_missing, table_meant
from archipelago.diagnosis.faults.words import label, texts
from archipelago.diagnosis.gateway_place import missing_end, without_gateway
from archipelago.diagnosis.interface_down import interface_down
from archipelago.diagnosis.kind import ALWAYS, NEVER, Example, Kind, finding
from archipelago.diagnosis.no_address import without_address
from archipelago.diagnosis.outvoted import gateway_meant, held_by_several
from archipelago.diagnosis.places import far_end, is_upstream, nic_path, unplugged
from archipelago.diagnosis.stop import Stop
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.forwarding import route_to
from archipelago.knowledge.held import Held, TableName
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.insides import hidden_from
from archipelago.knowledge.outside import ways_outside
from archipelago.knowledge.routes import Entry
from archipelago.knowledge.ways import Ways
from archipelago.model.ends import OUTSIDE
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.parts import Device, End, Host, Route


def no_route(index: NetworkIndex, node: Node, stop: Stop) -> Finding:
    """A station without a route to the target."""
    version = stop.target.version
    if is_upstream(index, node):
        sender = _sent_out_by(index, node, stop)
        if sender is None:
            return no_way_back(index, node, stop)
        node = sender
    if node.kind == "host" or version not in node.forwards:
        return no_usable_gateway(index, node, version)
    homes = index.homes_in(stop.target, stop.vrf)
    here = next((holder for holder in homes if holder.node is node), None)
    if here is not None and not here.nic.up:
        return interface_down(index, here)
    away = next((holder for holder in homes if holder.nic.up), None) or next(iter(homes), None)
    if away is not None and not away.nic.up:
        return interface_down(index, away)
    host = next((holder for holder in index.holders(stop.target) if holder.node.kind == "host"), None)
    # it stands for the outside
    beyond = host is not None and (host.node.name == OUTSIDE or host.address.length == WIDTHS[version])
    if host is not None and not homes and not beyond:
        return without_gateway(index, host.node, host.address)
    used = route_to(index.knowledge.state(node.name), stop.target, stop.vrf)  # where it led outside
    idle = idle_route(index, (node, stop.vrf), stop.target, used)
    if idle is not None:
        return idle
    if used is not None and away is not None:
        better = index.ways(version).next_hop((node.name, stop.vrf), away.table)
        led = led_outside(index, node, used, away.address.prefix, better)
        if led is not None:
            return led
    table, ways = (node.name, stop.vrf), index.ways(version)
    if beyond and host is not None and isinstance(host.node.written, Host):
        effect = f"packets from {stop.source} to the outside end at {node.name}"
        hop = _way_out(ways, table, host.node.written.at.device, host.node)
        return route_missing((node, stop.vrf), Prefix(version, 0, 0), hop, effect)
    if away is not None:
        hidden = hidden_from(index, table, away.address.prefix)
        if hidden is not None:
            return insides_overlap(hidden)
        effect = f"packets from {stop.source} to {stop.target} end at {node.name}"
        hop = ways.next_hop(table, away.table)
        return route_missing((node, stop.vrf), away.address.prefix, hop, effect)
    effect = f"packets to {stop.target} end at {node.name}"
    return route_missing((node, stop.vrf), Prefix(version, 0, 0), None, effect)


def no_way_back(index: NetworkIndex, node: Node, stop: Stop) -> Finding:
    """The upstream sends nothing back to a subnet of ours."""
    home = next(iter(index.homes_in(stop.target, "")), None)
    prefix = home.address.prefix if home is not None else Prefix(stop.target.version, stop.target.value, 32)
    edges = [
        holder
        for nic in node.nics.values()
        for own in nic.addresses
        if own.version == stop.target.version
        for holder in index.homes_in(own.address, "")
        if holder.node is not node
    ]
    if edges and not any(edge.nic.up for edge in edges):
        return interface_down(index, edges[0])
    translating = [edge for edge in edges if any(own.covers(prefix) for own in edge.nic.source_nat)]
    plain = [edge for edge in edges if edge not in translating]
    if translating and (stop.direction == "out" or not plain):
        return begun_outside(translating[0], prefix)
    facing = next(iter(plain), None)
    if facing is not None and facing.node.kind == "router" and is_private(prefix):
        known = any(_sends_back(node, home.address.prefix) for home in index.routed() if home.node is not node)
        if facing.nic.source_nat or not known:
            return untranslated(index, node, facing, prefix)
    return upstream_route_missing(facing, prefix)


def _sent_out_by(index: NetworkIndex, upstream: Node, stop: Stop) -> Node | None:
    """The device that sent a packet of ours outside; None where the outside began, or answers."""
    if any(holder.node.name == OUTSIDE for holder in index.holders(stop.source)):
        return None
    ends = (index.knowledge.links[End(upstream.name, name)].peer for name in upstream.attachments)
    names = [end.device for end in ends if end is not None and end.device in index.knowledge.devices]
    return next((index.knowledge.devices[name] for name in names if name in stop.passed or len(names) == 1), None)


BEGUN_OUTSIDE = Kind(
    "begun-outside",
    "error",
    "a conversation that the outside begins with a subnet that is translated, which it has no way to (RFC 3022 2.1)",
    "it answers what begins inside, and begins nothing",
    NEVER,
)


def begun_outside(edge: Held, prefix: Prefix) -> Finding:
    """The outside begins with a subnet that it has no way to: what it answers goes to the translating address."""
    return finding(
        BEGUN_OUTSIDE,
        at=edge.node.name,
        path=("outside",),
        says=f"{label(edge)} translates {prefix}, and what is beyond has no route there: it answers, and cannot begin",
        mend=f"ask the owner of the upstream for a route to {prefix} via {edge.address.address}",
    )


UPSTREAM_ROUTE_MISSING = Kind(
    "upstream-route-missing",
    "error",
    "what is outside has no route back to a subnet of ours",
    "no answer from outside comes back",
    NEVER,
    example=Example(
        "pair",
        """
        devices:
          edge:
            ports:
              p3: {source-nat: ~}
        outside:
          at: edge/p3
          routes-back: [10.44.2.0/24]
        """,
    ),
)


def upstream_route_missing(facing: Held | None, prefix: Prefix) -> Finding:
    """The upstream, whose owner is somebody else, has no route to a subnet of ours."""
    ours = f"{facing.node.name}/{facing.nic.name}" if facing is not None else "the port that leads outside"
    via = f" via {facing.address.address}" if facing is not None else ""
    able = facing is not None and facing.node.kind == "router" and prefix.version == 4
    translate = f", or translate: source-nat: {prefix} at {ours}" if able else ""
    return finding(
        UPSTREAM_ROUTE_MISSING,
        at=facing.node.name if facing is not None else OUTSIDE,
        path=("outside",),
        says=f"what is beyond {ours} sends nothing back to {prefix}",
        mend=f"ask the owner of the upstream for a route to {prefix}{via}{translate}",
    )


def _sends_back(upstream: Node, prefix: Prefix) -> bool:
    """Whether the upstream has a way to a subnet of ours that is not a link to it."""
    written = upstream.written
    return isinstance(written, Device) and any(route.destination.covers(prefix) for route in written.routes)


def untranslated(index: NetworkIndex, upstream: Node, facing: Held, lacking: Prefix) -> Finding:
    """A port that leads outside and does not translate private addresses (RFC 1918) that nothing is sent back to.

    What is to be translated is what another port translates that leads nowhere outside; else, where the port translates
    what nobody has, as wide a prefix of what is there; else each subnet of hosts that nothing is sent back to.
    """
    own = facing.nic.source_nat
    used = [prefix for prefix in own if any(prefix.overlaps(home.address.prefix) for home in index.routed())]
    idle = [prefix for prefix in own if prefix not in used]
    subnets = _lacking(index, upstream, facing.nic, lacking)
    elsewhere = next(
        (
            Held(node, nic, nic.addresses[0])
            for node in index.knowledge.devices.values()
            for nic in node.nics.values()
            if nic.addresses and any(prefix.covers(lacking) for prefix in nic.source_nat)
            if not any(index.domains.together((node.name, nic.name), (upstream.name, far)) for far in upstream.nics)
        ),
        None,
    )
    if elsewhere is not None:
        return translation_missing(facing, subnets, (*used, *elsewhere.nic.source_nat), elsewhere)
    for prefix in idle:
        wide = lacking.supernet(prefix.length) if prefix.length <= lacking.length else lacking
        if all(wide.covers(subnet) for subnet in subnets):
            return translation_missing(facing, subnets, (*used, wide), None)
    return translation_missing(facing, subnets, (*used, *subnets), None)


TRANSLATION_MISSING = Kind(
    "translation-missing",
    "error",
    "a port that leads outside and does not translate what the outside sends nothing back to",
    "no answer from outside comes back to {name}",
    ALWAYS,
    example=Example(
        "pair",
        """
        outside: {at: edge/p3, routes-back: none}
        devices:
          edge:
            ports:
              p3:
                source-nat: [10.44.2.0/24, 10.44.3.0/24]
        """,
    ),
)


def translation_missing(
    facing: Held, lacking: tuple[Prefix, ...], meant: tuple[Prefix, ...], instead_of: Held | None
) -> Finding:
    """A port that leads outside and does not translate subnets that the upstream sends nothing back to; another
    interface may do it that leads nowhere outside."""
    path = (*nic_path(facing), "source-nat")
    names, new = ", ".join(map(str, lacking)), texts(meant)
    moved = f" instead of at {label(instead_of)}" if instead_of is not None else ""
    gone = (Edit((*nic_path(instead_of), "source-nat"), REMOVE),) if instead_of is not None else ()
    return finding(
        TRANSLATION_MISSING,
        at=facing.node.name,
        path=path,
        says=f"{label(facing)} does not translate {names}, and what is beyond it sends nothing back there",
        mend=(
            f"translate {', '.join(map(str, meant))} at {label(facing)}{moved} (source-nat); or ask the owner of the "
            f"upstream for a route to {names} via {facing.address.address}"
        ),
        edits=(Edit(path, new), *gone),
        name=names,
    )


def _lacking(index: NetworkIndex, upstream: Node, nic: Nic, lacking: Prefix) -> tuple[Prefix, ...]:
    """The private subnets of hosts that the upstream sends nothing back to and that a port does not translate."""
    found = [lacking]
    for home in index.routed():
        prefix = home.address.prefix
        covered = any(own.covers(prefix) for own in nic.source_nat) or _sends_back(upstream, prefix)
        if home.node is not upstream and is_private(prefix) and home.nic.vlan is not None and not covered:
            found.append(prefix)
    return tuple(sorted(dict.fromkeys(found)))


def _meant_as_default(index: NetworkIndex, node: Node, route: Route) -> bool:
    """Whether a route leads outside whose device has another to the same destination, and no default route."""
    hop, version = route.next_hop.address, route.destination.version
    out = any(hop in hops.values() for edge, _, hops in ways_outside(index.knowledge) if edge.name == node.name)
    written = node.written
    others = written.routes if isinstance(written, Device) else ()
    same = [other for other in others if other.vrf == route.vrf and other is not route]
    default = any(other.destination == Prefix(version, 0, 0) for other in same)
    return out and not default and any(other.destination == route.destination for other in same)


DESTINATION_WRONG = Kind(
    "destination-wrong",
    "error",
    "a route that leads outside, to a subnet that another route leads to, on a device without a default route",
    "{device} sends nothing outside, and {prefix} the wrong way",
    ALWAYS,
    example=Example(
        "pair",
        """
        devices:
          edge:
            routes:
            - {destination: 10.44.2.0/24, next-hop: 203.0.113.1}
            - {destination: 10.44.2.0/24, next-hop: 10.44.9.1}
            - {destination: 10.44.3.0/24, next-hop: 10.44.9.1}
            - {destination: 10.44.4.0/24, next-hop: 10.44.9.1}
        """,
    ),
)


def destination_wrong(node: Node, route: Route, position: int) -> Finding:
    """A default route that is written with the destination of another route."""
    default = Prefix(route.destination.version, 0, 0)
    path = ("devices", node.name, "routes", position, "destination")
    return finding(
        DESTINATION_WRONG,
        at=node.name,
        path=path,
        says=(
            f"the route to {route.destination} via {route.next_hop} on {node.name} leads outside; another leads there, "
            "and there is no default route"
        ),
        mend=f"set its destination to {default}",
        edits=(Edit(path, str(default)),),
        device=node.name,
        prefix=route.destination,
    )


def led_outside(
    index: NetworkIndex, node: Node, entry: Entry | None, prefix: Prefix, better: Address | None
) -> Finding | None:
    """A static route to a subnet of the network, or to part of it, whose next hop nobody in the network holds; None
    where the route is a wider one, such as a default, and only a narrower one is missing."""
    number = index.route_number(node.name, entry.route) if entry is not None else None
    if entry is None or entry.route is None or number is None or entry.prefix.length < prefix.length:
        return None
    if _meant_as_default(index, node, entry.route):
        return destination_wrong(node, entry.route, number)
    return next_hop_unusable(node, entry.route, number, "nobody in this network holds that next hop", better)


def no_usable_gateway(index: NetworkIndex, node: Node, version: int) -> Finding:
    """A host, or a device that does not route, has no route: no address, no gateway, or one it cannot use."""
    own = [
        Held(node, nic, address)
        for nic in node.nics.values()
        for address in nic.addresses
        if address.version == version
    ]
    if not own:
        return without_address(index, node, version)
    first = own[0]
    if not first.nic.up:
        return interface_down(index, first)
    home = index.home_of(node, first.address)
    gateways = [hop for hop in node.written.gateway if hop.address.version == version]
    if not gateways:
        return gateway_missing(node, version, gateway_meant(index, node, first.address))
    for hop in gateways:
        holders = index.holders(hop.address)
        if len(holders) > 1 and any(one.node is node for one in holders) and any(one.node.can_route for one in holders):
            return held_by_several(index, hop.address, holders)
        for other in holders:
            if other.address.prefix.holds(first.address) and other.address.length != first.address.length:
                return mask_mismatch(first, other.address.prefix)
    return gateway_wrong(node, gateways[0], home, f"lies outside its subnet {first.address.prefix}")


def _way_out(ways: Ways, table: TableName, edge: str, outside: Node) -> Address | None:
    """The next hop towards the outside: beyond the edge's port at the edge itself, else the way to the edge."""
    if table[0] != edge:
        return ways.next_hop(table, (edge, table[1]))
    addresses = [
        address for nic in outside.nics.values() for address in nic.addresses if address.version == ways.version
    ]
    return next((address.address for address in addresses if address.length < WIDTHS[ways.version]), None)


def way_outside(index: NetworkIndex, table: TableName, version: int) -> Address | None:
    """The next hop of a default route: the neighbour beyond a port of the device's own that leads outside, else the way
    to a device that has one; None where nothing leads outside."""
    edges = [
        (node, hops[version])
        for node, nic, hops in ways_outside(index.knowledge)
        if version in hops and nic.vrf == table[1]
    ]
    own = next((hop for node, hop in edges if node.name == table[0]), None)
    led = (index.ways(version).next_hop(table, (node.name, table[1])) for node, _ in edges)
    return own or next((hop for hop in led if hop is not None), None)


def idle_route(index: NetworkIndex, table: tuple[Node, str], target: Address, used: Entry | None) -> Finding | None:
    """Why a device does not use a static route that comes before the one it used, if it has one for the target."""
    least = (used.prefix.length, -used.metric) if used is not None else (-1, 0)
    node, vrf = table
    matching = [
        unused_route
        for unused_route in index.knowledge.routes(node.name).unused
        if unused_route.route.destination.holds(target)
        if vrf in (unused_route.route.vrf or "", table_meant(node, unused_route.route))
    ]
    first = max(
        matching,
        key=lambda unused_route: (unused_route.route.destination.length, -unused_route.route.metric),
        default=None,
    )
    if first is None or (first.route.destination.length, -first.route.metric) <= least:
        return None
    return dead_route(index, node, first.route, target, first.reason)


def _too_narrow(index: NetworkIndex, node: Node, route: Route) -> tuple[Held, Prefix] | None:
    """An address at a port that leads outside which leaves a route's next hop out of its subnet, and the longest prefix
    that holds both; None where there is none."""
    hop, vrf = route.next_hop.address, route.vrf or ""
    for nic in node.nics.values():
        if nic.vrf != vrf or not nic.up or not (unplugged(index, node, nic) or _faces_upstream(index, node, nic)):
            continue
        for own in nic.addresses:
            for length in range(own.length - 1, OUTSIDE_WIDEST[own.version] - 1, -1):
                right = own.prefix.supernet(length)
                first, last = right.usable()
                if (
                    own.version == hop.version
                    and right.holds(hop)
                    and all(first <= x.value <= last for x in (own, hop))
                ):
                    return Held(node, nic, own), right
    return None


OUTSIDE_WIDEST = {4: 24, 6: 64}
"""The widest subnet that a link to the outside is taken to have."""


def _faces_upstream(index: NetworkIndex, node: Node, nic: Nic) -> bool:
    far = far_end(index.knowledge, node.attachments[nic.name]) if nic.name in node.attachments else None
    return far is not None and is_upstream(index, index.knowledge.devices[far[0]])


def _router_beside(index: NetworkIndex, node: Node, route: Route) -> Address | None:
    """The one router in a device's own subnets whose address is one character away from a next hop that nobody has."""
    hop, vrf = route.next_hop.address, route.vrf or ""
    beside = {
        peer.address.address
        for nic in node.nics.values()
        if nic.up and nic.vrf == vrf
        for own in nic.addresses
        if own.version == hop.version
        for peer in index.subnet_peers(Held(node, nic, own))
        if peer.node.can_route and _is_one_slip(str(hop), str(peer.address.address))
    }
    return beside.pop() if len(beside) == 1 else None


def _is_one_slip(written: str, meant: str) -> bool:
    """Whether two texts differ by one character: another, one too many or one too few."""
    if len(written) == len(meant):
        return sum(a != b for a, b in zip(written, meant, strict=True)) == 1
    longer, shorter = sorted((written, meant), key=len, reverse=True)
    return len(longer) == len(shorter) + 1 and any(longer[:n] + longer[n + 1 :] == shorter for n in range(len(longer)))


def dead_route(index: NetworkIndex, node: Node, route: Route, target: Address, why: str) -> Finding:
    """A static route, or a gateway, whose next hop is on no live connected subnet."""
    vrf = route.vrf or ""
    for nic in node.nics.values():
        for address in nic.addresses:
            if nic.vrf == vrf and address.prefix.holds(route.next_hop.address) and not nic.up:
                return interface_down(index, Held(node, nic, address))
    number = index.route_number(node.name, route)
    if number is not None:
        far = next((held for held in index.holders(route.next_hop.address) if held.node.can_route), None)
        missing = missing_end(index, far, [node]) if far is not None else None
        if missing is not None:
            return missing
        home = next((holder for holder in index.homes_in(target, vrf) if holder.nic.up), None)
        hop = index.ways(target.version).next_hop((node.name, vrf), home.table) if home else None
        if home is None and route.destination.length == 0:
            hop = way_outside(index, (node.name, vrf), target.version)
        holders = index.holders(route.next_hop.address)
        own = any(holder.node is node for holder in holders)
        if own and len(holders) > 1:
            return held_by_several(index, route.next_hop.address, holders)
        narrow = _too_narrow(index, node, route) if not holders else None
        if narrow is not None:
            return mask_mismatch(*narrow)
        if hop is None and not holders:
            hop = _router_beside(index, node, route)
        return next_hop_unusable(node, route, number, why, hop, own)
    return gateway_wrong(node, route.next_hop, None, "is on no connected subnet")
