"""What routers advertise, and what a host with `address: auto` makes of it."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace
from typing import NamedTuple

from archipelago.addressing.values import Address, InterfaceAddress, Prefix, is_link_local
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.elected import Member, advertised_from
from archipelago.knowledge.mac import interface_id
from archipelago.model.parts import Host, NextHop


class Advertised(NamedTuple):
    """What one router tells on a link: its own link-local address there, and the prefixes."""

    router: Address
    prefixes: tuple[Prefix, ...]


class Speaker(NamedTuple):
    """Who a router is on a link: a link-local address, and the MAC address that goes with it."""

    address: Address
    mac: int


def speakers(nic: Nic, members: Iterable[Member], active: Callable[[Member], bool]) -> list[Speaker]:
    """Who an interface advertises as: itself; where it is in virtual routers of IPv6, each that it is active in
    (RFC 9568 8.2.3)."""
    shared = [member for member in members if member.interface == nic.name and member.written.family == 6]
    if not shared:
        return [Speaker(nic.link_local, nic.mac)]
    return [Speaker(advertised_from(member.written), member.mac) for member in shared if member.up and active(member)]


def advertises(node: Node, nic: Nic, router: Address) -> Advertised | None:
    """What an interface advertises as a router: a device that forwards IPv6 tells the /64 subnets of each interface on
    it (RFC 4861 6.2, RFC 4862 5.5.3); None where there is nothing to tell."""
    if 6 not in node.forwards or not nic.up or not nic.speaks or nic.kind in ("loopback", "host"):
        return None
    addresses = [
        address
        for address in nic.addresses
        if address.version == 6 and not is_link_local(address) and address.length == 64
    ]
    return Advertised(router, tuple(address.prefix for address in addresses)) if addresses else None


def configured(host: Host, mac: int, heard: Iterable[Advertised]) -> Host:
    """A host once it has heard routers: an address in each prefix, and every router as a gateway, the one with the
    lowest address first, unless an IPv6 gateway is written (RFC 4861 6.3.4, RFC 4862 5.5.3)."""
    told = sorted(set(heard))
    prefixes = sorted({prefix for told_prefix in told for prefix in told_prefix.prefixes})
    addresses = [InterfaceAddress(6, prefix.value | interface_id(mac), 64) for prefix in prefixes]
    gateways = [NextHop(told_prefix.router) for told_prefix in told]
    if any(hop.address.version == 6 for hop in host.gateway):
        gateways = []
    return replace(host, addresses=(*host.addresses, *addresses), gateway=(*host.gateway, *gateways))
