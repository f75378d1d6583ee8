"""A subnet for every VLAN, routed link and loopback, out of the brief's space."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from archipelago.addressing.carve import Allotment, Need, carve
from archipelago.addressing.values import Address, InterfaceAddress, Prefix
from archipelago.design.draft import Draft, as_shared, link_name, vlan_of
from archipelago.design.links import Transit
from archipelago.design.wiring import Wiring
from archipelago.errors import CarveError
from archipelago.model.brief import foreseen
from archipelago.model.network import Network
from archipelago.model.parts import Port

LONGEST_FOR_SEVERAL = 29
"""The prefix length of a transit VLAN that more than two routing devices stand in."""


def allot(draft: Draft, wiring: Wiring, transit: Sequence[Transit], loopbacks: list[str]) -> None:
    """Carve all subnets at once; what the old network holds is pinned."""
    brief, conventions = draft.brief, draft.brief.conventions
    needs = [*_vlan_needs(draft, wiring), *_link_needs(draft, wiring, transit, loopbacks)]
    try:
        draft.carving = carve(
            brief.space,
            needs,
            reserved=_reserved(draft, needs),
            headroom=conventions.headroom,
            gateway=conventions.gateway,
            by_vlan_id=conventions.subnets == "by-vlan-id",
            leases=conventions.leases,
        )
    except CarveError as error:
        draft.reasons.extend(error.reasons)
        return
    for allotment in draft.carving.allotments:
        draft.allotments[allotment.name, allotment.prefix.version] = allotment
        gateway_text = f", gateway {allotment.gateway}" if allotment.gateway else ""
        why = (
            "kept from the old network"
            if allotment.reason == "pinned" and allotment.prefix in _old_prefixes(draft)
            else {"pinned": "written in the brief"}.get(allotment.reason, allotment.reason)
        )
        room = (
            f"; {allotment.usable:,} usable for {_hosts_text(draft, allotment)} hosts"
            if allotment.prefix.version == 4 and allotment.gateway
            else ""
        )
        draft.decide(allotment.name, f"{allotment.prefix}{gateway_text}", why + room)


def _hosts_text(draft: Draft, allotment: Allotment) -> str:
    """How many hosts a subnet is for, today and later where that is foreseen."""
    vlan = draft.brief.vlans.get(allotment.name)
    later = foreseen(draft.brief, vlan) if vlan is not None else 0
    return f"{allotment.hosts}, later {later}," if later > allotment.hosts else str(allotment.hosts)


def _vlan_needs(draft: Draft, wiring: Wiring) -> Iterator[Need]:
    """What each VLAN asks for: its hosts, foreseen or written, and the devices managed in it."""
    counts: dict[int, int] = {}
    for host in draft.brief.hosts.values():
        counts[host.vlan] = counts.get(host.vlan, 0) + 1
    for device in draft.brief.devices.values():
        if device.manage is not None:
            counts[device.manage] = counts.get(device.manage, 0) + 1
    for vlan in draft.brief.vlans.values():
        kept, kept_gateways = _kept(draft, vlan.id)
        written = {prefix.version for prefix in vlan.subnet}
        pinned = vlan.subnet + tuple(prefix for prefix in kept if prefix.version not in written)
        gateway = vlan.gateway + tuple(
            kept_gateway for kept_gateway in kept_gateways if any(prefix.holds(kept_gateway) for prefix in pinned)
        )
        if vlan.id not in wiring.serving and not vlan.hosts and not counts.get(vlan.id) and not pinned:
            continue
        hosts = max(vlan.hosts, counts.get(vlan.id, 0))
        gateways = 1 + len(wiring.sharing.get(vlan.id, ()))
        need = Need(vlan.name, hosts, vlan.id, gateways, pinned=pinned, gateway=gateway, versions=vlan.families)
        yield replace(need, later=foreseen(draft.brief, vlan))


def _link_needs(draft: Draft, wiring: Wiring, transit: Sequence[Transit], loopbacks: list[str]) -> Iterator[Need]:
    """What the links between routing devices ask for, and their loopbacks."""
    small = {4: draft.brief.conventions.transit, 6: 127}
    for cable in wiring.routed:
        pinned = _kept_link(draft, cable.a.device, cable.a.port)
        yield Need(link_name(cable), 2, None, 0, pinned=pinned, lengths=small)
    for one in transit:
        wide = {4: LONGEST_FOR_SEVERAL, 6: 64} if len(one.ends) > 2 else small
        pinned = _kept(draft, one.vlan)[0]
        yield Need(one.name, len(one.ends) + bool(one.sharing), one.vlan, 0, pinned=pinned, lengths=wide)
    for name in loopbacks:
        yield Need(f"loopback {name}", 1, None, 0, pinned=_kept_loopback(draft, name), lengths={4: 32, 6: 128})


def _reserved(draft: Draft, needs: list[Need]) -> list[Prefix]:
    """What must not be given out: what the brief reserves, the outside's link, and what the old network uses."""
    brief = draft.brief
    reserved = list(brief.reserved)
    if brief.outside is not None:
        reserved += [address.prefix for address in brief.outside.addresses if _inside(brief.space, address.prefix)]
    named = {pin for need in needs for pin in need.pinned}
    for prefix in _held_back(draft):
        if not any(prefix.overlaps(pin) for pin in named) and not any(prefix.overlaps(other) for other in reserved):
            reserved.append(prefix)
            draft.decide(str(prefix), "held back", "the old network uses it, the brief does not name it")
    return reserved


def _inside(spaces: tuple[Prefix, ...], prefix: Prefix) -> bool:
    return any(space.overlaps(prefix) for space in spaces)


def _old_interfaces(old: Network, vlan: int) -> list[InterfaceAddress]:
    """The addresses of a VLAN's gateways: what they share where they do."""
    addresses = []
    for device in old.devices.values():
        if device.kind == "switch":
            continue
        for interface in device.interfaces.values():
            if vlan_of(interface) == vlan:
                addresses += as_shared(interface)
    return addresses


def _kept(draft: Draft, vlan: int) -> tuple[tuple[Prefix, ...], tuple[Address, ...]]:
    """A VLAN's subnets and gateway addresses in the old network, one of each family."""
    if draft.old is None:
        return (), ()
    first: dict[int, InterfaceAddress] = {}
    for old_interface in _old_interfaces(draft.old, vlan):
        first.setdefault(old_interface.version, old_interface)
    return tuple(address.prefix for address in first.values()), tuple(address.address for address in first.values())


def _kept_link(draft: Draft, device: str, port: str) -> tuple[Prefix, ...]:
    if draft.old is None or device not in draft.old.devices:
        return ()
    kept = draft.old.devices[device].ports.get(port) or Port(port)
    return tuple({address.version: address.prefix for address in kept.addresses}.values())


def _kept_loopback(draft: Draft, device: str) -> tuple[Prefix, ...]:
    if draft.old is None or device not in draft.old.devices:
        return ()
    kept = draft.old.devices[device].interfaces.get("self")
    return tuple(address.prefix for address in kept.addresses) if kept else ()


def _old_prefixes(draft: Draft) -> set[Prefix]:
    if draft.old is None:
        return set()
    prefixes = set()
    for device in draft.old.devices.values():
        for interface in (*device.ports.values(), *device.interfaces.values()):
            prefixes |= {address.prefix for address in interface.addresses}
    return prefixes


def _held_back(draft: Draft) -> list[Prefix]:
    """Subnets of the old network that lie in the space, largest first."""
    prefixes = [prefix for prefix in _old_prefixes(draft) if _inside(draft.brief.space, prefix)]
    return sorted(prefixes, key=lambda prefix: (prefix.version, prefix.length, prefix.value))
