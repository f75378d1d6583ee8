"""The tree and shared gateways of random networks in a real kernel with real daemons: roots, blocked ports, who is
active, and what is reached.

python tests/redundancy_referee.py FIRST-SEED COUNT [shared | broken]     prints each difference, then the figures

With `broken`, a part of each breaks first, while one host probes another.
"""

from __future__ import annotations

import sys
from collections import Counter
from itertools import combinations
from random import Random
from typing import Any

import yaml

from archipelago.exchange.break_rehearsed import breaking, broken_network
from archipelago.exchange.break_rehearsed import judged as judged_break
from archipelago.exchange.kernel import Question, ask_kernel
from archipelago.exchange.rehearsal import redundancy
from archipelago.exchange.tree import KernelTree
from archipelago.failures.parts import breakable
from archipelago.files.network import network_from
from archipelago.files.tree import parse
from archipelago.knowledge.ends import first_address
from archipelago.knowledge.index import NetworkIndex, index_network
from archipelago.knowledge.known import know
from archipelago.model.filters import ECHO
from archipelago.model.network import Network
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


def judged_broken(first: int, count: int) -> tuple[Counter[str], list[tuple[int, str, Any, Any]]]:
    """As `judged`, once a random part of each has broken; and what was lost meanwhile, where that can be compared."""
    figures: Counter[str] = Counter()
    asked, questions, different = [], [], []
    for seed in range(first, first + count):
        random = Random(seed)
        whole = index_network(two_cores(random) if seed % 2 else redundant(random))
        part = random.choice(breakable(whole.knowledge)).name
        after = NetworkIndex(know(broken_network(whole.knowledge, part)))
        watched = [pair for pair in combinations(whole.network.hosts, 2) if reach(whole, *_nodes(whole, pair)).reached]
        if watched and _can_judge(whole) and _can_judge(after):
            breaks, ours = breaking(whole, after, part, random.choice(watched), ECHO)
            pairs, expected = _pairs(after)
            reached = {pair for pair, yes in expected.items() if yes}
            questions.append(Question(whole.knowledge.written, pairs, ECHO, reached, breaks))
            asked.append((seed, whole, after, part, ours, reached))
    answers = ask_kernel(questions, seconds=3000)
    for (seed, whole, after, part, ours, reached), question, theirs in zip(asked, questions, answers, strict=True):
        told = redundancy(after.knowledge, theirs)
        lost = judged_break(whole.knowledge, after.knowledge, part, ours, theirs.probes)
        figures.update(networks=1, pairs=len(question.pairs), reached=len(reached), told=len(told))
        if lost.alike is not None:
            figures.update(compared=1, lost=lost.lost_by_us, lost_in_the_kernel=lost.lost_in_the_kernel)
        different += [(seed, f"{part}: {what}", mine, its) for what, (mine, its) in told.items() if mine != its]
        different += [(seed, f"{part}: answers", *pair) for pair in sorted(reached ^ theirs.pairs)]
        if lost.alike is False:
            different.append((seed, f"{part}: lost", ours.headline, lost.lost_runs))
    return figures, different


def two_cores(random: Random) -> Network:
    """Two cores that share the gateways of a switch's VLANs, where nothing is blocked: what is lost when something
    breaks hangs on advertisements alone."""
    vlans = {"crew": 120, "yard": 130, "tickets": 140}
    cores: dict[str, Any] = {}
    for number in (1, 2):
        interfaces = {}
        for at, vlan in enumerate(vlans, 1):
            member = {"vrid": at, "address": f"10.44.{at}.1", "priority": random.choice((90, 100, 110, 150, 200))}
            if random.random() < 0.3:
                member |= {"track": [{"interface": "p9", "priority-decrement": 60}]}
            interfaces[f"{vlan}-gw"] = {"vlan": vlan, "address": f"10.44.{at}.{1 + number}/24", "virtual": [member]}
        ports: dict[str, Any] = {"p1": {"trunk": list(vlans)}, "p9": {"address": f"10.44.9.{4 * number + 1}/30"}}
        kind = {"kind": "l3switch", "routing": ["ipv4"]}
        cores[f"core-{number}"] = {**kind, "ports": ports, "interfaces": interfaces}
    trunk = {"trunk": list(vlans)}
    quay = {
        "kind": "switch",
        "ports": {"p1": trunk, "p2": trunk, **{f"p{n + 2}": {"access": v} for n, v in enumerate(vlans, 1)}},
    }
    edge = {f"p{number}": {"address": f"10.44.9.{4 * number + 2}/30"} for number in (1, 2)}
    hosts = {
        f"{vlan}-1": {"at": f"quay/p{at + 2}", "address": f"10.44.{at}.10/24", "gateway": f"10.44.{at}.1"}
        for at, vlan in enumerate(vlans, 1)
    }
    cables = ["core-1/p1 ~ quay/p1", "core-2/p1 ~ quay/p2", "core-1/p9 ~ edge/p1", "core-2/p9 ~ edge/p2"]
    devices = {**cores, "quay": quay, "edge": {"kind": "router", "ports": edge}}
    document = {"format": "archipelago-network/1", "vlans": vlans, "devices": devices, "hosts": hosts, "cables": cables}
    return network_from(parse(yaml.safe_dump(document, sort_keys=False).encode(), "two cores"))


def _nodes(index: NetworkIndex, pair: Pair) -> list[Any]:
    return [index.knowledge.nodes[name] for name in pair]


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
    if "broken" in sys.argv:
        figures, different = judged_broken(first, count)
    else:
        figures, different = judged(first, count, count if "shared" in sys.argv else 0)
    for one in different:
        print("differs", *one)
    print(dict(figures))


if __name__ == "__main__":
    main()
