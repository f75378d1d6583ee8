"""Random demands on random networks: what the arrays load on each port beside the sum of every pair's walked way.

python tests/load_agreement.py FIRST-SEED COUNT [redundant]     prints each difference, then the figures
"""

from __future__ import annotations

import sys
from collections import Counter, defaultdict
from fractions import Fraction
from random import Random

from archipelago.api.loading import traffic
from archipelago.knowledge.index import index_network
from archipelago.knowledge.known import know
from archipelago.knowledge.outside import with_outside
from archipelago.knowledge.topology import far_end
from archipelago.load.parties import Senders
from archipelago.load.walked import links_of
from archipelago.model.demand import Demand
from archipelago.model.filters import ECHO, Probe
from archipelago.model.network import Network, with_changes
from archipelago.model.parts import Device
from archipelago.simulation.reach import reach
from makers import filtered, scrambled, translated
from redundant import redundant

PROBES = (ECHO, Probe("tcp", 443), Probe("udp", 53))


def with_demands(network: Network, random: Random) -> Network:
    """The network with a few random demands."""
    parts = [f"{name}/{part}" for name, device in network.devices.items() for part in _addressed(device)]
    named = [*network.vlans, *network.hosts, "outside", "any", *random.sample(sorted(network.devices), 1), *parts[:2]]
    demands = tuple(
        Demand(
            *random.choices(named, k=2),
            random.randint(1, 900) * 1_000_000,
            random.choice((Fraction(0), Fraction(1, 10), Fraction(2))),
            random.choice(PROBES),
        )
        for _ in range(random.randint(1, 4))
    )
    return with_changes(network, traffic=demands)


def _addressed(device: Device) -> list[str]:
    return [part.name for part in (*device.ports.values(), *device.interfaces.values()) if part.addresses]


def walked(network: Network) -> tuple[dict[str, float], dict[str, float], float, float]:
    """What every port of a device sends, what of it had come in by that port, and what hosts send and what of it
    arrives, pair by pair in the simulation."""
    plain = know(network)
    widened, outside = with_outside(plain)
    index = index_network(widened if outside else network)
    knowledge = index.knowledge
    hosts = tuple(knowledge.network.hosts)
    senders = Senders(knowledge, hosts, outside)
    loads: defaultdict[str, float] = defaultdict(float)
    again: defaultdict[str, float] = defaultdict(float)
    sent = arrived = 0.0
    for demand in network.traffic:
        stream = senders.stream(demand)
        sources = [knowledge.nodes[hosts[place]] for place in stream.source.tolist()]
        targets = [knowledge.nodes[hosts[place]] for place in stream.target.tolist()]
        sources += [stream.sender] if stream.sender is not None else []
        targets += [stream.receiver] if stream.receiver is not None else []
        answers = [
            reach(index, source, target, probes=1, probe=demand.probe)
            for source in sources
            for target in targets
            if source is not target or not stream.of_hosts
        ]
        reached = [answer for answer in answers if answer.reached]
        sent += demand.rate
        for answer in reached:
            rate = demand.rate / len(reached)
            arrived += rate
            for steps, load in ((answer.out, rate), (answer.back, rate * float(demand.answers))):
                crossed = set()
                for device, part in links_of(knowledge, steps):
                    attachment = knowledge.devices[device].attachments[part]
                    far = far_end(knowledge.devices, attachment)
                    member = next(end for end in attachment.members if knowledge.links[end].peer == far.peer)
                    loads[str(member)] += load
                    crossed.add(str(member))
                    if str(far.peer) in crossed:
                        again[str(member)] += load
    return dict(loads), dict(again), sent, arrived


def calculated(network: Network) -> tuple[dict[str, float], dict[str, float], float, float, float]:
    """The same from the arrays, and what they say is dropped."""
    load = traffic(network)
    ports = {row["port"]: row["sends"] for row in load.rows() if row["sends"]}
    again = {link.a: link.to_b_again for link in load.links} | {link.b: link.to_a_again for link in load.links}
    return ports, {port: rate for port, rate in again.items() if rate}, load.sent, load.arrived, load.dropped


def differences(network: Network) -> list[str]:
    """What the two do not agree on."""
    theirs, theirs_again, sent, arrived = walked(network)
    ours, again, our_sent, our_arrived, dropped = calculated(network)
    told = []
    for what, mine, its in (("", ours, theirs), (" again", again, theirs_again)):
        seen = {port: rate for port, rate in its.items() if "upstream" not in port}
        told += [
            f"{port}{what}: {mine.get(port, 0):.6g} and walked {seen.get(port, 0):.6g}"
            for port in sorted({*mine, *seen})
            if abs(mine.get(port, 0.0) - seen.get(port, 0.0)) > 1e-6 * max(sent, 1)
        ]
    for name, one, other in (("sent", our_sent, sent), ("arrived", our_arrived, arrived)):
        if abs(one - other) > 1e-6 * max(sent, 1):
            told.append(f"{name}: {one:.6g} and walked {other:.6g}")
    if abs(our_sent - our_arrived - dropped) > 1e-6 * max(sent, 1):
        told.append("what is sent is not what arrives and what is dropped")
    return told


def a_network(seed: int, kind: str) -> Network | None:
    """A random network with demands."""
    random = Random(seed)
    network = redundant(random) if kind == "redundant" else scrambled(random, small=seed % 2 == 0, anything=True)
    if network is not None and seed % 3 == 0:
        network = filtered(network, random)
    if network is not None and seed % 5 == 1:
        network = translated(network, random)
    return None if network is None else with_demands(network, random)


def main() -> None:
    first, count = int(sys.argv[1]), int(sys.argv[2])
    figures: Counter[str] = Counter()
    for seed in range(first, first + count):
        network = a_network(seed, "".join(sys.argv[3:]))
        if network is None:
            continue
        told = differences(network)
        ports, again, _, arrived, _ = calculated(network)
        figures.update(networks=1, ports=len(ports), again=len(again), carrying=arrived > 0, differing=bool(told))
        for line in told:
            print(seed, line)
    print(dict(figures))


if __name__ == "__main__":
    main()
