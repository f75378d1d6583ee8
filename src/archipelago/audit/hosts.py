"""Mistakes at the hosts: the address, the mask, the gateway, the VLAN of the port."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from dataclasses import replace
from functools import wraps
from typing import NamedTuple

from archipelago.addressing.values import InterfaceAddress, is_link_local
from archipelago.audit.registry import Rule, rule
from archipelago.diagnosis.cabling import link_fault
from archipelago.diagnosis.faults.hosts import (
    GATEWAY_MISSING,
    gateway_missing,
    gateway_wrong,
    host_unaddressed,
    mask_mismatch,
)
from archipelago.diagnosis.faults.links import admin_down
from archipelago.diagnosis.faults.words import node_path
from archipelago.diagnosis.gateway_place import without_gateway
from archipelago.diagnosis.kind import NEVER, Example, Kind, finding
from archipelago.diagnosis.leased import retold
from archipelago.diagnosis.no_address import unadvertised
from archipelago.diagnosis.outvoted import gateway_meant, outvoted, stray_address, unheld_gateway
from archipelago.diagnosis.places import host_attachment, host_end, hosts_by_vlan, sits_in, vlan_of, wanted_vlan
from archipelago.diagnosis.separated import separated
from archipelago.knowledge.alike import alike_hosts
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Edit, Finding
from archipelago.model.parts import Host

Judge = Callable[[NetworkIndex, Host], Iterator[Finding]]
JudgeEnd = Callable[[NetworkIndex, Node, Nic, InterfaceAddress], Iterator[Finding]]


def each_host(judge: Judge) -> Rule:
    """A rule that judges every host: of those that are alike all but the first only where that has a finding."""

    @wraps(judge)
    def judged(index: NetworkIndex) -> Iterator[Finding]:
        for hosts in index.once(alike_hosts):
            findings = list(judge(index, hosts[0]))
            yield from _by_pool(index, findings)
            for host in hosts[1:] if findings else ():
                yield from _by_pool(index, judge(index, host))

    return judged


def _by_pool(index: NetworkIndex, findings: Iterable[Finding]) -> Iterator[Finding]:
    """Findings but those about what a host was leased, which the rules on leases tell."""
    return (found for found in findings if retold(index, found) is found)


def each_end(judge: JudgeEnd) -> Rule:
    """A rule that judges the addresses of everything that does not route: hosts and switches."""

    def of_node(index: NetworkIndex, node: Node) -> Iterator[Finding]:
        for nic in node.nics.values():
            for address in nic.addresses:
                if not is_link_local(address):
                    yield from judge(index, node, nic, address)

    def of_host(index: NetworkIndex, host: Host) -> Iterator[Finding]:
        return of_node(index, index.knowledge.nodes[host.name])

    @wraps(judge)
    def judged(index: NetworkIndex) -> Iterator[Finding]:
        for node in index.knowledge.devices.values():
            if node.kind == "switch":
                yield from of_node(index, node)
        yield from each_host(of_host)(index)

    return judged


@rule
@each_host
def without_address(index: NetworkIndex, host: Host) -> Iterator[Finding]:
    """A host that has no address at all, or that hears no router tell it one."""
    if host.auto and all(address.version != 6 for address in host.addresses):
        yield unadvertised(index, index.knowledge.nodes[host.name], host)
    elif not host.addresses and not host.dhcp:
        yield host_unaddressed(index, host, None)


@rule
@each_host
def stray(index: NetworkIndex, host: Host) -> Iterator[Finding]:
    """A host whose address is not of the subnet of its gateway and its VLAN."""
    astray = stray_address(index, host)
    if astray is not None:
        yield astray


@rule
@each_host
def wrong_vlan(index: NetworkIndex, host: Host) -> Iterator[Finding]:
    """A host whose port is not in the VLAN of its subnet's gateway."""
    node = index.knowledge.nodes[host.name]
    nic = next(iter(node.nics.values()))
    attachment = host_attachment(index.knowledge, host)
    homes = [(address, index.home_of(node, address)) for address in host.addresses]
    called = [(address, home) for address, home in homes if home is not None and vlan_of(index, home) is not None]
    if not attachment.switched or not called or stray_address(index, host) is not None:
        return
    own = wanted_vlan(attachment)
    if all(own in {vlan_of(index, home) for home in index.homes(address)} for address, _ in called):
        return  # where a subnet is in two VLANs, the one that the host is in will do
    if len({vlan_of(index, home) for _, home in called}) > 1:
        yield _in_two_vlans(index, host, [home for _, home in called])
        return
    address, home = called[0]
    if wanted_vlan(attachment) != vlan_of(index, home):
        yield separated(index, Held(node, nic, address), home)


ADDRESSES_IN_TWO_VLANS = Kind(
    "addresses-in-two-vlans",
    "error",
    "a host with addresses of several VLANs",
    "it is plugged into one VLAN at most and reaches nobody by the others",
    NEVER,
    example=Example(
        "pier",
        """
        devices:
          quay:
            ports:
              p1: {access: store}
        hosts:
          kiosk:
            address: [10.44.0.2/24, 10.44.1.20/24]
        """,
    ),
)


def _in_two_vlans(index: NetworkIndex, host: Host, homes: list[Held]) -> Finding:
    """A host whose addresses belong to different VLANs: one port cannot be in both, so a person decides."""
    names = " and ".join(dict.fromkeys(index.vlan_name(vlan_of(index, home)) for home in homes))
    return finding(
        ADDRESSES_IN_TWO_VLANS,
        at=host.name,
        path=("hosts", host.name, "address"),
        says=f"{host.name} has addresses of {names}",
        mend=f"give {host.name} addresses of one VLAN",
    )


@rule
@each_end
def other_mask(index: NetworkIndex, node: Node, nic: Nic, address: InterfaceAddress) -> Iterator[Finding]:
    """An address whose prefix length is not the one that its subnet's gateway has."""
    home = index.home_of(node, address)
    if home is not None and home.address.length != address.length and _served(index, node, nic, home):
        yield mask_mismatch(Held(node, nic, address), home.address.prefix)


def _served(index: NetworkIndex, node: Node, nic: Nic, home: Held) -> bool:
    """Whether the gateway stands in the VLAN that the host is plugged into, or would if all were up."""
    return vlan_of(index, home) is None or sits_in(index, node, nic) == vlan_of(index, home)


@rule
@each_end
def unusable_gateway(index: NetworkIndex, node: Node, nic: Nic, address: InterfaceAddress) -> Iterator[Finding]:
    """No gateway where there is one to use, or one that cannot serve."""
    if nic.addresses and next(a for a in nic.addresses if a.version == address.version) is not address:
        return
    if isinstance(node.written, Host) and stray_address(index, node.written) is not None:
        return
    home = index.home_of(node, address)
    if home is not None and any(True for _ in outvoted(index, home.node, home.nic)):
        return  # the gateway's own mistake
    gateways = [hop for hop in node.written.gateway if hop.address.version == address.version]
    if not gateways:
        routed = any(route.destination.version == address.version for route in getattr(node.written, "routes", ()))
        if home is not None and not routed:
            other = next((a for a in nic.addresses if a.version != address.version and not is_link_local(a)), None)
            there = gateway_meant(index, node, other) if other is not None and not node.written.gateway else None
            home = gateway_meant(index, node, address) or home
            if there is None:
                yield gateway_missing(node, address.version, home)
            elif address.version == 4:  # one mistake is told once
                yield gateways_missing(node, home, there)
        return
    own = [own_address.prefix for own_address in nic.addresses]
    for hop in gateways:
        holders = index.holders(hop.address)
        if is_link_local(hop.address):
            continue
        if not any(prefix.holds(hop.address) for prefix in own):
            narrow = any(
                holder.address.prefix.holds(address) and holder.address.length != address.length for holder in holders
            )
            if not narrow:
                yield gateway_wrong(node, hop, home, f"lies outside its subnet {address.prefix}")
        elif not holders:
            yield (unheld_gateway(index, node, hop, home) if home else without_gateway(index, node, address))
        elif not any(holder.node.can_route for holder in holders):
            yield gateway_wrong(node, hop, home, f"is {holders[0].node.name}, which does not route")


def gateways_missing(node: Node, four: Held, six: Held) -> Finding:
    """The same in both families."""
    path = node_path(node)
    new = [str(home.address.address) for home in (four, six)]
    return finding(
        GATEWAY_MISSING,
        at=node.name,
        path=path,
        says=f"{node.name} has no gateway, in IPv4 or in IPv6",
        mend=f"set the gateway of {node.name} to {' and '.join(new)}",
        edits=(Edit((*path, "gateway"), new),),
        name=node.name,
    )


@rule
@each_host
def cut_off(index: NetworkIndex, host: Host) -> Iterator[Finding]:
    """A host whose own port has no carrier."""
    if host.off:
        path = node_path(index.knowledge.nodes[host.name])
        yield admin_down(path, host.name, host.name, f"nothing gets in or out of {host.name}")
        return
    fault = link_fault(index, host_end(host.name))
    if fault is not None:
        yield fault


@rule
@each_host
def unlike_all_others(index: NetworkIndex, host: Host) -> Iterator[Finding]:
    """A host that has no address of a family, and asks for none, while every other host of its VLAN has: two at
    least."""
    if not host.addresses and not host.dhcp and not host.auto:
        return
    vlan = wanted_vlan(host_attachment(index.knowledge, host))
    families = index.once(_families_by_vlan).get(vlan or 0)
    if families is None:
        return
    own, everybody = _families_of(host), families.total
    for version in (4, 6):
        named = any(hop.address.version == version for hop in host.gateway)
        if version not in own and not named and everybody > 2 and families.having[version] == everybody - 1:
            yield replace(host_unaddressed(index, host, version), severity="risk")


class _Families(NamedTuple):
    """How many hosts a VLAN has, and how many of them have an address of a family or ask for one."""

    total: int
    having: Counter[int]


def _families_of(host: Host) -> set[int]:
    asked = {version for version, asks in ((4, host.dhcp), (6, host.auto)) if asks}
    return asked | {address.version for address in host.addresses}


def _families_by_vlan(index: NetworkIndex) -> dict[int, _Families]:
    by_vlan: dict[int, _Families] = {}
    for vlan, hosts in index.once(hosts_by_vlan).items():
        having: Counter[int] = Counter()
        for host, count in hosts:
            having.update(dict.fromkeys(_families_of(index.network.hosts[host.name]), count))
        by_vlan[vlan] = _Families(sum(count for _, count in hosts), having)
    return by_vlan


@rule
@each_host
def gateways_without_address(index: NetworkIndex, host: Host) -> Iterator[Finding]:
    """A host with a gateway of a family that it has no address of, nor asks for one."""
    for version in dict.fromkeys(hop.address.version for hop in host.gateway):
        asks = host.dhcp if version == 4 else host.auto
        if not asks and all(own.version != version for own in host.addresses):
            yield host_unaddressed(index, host, version)
