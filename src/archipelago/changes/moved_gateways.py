"""Gateways that move to a layer 3 switch, or to two that share them, with all that goes along: uplink, default, return
routes, relays, pools, filters, tracking."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any

from archipelago.addressing.values import Address, InterfaceAddress, Prefix, is_link_local
from archipelago.changes.renumbered import check_free
from archipelago.errors import QueryError
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.index import NetworkIndex, index_network
from archipelago.model.network import Network, pools_in, with_changes
from archipelago.model.parts import Aggregate, Device, NextHop, Route, Subinterface, VlanInterface
from archipelago.model.recipe import MovedGateways
from archipelago.model.virtual import Track, VirtualRouter

HIGHEST_ID = 4094
PRIORITIES = (110, 100)
DECREMENT = 20


def moved(network: Network, asked: MovedGateways) -> Network:
    """The network with gateways elsewhere; the old interfaces are gone.

    Raises:
        QueryError: a VLAN has no gateway, or several; a filter cannot go along; nothing joins the old place and new.
    """
    index = index_network(network)
    places = {vlan: _place(index, vlan, asked) for vlan in asked.vlans}
    devices = dict(network.devices)
    vlans = dict(network.vlans)
    for vlan, (node, nic) in places.items():
        devices = _one(index, devices, vlan, (node, nic), asked)
    for old in dict.fromkeys(node.name for node, _ in places.values()):
        own = [(vlan, nic) for vlan, (node, nic) in places.items() if node.name == old]
        devices, vlans = _joined(index, devices, vlans, old, own, asked)
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
    index: NetworkIndex, devices: dict[str, Device], vlan: int, place: tuple[Node, Nic], asked: MovedGateways
) -> dict[str, Device]:
    """The devices once the gateway of one VLAN has moved."""
    node, nic = place
    old = devices[node.name]
    part = old.interfaces[nic.name]
    assert isinstance(part, (Subinterface, VlanInterface))
    filters = _filters(index, old, part)
    pools = {
        name: pool for name, pool in old.dhcp_pools.items() if any(pool.subnet == own.prefix for own in part.addresses)
    }
    addresses = _own_addresses(index, part.addresses, len(asked.to))
    for number, target in enumerate(asked.to):
        device = devices[target]
        name = _free(f"{index.vlan_key(vlan)}-gw", device)
        shared = _shared(index, part, number, vlan) if len(asked.to) > 1 else part.virtual
        made = VlanInterface(
            name,
            vlan,
            addresses[number],
            vrf=part.vrf,
            filter_in=part.filter_in if filters else None,
            filter_out=part.filter_out if filters else None,
            dhcp_relay=part.dhcp_relay,
            virtual=shared,
        )
        families = {own.version for own in part.addresses}
        held = device.vlans
        devices = {
            **devices,
            target: replace(
                device,
                routing=tuple(sorted({*(device.routing or ()), *families})),
                vlans=held if held is None or vlan in held else (*held, vlan),
                interfaces={**_without(device, vlan, part.addresses), name: made},
                filters={**device.filters, **filters},
                dhcp_pools={**device.dhcp_pools, **(pools if number == 0 else {})},
                gateway=(),
            ),
        }
    left = {name: one for name, one in old.interfaces.items() if name != part.name}
    named = {
        getattr(one, key, None) for one in (*left.values(), *old.ports.values()) for key in ("filter_in", "filter_out")
    }
    kept = {name: one for name, one in old.filters.items() if name in named}
    rest = {name: pool for name, pool in old.dhcp_pools.items() if name not in pools}
    return {**devices, node.name: replace(old, interfaces=left, filters=kept, dhcp_pools=rest)}


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
    """The filters that go along; none where a policy says what is wanted, which is then worked out anew."""
    if index.network.policy is not None:
        return {}
    names = [name for name in (part.filter_in, part.filter_out) if name is not None]
    for name in names:
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
    free = {own: _free_in(index, own) for own in addresses}
    return [
        tuple(InterfaceAddress(own.version, next(free[own]), own.length) for own in addresses) for _ in range(count)
    ]


def _free_in(index: NetworkIndex, own: InterfaceAddress) -> Iterator[int]:
    """Addresses of a subnet that nobody holds and no pool gives out."""
    taken = {
        held.value
        for node in index.knowledge.nodes.values()
        for nic in node.nics.values()
        for held in nic.addresses
        if own.prefix.holds(held.address)
    }
    ranges = [one for pool in pools_in(index.network) for one in pool.ranges]
    first, last = own.prefix.usable()
    for value in range(first, last + 1):
        if value not in taken and not any(one.holds(Address(own.version, value)) for one in ranges):
            yield value
    raise QueryError(f"{own.prefix} has no free address for the second gateway")


def _shared(
    index: NetworkIndex, part: Subinterface | VlanInterface, number: int, vlan: int
) -> tuple[VirtualRouter, ...]:
    """What two share: a virtual router in each family, with the old addresses."""
    used = {member.written.vrid for member in index.knowledge.elected.every()}
    first = next(vrid for vrid in range(vlan % 255 or 1, 512) if vrid % 256 and vrid % 256 not in used) % 256
    families = sorted({own.version for own in part.addresses})
    return tuple(
        VirtualRouter(first, tuple(own.address for own in part.addresses if own.version == version), PRIORITIES[number])
        for version in families
    )


# The way between the old place and the new


def _joined(
    index: NetworkIndex,
    devices: dict[str, Device],
    vlans: dict[str, int],
    old: str,
    own: list[tuple[int, Nic]],
    asked: MovedGateways,
) -> tuple[dict[str, Device], dict[str, int]]:
    """The devices with a transit VLAN between the old place and the new ones: a default there, return routes here."""
    subnets = [address.prefix for _, nic in own for address in nic.addresses if not is_link_local(address.address)]
    transit = asked.transit
    versions = {subnet.version for subnet in subnets}
    if versions - {prefix.version for prefix in transit}:
        wanted = " and ".join(f"IPv{version}" for version in sorted(versions))
        raise QueryError(
            f"'transit' is missing: a free subnet of {wanted} over which {old} and {' and '.join(asked.to)} route"
        )
    for prefix in transit:
        check_free(index, prefix)
    number = next(one for one in range(HIGHEST_ID, 1, -1) if one not in vlans.values())
    name = next(one for one in ("transit", *(f"transit-{n}" for n in range(2, 99))) if one not in vlans)
    members = [old, *asked.to]
    hosts = {prefix: list(_places(prefix, len(members) + (len(asked.to) > 1))) for prefix in transit}
    for prefix, places in hosts.items():
        if len(places) < len(members) + (len(asked.to) > 1):
            raise QueryError(
                f"{prefix} is too small for {', '.join(members)}" + (" and what two share" * (len(asked.to) > 1))
            )
    for carried in (number, *(vlan for vlan, _ in own)):
        devices = _carried(index, devices, old, asked.to, carried)
    port = _leading(index, old, asked.to[0])
    for place, member in enumerate(members):
        addresses = tuple(InterfaceAddress(prefix.version, hosts[prefix][place], prefix.length) for prefix in transit)
        devices = _with_transit(devices, member, port, (name, number), addresses)
    back = {
        prefix.version: Address(prefix.version, hosts[prefix][-1 if len(asked.to) > 1 else 1]) for prefix in transit
    }
    if len(asked.to) > 1:
        devices = _sharing(index, devices, asked.to, name, back)
        for place, target in enumerate(asked.to):  # what comes to the one while the other has the gateway goes there
            other = {prefix.version: Address(prefix.version, hosts[prefix][2 - place]) for prefix in transit}
            more = tuple(Route(subnet, NextHop(other[subnet.version]), 10) for subnet in subnets)
            devices[target] = replace(devices[target], routes=(*devices[target].routes, *more))
    home = {prefix.version: Address(prefix.version, hosts[prefix][0]) for prefix in transit}
    for target in asked.to:
        device = devices[target]
        lacking = [v for v in sorted(versions) if all(r.destination != Prefix(v, 0, 0) for r in device.routes)]
        more = tuple(Route(Prefix(version, 0, 0), NextHop(home[version])) for version in lacking)
        devices[target] = _tracking(replace(device, routes=(*device.routes, *more)), f"{name}-link", asked)
    routes = tuple(Route(subnet, NextHop(back[subnet.version])) for subnet in subnets)
    devices[old] = replace(devices[old], routes=(*devices[old].routes, *routes))
    return devices, {**vlans, name: number}


def _tracking(device: Device, link: str, asked: MovedGateways) -> Device:
    """Who shares gateways bids less while it has lost the way out."""
    if len(asked.to) < 2:
        return device
    interfaces: dict[str, Any] = {}
    for name, one in device.interfaces.items():
        if isinstance(one, VlanInterface) and one.vlan in asked.vlans:
            shares = tuple(replace(v, track=(*v.track, Track(link, priority_decrement=DECREMENT))) for v in one.virtual)
            interfaces[name] = replace(one, virtual=shares)
        else:
            interfaces[name] = one
    return replace(device, interfaces=interfaces)


def _places(prefix: Prefix, count: int) -> Iterator[int]:
    first, last = prefix.usable()
    yield from range(first, min(last, first + count - 1) + 1)


def _with_transit(
    devices: dict[str, Device], member: str, port: str, vlan: tuple[str, int], addresses: tuple[InterfaceAddress, ...]
) -> dict[str, Device]:
    """A device with its interface in the transit VLAN; a router has it on the port that leads there."""
    device = devices[member]
    name, number = vlan
    if device.kind == "router":
        made: Any = Subinterface(_free(f"{port}.{number}", device), port, number, addresses=addresses)
    else:
        made = VlanInterface(_free(f"{name}-link", device), number, addresses)
    held = device.vlans
    return {
        **devices,
        member: replace(
            device,
            interfaces={**device.interfaces, made.name: made},
            vlans=held if held is None or number in held else (*held, number),
        ),
    }


def _sharing(
    index: NetworkIndex, devices: dict[str, Device], targets: Sequence[str], name: str, back: dict[int, Address]
) -> dict[str, Device]:
    """The return routes lead to an address that the two share, too."""
    used = {member.written.vrid for member in index.knowledge.elected.every()}
    used |= {
        v.vrid for target in targets for one in devices[target].interfaces.values() for v in getattr(one, "virtual", ())
    }
    vrid = next(one for one in range(1, 256) if one not in used)
    for number, target in enumerate(targets):
        device = devices[target]
        link = device.interfaces[f"{name}-link"]
        assert isinstance(link, VlanInterface)
        shares = tuple(VirtualRouter(vrid, (address,), PRIORITIES[number]) for _, address in sorted(back.items()))
        devices[target] = replace(device, interfaces={**device.interfaces, link.name: replace(link, virtual=shares)})
    return devices


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
    taken = {*device.interfaces, *device.ports}
    return next(one for one in (wanted, *(f"{wanted}-{number}" for number in range(2, 99))) if one not in taken)
