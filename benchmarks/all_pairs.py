"""All pairs at once, against their yardsticks. Run: python benchmarks/all_pairs.py [--small]

`--small` leaves out the million hosts, which take two minutes to build.
"""

from __future__ import annotations

import gc
import math
import resource
import sys
from random import Random

import networkx
import numpy as np
from estate import estate
from measure import seconds, timed

import archipelago
from archipelago.knowledge.index import index_network
from archipelago.knowledge.known import know
from archipelago.knowledge.parts import switched_off
from archipelago.model.network import Network
from archipelago.reachability.build import build_arrays
from archipelago.reachability.families import Decided
from archipelago.reachability.matrix import matrix, without
from archipelago.simulation.reach import reach


def fresh(network: Network) -> object:
    """Everything, from the network."""
    return matrix(network, causes=False)


def pair_by_pair() -> None:
    network = estate(20, 100, 2000)
    pairs = 2000 * 1999
    ours = min(seconds(lambda: fresh(network), 3) for _ in range(3))
    random = Random(44)
    names = list(network.hosts)
    asked = [random.sample(names, 2) for _ in range(20)]
    index = index_network(network)
    nodes = index.knowledge.nodes
    one = seconds(lambda: [reach(index, nodes[a], nodes[b], probes=1) for a, b in asked]) / len(asked)
    graph = networkx.Graph((str(cable.a.device), str(cable.b.device)) for cable in network.cables)
    graph.add_edges_from((host.name, host.at.device) for host in network.hosts.values())
    asked = [random.sample(names, 2) for _ in range(2000)]
    path = seconds(lambda: [networkx.has_path(graph, a, b) for a, b in asked]) / len(asked)
    print("2,000 hosts, all ordered pairs, there and back, from the network")
    print(f"  ours                                    {ours:12.3f} s")
    told = (("the simulation, from 20 pairs", one, "1,000"), ("networkx.has_path, from 2,000 pairs", path, "100"))
    for name, each, least in told:
        print(f"  {name:<36}{each * pairs:12.0f} s   ratio {each * pairs / ours:10.0f}  at least {least}")


def parts_in_turn() -> None:
    network = estate(20, 100, 2000)
    random = Random(44)
    parts = [*network.devices, *(str(cable) for cable in network.cables), *network.vlans]
    parts += [f"{one.name}/{name}" for one in network.devices.values() for name in one.interfaces]
    parts += random.sample(list(network.hosts), 1000 - len(parts))
    knowledge = know(network)

    def in_turn() -> None:
        for _ in archipelago.what_if(network, parts):
            pass

    ours = seconds(in_turn)
    sample = random.sample(parts, 40)
    each = seconds(lambda: [fresh(switched_off(knowledge, [part])) for part in sample]) / len(sample)
    print(f"{len(parts):,} parts switched off in turn, 2,000 hosts")
    print(
        f"  ours {ours:.2f} s, {len(parts):,} fresh runs (from 40) {each * len(parts):.1f} s   "
        f"ratio {each * len(parts) / ours:.1f}  at least 10"
    )


def exponents() -> None:
    print("how time grows, from the network (1: linear)")
    sweeps = {
        "hosts": [(50, 400, size) for size in (12_500, 25_000, 50_000, 100_000)],
        "VLANs": [(50, vlans, 20_000) for vlans in (250, 500, 1000, 2000)],
        "devices": [(devices, 1000, 20_000) for devices in (25, 50, 100, 200)],
    }
    for name, sizes in sweeps.items():
        built, decided, steps = [], [], []
        for size in sizes:
            network = estate(*size)
            gc.collect()
            gc.disable()
            building, arrays = timed(lambda one: build_arrays(know(one)), network)
            decided.append(min(seconds(lambda arrays=arrays: Decided(arrays, None)) for _ in range(3)))
            gc.enable()
            built.append(building)
            steps.append({"hosts": size[2], "VLANs": size[1], "devices": size[0]}[name])
        fits = [
            np.polyfit([math.log(one) for one in steps], [math.log(one) for one in found], 1)[0]
            for found in (built, decided)
        ]
        told = ", ".join(f"{step:,}: {a:.2f} + {b:.3f} s" for step, a, b in zip(steps, built, decided, strict=True))
        print(f"  {name:<8} building {fits[0]:5.2f}, deciding {fits[1]:5.2f}   ({told})")


def million() -> None:
    hosts, vlans, devices = 1_000_000, 4_000, 500
    gc.disable()
    made, network = timed(lambda size: estate(*size), (devices, vlans, hosts))
    known, knowledge = timed(know, network)
    woven, arrays = timed(build_arrays, knowledge)
    gc.enable()
    gc.freeze()
    grid = np.ones((4000, 4000), dtype=np.bool_)

    def yardstick() -> None:
        for _ in range(10):
            grid.copy()
        arrays.host_class.sum()
        arrays.down.sum()

    rounds = [(seconds(lambda: Decided(arrays, None)), seconds(yardstick)) for _ in range(5)]
    ours, theirs = (float(np.median(column)) for column in zip(*rounds, strict=True))
    ratio = float(np.median([a / b for a, b in rounds]))
    found = matrix(arrays, causes=False)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20
    print(
        f"{hosts:,} hosts, {vlans:,} VLANs, {devices} routing devices: "
        f"{found.reached:,} of {found.pairs:,} pairs reached"
    )
    print(f"  the network made in {made:.1f} s, what devices know {known:.1f} s, arrays {woven:.1f} s")
    print(f"  decided in {ours:.3f} s; yardstick {theirs:.4f} s   ratio {ratio:.1f}  at most 20")
    print(f"  peak memory of the whole process {peak:.2f} GiB  under 2")
    part, again = timed(lambda one: matrix(without(arrays, [one]), causes=False), "isle-3")
    print(f"  without isle-3: {again.reached:,} pairs reached, in {part:.1f} s")


if __name__ == "__main__":
    pair_by_pair()
    parts_in_turn()
    exponents()
    if "--small" not in sys.argv:
        million()
