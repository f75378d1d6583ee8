"""What routers advertise, and the addresses and gateways that hosts with `address: auto` take from it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, NamedTuple

from archipelago.addressing.values import Address, InterfaceAddress, Prefix, is_link_local
from archipelago.knowledge.domains import Foot, domains, host_foot
from archipelago.knowledge.mac import host_mac, interface_id, link_local
from archipelago.model.network import Host, Network, NextHop

if TYPE_CHECKING:
    from archipelago.knowledge.devices import Knowledge, Nic, Node


class Advertised(NamedTuple):
    """What one router tells on a link: its own link-local address there, and the prefixes."""

    router: Address
    prefixes: tuple[Prefix, ...]


def advertises(node: Node, nic: Nic) -> Advertised | None:
    """What an interface advertises: a device that forwards IPv6 tells the /64 subnets of each interface on it
    (RFC 4861 6.2, RFC 4862 5.5.3); None where there is nothing to tell."""
    if 6 not in node.forwards or not nic.up or not nic.speaks or nic.kind in ("loopback", "host"):
        return None
    held = [one for one in nic.addresses if one.version == 6 and not is_link_local(one) and one.length == 64]
    return Advertised(link_local(nic.mac), tuple(one.prefix for one in held)) if held else None


def taken(host: Host, mac: int, heard: Iterable[Advertised]) -> Host:
    """A host once it has heard routers: an address in each prefix, and every router as a gateway, the one with the
    lowest address first, unless an IPv6 gateway is written (RFC 4861 6.3.4, RFC 4862 5.5.3)."""
    told = sorted(set(heard))
    prefixes = sorted({prefix for one in told for prefix in one.prefixes})
    addresses = [InterfaceAddress(6, prefix.value | interface_id(mac), 64) for prefix in prefixes]
    gateways = [NextHop(one.router) for one in told]
    if any(hop.address.version == 6 for hop in host.gateway):
        gateways = []
    return replace(host, addresses=(*host.addresses, *addresses), gateway=(*host.gateway, *gateways))


def with_advertised(knowledge: Knowledge) -> Network:
    """The network once every host with `address: auto` has heard the routers of its broadcast domain."""
    network = knowledge.written
    told = _by_foot(knowledge)
    hosts: dict[str, Host] = dict(network.hosts)
    for number, host in enumerate(network.hosts.values()):
        if host.auto and knowledge.links[host.at].carrier:
            foot = host_foot(knowledge, host.at)
            heard = told.get(foot, ()) if foot else ()
            hosts[host.name] = taken(host, host_mac(number), heard)
    return replace(network, hosts=hosts)


def _by_foot(knowledge: Knowledge) -> Mapping[Foot, list[Advertised]]:
    found = domains(knowledge, hosts=False)
    by_domain: dict[int, list[Advertised]] = {}
    for node in knowledge.devices.values():
        for nic in node.nics.values():
            one = advertises(node, nic)
            number = found.of.get((node.name, nic.name))
            if one is not None and number is not None:
                by_domain.setdefault(number, []).append(one)
    return {foot: by_domain[number] for foot, number in found.of.items() if number in by_domain}
