"""Start-up, one frame hop, and carving, against their yardsticks. Run: python benchmarks/first_slice.py"""

from __future__ import annotations

import heapq
import ipaddress
import tempfile
from itertools import count
from pathlib import Path
from random import Random

from measure import in_turns, process, report

import archipelago
from archipelago.addressing.carve import Need, carve
from archipelago.addressing.values import parse_prefix
from archipelago.files.network import network_from
from archipelago.files.tree import parse
from archipelago.knowledge.known import know
from archipelago.simulation.build import Simulation
from archipelago.simulation.frames import Echo, Packet

VERBS = {
    "reach NETWORK kiosk-a mess": "at most 2; aim 1.3",
    "matrix NETWORK": "aim 2",
    "audit NETWORK": "aim 3.5",
    "view NETWORK": "none set",
    "outages NETWORK": "none set",
    "traffic NETWORK --each 20M": "none set",
    "draw NETWORK -o OUT.svg": "none set",
    "export NETWORK --as linux -o OUT.sh": "none set",
}
"""Verbs as they are called on the demo, and what each may take of that import."""


def start_up() -> None:
    cli = ("-m", "archipelago.cli.main")
    report(
        "archipelago --version / import typer",
        *in_turns(process(*cli, "--version"), process("-c", "import typer"), 9),
        "at most 1.5",
    )
    with tempfile.TemporaryDirectory() as directory:
        process(*cli, "demo", directory)()
        network = str(Path(directory) / "network.yaml")
        imports = process("-c", "import typer, pydantic, yaml")
        for verb, bound in VERBS.items():
            ours = process(
                *cli, *[word.replace("NETWORK", network).replace("OUT", f"{directory}/out") for word in verb.split()]
            )
            name = f"archipelago {verb.split()[0]} on the demo / import typer, pydantic, yaml"
            report(name, *in_turns(ours, imports, 9), bound)


def chain(switches: int) -> str:
    """Two hosts at the ends of a row of switches."""
    lines = ["format: archipelago-network/1", "vlans: {crew: 220}", "devices:"]
    for number in range(switches):
        lines.append(f"  quay-{number}:")
        lines.append("    kind: switch")
        ports = "p1: {trunk: [crew], untagged: none}, p2: {trunk: [crew], untagged: none}, p3: {access: crew}"
        lines.append(f"    ports: {{{ports}}}")
    lines.append("hosts:")
    lines.append("  mess: {at: quay-0/p3, address: 10.44.0.2/24}")
    lines.append(f"  bosun: {{at: quay-{switches - 1}/p3, address: 10.44.0.3/24}}")
    lines.append("cables:")
    lines += [f"  - quay-{number}/p2 ~ quay-{number + 1}/p1" for number in range(switches - 1)]
    return "\n".join(lines)


def hop() -> None:
    knowledge = know(network_from(parse(chain(200).encode(), "chain")))
    simulation = Simulation(knowledge)
    world, mess = simulation.world, simulation.station("mess")
    source, target = (knowledge.nodes[name].nics["port"].addresses[0].address for name in ("mess", "bosun"))
    mess.originate(Packet(source, target, 64, Echo(False, 0)))
    world.run()
    probes, hops = 64, 2 * 201

    def moved() -> None:
        world.log.clear()
        for number in range(probes):
            mess.originate(Packet(source, target, 64, Echo(False, number)))
        world.run()

    ticket = count().__next__
    heap: list[tuple[object, ...]] = []

    def bare() -> None:
        """As many pushes and pops of a tuple like an event's, with as many events pending."""
        for number in range(probes):
            heapq.heappush(heap, (number, ticket(), None, None, None, None))
        for number in range(probes * hops):
            heapq.heappush(heap, (number + probes, ticket(), None, None, None, None))
            heapq.heappop(heap)
        heap.clear()

    ours, theirs, ratio = in_turns(moved, bare, 7)
    each = probes * hops
    report("one frame hop, recorded / bare heap push and pop", ours / each, theirs / each, ratio, "at most 15")


def carving() -> None:
    random = Random(44)
    needs = [Need(f"vlan-{number}", random.randint(1, 200)) for number in range(10_000)]
    space = parse_prefix("10.0.0.0/8")
    few = needs[:300]

    def plain() -> None:
        """For each need, the first of the space's subnets of its size that overlaps nothing given yet."""
        given: list[ipaddress.IPv4Network] = []
        whole = ipaddress.ip_network("10.0.0.0/16")
        for need in few:
            size = need.hosts + -(-need.hosts // 4) + 3
            length = 32 - max(2, (size - 1).bit_length())
            for block in whole.subnets(new_prefix=length):
                if not any(block.overlaps(other) for other in given):
                    given.append(block)
                    break

    ours, theirs, ratio = in_turns(lambda: carve([space], few), plain, 3)
    report("carving 300 needs / the plain loop over ipaddress", ours, theirs, ratio, "at most 1/20 = 0.05")
    ours, theirs, ratio = in_turns(lambda: carve([space], needs), lambda: carve([space], few), 3)
    report("carving 10,000 needs / carving 300", ours, theirs, ratio, "33 is linear; the loop grows with the square")


if __name__ == "__main__":
    print(f"archipelago {archipelago.__version__}: ours, yardstick, ratio")
    start_up()
    hop()
    carving()
