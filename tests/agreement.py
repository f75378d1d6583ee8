"""Every pair of random networks asked of the simulation and of the arrays: who reaches whom, and what cuts off whom.

python tests/agreement.py FIRST-SEED COUNT [anything]      prints each difference, then the figures; with `anything`
also networks with loops, with addresses held twice, and with hosts of several addresses
"""

from __future__ import annotations

import sys
from collections import Counter
from random import Random

from archipelago.knowledge.index import index_network
from archipelago.model.network import Network
from archipelago.reachability.matrix import matrix
from archipelago.simulation.reach import reach
from makers import scrambled

Causes = Counter[tuple[str | None, str | None]]


def simulated(network: Network, family: int | None) -> tuple[set[tuple[str, str]], Causes]:
    """Every pair asked of the simulation: who is reached, and how many pairs each mistake at each device cuts off."""
    view = index_network(network)
    nodes = view.knowledge.nodes
    reached, causes = set(), Causes()
    for source in network.hosts:
        for target in network.hosts:
            if source != target:
                answer = reach(view, nodes[source], nodes[target], probes=1, family=family)
                if answer.reached:
                    reached.add((source, target))
                else:
                    causes[answer.cause, answer.at] += 1
    return reached, causes


def calculated(network: Network, family: int | None) -> tuple[set[tuple[str, str]], Causes]:
    """The same from the arrays."""
    found = matrix(network, family)
    causes = Causes()
    for group in found.groups:
        causes[group.finding.kind, group.finding.at] += group.pairs
    return {(source, target) for source, target, yes in found.rows() if yes}, causes


def main() -> None:
    first, count = int(sys.argv[1]), int(sys.argv[2])
    figures: Counter[str] = Counter()
    for seed in range(first, first + count):
        network = scrambled(Random(seed), anything="anything" in sys.argv)
        if network is None:
            continue
        family = (None, 4, 6)[seed % 3]
        (ours, our_causes), (theirs, their_causes) = calculated(network, family), simulated(network, family)
        pairs = len(network.hosts) * (len(network.hosts) - 1)
        figures.update(networks=1, pairs=pairs, reached=len(theirs), cut_off=pairs - len(theirs))
        figures["pairs that differ"] += len(ours ^ theirs)
        figures["networks whose causes differ"] += our_causes != their_causes
        if ours != theirs or our_causes != their_causes:
            print("differs", seed, family, sorted(ours ^ theirs), our_causes - their_causes, their_causes - our_causes)
    print(dict(figures))


if __name__ == "__main__":
    main()
