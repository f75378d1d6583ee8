"""Leases of random networks, given by us and by real servers, relays and clients in a real kernel.

python tests/leases_referee.py FIRST-SEED COUNT      prints each difference, then the figures

Where several servers offer, those whose offers we say a host does not take are stopped while it asks: in the kernel the
first would be a matter of timing. Networks that would storm, those where a server relays too, and servers whose pools
overlap are left out.
"""

from __future__ import annotations

import sys
from collections import Counter
from itertools import pairwise
from random import Random

from archipelago.exchange.kernel import Question, ask_kernel
from archipelago.exchange.rehearsal import leased
from archipelago.knowledge.hearing import Hearing
from archipelago.knowledge.index import NetworkIndex, index_network
from makers import leasing, scrambled


def fit(index: NetworkIndex) -> bool:
    """Whether what clients get does not hang on timing."""
    if any(domain.circle is not None or domain.leaks for domain in index.domains.every()):
        return False
    leases = index.knowledge.leases
    relaying = {node.name for node in index.knowledge.devices.values() for nic in node.nics.values() if nic.dhcp_relay}
    if relaying & set(leases.servers):
        return False  # our small relay and the server share a port there
    for name in leases.servers:
        subnets = [pool.subnet for pool in leases.pools_of(name).values()]
        if any(a.overlaps(b) for at, a in enumerate(subnets) for b in subnets[at + 1 :]):
            return False  # a real server looks for what is kept for a host in all of them first
        for pool in leases.pools_of(name).values():
            ranges = sorted((one.first.value, one.last.value) for one in pool.ranges)
            if any(last >= first for (_, last), (first, _) in pairwise(ranges)):
                return False  # a real server goes on after the highest that it has given in a range
    return not any(nic.vrf for node in index.knowledge.devices.values() for nic in node.nics.values())


def main() -> None:
    first, count = int(sys.argv[1]), int(sys.argv[2])
    figures: Counter[str] = Counter()
    indexes = {}
    for seed in range(first, first + count):
        random = Random(seed)
        network = scrambled(random, small=random.random() < 0.5)
        network = leasing(network, random) if network is not None else None
        index = index_network(network) if network is not None else None
        if index is not None and index.knowledge.leases.servers and fit(index):
            indexes[seed] = index
    questions = [Question(index.knowledge.written, []) for index in indexes.values()]
    for (seed, index), theirs in zip(indexes.items(), ask_kernel(questions, seconds=3000), strict=True):
        figures["networks"] += 1
        for host in index.knowledge.leases.given:
            ours, given = leased(index, host), theirs.leases.get(host)
            heard = index.knowledge.leases.listeners(host)
            several = len({one.server for one in heard if one.outcome is Hearing.OFFERS}) > 1
            figures.update(asked=1, leased=given is not None, several=several, differ=ours != given)
            lease = index.knowledge.leases.of(host)
            figures["relayed"] += lease is not None and lease.relay is not None
            if ours != given:
                print(f"seed {seed}: {host}: we say {ours}, the servers {given}")
    print(dict(figures))


if __name__ == "__main__":
    main()
