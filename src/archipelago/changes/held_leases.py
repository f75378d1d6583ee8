"""Hosts on the way between two states of a network: each keeps what it is leased until it asks again."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from archipelago.changes.differences import Difference, Stage
from archipelago.diagnosis.places import plugged_vlan
from archipelago.knowledge.hearing import Lease
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge
from archipelago.model.leases import duration_text
from archipelago.model.network import Network, with_changes
from archipelago.model.parts import Host, NextHop


class HeldLeases:
    """What the hosts hold that lease an address at both ends of the way; `renewing` are those that are leased something
    else at the end than at the beginning.

    Args:
        old, new: what is known of the two ends.
    """

    def __init__(self, old: Knowledge, new: Knowledge) -> None:
        leasing = [name for name, host in old.written.hosts.items() if host.dhcp and _leases(new.written, name)]
        self._old: dict[str, Lease | None] = {name: old.leases.of(name) for name in leasing}
        self._new: dict[str, Lease | None] = {name: new.leases.of(name) for name in leasing}
        self._made: dict[tuple[str, bool, int], tuple[Host, Host]] = {}
        self.renewing = [name for name, lease in self._old.items() if _given(lease) != _given(self._new[name])]
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
        for name in self._old:
            host = hosts.get(name)
            if host is not None and host.dhcp:
                hosts[name] = self._with(host, name in renewed)
        return with_changes(network, hosts=hosts)

    def _with(self, host: Host, renewed: bool) -> Host:
        key = host.name, renewed, id(host)
        if key not in self._made or self._made[key][0] is not host:
            lease = (self._new if renewed else self._old)[host.name]
            self._made[key] = host, holding(host, lease)
        return self._made[key][1]

    def given_now(self, knowledge: Knowledge, hosts: tuple[str, ...]) -> bool:
        """Whether hosts that ask in a state of the network are given what they are at the end."""
        return all(_given(knowledge.leases.of(name)) == _given(self._new[name]) for name in hosts)

    def as_written(self, knowledge: Knowledge, renewed: frozenset[str]) -> Network:
        """A state of the network as a document: a host stays on `dhcp` where it would be given what it holds."""
        network = knowledge.written
        hosts = dict(network.hosts)
        for name in self._old:
            lease = (self._new if name in renewed else self._old)[name]
            if name in hosts and hosts[name].dhcp and _given(knowledge.leases.of(name)) != _given(lease):
                hosts[name] = holding(hosts[name], lease)
        return with_changes(network, hosts=hosts) if hosts != network.hosts else network


def holding(host: Host, lease: Lease | None) -> Host:
    """A host with what it was leased as its own."""
    addresses = (lease.address,) if lease is not None else ()
    gateways = (NextHop(lease.gateway),) if lease is not None and lease.gateway is not None else ()
    return replace(host, dhcp=False, addresses=(*addresses, *host.addresses), gateway=(*gateways, *host.gateway))


def _given(lease: Lease | None) -> object:
    return None if lease is None else (lease.address, lease.gateway)


def _leases(network: Network, name: str) -> bool:
    return name in network.hosts and network.hosts[name].dhcp
