"""The same questions to the simulation, to the arrays and to a real kernel, over random networks.

python tests/referee.py FIRST-SEED COUNT [filters|sizes]      as many random networks, in one kernel; prints the figures
"""

from __future__ import annotations

import sys
from collections import Counter
from collections.abc import Iterable
from random import Random

from archipelago.exchange.kernel import Question, ask_kernel
from archipelago.knowledge.ends import first_address
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import know
from archipelago.knowledge.outside import widened
from archipelago.model.filters import ECHO, parse_probe
from archipelago.reachability.matrix import matrix
from archipelago.simulation.reach import reach
from makers import filtered, scrambled, translated, with_sizes

Difference = tuple[int, str, str, int, bool, bool, bool]
"""Seed, source, target, family, and what the simulation, the arrays and the kernel answered."""


def referee(
    wanted: Iterable[int], seconds: float = 3000, filters: bool = False, sizes: bool = False
) -> tuple[Counter[str], list[Difference]]:
    """How many networks and pairs were asked, and every pair that the three answer differently, in both families."""
    seeds, questions, answers = [], [], []
    for seed in wanted:
        random = Random(seed)
        network = scrambled(random, small=True)
        if network is None or ((filters or sizes) and not any(host.addresses for host in network.hosts.values())):
            continue
        probe = ECHO
        if filters:
            network = filtered(network, random) if random.random() < 0.7 else network
            network = widened(know(translated(network, random))).written
            probe = parse_probe(random.choice(("icmp", "tcp/443", "udp/53", "tcp/80")))
        if sizes:
            network = with_sizes(filtered(network, random) if random.random() < 0.3 else network, random)
            probe = parse_probe(random.choice(("icmp", "icmp/1272", "icmp/1372", "icmp/1452", "icmp/1472")))
        view = NetworkIndex(know(network))
        nodes = view.knowledge.nodes
        asked, ours = [], {}
        arrays = {family: matrix(view, family, causes=False, probe=probe) for family in (4, 6)}
        place = {name: index for index, name in enumerate(network.hosts)}
        for source in network.hosts:
            for target in network.hosts:
                for family in (4, 6):
                    address = first_address(nodes[target], family)
                    if source != target and address and first_address(nodes[source], family):
                        asked.append((source, f"{target}/{family}", address))
                        answer = reach(view, nodes[source], nodes[target], family=family, probe=probe)
                        calculated = arrays[family].reaches(place[source], place[target])
                        ours[source, f"{target}/{family}"] = answer, calculated
        seeds.append(seed)
        expected = {pair for pair, (answer, _) in ours.items() if answer.reached or answer.answered_by}
        questions.append(Question(network, asked, probe, expected))
        answers.append(ours)
    figures: Counter[str] = Counter(networks=len(seeds))
    differences = []
    for seed, ours, theirs in zip(seeds, answers, ask_kernel(questions, seconds=seconds), strict=True):
        for (source, target), (answer, calculated) in ours.items():
            figures["pairs"] += 1
            simulated = answer.reached
            figures["reached" if simulated else "not reached"] += 1
            carried = (source, target) in theirs.pairs
            answered = simulated or answer.answered_by is not None  # the kernel does not tell who answered
            if simulated != calculated or answered != carried:
                name, _, family = target.rpartition("/")
                differences.append((seed, source, name, int(family), simulated, calculated, carried))
    return figures, differences


def main() -> None:
    first, count = int(sys.argv[1]), int(sys.argv[2])
    total: Counter[str] = Counter()
    for start in range(first, first + count, 40):
        seeds = range(start, min(start + 40, first + count))
        figures, differences = referee(seeds, filters="filters" in sys.argv, sizes="sizes" in sys.argv)
        total += figures
        for one in differences:
            print("differs", *one, flush=True)
        print(f"seeds {start} to {start + 39}:", dict(total), flush=True)


if __name__ == "__main__":
    main()
