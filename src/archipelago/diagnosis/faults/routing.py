"""Mistakes in routing."""

from __future__ import annotations

from collections.abc import Iterable

from archipelago.addressing.values import Address, Prefix
from archipelago.diagnosis.kind import ALWAYS, OFTEN, Example, Kind, finding
from archipelago.knowledge.devices import Node
from archipelago.knowledge.routes import Entry
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.parts import Device, Path, Route

ROUTING_OFF = Kind(
    "routing-off",
    "error",
    "a device that is used as a gateway and does not forward",
    "nothing crosses from one of its subnets to another",
    ALWAYS,
    example=Example("pier", "devices: {core: {routing: []}}"),
)


def does_not_route(node: Node, version: int) -> Finding:
    """A device that is used as a gateway and does not forward the family."""
    written = node.written
    routing = written.routing if isinstance(written, Device) and written.routing else ()
    kind = "routing" if node.can_route else "kind"
    families = [f"ipv{family}" for family in sorted({*routing, version})]
    return finding(
        ROUTING_OFF,
        at=node.name,
        path=("devices", node.name, kind),
        says=f"{node.name} holds gateways but does not forward IPv{version}",
        mend=f"switch IPv{version} forwarding on at {node.name}",
        edits=(Edit(("devices", node.name, "routing"), families),),
    )


ROUTE_MISSING = Kind(
    "route-missing",
    "error",
    "a device without a route that the traffic needs",
    "{effect}",
    OFTEN,
    example=Example("pier", "devices: {core: {routes: []}}"),
)


def route_missing(table: tuple[Node, str], destination: Prefix, next_hop: Address | None, effect: str) -> Finding:
    """A routing table (a device and its `vrf`) without a route that the traffic needs."""
    node, vrf = table
    path: Path = ("devices", node.name, "routes")
    where = f"{node.name} in vrf {vrf}" if vrf else node.name
    add = f"add a route to {destination} via {next_hop} on {where}"
    return finding(
        ROUTE_MISSING,
        at=node.name,
        path=path,
        says=f"{where} has no route to {destination}",
        mend=add if next_hop else f"give {where} a route to {destination}",
        edits=(Edit((*path, "+"), written_route(destination, next_hop, vrf)),) if next_hop else (),
        effect=effect,
    )


def written_route(destination: Prefix, next_hop: Address | None, vrf: str) -> dict[str, str]:
    """A static route as a document writes it."""
    written = {"destination": str(destination), "next-hop": str(next_hop)}
    return {**written, "vrf": vrf} if vrf else written


NEXT_HOP_UNUSABLE = Kind(
    "next-hop-unusable",
    "error",
    "a static route whose next hop cannot be used",
    "{device} does not use it",
    OFTEN,
    example=Example("pier", "devices: {core: {routes: [{destination: 10.44.0.0/23, next-hop: 10.44.99.9}]}}"),
)


def next_hop_unusable(
    node: Node, route: Route, position: int, why: str, via: Address | None, idle: bool = False
) -> Finding:
    """A static route whose next hop cannot be used; one that is `idle` never could be, and may go."""
    if via is not None and any(own.address == via for nic in node.nics.values() for own in nic.addresses):
        via = None  # another holds the device's own address, too: that is a finding of its own
    path: Path = ("devices", node.name, "routes", position)
    otherwise: tuple[Edit, ...] = (Edit(path, REMOVE),) if idle else ()
    elsewhere = table_meant(node, route) if via is None else None
    if elsewhere is not None:
        where = f"vrf {elsewhere}" if elsewhere else "no vrf"
        return finding(
            NEXT_HOP_UNUSABLE,
            at=node.name,
            path=(*path, "vrf"),
            says=f"the route to {route.destination} via {route.next_hop} on {node.name}: its next hop is in {where}",
            mend=f"put it in {where}",
            edits=(Edit((*path, "vrf"), elsewhere or REMOVE),),
            device=node.name,
        )
    return finding(
        NEXT_HOP_UNUSABLE,
        at=node.name,
        path=(*path, "next-hop"),
        says=f"the route to {route.destination} via {route.next_hop} on {node.name}: {why}",
        mend=f"set its next hop to {via}" if via else "remove it" if idle else "remove it, or mend its next hop",
        edits=(Edit((*path, "next-hop"), str(via)),) if via else otherwise,
        device=node.name,
    )


def table_meant(node: Node, route: Route) -> str | None:
    """The one other routing table (`vrf`) of a device that a route's next hop is connected in."""
    own, hop = route.vrf or "", route.next_hop.address
    tables = {
        nic.vrf
        for nic in node.nics.values()
        if nic.up and any(one.prefix.holds(hop) and one.address != hop for one in nic.addresses)
    }
    return next(iter(tables)) if len(tables) == 1 and own not in tables else None


MORE_SPECIFIC_ROUTE = Kind(
    "more-specific-route",
    "error",
    "a static route that takes part of a connected subnet away",
    "packets for hosts in {prefix} leave {device} again",
    ALWAYS,
    example=Example(
        "pier",
        """
        devices:
          core:
            routes:
            - {destination: 10.44.0.0/23, next-hop: 10.44.15.0}
            - {destination: 10.44.3.0/25, next-hop: 10.44.15.0}
        """,
    ),
)


def more_specific_route(node: Node, entry: Entry, position: int, wider: Prefix) -> Finding:
    """A static route that takes part of a connected subnet away."""
    path: Path = ("devices", node.name, "routes", position)
    return finding(
        MORE_SPECIFIC_ROUTE,
        at=node.name,
        path=path,
        says=f"the route to {entry.prefix} via {entry.next_hop} on {node.name} hides part of {wider}",
        mend=f"remove the route to {entry.prefix} from {node.name}",
        edits=(Edit(path, REMOVE),),
        prefix=entry.prefix,
        device=node.name,
    )


ROUTING_LOOP = Kind(
    "routing-loop",
    "error",
    "devices that send packets for one subnet to each other",
    "such packets go round until their TTL or hop limit runs out",
    ALWAYS,
    example=Example(
        "pair",
        """
        devices:
          core-1:
            routes:
            - {destination: 0.0.0.0/0, next-hop: 10.44.9.4}
          core-2:
            routes:
            - {destination: 0.0.0.0/0, next-hop: 10.44.9.5}
        """,
    ),
)


def routing_circle(node: Node, route: Route, position: int, names: Iterable[str], via: Address | None) -> Finding:
    path: Path = ("devices", node.name, "routes", position)
    circle = " and ".join(names)
    return finding(
        ROUTING_LOOP,
        at=node.name,
        path=path,
        says=f"{circle} send packets for {route.destination} to each other",
        mend=(
            f"set the next hop of {route.destination} on {node.name} to {via}"
            if via
            else f"remove the route to {route.destination} from {node.name}"
        ),
        edits=(Edit((*path, "next-hop"), str(via)),) if via else (Edit(path, REMOVE),),
    )
