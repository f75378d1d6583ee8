"""Hosts on the way between two states of a network: each keeps what it is leased until it asks again."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import replace
from typing import Any

from archipelago.changes.differences import Difference, Stage
from archipelago.diagnosis.places import plugged_vlan
from archipelago.knowledge.hearing import Lease
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge, know
from archipelago.model.leases import duration_text
from archipelago.model.network import Network, with_changes
from archipelago.model.parts import Host, NextHop


class HeldLeases:
    """What the hosts hold that lease an address on the way; `renewing` are those that lease at both ends, and something
    else at the end than at the beginning. Who leases only at the beginning holds that as long as it is there; who
    leases only at the end is given what nobody holds.

    Args:
        old, new: what is known of the two ends.
    """

    def __init__(self, old: Knowledge, new: Knowledge) -> None:
        self._old = {name: old.leases.of(name) for name, host in old.written.hosts.items() if host.dhcp}
        leasing = {name for name, host in new.written.hosts.items() if host.dhcp}
        self._new = {name: new.leases.of(name) for name in self._old if name in leasing}
        self._comes = not leasing <= self._old.keys()
        self._made: dict[tuple[str, bool, int], tuple[Host, Host]] = {}
        self.renewing = [name for name, lease in self._new.items() if _given(lease) != _given(self._old[name])]
        index = NetworkIndex(old)
        self._vlans = {name: index.vlan_name(plugged_vlan(old, old.written.hosts[name])) for name in self.renewing}

    def renewals(self) -> Iterator[Difference]:
        """The steps in which hosts ask again, those of each VLAN together."""
        for vlan in dict.fromkeys(self._vlans.values()):
            hosts = tuple(name for name in self.renewing if self._vlans[name] == vlan)
            after = min((lease.pool.lease_time for name in hosts if (lease := self._old[name])), default=0)
            alone = f", or wait half of the lease time ({duration_text(after // 2)})" if after else ""
            what = f"have the hosts in {vlan} that lease an address ask for it again{alone}"
            yield Difference(f"hosts in {vlan}", what, what, Stage.CHANGES, (), hosts)

    def held(self, network: Network, renewed: frozenset[str]) -> Network:
        """The network with what hosts hold written down as if it were their own."""
        if not self._old:
            return network
        hosts = dict(network.hosts)
        kept: dict[str, Lease] = {}
        for name in self._old:
            host = hosts.get(name)
            if host is not None and host.dhcp:
                hosts[name] = self._with(host, name in renewed)
                lease = self._lease(name, renewed)
                if lease is not None:
                    kept[name] = lease
        network = with_changes(network, hosts=hosts)
        return _kept_from_others(network, kept) if self._comes else network

    def _lease(self, name: str, renewed: Collection[str]) -> Lease | None:
        return (self._new if name in renewed else self._old)[name]

    def _with(self, host: Host, renewed: bool) -> Host:
        key = host.name, renewed, id(host)
        if key not in self._made or self._made[key][0] is not host:
            self._made[key] = host, holding(host, self._lease(host.name, (host.name,) if renewed else ()))
        return self._made[key][1]

    def given_now(self, knowledge: Knowledge, hosts: tuple[str, ...]) -> bool:
        """Whether hosts that ask in a state of the network are given what they are at the end."""
        return all(_given(knowledge.leases.of(name)) == _given(self._new[name]) for name in hosts)

    def as_written(self, network: Network, renewed: frozenset[str]) -> Network:
        """A state of the network as a document: a host stays on `dhcp` where it would be given what it holds, or what
        it is given beside those that hold something."""
        beside = know(self.held(network, renewed))
        while True:
            given = know(network).leases.of
            hosts = {
                name: holding(host, lease)
                for name, host in network.hosts.items()
                if host.dhcp and _given(given(name)) != _given(lease := self._now(name, renewed, beside))
            }
            if not hosts:
                return network
            network = with_changes(network, hosts={**network.hosts, **hosts})

    def _now(self, name: str, renewed: Collection[str], beside: Knowledge) -> Lease | None:
        return self._lease(name, renewed) if name in self._old else beside.leases.of(name)


def _kept_from_others(network: Network, leases: Mapping[str, Lease]) -> Network:
    """The network with what is leased kept for who holds it in the pools of who gave it."""
    servers: dict[str, dict[str, Any]] = {"devices": dict(network.devices), "hosts": dict(network.hosts)}
    for name, lease in leases.items():
        for parts in servers.values():
            server = parts.get(lease.server)
            pool = server.dhcp_pools.get(lease.pool.name) if server is not None else None
            if server is not None and pool is not None and lease.address.address not in pool.reservations.values():
                reserved = {**pool.reservations, f"{name} (held)": lease.address.address}
                pools = {**server.dhcp_pools, pool.name: replace(pool, reservations=reserved)}
                parts[server.name] = replace(server, dhcp_pools=pools)
    return with_changes(network, **servers)


def holding(host: Host, lease: Lease | None) -> Host:
    """A host with what it was leased as its own."""
    addresses = (lease.address,) if lease is not None else ()
    gateways = (NextHop(lease.gateway),) if lease is not None and lease.gateway is not None else ()
    return replace(host, dhcp=False, addresses=(*addresses, *host.addresses), gateway=(*gateways, *host.gateway))


def _given(lease: Lease | None) -> object:
    return None if lease is None else (lease.address, lease.gateway)
