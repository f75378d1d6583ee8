"""Servers that answer one broadcast domain: whether they agree, and whether anybody planned them."""

from __future__ import annotations

from collections.abc import Iterator

from archipelago.diagnosis.faults import leases as faults
from archipelago.diagnosis.places import plugged_vlan
from archipelago.knowledge.hearing import Hearing, Listener
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Finding
from archipelago.model.leases import Pool


def of_servers(index: NetworkIndex, name: str) -> Iterator[Finding]:
    """What is wrong with the servers that answer a host that asks."""
    named = index.once(_named)
    offers: dict[str, Listener] = {}
    for listener in index.knowledge.leases.listeners(name):
        if listener.outcome is Hearing.OFFERS:
            offers.setdefault(listener.server, listener)
    strangers = [server for server in offers if server in index.network.hosts and server not in named]
    planned = [server for server in offers if server not in strangers]
    yield from _of_servers(index, _where(index, name), offers, strangers if planned else [], planned)


def _named(index: NetworkIndex) -> set[str]:
    """Who is named by a relay."""
    return {
        holder.node.name
        for node in index.knowledge.devices.values()
        for nic in node.nics.values()
        for address in nic.dhcp_relay
        for holder in index.holders(address)
    }


def _of_servers(
    index: NetworkIndex, where: str, offers: dict[str, Listener], strangers: list[str], planned: list[str]
) -> Iterator[Finding]:
    for stranger in strangers:
        yield faults.server_stranger(index, stranger, where, planned[0])
    servers = [server for server in offers if server not in strangers]
    for at, server in enumerate(servers):
        for other in servers[at + 1 :]:
            one, two = offers[server].pools[0], offers[other].pools[0]
            said = [
                f"{word} {a if a is not None else 'none'} and {b if b is not None else 'none'}"
                for word, a, b in (
                    ("the subnets", one.subnet, two.subnet),
                    ("the gateways", one.gateway, two.gateway),
                    ("the name servers", _listed(one), _listed(two)),
                )
                if a != b
            ]
            if said:
                yield faults.servers_differ(index, where, (server, one), (other, two), " and ".join(said))
            if any(x.first <= y.last and y.first <= x.last for x in one.ranges for y in two.ranges):
                yield faults.servers_overlap(index, where, (server, one), (other, two))


def _listed(pool: Pool) -> str | None:
    return ", ".join(map(str, pool.dns_server)) or None


def _where(index: NetworkIndex, name: str) -> str:
    vlan = plugged_vlan(index.knowledge, index.knowledge.written.hosts[name])
    return index.vlan_name(vlan) if vlan is not None else f"the link of {name}"
