"""What routers advertise, and the addresses and gateways that hosts with `address: auto` take from it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace
from typing import NamedTuple

from archipelago.addressing.values import Address, InterfaceAddress, Prefix, is_link_local
from archipelago.knowledge.devices import Devices, Nic, Node
from archipelago.knowledge.domains import Domain, Domains
from archipelago.knowledge.hosts import HostNumbers
from archipelago.knowledge.links import HOST_PORT
from archipelago.knowledge.mac import interface_id, link_local
from archipelago.model.parts import Host, NextHop


class Advertised(NamedTuple):
    """What one router tells on a link: its own link-local address there, and the prefixes."""

    router: Address
    prefixes: tuple[Prefix, ...]


def advertises(node: Node, nic: Nic) -> Advertised | None:
    """What an interface advertises: a device that forwards IPv6 tells the /64 subnets of each interface on it
    (RFC 4861 6.2, RFC 4862 5.5.3); None where there is nothing to tell."""
    if 6 not in node.forwards or not nic.up or not nic.speaks or nic.kind in ("loopback", "host"):
        return None
    addresses = [
        address
        for address in nic.addresses
        if address.version == 6 and not is_link_local(address) and address.length == 64
    ]
    return Advertised(link_local(nic.mac), tuple(address.prefix for address in addresses)) if addresses else None


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


class LearnedHosts(Mapping[str, Host]):
    """Every host once it has learned what it takes from others, each worked out when it is asked for."""

    __slots__ = ("_devices", "_domains", "_heard", "_known", "_numbers", "_written")

    def __init__(self, written: Mapping[str, Host], devices: Devices, domains: Domains, numbers: HostNumbers) -> None:
        self._written = written
        self._devices = devices
        self._domains = domains
        self._numbers = numbers
        self._heard: dict[Domain, tuple[Advertised, ...]] = {}
        self._known: dict[str, Host] = {}

    def __getitem__(self, name: str) -> Host:
        host = self._written[name]
        if not host.auto:
            return host
        made = self._known.get(name)
        if made is None:
            domain = self._domains.of((name, HOST_PORT))
            heard = self._told(domain) if domain is not None else ()
            made = self._known[name] = configured(host, self._numbers.mac(name), heard) if heard else host
        return made

    def __iter__(self) -> Iterator[str]:
        return iter(self._written)

    def __len__(self) -> int:
        return len(self._written)

    def _told(self, domain: Domain) -> tuple[Advertised, ...]:
        """What the routers of a domain advertise in it."""
        if domain not in self._heard:
            told = []
            for name, interface in domain.endpoints:
                if isinstance(interface, str) and name in self._devices:
                    node = self._devices[name]
                    prefixes = advertises(node, node.nics[interface])
                    told += [prefixes] if prefixes is not None else []
            self._heard[domain] = tuple(told)
        return self._heard[domain]
