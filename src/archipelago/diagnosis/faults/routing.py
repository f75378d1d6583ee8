"""Mistakes in routing."""

from __future__ import annotations

from collections.abc import Iterable

from archipelago.addressing.values import Address, Prefix
from archipelago.knowledge.devices import Node
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.network import Device, Path, Route


def routing_off(node: Node, version: int) -> Finding:
    written = node.written
    routing = written.routing if isinstance(written, Device) and written.routing else ()
    kind = "routing" if node.kind in ("router", "l3switch") else "kind"
    families = [f"ipv{family}" for family in sorted({*routing, version})]
    return Finding(
        "routing-off",
        "error",
        node.name,
        ("devices", node.name, kind),
        f"{node.name} holds gateways but does not forward IPv{version}",
        "nothing crosses from one of its subnets to another",
        f"switch IPv{version} forwarding on at {node.name}",
        (Edit(("devices", node.name, "routing"), families),),
    )


def route_missing(node: Node, destination: Prefix, via: Address | None, breaks: str) -> Finding:
    path: Path = ("devices", node.name, "routes")
    return Finding(
        "route-missing",
        "error",
        node.name,
        path,
        f"{node.name} has no route to {destination}",
        breaks,
        f"add a route to {destination} via {via} on {node.name}"
        if via
        else f"give {node.name} a route to {destination}",
        (Edit((*path, "+"), {"destination": str(destination), "next-hop": str(via)}),) if via else (),
    )


def routes_missing(node: Node, prefixes: list[Prefix], via: Address | None) -> Finding:
    """Several subnets that a device has no route to, all in one direction: one mistake, such as a forgotten default."""
    if len(prefixes) == 1:
        breaks = f"nothing from {node.name} or behind it gets to {prefixes[0]}, nor back"
        return route_missing(node, prefixes[0], via, breaks)
    path: Path = ("devices", node.name, "routes")
    names = ", ".join(str(prefix) for prefix in prefixes[:8]) + (", ..." if len(prefixes) > 8 else "")
    return Finding(
        "route-missing",
        "error",
        node.name,
        path,
        f"{node.name} has no route to {len(prefixes)} subnets: {names}",
        f"nothing from {node.name} or behind it gets there, nor back",
        f"add routes to these {len(prefixes)} via {via} on {node.name}" if via else f"give {node.name} routes to them",
        tuple(Edit((*path, "+"), {"destination": str(to), "next-hop": str(via)}) for to in prefixes) if via else (),
    )


def route_dead(node: Node, route: Route, index: int, why: str, via: Address | None) -> Finding:
    """A static route whose next hop cannot be used."""
    path: Path = ("devices", node.name, "routes", index)
    return Finding(
        "next-hop-unusable",
        "error",
        node.name,
        (*path, "next-hop"),
        f"the route to {route.destination} via {route.next_hop} on {node.name}: {why}",
        f"{node.name} does not use it",
        f"set its next hop to {via}" if via else "remove it, or mend its next hop",
        (Edit((*path, "next-hop"), str(via)),) if via else (),
    )


def routing_loop(node: Node, route: Route, index: int, names: Iterable[str], via: Address | None) -> Finding:
    path: Path = ("devices", node.name, "routes", index)
    circle = " and ".join(names)
    return Finding(
        "routing-loop",
        "error",
        node.name,
        path,
        f"{circle} send packets for {route.destination} to each other",
        "such packets go round until their TTL or hop limit runs out",
        f"set the next hop of {route.destination} on {node.name} to {via}"
        if via
        else f"remove the route to {route.destination} from {node.name}",
        (Edit((*path, "next-hop"), str(via)),) if via else (Edit(path, REMOVE),),
    )
