"""Every kind of break of random networks with everything in them, on the clock, beside the document in which the part
is written off: both end alike, or the answer says what lasts from before.

python tests/breaks_referee.py FIRST-SEED COUNT      prints each difference, then the figures
"""

from __future__ import annotations

import sys
from collections import Counter
from collections.abc import Iterator
from random import Random

import archipelago
from archipelago.errors import ArchipelagoError
from archipelago.failures.parts import breakable
from archipelago.knowledge.known import know
from archipelago.knowledge.parts import switched_off
from archipelago.model.network import Network
from every_field import full_of_everything

QUESTIONS = 3
"""So many are asked of each network."""
PROBES = ("icmp", "icmp", "tcp/443", "udp/53")


def without(network: Network, part: str) -> Network:
    """The document with a part written off, read from its text."""
    return archipelago.read_network(archipelago.network_text(switched_off(know(network), [part])))


def judged(seed: int, figures: Counter[str]) -> Iterator[str]:
    """What differs in the network of a seed, a line each."""
    random = Random(seed)
    network = archipelago.read_network(archipelago.network_text(full_of_everything(random)))
    figures["networks"] += 1
    parts, hosts = breakable(know(network)), list(network.hosts)
    ends = [*hosts, *hosts, *hosts, *network.devices, *(["outside"] if network.outside else [])]
    for _ in range(QUESTIONS if parts and hosts else 0):
        part, source, target = random.choice(parts).name, random.choice(hosts), random.choice(ends)
        kind, restore, orderly = random.choice(PROBES), random.choice((None, 25)), random.random() < 0.3
        question = f"{seed}: {part} breaks{' in order' if orderly else ''}, {source} to {target} by {kind}, {restore}"
        try:
            before = archipelago.reach(network, source, target, probe=kind)
            if before.address is None or source == target:
                continue
            broken = archipelago.break_part(
                network, part, source, target, family=before.family, probe=kind, restore=restore, orderly=orderly
            )
            asked = before.address if target in network.devices else target
            state = network if restore else without(network, part)
            settled = archipelago.reach(state, source, asked, family=before.family, probe=kind)
        except ArchipelagoError as error:
            yield f"{question}: {error}"
            continue
        figures["asked"] += 1
        figures["survived"] += broken.survived
        figures["stormed"] += broken.stormed
        for line in broken.lasting:
            figures[line.rpartition(": ")[2]] += 1
        said = any(line.startswith("switched on anew, ") for line in broken.lasting)
        if any("is not known" in line for line in broken.lasting):
            yield f"{question}: {broken.lasting}"
        there = settled.reached and settled.out[-1].device == target if target in network.devices else settled.reached
        if not broken.stormed and (broken.survived != there) != said:
            yield f"{question}: {broken.headline}; {broken.lasting}; switched on anew {settled.headline}"


def main() -> None:
    figures: Counter[str] = Counter()
    for seed in range(int(sys.argv[1]), int(sys.argv[1]) + int(sys.argv[2])):
        for line in judged(seed, figures):
            print(line, flush=True)
    print(dict(figures))


if __name__ == "__main__":
    main()
