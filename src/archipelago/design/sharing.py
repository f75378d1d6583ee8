"""Gateways that several share: who is active, what each watches, and the spanning tree's root beside them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from archipelago.addressing.values import Address, Prefix
from archipelago.design.draft import Draft, address_in
from archipelago.design.links import Transit
from archipelago.design.wiring import Wiring
from archipelago.model.brief import GatewayPlace
from archipelago.model.network import Network, with_changes
from archipelago.model.parts import Device, Loopback, Route, VlanInterface
from archipelago.model.values import BRIDGE_PRIORITIES, VRIDS
from archipelago.model.virtual import Track, VirtualRouter

FIRST_PRIORITY, NEXT_PRIORITY = 200, 100
"""What the preferred one bids, and the next; each further one bids less by a step."""
STEP = 10
LOST = FIRST_PRIORITY - NEXT_PRIORITY + 2 * STEP
"""What the preferred one loses with its way on: enough to come after the next two."""
HOLD_TIME = 10_000
"""Milliseconds that the preferred one is up before it takes over: time for its ways on."""


def by_preference(vlan: int, gateway: GatewayPlace) -> tuple[str, ...]:
    """The devices of a VLAN's gateway, the one that is to be active first: the first written, or each in turn where the
    roles are spread."""
    devices = gateway.devices
    if not gateway.spread:
        return devices
    turn = list(gateway.vlans).index(vlan) % len(devices)
    return (*devices[turn:], *devices[:turn])


def with_shared(draft: Draft, wiring: Wiring, joined: Sequence[Transit], network: Network) -> Network:
    """The network with its virtual routers, and bridge priorities that make the first of those that share the root.

    Args:
        draft: what was decided so far.
        wiring: which devices share which VLANs.
        joined: the transit VLANs, in some of which they share an address too.
        network: the network as it was designed otherwise.
    """
    if not wiring.sharing:
        return network
    devices = dict(network.devices)
    for vlan, gateway in wiring.serving.items():
        if gateway.shared:
            name = draft.name_of(vlan)
            order = by_preference(vlan, gateway)
            shared = [subnet.gateway for subnet in draft.subnets(name) if subnet.gateway is not None]
            _share(devices, vlan, order, shared)
            who = f"active: {order[0]}, then {', '.join(order[1:])}"
            draft.decide(f"gateway of {name}", f"{', '.join(map(str, shared))}, VRID {_vrid(vlan)}", who)
    for transit in joined:
        if transit.sharing:
            shared = [address_in(subnet, 0).address for subnet in draft.subnets(transit.name)]
            _share(devices, transit.vlan, transit.sharing, shared)
            draft.decide(transit.name, f"shared address {', '.join(map(str, shared))}", "what others send back to")
    pairs = list(dict.fromkeys(wiring.sharing.values()))
    for number, name in enumerate(dict.fromkeys(name for pair in pairs for name in pair), 1):
        priority = BRIDGE_PRIORITIES[min(number, len(BRIDGE_PRIORITIES) - 1)]
        devices[name] = replace(devices[name], bridge_priority=priority)
        why = "the spanning tree's root is where gateways are active" if number == 1 else "the next root"
        draft.decide(f"bridge priority of {name}", str(priority), why)
    return with_changes(network, devices=devices)


def _vrid(vlan: int) -> int:
    """The VLAN's id where it is one of a virtual router, too; else what is left of it, as VLANs do not hear each
    other."""
    return vlan if vlan in VRIDS else 1 + vlan % VRIDS[-1]


def _share(devices: dict[str, Device], vlan: int, order: Sequence[str], shared: Sequence[Address]) -> None:
    """Make the VLAN interfaces of some devices members of virtual routers, one for each family."""
    for place, name in enumerate(order):
        device = devices[name]
        interface = next(
            one for one in device.interfaces.values() if isinstance(one, VlanInterface) and one.vlan == vlan
        )
        virtual = tuple(member(vlan, place, address, _uplinks(device, address.version)) for address in shared)
        own = replace(interface, virtual=virtual)
        devices[name] = replace(device, interfaces={**device.interfaces, own.name: own})


def member(vlan: int, place: int, address: Address, uplinks: Sequence[str]) -> VirtualRouter:
    """A device's part in the virtual router of a VLAN.

    Args:
        vlan: the VLAN's id.
        place: where the device comes among those that share: 0 is to be active.
        address: what they share.
        uplinks: its interfaces without which another should be active.
    """
    lost = LOST if place == 0 else 3 * STEP
    return VirtualRouter(
        vrid=_vrid(vlan),
        addresses=(address,),
        priority=FIRST_PRIORITY if place == 0 else NEXT_PRIORITY - STEP * (place - 1),
        hold_time=HOLD_TIME if place == 0 else 0,
        track=tuple(Track(interface=uplink, priority_decrement=lost) for uplink in uplinks),
    )


def _uplinks(device: Device, version: int) -> list[str]:
    """The routed ports by which a device's best routes of a family leave."""
    parts = [part for part in (*device.ports.values(), *device.interfaces.values()) if not isinstance(part, Loopback)]
    ports = [part for part in parts if not isinstance(part, VlanInterface)]
    best: dict[Prefix, Route] = {}
    for route in device.routes:
        if route.destination.version == version:
            best[route.destination] = min(best.get(route.destination, route), route, key=lambda one: one.metric)
    found: dict[str, None] = {}
    for route in best.values():
        for part in ports:
            if any(own.prefix.holds(route.next_hop.address) for own in part.addresses):
                found.setdefault(part.name)
    return list(found)
