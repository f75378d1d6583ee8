"""A whole design, one decision after another."""

from __future__ import annotations

from archipelago.addressing.values import Prefix
from archipelago.design import gateways, hosts, links, sharing, subnets, switching
from archipelago.design import routes as routing
from archipelago.design.draft import Draft, link_name
from archipelago.design.entrances import entrances_of
from archipelago.design.keeping import with_kept
from archipelago.design.leases import with_leases
from archipelago.design.policy import filters_for, with_filters
from archipelago.design.wiring import routes, wire
from archipelago.errors import DesignError, ModelError
from archipelago.model.brief import Brief
from archipelago.model.network import Network, with_changes
from archipelago.model.parts import Device, End
from archipelago.model.plan import Design, ServedLine


def design(brief: Brief, keep: Network | None = None) -> Design:
    """Turn a brief into a network that holds everything decided.

    Args:
        brief: what is needed.
        keep: a network that is in use: nothing that it holds and the brief still names is moved.

    Raises:
        DesignError: with everything that cannot be built, each with its remedy.
    """
    draft = Draft(brief, keep)
    draft.add_vlans({vlan.name: vlan.id for vlan in brief.vlans.values()})
    for name in brief.devices:
        draft.ports[name], draft.interfaces[name], draft.routes[name] = {}, {}, []
    switching.plug(draft)
    wiring = wire(draft)
    _stop(draft)
    joined = links.transits(draft, wiring)
    draft.add_vlans({transit.name: transit.vlan for transit in joined})
    loopbacks = links.routing_devices(draft) if brief.conventions.loopbacks else []
    subnets.allot(draft, wiring, joined, loopbacks)
    _stop(draft)
    gateways.place(draft, wiring)
    switching.carry(draft, wiring)
    adjacencies = links.connect(draft, wiring, joined)
    links.leave(draft)
    _check_router_hosts(draft)
    hosts.settle(draft)
    _stop(draft)
    homes: dict[Prefix, list[str]] = {}

    def home(name: str, *devices: str) -> None:
        for subnet in draft.subnets(name):
            homes.setdefault(subnet.prefix, []).extend(devices)

    for vlan, gateway in wiring.serving.items():
        home(draft.name_of(vlan), *sharing.by_preference(vlan, gateway))
    for transit in joined:
        home(transit.name, *(device for device, _ in transit.ends))
    for cable in wiring.routed:
        home(link_name(cable), cable.a.device, cable.b.device)
    for name in loopbacks:
        home(f"loopback {name}", name)
    routing.route(draft, adjacencies, homes)
    network = sharing.with_shared(draft, wiring, joined, _network(draft))
    if keep is not None:
        network = with_kept(network, keep)
    assert draft.carving is not None
    subnets_of = {name: [(a.prefix, a.gateway) for a in draft.subnets(name)] for name in brief.vlans}
    network = with_leases(draft, network, entrances_of(network, subnets_of, None))
    _stop(draft)
    network, lines = _kept(draft, network)
    return Design(network, draft.carving, tuple(draft.decisions), tuple(draft.requests), tuple(lines))


def _network(draft: Draft) -> Network:
    brief = draft.brief
    try:
        return Network(
            brief.title,
            dict(draft.vlans),
            {name: _device(draft, name) for name in brief.devices},
            draft.hosts,
            brief.cables,
            expect=brief.expect,
            traffic=brief.traffic,
            outside=links.ports_outside(draft),
            domain=brief.domain,
        )
    except ModelError as error:  # what is expected can name interfaces, which only now are known
        raise DesignError([problem.message for problem in error.problems]) from None


def _kept(draft: Draft, network: Network) -> tuple[Network, list[ServedLine]]:
    """The network with the filters that its policy asks for, and what each of their lines is for."""
    brief = draft.brief
    if brief.policy is None:
        return network, []
    lines: list[ServedLine] = []
    subnets_of = {name: [(a.prefix, a.gateway) for a in draft.subnets(name)] for name in brief.vlans}
    outside = brief.outside.at if brief.outside is not None else None
    wanted = filters_for(network, brief.policy, entrances_of(network, subnets_of, outside))
    for one in wanted:
        if one.filter is not None:
            way = "comes in" if one.inwards else "goes out"
            draft.decide(f"filter {one.filter.name}", f"at {one.entrance.at}, for what {way}", one.why)
            lines += [
                ServedLine(str(one.entrance.at), one.filter.name, number, rule, serves)
                for number, (rule, serves) in enumerate(zip(one.filter.rules, one.serves, strict=True), 1)
            ]
    return with_changes(with_filters(network, wanted), policy=brief.policy), lines


def _stop(draft: Draft) -> None:
    if draft.reasons:
        raise DesignError(list(dict.fromkeys(draft.reasons)))


def _check_router_hosts(draft: Draft) -> None:
    """A host on a router's port needs the port to be its VLAN's own."""
    for name, end in draft.host_ends.items():
        if draft.brief.devices[end.device].kind != "router":
            continue
        vlan = draft.brief.hosts[name].vlan
        served = [
            g for g in draft.brief.gateways if End(g.device, g.port or "") == end and g.untagged and vlan in g.vlans
        ]
        if not served:
            label = draft.name_of(vlan)
            draft.reasons.append(
                f"host '{name}' is at {end}, a router's port; give the whole port to its VLAN with "
                f"{{for: {label}, at: {end}, untagged: true}} under 'gateways', or plug it into a switch"
            )


def _device(draft: Draft, name: str) -> Device:
    need = draft.brief.devices[name]
    routing_families = None
    if need.kind == "l3switch":
        versions = sorted(
            {space.version for space in draft.brief.space} | {a.prefix.version for a in draft.allotments.values()}
        )
        routing_families = tuple(versions) if routes(draft, name) else ()
    order = {port: index for index, port in enumerate(need.ports or ())}
    ports = dict(
        sorted(draft.ports[name].items(), key=lambda item: (order.get(item[0], len(order)), _natural(item[0])))
    )
    return Device(
        name=name,
        kind=need.kind,
        routing=routing_families,
        vlans=None,
        ports=ports,
        interfaces=draft.interfaces[name],
        routes=tuple(draft.routes[name]),
        gateway=tuple(draft.gateway.get(name, ())),
    )


def _natural(name: str) -> tuple[str, int]:
    """Sort key that puts p2 before p10."""
    stem = name.rstrip("0123456789")
    return stem, int(name[len(stem) :] or 0)
