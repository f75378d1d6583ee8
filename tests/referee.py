"""The same questions to the simulation, to the arrays and to a real kernel, over random networks.

python tests/referee.py FIRST-SEED COUNT [filters|sizes|policy]      as many random networks, in one kernel; prints the
figures; with `policy` the networks are designed, and their filters with them
"""

from __future__ import annotations

import sys
from collections import Counter
from collections.abc import Iterable
from random import Random

import archipelago
from archipelago.exchange.kernel import Question, ask_kernel
from archipelago.knowledge.ends import first_address
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import know
from archipelago.knowledge.outside import widened
from archipelago.model.filters import ECHO, parse_probe
from archipelago.model.network import Network
from archipelago.reachability.matrix import matrix
from archipelago.simulation.reach import reach
from briefs import to_many, with_policy
from makers import filtered, scrambled, translated, with_sizes

Difference = tuple[int, str, str, int, bool, bool, bool]
"""Seed, source, target, family, and what the simulation, the arrays and the kernel answered."""


def referee(
    wanted: Iterable[int], seconds: float = 3000, filters: bool = False, sizes: bool = False, policy: bool = False
) -> tuple[Counter[str], list[Difference]]:
    """How many networks and pairs were asked, and every pair that the three answer differently, in both families."""
    seeds, questions, answers = [], [], []
    for seed in wanted:
        random = Random(seed)
        network = with_its_policy(seed) if policy else scrambled(random, small=True)
        if network is None or ((filters or sizes) and not any(host.addresses for host in network.hosts.values())):
            continue
        probe = ECHO
        if filters:
            network = filtered(network, random) if random.random() < 0.7 else network
            network = widened(know(translated(network, random))).written
            probe = parse_probe(random.choice(("icmp", "tcp/443", "udp/53", "tcp/80")))
        if policy:
            network = widened(know(network)).written
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


def with_its_policy(seed: int) -> Network | None:
    """A network that was designed, with the filters of a policy made by chance, and at least two hosts."""
    brief = (with_policy, to_many)[seed % 2](seed)
    network = archipelago.design(brief).network if brief is not None else None
    return network if network is not None and len(network.hosts) > 1 else None


def main() -> None:
    first, count = int(sys.argv[1]), int(sys.argv[2])
    total: Counter[str] = Counter()
    for start in range(first, first + count, 40):
        seeds = range(start, min(start + 40, first + count))
        figures, differences = referee(
            seeds, filters="filters" in sys.argv, sizes="sizes" in sys.argv, policy="policy" in sys.argv
        )
        total += figures
        for one in differences:
            print("differs", *one, flush=True)
        print(f"seeds {start} to {start + 39}:", dict(total), flush=True)


if __name__ == "__main__":
    main()
