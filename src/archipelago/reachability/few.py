"""A network with few of its hosts, for questions that the simulation must answer."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge, know
from archipelago.model.network import with_changes


def few_hosts(index: NetworkIndex, names: Iterable[str]) -> Knowledge:
    """The network with these hosts, one of each kind among them, and whoever holds a next hop or an address of others:
    the rest neither answers for them nor keeps anything up that these do not. What they have learned is kept.

    Args:
        index: the whole network.
        names: the hosts asked about, and at least one of each kind.
    """
    kept = set(names)
    kept |= {holder.node.name for address in index.next_hops for holder in index.holders(address)}
    kept |= {holder.node.name for _, holders in index.shared_addresses() for holder in holders}
    hosts = {name: replace(host, auto=False, dhcp=False) for name, host in index.network.hosts.items() if name in kept}
    return know(with_changes(index.network, hosts=hosts))
