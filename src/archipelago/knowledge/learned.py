"""The addresses and gateways that hosts take from others: from what routers advertise, and from what servers lease."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from typing import NamedTuple

from archipelago.knowledge.advertised import Advertised, advertises, configured, speakers
from archipelago.knowledge.devices import Devices
from archipelago.knowledge.domains import Domain, Domains
from archipelago.knowledge.elected import Elected
from archipelago.knowledge.hearing import Lease
from archipelago.knowledge.hosts import HostNumbers
from archipelago.knowledge.leases import Leases
from archipelago.knowledge.links import HOST_PORT
from archipelago.model.parts import Host, NextHop


class KeptHosts(NamedTuple):
    """What hosts had learned before a change: as they were written, what they were given, and what came of it."""

    written: Mapping[str, Host]
    given: Mapping[str, Lease | None]
    known: Mapping[str, Host]


class LearnedHosts(Mapping[str, Host]):
    """Every host once it has learned what it takes from others, each worked out when it is asked for."""

    __slots__ = ("_devices", "_domains", "_elected", "_heard", "_kept", "_known", "_leases", "_numbers", "written")

    def __init__(
        self,
        written: Mapping[str, Host],
        devices: Devices,
        domains: Domains,
        elected: Elected,
        numbers: HostNumbers,
        leases: Leases,
        kept: KeptHosts | None = None,
    ) -> None:
        self.written = written
        self._kept = kept
        self._leases = leases
        self._devices = devices
        self._domains = domains
        self._elected = elected
        self._numbers = numbers
        self._heard: dict[Domain, tuple[Advertised, ...]] = {}
        self._known: dict[str, Host] = {}

    def __getitem__(self, name: str) -> Host:
        host = self.written[name]
        if not host.auto and not host.dhcp:
            return host
        made = self._known.get(name)
        if made is None:
            made = self._as_before(host)
            if made is None:
                made = self._leased(self._configured(host))
            self._known[name] = made
        return made

    def _as_before(self, host: Host) -> Host | None:
        """A host that was given the same lease before a change; None where something is otherwise."""
        kept = self._kept
        if kept is None or host.auto or kept.written.get(host.name) is not host:
            return None
        same = self._leases.of(host.name) is kept.given.get(host.name)
        return kept.known.get(host.name) if same else None

    def before_change(self) -> KeptHosts | None:
        """What a change may leave standing; None where nobody was given anything yet."""
        given = self._leases.decided
        return None if given is None else KeptHosts(self.written, given, self._known)

    def _configured(self, host: Host) -> Host:
        """A host once it has heard the routers of its domain."""
        domain = self._domains.of((host.name, HOST_PORT)) if host.auto else None
        heard = self._told(domain) if domain is not None else ()
        return configured(host, self._numbers.mac(host.name), heard) if heard else host

    def _leased(self, host: Host) -> Host:
        """A host once a server has given it an address."""
        lease = self._leases.of(host.name) if host.dhcp else None
        if lease is None:
            return host
        gateways = (NextHop(lease.gateway),) if lease.gateway is not None else ()
        return replace(host, addresses=(lease.address, *host.addresses), gateway=(*gateways, *host.gateway))

    def __iter__(self) -> Iterator[str]:
        return iter(self.written)

    def __len__(self) -> int:
        return len(self.written)

    def _told(self, domain: Domain) -> tuple[Advertised, ...]:
        """What the routers of a domain advertise in it."""
        if domain not in self._heard:
            told = []
            for name, interface in domain.endpoints:
                if isinstance(interface, str) and name in self._devices:
                    node = self._devices[name]
                    nic = node.nics[interface]
                    for speaker in speakers(nic, self._elected.members(name), self._elected.active):
                        prefixes = advertises(node, nic, speaker.address)
                        told += [prefixes] if prefixes is not None else []
            self._heard[domain] = tuple(told)
        return self._heard[domain]
