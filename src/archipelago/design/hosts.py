"""An address and a gateway for every host, and for the management interface of switches that have one."""

from __future__ import annotations

from collections.abc import Iterable

from archipelago.addressing.carve import Allotment
from archipelago.addressing.values import Address, InterfaceAddress
from archipelago.design.draft import Draft
from archipelago.design.wiring import routes
from archipelago.model.brief import HostNeed
from archipelago.model.parts import Device, Host, NextHop, VlanInterface


def settle(draft: Draft) -> None:
    """Give out addresses from the static ranges in the order of the brief; those written or held before stay."""
    takers: list[tuple[str, int, tuple[InterfaceAddress, ...]]] = []
    for host in draft.brief.hosts.values():
        old = draft.old.hosts.get(host.name) if draft.old else None
        takers.append((host.name, host.vlan, _wanted(draft, host.vlan, host.addresses, old.addresses if old else ())))
    for need in draft.brief.devices.values():
        if need.manage is not None and not _has_interface(draft, need.name, need.manage):
            before = draft.old.devices.get(need.name) if draft.old else None
            managed = _managed(before, need.manage) if before else []
            takers.append((need.name, need.manage, _wanted(draft, need.manage, (), managed)))
    taken = _taken(draft, takers)
    for name, vlan, wanted in takers:
        addresses, gateways = [], []
        asked = draft.brief.hosts.get(name)
        six = any(subnet.prefix.version == 6 for subnet in draft.subnets(draft.name_of(vlan)))
        auto = asked is not None and asked.auto and six  # in a VLAN without IPv6 nobody tells it an address
        for subnet in draft.subnets(draft.name_of(vlan)):
            if asked is not None and asked.dhcp and subnet.prefix.version == 4:
                continue  # a server leases it
            if auto and subnet.prefix.version == 6 and all(address.version == 4 for address in wanted):
                continue  # its routers tell it
            chosen = next((kept for kept in wanted if kept.version == subnet.prefix.version), None)
            if chosen is None:
                chosen = _next(draft, name, subnet, taken)
                if chosen is None:
                    continue
            elif not subnet.prefix.holds(chosen) or chosen.length != subnet.prefix.length:
                draft.reasons.append(
                    f"host '{name}' asks for {chosen}, but the subnet of '{draft.name_of(vlan)}' is {subnet.prefix}; "
                    f"write an address of it, with /{subnet.prefix.length}"
                )
            addresses.append(chosen)
            if subnet.gateway is not None:
                gateways.append(NextHop(subnet.gateway))
        if name in draft.brief.hosts:
            if name in draft.host_ends:
                ends = draft.host_ends[name]
                both = tuple(addresses), tuple(gateways)
                draft.hosts[name] = Host(name, ends, *both, auto=auto, dhcp=_leases(asked))
        else:
            draft.interfaces[name]["manage"] = VlanInterface("manage", vlan, tuple(addresses))
            if not routes(draft, name):  # one that routes has routes
                draft.gateway[name] = gateways


def _leases(asked: HostNeed | None) -> bool:
    return asked is not None and asked.dhcp


def _has_interface(draft: Draft, device: str, vlan: int) -> bool:
    """Whether a device stands in its management VLAN already, as its gateway: it is managed there, then."""
    served = next(
        (interface for interface in draft.interfaces[device].values() if getattr(interface, "vlan", None) == vlan), None
    )
    if served is not None:
        why = f"it is the gateway of {draft.name_of(vlan)}, and a device takes one interface in a VLAN"
        draft.decide(device, f"managed at {served.name}", why)
    return served is not None


def _managed(device: Device, vlan: int) -> list[InterfaceAddress]:
    """The addresses that a device holds in its management VLAN."""
    return [
        address
        for interface in device.interfaces.values()
        if isinstance(interface, VlanInterface) and interface.vlan == vlan
        for address in interface.addresses
    ]


def _wanted(
    draft: Draft, vlan: int, written: Iterable[InterfaceAddress], old: Iterable[InterfaceAddress]
) -> tuple[InterfaceAddress, ...]:
    """The addresses that are decided already: those written, else those held before that are still in the subnet."""
    by_version = {address.version: address for address in written}
    for subnet in draft.subnets(draft.name_of(vlan)):
        for address in old:
            if subnet.prefix.holds(address) and address.length == subnet.prefix.length:
                by_version.setdefault(address.version, address)
    return tuple(by_version.values())


def _taken(draft: Draft, takers: list[tuple[str, int, tuple[InterfaceAddress, ...]]]) -> dict[Address, str]:
    taken: dict[Address, str] = {}
    for allotment in draft.allotments.values():
        if allotment.gateway is not None:
            taken[allotment.gateway] = f"the gateway of '{allotment.name}'"
    for (device, vlan), addresses in draft.own.items():
        taken.update({own.address: f"{device}, which shares the gateway of '{vlan}'," for own in addresses})
    for name, _, wanted in takers:
        for address in wanted:
            if address.address in taken:
                draft.reasons.append(
                    f"host '{name}' asks for {address.address}, which {taken[address.address]} has; write another"
                )
            taken.setdefault(address.address, f"host '{name}'")
    if draft.old is not None:
        for host in draft.old.hosts.values():
            for address in host.addresses:
                taken.setdefault(address.address, f"host '{host.name}' of the old network")
    return taken


def _next(draft: Draft, name: str, allotment: Allotment, taken: dict[Address, str]) -> InterfaceAddress | None:
    """The next free address: in the static range, then anywhere usable."""
    ranges = [allotment.static] if allotment.static else []
    for first, last in (*ranges, (allotment.first, allotment.last)):
        mark = (allotment.name, allotment.prefix.version, first.value)
        start = draft.cursors.get(mark, first.value)
        for value in range(start, last.value + 1):
            address = Address(allotment.prefix.version, value)
            if address not in taken:
                taken[address] = f"host '{name}'"
                draft.cursors[mark] = value
                return InterfaceAddress(allotment.prefix.version, value, allotment.prefix.length)
        draft.cursors[mark] = last.value + 1
    draft.reasons.append(
        f"no address is left in {allotment.prefix} for '{name}'; raise 'hosts' of '{allotment.name}' in the brief"
    )
    return None
