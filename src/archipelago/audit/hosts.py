"""Mistakes at the hosts: the address, the mask, the gateway, the VLAN of the port."""

from __future__ import annotations

from collections.abc import Iterator

from archipelago.addressing.values import InterfaceAddress, is_link_local
from archipelago.audit.registry import rule
from archipelago.diagnosis import faults
from archipelago.diagnosis.culprit import parted, unadvertised, unplaced
from archipelago.diagnosis.cut import link_fault
from archipelago.diagnosis.picture import Held, Picture, host_attachment, host_end, sits_in, wanted_vlan
from archipelago.knowledge.devices import Nic, Node
from archipelago.model.finding import Finding
from archipelago.model.network import Host


def ends(view: Picture) -> Iterator[tuple[Node, Nic, InterfaceAddress]]:
    """The addresses of everything that does not route: hosts and switches."""
    for node in view.knowledge.nodes.values():
        if node.kind in ("host", "switch"):
            for nic in node.nics.values():
                for address in nic.addresses:
                    if not is_link_local(address):
                        yield node, nic, address


@rule
def without_address(view: Picture) -> Iterator[Finding]:
    """A host that has no address at all, or that hears no router tell it one."""
    for host in view.network.hosts.values():
        if host.auto and all(held.version != 6 for held in host.addresses):
            yield unadvertised(view, view.knowledge.nodes[host.name], host)
        elif not host.addresses:
            yield faults.host_unaddressed(view, host, None)


@rule
def wrong_vlan(view: Picture) -> Iterator[Finding]:
    """A host whose port is not in the VLAN of its subnet's gateway."""
    for host in view.network.hosts.values():
        node = view.knowledge.nodes[host.name]
        nic = next(iter(node.nics.values()))
        attachment = host_attachment(view.knowledge, host)
        homes = [(address, view.home_of(node, address)) for address in host.addresses]
        called = [(address, home) for address, home in homes if home is not None and home.nic.vlan is not None]
        if not attachment.switched or not called:
            continue
        if len({home.nic.vlan for _, home in called}) > 1:
            yield _torn(view, host, [home for _, home in called])
            continue
        address, home = called[0]
        if wanted_vlan(attachment) != home.nic.vlan:
            yield parted(view, Held(node, nic, address), home)


def _torn(view: Picture, host: Host, homes: list[Held]) -> Finding:
    """A host whose addresses belong to different VLANs: one port cannot be in both, so a person decides."""
    names = " and ".join(dict.fromkeys(view.vlan_name(home.nic.vlan) for home in homes))
    return Finding(
        "addresses-in-two-vlans",
        "error",
        host.name,
        ("hosts", host.name, "address"),
        f"{host.name} has addresses of {names}",
        "it is plugged into one VLAN at most and reaches nobody by the others",
        f"give {host.name} addresses of one VLAN",
    )


@rule
def other_mask(view: Picture) -> Iterator[Finding]:
    """An address whose prefix length is not the one that its subnet's gateway has."""
    for node, nic, address in ends(view):
        home = view.home_of(node, address)
        if home is not None and home.address.length != address.length and _served(view, node, nic, home):
            yield faults.mask_differs(Held(node, nic, address), home.address.prefix)


def _served(view: Picture, node: Node, nic: Nic, home: Held) -> bool:
    """Whether the gateway stands in the VLAN that the host is plugged into, or would if all were up."""
    return home.nic.vlan is None or sits_in(view, node, nic) == home.nic.vlan


@rule
def unusable_gateway(view: Picture) -> Iterator[Finding]:
    """No gateway where there is one to use, or one that cannot serve."""
    for node, nic, address in ends(view):
        if nic.addresses and next(a for a in nic.addresses if a.version == address.version) is not address:
            continue
        home = view.home_of(node, address)
        gateways = [hop for hop in node.written.gateway if hop.address.version == address.version]
        if not gateways:
            routed = any(route.destination.version == address.version for route in getattr(node.written, "routes", ()))
            if home is not None and not routed:
                yield faults.gateway_missing(node, address.version, home)
            continue
        own = [held.prefix for held in nic.addresses]
        for hop in gateways:
            holders = view.holders.get(hop.address, ())
            if is_link_local(hop.address):
                continue
            if not any(prefix.holds(hop.address) for prefix in own):
                narrow = any(
                    held.address.prefix.holds(address) and held.address.length != address.length for held in holders
                )
                if not narrow:
                    yield faults.gateway_wrong(node, hop, home, f"lies outside its subnet {address.prefix}")
            elif not holders:
                yield (
                    faults.gateway_wrong(node, hop, home, "is held by nobody")
                    if home
                    else unplaced(view, node, address)
                )
            elif not any(held.node.kind in ("router", "l3switch") for held in holders):
                yield faults.gateway_wrong(node, hop, home, f"is {holders[0].node.name}, which does not route")


@rule
def cut_off(view: Picture) -> Iterator[Finding]:
    """A host whose own port has no carrier."""
    for host in view.network.hosts.values():
        if host.off:
            path = faults.node_path(view.knowledge.nodes[host.name])
            yield faults.switched_off(path, host.name, host.name, f"nothing gets in or out of {host.name}")
            continue
        found = link_fault(view, host_end(host.name))
        if found is not None:
            yield found
