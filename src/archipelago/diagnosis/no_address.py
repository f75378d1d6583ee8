from __future__ import annotations

from archipelago.addressing.values import Address
from archipelago.diagnosis.cabling import link_fault, own_fault
from archipelago.diagnosis.cut import cut
from archipelago.diagnosis.faults.hosts import device_unaddressed, host_unaddressed
from archipelago.diagnosis.faults.routing import does_not_route
from archipelago.diagnosis.faults.words import node_path
from archipelago.diagnosis.interface_down import interface_down
from archipelago.diagnosis.kind import NEVER, Example, Kind, finding
from archipelago.diagnosis.no_lease import no_lease
from archipelago.diagnosis.places import host_end, nic_path, plugged_vlan, vlan_of
from archipelago.diagnosis.stop import Stop
from archipelago.knowledge.devices import Node
from archipelago.knowledge.ends import first_address
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Finding
from archipelago.model.parts import Host


def no_address(index: NetworkIndex, node: Node, stop: Stop) -> Finding:
    """A station that has no address of the family that it should send by."""
    return without_address(index, node, stop.target.version)


def without_address(index: NetworkIndex, node: Node, version: int) -> Finding:
    """Why a station has no address of a family."""
    if isinstance(node.written, Host):
        if node.written.auto and version == 6:
            return unadvertised(index, node, node.written)
        if node.written.dhcp and version == 4:
            return no_lease(index, node)
        return host_unaddressed(index, node.written, version)
    return device_unaddressed(node, version)


NO_COMMON_FAMILY = Kind(
    "no-common-family", "error", "two ends of a question that share no address family", "no packet can be sent", NEVER
)


def no_common_family(index: NetworkIndex, source: Node, target: Node | Address, family: int | None) -> Finding:
    """Why two ends share no address family, or not the one asked for: one of them hears no router tell it an address,
    has no address at all, or lacks the one that is missing (IPv4, where each has the other's)."""
    ends = [source, *([] if isinstance(target, Address) else [target])]
    unheard = next((node for node in ends if _takes_advertised(node) and first_address(node, 6) is None), None)
    if unheard is not None and family != 4:
        return own_fault(index, unheard) or without_address(index, unheard, 6)
    bare = next((node for node in ends if all(first_address(node, ip_version) is None for ip_version in (4, 6))), None)
    if bare is not None and family not in _never_meant(bare):
        return own_fault(index, bare) or without_address(index, bare, family or 4)
    version = family or (target.version if isinstance(target, Address) else 4)
    lacking = next((node for node in ends if first_address(node, version) is None), source)
    says = f"{lacking.name} has no IPv{version} address"
    if family is None:
        says += " and the other end has nothing else"
    mend = f"give {lacking.name} an IPv{version} address"
    return finding(NO_COMMON_FAMILY, at=lacking.name, path=node_path(lacking), says=says, mend=mend)


def _takes_advertised(node: Node) -> bool:
    return isinstance(node.written, Host) and node.written.auto


def _never_meant(node: Node) -> tuple[int, ...]:
    """The families that a host which learns its addresses asks for none of."""
    written = node.written
    if not isinstance(written, Host) or written.auto == written.dhcp:
        return ()
    return (4,) if written.auto else (6,)


def unadvertised(index: NetworkIndex, node: Node, host: Host) -> Finding:
    """Why a host hears no router: its VLAN's has no /64 to tell of, is down, does not forward IPv6, or is cut off."""
    nic = next(iter(node.nics.values()))
    cut_off = link_fault(index, host_end(host.name))
    if cut_off is not None:
        return cut_off
    vlan = plugged_vlan(index.knowledge, host)
    told = [holder for holder in index.routed() if vlan is not None and vlan_of(index, holder) == vlan]
    six = [holder for holder in told if holder.address.version == 6 and holder.address.length == 64]
    for holder in sorted(six, key=lambda holder: not holder.nic.up):
        if not holder.nic.up:
            return interface_down(index, holder)
        if 6 not in holder.node.forwards:
            return does_not_route(holder.node, 6)
        wrong = cut(index, vlan, (node, nic), (holder.node, holder.nic)) if vlan is not None else []
        if wrong:
            return wrong[0]
    return prefix_unadvertised(index, host, vlan, next(iter(told), None))


PREFIX_UNADVERTISED = Kind(
    "prefix-unadvertised",
    "error",
    "a host that takes its address from routers, where none advertises a prefix",
    "{name} has no IPv6 address",
    NEVER,
    example=Example("pier", "hosts: {kiosk: {address: [10.44.0.2/24, auto]}}"),
)


def prefix_unadvertised(index: NetworkIndex, host: Host, vlan: int | None, home: Held | None) -> Finding:
    """A host that takes its address from routers, where none tells of a prefix: the gateway has no /64 there."""
    where = index.vlan_name(vlan) if vlan is not None else "its VLAN"
    at = f"{home.node.name}/{home.nic.name}" if home else f"the gateway of {where}"
    return finding(
        PREFIX_UNADVERTISED,
        at=home.node.name if home else host.name,
        path=nic_path(home) if home else ("hosts", host.name),
        says=f"no router advertises an IPv6 prefix in {where}, and {host.name} takes its address from one",
        mend=f"give {at} an IPv6 address with /64",
        name=host.name,
    )
