"""The tree and shared gateways of random networks in a real kernel with real daemons: roots, blocked ports, who is
active, and what is reached.

python tests/redundancy_referee.py FIRST-SEED COUNT [shared]     prints each difference, then the figures
"""

from __future__ import annotations

import sys
from collections import Counter
from random import Random
from typing import Any

from archipelago.exchange.kernel import Question, ask_kernel
from archipelago.exchange.rehearsal import redundancy
from archipelago.exchange.tree import KernelTree
from archipelago.knowledge.ends import first_address
from archipelago.knowledge.index import NetworkIndex, index_network
from archipelago.simulation.reach import reach
from redundant import acting_as_one, redundant

Pair = tuple[str, str]


def judged(first: int, count: int, shared: int = 0) -> tuple[Counter[str], list[tuple[int, str, Any, Any]]]:
    """How much was asked, and what differs: the seed, what it is, our answer and the kernel's. Of the last `shared`
    seeds the networks have aggregates that two cores share."""
    seeds, questions, ours = [], [], []
    for seed in range(first, first + count):
        random = Random(seed)
        network = redundant(random)
        index = index_network(acting_as_one(network, random) if seed >= first + count - shared else network)
        if _can_judge(index):
            pairs, expected = _pairs(index)
            seeds.append(seed)
            reached = {pair for pair, yes in expected.items() if yes}
            questions.append(Question(index.knowledge.written, pairs, expected=reached))
            ours.append((index.knowledge, expected))
    figures: Counter[str] = Counter(networks=len(seeds))
    different: list[tuple[int, str, Any, Any]] = []
    answers = ask_kernel(questions, seconds=3000)
    for seed, (knowledge, expected), theirs in zip(seeds, ours, answers, strict=True):
        told = redundancy(knowledge, theirs)
        blocked = sum(mine == "blocked" for mine, _ in told.values())
        figures.update(pairs=len(expected), reached=sum(expected.values()), told=len(told), blocked=blocked)
        different += [(seed, what, mine, its) for what, (mine, its) in told.items() if mine != its]
        reached = {pair for pair, yes in expected.items() if yes}
        different += [(seed, "answers", *pair) for pair in sorted(reached ^ theirs.pairs)]
    return figures, different


def _can_judge(index: NetworkIndex) -> bool:
    """Whether a kernel can judge a network: no storm, costs that it takes, and no virtual router whose members have
    other addresses, which the daemon does not hear (RFC 9568 7.1 leaves that to it; our contract does not)."""
    stormy = any(domain.circle is not None for domain in index.domains.every())
    routers = index.knowledge.elected.routers()
    alike = all(len({frozenset(one.written.addresses) for one in members}) == 1 for members, _ in routers)
    return alike and not stormy and KernelTree(index.knowledge.devices.tree).fits


def _pairs(index: NetworkIndex) -> tuple[list[Any], dict[Pair, bool]]:
    asked, expected = [], {}
    nodes = index.knowledge.nodes
    for source in index.network.hosts:
        for target in index.network.hosts:
            for family in (4, 6):
                address = first_address(nodes[target], family)
                if source != target and address and first_address(nodes[source], family):
                    asked.append((source, f"{target}/{family}", address))
                    answer = reach(index, nodes[source], nodes[target], family=family)
                    expected[source, f"{target}/{family}"] = answer.reached
    return asked, expected


def main() -> None:
    first, count = int(sys.argv[1]), int(sys.argv[2])
    figures, different = judged(first, count, count if "shared" in sys.argv else 0)
    for one in different:
        print("differs", *one)
    print(dict(figures))


if __name__ == "__main__":
    main()
