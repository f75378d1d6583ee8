"""Every recipe that is followed, every mend and every addition that is offered, on random networks with everything in
them: each held against all pairs of the document that it makes, read and decided anew, and against what stood there.

python tests/gate_referee.py FIRST-SEED COUNT     prints what is lost or was touched, then the figures
"""

from __future__ import annotations

import sys
from collections import Counter
from collections.abc import Iterator
from random import Random
from typing import Any

import archipelago
from archipelago.errors import DocumentError, EditError, ModelError, QueryError
from archipelago.knowledge.known import know
from archipelago.knowledge.outside import with_outside
from archipelago.model.ends import OUTSIDE
from archipelago.model.filters import Probe, parse_probe
from archipelago.model.network import Network
from archipelago.reachability.parties import Parties
from changing_referee import recipe
from every_field import full_of_everything, parts_of

MOST = 4
"""So many mends, and additions, of a network are looked at, chosen by chance."""
PROBES = ("icmp", "tcp/443", "udp/53", "icmp/1400", "icmp/8000")
SPOKEN_OF = {
    "renumber": {"addresses", "destination", "next_hop", "gateway", "subnet", "ranges", "reservations", "dns_server"}
    | {"source", "target", "source_nat", "dhcp_relay", "network", "routes_back", "interface", "first", "last"}
    | {"value", "length", "address", "version", "may", "may_not", "accept", "drop", "reject", "rules", "routes"},
    "split": {"access", "trunk", "vlans", "addresses", "gateway", "interfaces", "routes", "rules", "dhcp_pools"}
    | {"reservations", "source", "target", "source_nat", "routes_back", "filters", "expect", "filter_in", "filter_out"}
    | {"value", "length", "address", "at", "traffic", "policy", "dhcp_relay", "dns_server"},
    "replace": {
        "name",
        "at",
        "device",
        "a",
        "b",
        "mac",
        "shared_with",
        "source",
        "target",
        "policy",
        "expect",
        "traffic",
    },
    "add-ipv6": {"addresses", "gateway", "routing", "routes", "virtual", "filters", "filter_in", "filter_out"},
    "move-gateways": {"trunk", "vlans", "interfaces", "routes", "routing", "gateway", "filters", "dhcp_pools"}
    | {"filter_in", "filter_out"},
}
"""The fields that the words of each recipe name; all others are as before wherever the same part is still there."""


def answered(network: Network) -> dict[tuple[str, int], set[tuple[str, str]]]:
    """Who reaches whom, by kind of probe and family, the document being read anew."""
    fresh = archipelago.read_network(archipelago.network_text(network))
    found = {}
    for probe in PROBES:
        for family in (4, 6):
            rows = archipelago.matrix(fresh, family, probe=probe, causes=False).rows()
            found[probe, family] = {(source, target) for source, target, yes in rows if yes}
    return found


def lost(before: dict[Any, Any], after: dict[Any, Any], network: Network) -> Iterator[str]:
    """What was answered and is not, both ends being there still, and the policy not forbidding it."""
    for key, pairs in before.items():
        gone = {pair for pair in pairs - after[key] if set(pair) <= {*network.hosts, OUTSIDE}}
        gone -= forbidden(network, gone, parse_probe(key[0])) if gone else set()
        if gone:
            yield f"{key}: {len(gone)} pairs, such as {min(gone)}"


def forbidden(network: Network, pairs: set[tuple[str, str]], probe: Probe) -> set[tuple[str, str]]:
    """Those of some pairs that the policy, or what is expected, wants apart: read line by line."""
    wide, outside = with_outside(know(network))
    known = know(wide)
    hosts = tuple(known.network.hosts)
    parties = Parties(known, hosts, outside)

    def within(name: str, ends: tuple[str, ...]) -> bool:
        return any(end == "any" or hosts.index(name) in set(parties.hosts(end).tolist()) for end in ends)

    apart = set()
    for source, target in pairs:
        for wanted in network.expect:
            if not wanted.reached and within(source, (wanted.source,)) and within(target, (wanted.target,)):
                apart.add((source, target))
        if network.policy is not None and (source, target) not in apart:
            lines = [
                rule
                for rule in network.policy.rules
                if within(source, rule.source) and within(target, rule.target) and rule.speaks_of(probe)
            ]
            may = bool(lines[0].may) if lines else network.policy.otherwise == "any"
            if not may:
                apart.add((source, target))
    return apart


def touched(old: Network, new: Network, spoken_of: set[str]) -> Iterator[str]:
    """The fields of parts that both networks have which are otherwise, and which the words do not name."""
    there = dict(parts_of(new))
    for way, part in parts_of(old):
        twin = there.get(way)
        if type(twin) is not type(part) or any(isinstance(step, int) for step in way):
            continue  # places in lists mean nothing from one network to the other
        for name in getattr(part, "_fields", None) or part.__dataclass_fields__:
            was, now = getattr(part, name), getattr(twin, name)
            plain = not isinstance(was, (dict, tuple)) or not was
            if name not in spoken_of and name not in ("source", "marks") and plain and was != now:
                yield f"{'/'.join(map(str, way))}: {name} was {was!r}, is {now!r}"


def judged(seed: int, figures: Counter[str]) -> Iterator[str]:
    """What is wrong with what a network is offered."""
    random = Random(seed)
    network = full_of_everything(random)
    before = answered(network)
    for _ in range(4):
        text = recipe(network, random)
        kind = text.splitlines()[1].rstrip(":")
        try:
            made = archipelago.follow(network, archipelago.read_recipe(text, network))
        except (QueryError, DocumentError):
            figures["recipes refused"] += 1
            continue
        figures[f"recipes followed: {kind}"] += 1
        yield from (f"{text.splitlines()[2]}: lost {said}" for said in lost(before, answered(made), made))
        yield from (f"{text.splitlines()[2]}: touched {said}" for said in touched(network, made, SPOKEN_OF[kind]))
    document = archipelago.network_text(network)
    read = archipelago.read_network(document)
    offered = [one for one in archipelago.audit(read) if one.edits and not one.kind.startswith("policy")]
    for finding in random.sample(offered, min(len(offered), MOST)):
        if True:
            figures["mends"] += 1
            mended = archipelago.read_network(archipelago.amend(document, finding.edits))
            yield from (
                f"{finding.kind} at {finding.at}: lost {said}" for said in lost(before, answered(mended), mended)
            )
    additions = [one.addition for one in archipelago.outages(read).single_points if one.addition is not None]
    for addition in random.sample(additions, min(len(additions), MOST)):
        figures["additions"] += 1
        added = archipelago.read_network(archipelago.amend(document, addition.edits))
        yield from (f"{addition.says}: lost {said}" for said in lost(before, answered(added), added))


def main() -> None:
    first, count = int(sys.argv[1]), int(sys.argv[2])
    figures: Counter[str] = Counter()
    for seed in range(first, first + count):
        figures["networks"] += 1
        try:
            for said in judged(seed, figures):
                figures["differences"] += 1
                print("differs", seed, said, flush=True)
        except (EditError, ModelError) as error:
            figures["differences"] += 1
            print("differs", seed, type(error).__name__, error, flush=True)
    print(dict(figures))


if __name__ == "__main__":
    main()
