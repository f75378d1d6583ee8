"""Gateways that move to a layer 3 switch, or to two that share them, with all that goes along: uplink, default, return
routes, relays, pools, filters, tracking."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import fields, replace
from itertools import islice
from typing import Any

from archipelago.addressing.values import Address, InterfaceAddress, Prefix, is_link_local
from archipelago.changes.renumbered import check_free
from archipelago.design.sharing import member
from archipelago.diagnosis.faults.words import free_addresses
from archipelago.errors import QueryError
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.index import NetworkIndex, index_network
from archipelago.model.network import Network, pools_in, with_changes
from archipelago.model.parts import USUAL_MTU, Aggregate, Device, NextHop, Route, Subinterface, VlanInterface
from archipelago.model.recipe import MovedGateways
from archipelago.model.values import free_name
from archipelago.model.virtual import VirtualRouter

HIGHEST_ID = 4094
OTHER_METRIC = 10
"""Of routes between two that share gateways, for what comes to the one while the other has them."""


def moved(network: Network, asked: MovedGateways) -> Network:
    """The network with gateways elsewhere; the old interfaces are gone.

    Raises:
        QueryError: a VLAN has no gateway, or several; a filter cannot go along; nothing joins the old place and new.
    """
    index = index_network(network)
    places = {vlan: _place(index, vlan, asked) for vlan in asked.vlans}
    devices = dict(network.devices)
    vlans = dict(network.vlans)
    for old in dict.fromkeys(node.name for node, _ in places.values()):
        own = [(vlan, nic) for vlan, (node, nic) in places.items() if node.name == old]
        devices, vlans, links = _joined(index, devices, vlans, old, own, asked)
        for vlan, nic in own:
            devices = _one(index, devices, vlan, (places[vlan][0], nic), links)
    return with_changes(network, devices=devices, vlans=vlans)


def _place(index: NetworkIndex, vlan: int, asked: MovedGateways) -> tuple[Node, Nic]:
    """Where the gateway of a VLAN is now."""
    found = [
        (node, nic)
        for node in index.knowledge.devices.values()
        for nic in node.nics.values()
        if nic.vlan == vlan and node.forwards and nic.addresses and nic.kind in ("subinterface", "vlan")
    ]
    name = index.vlan_name(vlan)
    if len(found) != 1:
        listed = ", ".join(f"{node.name}/{nic.name}" for node, nic in found) or "none"
        raise QueryError(f"VLAN {name} must have one gateway to move; it has {listed}")
    node, nic = found[0]
    if node.name in asked.to:
        raise QueryError(f"the gateway of VLAN {name} is on {node.name} already")
    return node, nic


def _one(
    index: NetworkIndex, devices: dict[str, Device], vlan: int, place: tuple[Node, Nic], links: dict[str, str]
) -> dict[str, Device]:
    """The devices once the gateway of one VLAN has moved to those that have `links`, each the one that leads back."""
    node, nic = place
    old = devices[node.name]
    part = old.interfaces[nic.name]
    assert isinstance(part, (Subinterface, VlanInterface))
    if isinstance(part, Subinterface) and part.source_nat:
        raise QueryError(f"{node.name}/{nic.name} translates sources, which a layer 3 switch cannot: move it by hand")
    filters = _filters(index, old, part)
    pools = {
        name: pool for name, pool in old.dhcp_pools.items() if any(pool.subnet == own.prefix for own in part.addresses)
    }
    addresses = _own_addresses(index, part.addresses, len(links))
    for number, (target, link) in enumerate(links.items()):
        device = devices[target]
        name = _free(f"{index.vlan_key(vlan)}-gw", device)
        shared = _shared(part.addresses, vlan, number, [link]) if len(links) > 1 else part.virtual
        called, filters_there = _beside(device.filters, filters)
        _, pools_there = _beside(device.dhcp_pools, pools if number == 0 else {})
        made = _at_the_new_place(
            part,
            name=name,
            vlan=vlan,
            addresses=addresses[number],
            filter_in=called.get(part.filter_in),
            filter_out=called.get(part.filter_out),
            virtual=shared,
        )
        routing = {*(device.routing or ()), *(own.version for own in part.addresses)}
        held = device.vlans
        devices = {
            **devices,
            target: replace(
                device,
                routing=tuple(sorted(routing)),
                vlans=held if held is None or vlan in held else (*held, vlan),
                interfaces={**_without(device, vlan, part.addresses), name: made},
                filters=filters_there,
                dhcp_pools=pools_there,
                gateway=tuple(hop for hop in device.gateway if hop.address.version not in routing),
            ),
        }
    left = {name: one for name, one in old.interfaces.items() if name != part.name}
    named = {
        getattr(one, key, None) for one in (*left.values(), *old.ports.values()) for key in ("filter_in", "filter_out")
    }
    gone = {part.filter_in, part.filter_out} - named
    kept = {name: one for name, one in old.filters.items() if name not in gone}
    rest = {name: pool for name, pool in old.dhcp_pools.items() if name not in pools}
    return {**devices, node.name: replace(old, interfaces=left, filters=kept, dhcp_pools=rest)}


def _beside(own: Mapping[str, Any], brought: Mapping[str, Any]) -> tuple[dict[str | None, str], dict[str, Any]]:
    """Filters or pools brought to a device: what each is called there, and all that the device then has. One that is
    called like another of its own gets a name of its own."""
    called: dict[str | None, str] = {}
    there = dict(own)
    for name, part in brought.items():
        new = free_name(name, {other for other, own_part in there.items() if replace(own_part, name=name) != part})
        called[name] = new
        there[new] = replace(part, name=new)
    return called, there


def _at_the_new_place(part: Subinterface | VlanInterface, **otherwise: Any) -> VlanInterface:
    """The gateway as a VLAN interface: all that is set at the old one and not said otherwise goes along."""
    same = {spec.name: getattr(part, spec.name) for spec in fields(VlanInterface) if hasattr(part, spec.name)}
    return VlanInterface(**{**same, **otherwise})


def _without(device: Device, vlan: int, addresses: Sequence[InterfaceAddress]) -> dict[str, Any]:
    """The interfaces of a device but its own one in the VLAN, by which it was managed: the gateway takes its place."""
    subnets = {own.prefix for own in addresses}
    return {
        name: one
        for name, one in device.interfaces.items()
        if not (
            isinstance(one, VlanInterface) and one.vlan == vlan and {own.prefix for own in one.addresses} <= subnets
        )
    }


def _filters(index: NetworkIndex, old: Device, part: Subinterface | VlanInterface) -> dict[str, Any]:
    """The filters that go along. Where a policy says what is wanted, that is worked out anew for those that a layer 3
    switch cannot have."""
    names = [name for name in (part.filter_in, part.filter_out) if name is not None]
    for name in names:
        if name in old.filters and old.filters[name].stateful and index.network.policy is not None:
            return {}
        if name in old.filters and old.filters[name].stateful:
            raise QueryError(
                f"filter {name} of {old.name}/{part.name} is stateful, which a layer 3 switch cannot be: "
                "write a policy, or lines for the answers, first"
            )
    return {name: old.filters[name] for name in names if name in old.filters}


def _own_addresses(
    index: NetworkIndex, addresses: tuple[InterfaceAddress, ...], count: int
) -> list[tuple[InterfaceAddress, ...]]:
    """The addresses of each that takes over: the old ones, or, where two share them, free ones beside them."""
    if count == 1:
        return [addresses]
    ranges = [one for pool in pools_in(index.network) for one in pool.ranges]
    free = {
        own: [one for one in free_addresses(index, own.prefix) if not any(kept.holds(one.address) for kept in ranges)]
        for own in addresses
    }
    for own, found in free.items():
        if len(found) < count:
            raise QueryError(f"{own.prefix} has no {count} free addresses for those that share the gateway")
    return [tuple(free[own][number] for own in addresses) for number in range(count)]


def _shared(
    addresses: Sequence[InterfaceAddress], vlan: int, place: int, uplinks: Sequence[str]
) -> tuple[VirtualRouter, ...]:
    """A part in the virtual router of each family, as a design has it."""
    families: dict[int, tuple[Address, ...]] = {}
    for own in addresses:
        families[own.version] = (*families.get(own.version, ()), own.address)
    return tuple(replace(member(vlan, place, held[0], uplinks), addresses=held) for _, held in sorted(families.items()))


# The way between the old place and the new


def _joined(
    index: NetworkIndex,
    devices: dict[str, Device],
    vlans: dict[str, int],
    old: str,
    own: list[tuple[int, Nic]],
    asked: MovedGateways,
) -> tuple[dict[str, Device], dict[str, int], dict[str, str]]:
    """The devices with a transit VLAN between the old place and the new ones: a default there, return routes here; the
    VLANs; and the interface in it of each new one."""
    subnets = [address.prefix for _, nic in own for address in nic.addresses if not is_link_local(address.address)]
    number = next(one for one in range(HIGHEST_ID, 1, -1) if one not in vlans.values())
    name = next(one for one in ("transit", *(f"transit-{n}" for n in range(2, 99))) if one not in vlans)
    members = [old, *asked.to]
    pair = len(asked.to) > 1
    places = _transit(index, asked, members, {subnet.version for subnet in subnets})
    octets = max(nic.mtu for _, nic in own)
    for carried in (number, *(vlan for vlan, _ in own)):
        devices = _carried(index, devices, old, asked.to, carried)
    links: dict[str, str] = {}
    for place, one in enumerate(members):
        port = _leading(index, old, asked.to[0]) if place == 0 and devices[old].kind == "router" else None
        shared = [own[-1] for own in places.values()] if pair and place else []
        interface = _link(devices[one], port, (name, number), [own[place] for own in places.values()], octets)
        if isinstance(interface, VlanInterface) and shared:
            interface = replace(interface, virtual=_shared(shared, number, place - 1, []))
        links[one] = interface.name
        devices = {**devices, one: _having(devices[one], interface, number)}

    def ways(to: int, subnets: Sequence[Prefix], metric: int = 1) -> Iterator[Route]:
        """Routes by the transit VLAN to one of its members, or to what two share."""
        yield from (Route(one, NextHop(places[one.version][to].address), metric) for one in subnets)

    for place, target in enumerate(asked.to, 1):
        device = devices[target]
        defaults = [Prefix(version, 0, 0) for version in places]
        lacking = [one for one in defaults if all(route.destination != one for route in device.routes)]
        other = ways(3 - place, subnets, OTHER_METRIC) if pair else ()
        devices[target] = replace(device, routes=(*device.routes, *ways(0, lacking), *other))
    back = ways(-1 if pair else 1, subnets)
    devices[old] = replace(devices[old], routes=(*devices[old].routes, *back))
    for one in devices.keys() - set(members):
        more = tuple(_to_transit(devices[one], asked.transit, subnets))
        if more:
            devices[one] = replace(devices[one], routes=(*devices[one].routes, *more))
    return devices, {**vlans, name: number}, {target: links[target] for target in asked.to}


def _to_transit(device: Device, transit: Sequence[Prefix], subnets: Sequence[Prefix]) -> Iterator[Route]:
    """The routes that take a device to the transit subnets as to the subnets that move, where it has none."""
    for subnet in transit:
        beside = next(
            (
                one
                for one in device.routes
                if any(one.destination.covers(own) for own in subnets if own.version == subnet.version)
            ),
            None,
        )
        if beside is not None and not any(one.destination.covers(subnet) for one in device.routes):
            yield replace(beside, destination=subnet)


def _transit(
    index: NetworkIndex, asked: MovedGateways, members: Sequence[str], versions: set[int]
) -> dict[int, list[InterfaceAddress]]:
    """By family the addresses in the transit VLAN: of each member, and, where two share gateways, what they share."""
    if versions - {prefix.version for prefix in asked.transit}:
        wanted = " and ".join(f"IPv{version}" for version in sorted(versions))
        both = f"{members[0]} and {' and '.join(asked.to)}"
        raise QueryError(f"'transit' is missing: a free subnet of {wanted} over which {both} route")
    count = len(members) + (len(asked.to) > 1)
    places: dict[int, list[InterfaceAddress]] = {}
    for prefix in asked.transit:
        check_free(index, prefix)
        found = list(islice(free_addresses(index, prefix), count))
        if len(found) < count:
            more = " and what two share" * (len(asked.to) > 1)
            raise QueryError(f"{prefix} is too small for {', '.join(members)}{more}")
        places.setdefault(prefix.version, found)
    return places


def _link(
    device: Device, port: str | None, vlan: tuple[str, int], addresses: Sequence[InterfaceAddress], octets: int
) -> Subinterface | VlanInterface:
    """A device's interface in the transit VLAN, which passes what the gateways passed; a router has it on the port that
    leads there."""
    name, number = vlan
    mtu = None if octets == USUAL_MTU else octets
    if port is not None:
        return Subinterface(_free(f"{port}.{number}", device), port, number, addresses=tuple(addresses), mtu=mtu)
    return VlanInterface(_free(f"{name}-link", device), number, tuple(addresses), mtu=mtu)


def _having(device: Device, interface: Subinterface | VlanInterface, vlan: int) -> Device:
    """A device with one more interface, and the VLAN that it is in."""
    held = device.vlans
    return replace(
        device,
        interfaces={**device.interfaces, interface.name: interface},
        vlans=held if held is None or vlan in held else (*held, vlan),
    )


def _carried(
    index: NetworkIndex, devices: dict[str, Device], old: str, targets: Sequence[str], vlan: int
) -> dict[str, Device]:
    """The trunks on the ways between the old place and the new carry the transit VLAN."""
    for target in targets:
        way = _way(index, old, target)
        if way is None:
            raise QueryError(f"no cables over switches join {old} and {target}, so no transit VLAN can")
        for device, port in way:
            part = _port(devices[device], port)
            if part is not None and isinstance(part.trunk, tuple) and vlan not in part.trunk:
                devices = {**devices, device: _with_port(devices[device], replace(part, trunk=(*part.trunk, vlan)))}
            held = devices[device].vlans
            if held is not None and vlan not in held:
                devices = {**devices, device: replace(devices[device], vlans=(*held, vlan))}
    return devices


def _leading(index: NetworkIndex, old: str, target: str) -> str:
    """The port, or the aggregate, of a device that leads to another."""
    name = next((port for device, port in _way(index, old, target) or () if device == old), "")
    part = _port(index.network.devices[old], name)
    return name if part is None else part.name


def _way(index: NetworkIndex, start: str, goal: str) -> list[tuple[str, str]] | None:
    """The ports on the shortest way over cables and switches."""
    before: dict[str, tuple[str, tuple[str, str], tuple[str, str]]] = {}
    waiting = deque([start])
    while waiting:
        here = waiting.popleft()
        for cable in index.network.cables:
            for near, far in (cable.ends, cable.ends[::-1]):
                live = near.device == here and index.knowledge.links[near].carrier
                switches = far.device in index.network.devices and index.network.devices[far.device].kind != "router"
                if (
                    live
                    and switches
                    and far.device not in before
                    and far.device != start
                    and _switched(index, near, far)
                ):
                    before[far.device] = (here, (near.device, near.port), (far.device, far.port))
                    waiting.append(far.device)
    if goal not in before:
        return None
    way: list[tuple[str, str]] = []
    while goal != start:
        goal, near_end, far_end = before[goal]
        way += [near_end, far_end]
    return way


def _switched(index: NetworkIndex, near: Any, far: Any) -> bool:
    """Whether a cable can carry VLANs: its far end is switched, its near end too or a router's with tags."""
    if index.network.devices[far.device].kind == "router":
        return False
    here, there = index.knowledge.attachment_at(near), index.knowledge.attachment_at(far)
    return there.switched and (here.switched or index.network.devices[near.device].kind == "router")


def _port(device: Device, name: str) -> Any:
    """A port, or the aggregate that it is a member of."""
    for one in device.interfaces.values():
        if isinstance(one, Aggregate) and name in one.members:
            return one
    return device.ports.get(name)


def _with_port(device: Device, part: Any) -> Device:
    if isinstance(part, Aggregate):
        return replace(device, interfaces={**device.interfaces, part.name: part})
    return replace(device, ports={**device.ports, part.name: part})


def _free(wanted: str, device: Device) -> str:
    return free_name(wanted, {*device.interfaces, *device.ports})
