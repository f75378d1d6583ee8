"""Mistakes in routing."""

from __future__ import annotations

from collections.abc import Iterable

from archipelago.addressing.values import Address, Prefix
from archipelago.diagnosis.catalogue import finding
from archipelago.diagnosis.faults.words import label, texts
from archipelago.diagnosis.places import nic_path
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.header import FIRST_TTL
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.routes import Entry
from archipelago.model.ends import OUTSIDE
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.parts import Device, Path, Route


def routing_off(node: Node, version: int) -> Finding:
    """A device that is used as a gateway and does not forward the family."""
    written = node.written
    routing = written.routing if isinstance(written, Device) and written.routing else ()
    kind = "routing" if node.can_route else "kind"
    families = [f"ipv{family}" for family in sorted({*routing, version})]
    return finding(
        "routing-off",
        at=node.name,
        path=("devices", node.name, kind),
        says=f"{node.name} holds gateways but does not forward IPv{version}",
        mend=f"switch IPv{version} forwarding on at {node.name}",
        edits=(Edit(("devices", node.name, "routing"), families),),
    )


def route_missing(table: tuple[Node, str], destination: Prefix, next_hop: Address | None, effect: str) -> Finding:
    """A routing table (a device and its `vrf`) without a route that the traffic needs."""
    node, vrf = table
    path: Path = ("devices", node.name, "routes")
    where = f"{node.name} in vrf {vrf}" if vrf else node.name
    add = f"add a route to {destination} via {next_hop} on {where}"
    return finding(
        "route-missing",
        at=node.name,
        path=path,
        says=f"{where} has no route to {destination}",
        mend=add if next_hop else f"give {where} a route to {destination}",
        edits=(Edit((*path, "+"), _route(destination, next_hop, vrf)),) if next_hop else (),
        effect=effect,
    )


def upstream_route_missing(facing: Held | None, prefix: Prefix) -> Finding:
    """The upstream, whose owner is somebody else, has no route to a subnet of ours."""
    ours = f"{facing.node.name}/{facing.nic.name}" if facing is not None else "the port that leads outside"
    via = f" via {facing.address.address}" if facing is not None else ""
    able = facing is not None and facing.node.kind == "router" and prefix.version == 4
    translate = f", or translate: source-nat: {prefix} at {ours}" if able else ""
    return finding(
        "upstream-route-missing",
        at=facing.node.name if facing is not None else OUTSIDE,
        path=("outside",),
        says=f"what is beyond {ours} sends nothing back to {prefix}",
        mend=f"ask the owner of the upstream for a route to {prefix}{via}{translate}",
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
        "translation-missing",
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


def vrf_alone(index: NetworkIndex, node: Node, nic: Nic, other: str) -> Finding:
    """A gateway that is alone in a routing table, while all others of its device are in another."""
    path = (*nic_path((node, nic)), "vrf")
    name, vlan = f"{node.name}/{nic.name}", index.vlan_name(nic.vlan or 0)
    where = f"vrf {other}" if other else "no vrf"
    return finding(
        "vrf-alone",
        at=node.name,
        path=path,
        says=f"{name} is alone in vrf {nic.vrf}, which has no route: hosts of {vlan} reach nobody outside their VLAN",
        mend=f"put {name} in {where}, as the other interfaces of {node.name} are",
        edits=(Edit(path, other or REMOVE),),
        vlan=vlan,
    )


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
        "route-missing",
        at=node.name,
        path=path,
        says=f"{where} has no route to {len(prefixes)} subnets: {names}",
        mend=add if next_hop else f"give {where} routes to them",
        edits=tuple(Edit((*path, "+"), _route(destination, next_hop, vrf)) for destination in prefixes)
        if next_hop
        else (),
        effect=f"nothing from {node.name} or behind it gets there, nor back",
    )


def _route(destination: Prefix, next_hop: Address | None, vrf: str) -> dict[str, str]:
    """A static route as a document writes it."""
    written = {"destination": str(destination), "next-hop": str(next_hop)}
    return {**written, "vrf": vrf} if vrf else written


def way_too_long(node: Node, target: Address) -> Finding:
    """A way that ends somewhere, but not before the packet has passed as many routers as it may."""
    return finding(
        "way-too-long",
        at=node.name,
        path=("devices",),
        says=f"packets to {target} end at {node.name}: their way passes more routers than they may",
        mend=f"lead it over fewer routers: a packet passes {FIRST_TTL - 1} at most",
    )


def next_hop_unusable(
    node: Node, route: Route, position: int, why: str, via: Address | None, idle: bool = False
) -> Finding:
    """A static route whose next hop cannot be used; one that is `idle` never could be, and may go."""
    path: Path = ("devices", node.name, "routes", position)
    otherwise: tuple[Edit, ...] = (Edit(path, REMOVE),) if idle else ()
    elsewhere = table_meant(node, route) if via is None else None
    if elsewhere is not None:
        where = f"vrf {elsewhere}" if elsewhere else "no vrf"
        return finding(
            "next-hop-unusable",
            at=node.name,
            path=(*path, "vrf"),
            says=f"the route to {route.destination} via {route.next_hop} on {node.name}: its next hop is in {where}",
            mend=f"put it in {where}",
            edits=(Edit((*path, "vrf"), elsewhere or REMOVE),),
            device=node.name,
        )
    return finding(
        "next-hop-unusable",
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


def more_specific_route(node: Node, entry: Entry, position: int, wider: Prefix) -> Finding:
    """A static route that takes part of a connected subnet away."""
    path: Path = ("devices", node.name, "routes", position)
    return finding(
        "more-specific-route",
        at=node.name,
        path=path,
        says=f"the route to {entry.prefix} via {entry.next_hop} on {node.name} hides part of {wider}",
        mend=f"remove the route to {entry.prefix} from {node.name}",
        edits=(Edit(path, REMOVE),),
        prefix=entry.prefix,
        device=node.name,
    )


def routing_loop(node: Node, route: Route, position: int, names: Iterable[str], via: Address | None) -> Finding:
    path: Path = ("devices", node.name, "routes", position)
    circle = " and ".join(names)
    return finding(
        "routing-loop",
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
