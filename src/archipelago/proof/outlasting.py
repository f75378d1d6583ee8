"""What shared gateways promise: no single device or cable of those that share cuts anybody off who has two cables."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress

import numpy as np
import numpy.typing as npt

from archipelago.audit.redundancy import partners
from archipelago.errors import QueryError
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge, know
from archipelago.knowledge.outside import with_outside
from archipelago.knowledge.parts import joined_by_cables, switched_off
from archipelago.model.network import Network
from archipelago.progress import steps
from archipelago.proof.pairs import Decision, decide
from archipelago.reachability.build import build_arrays, change_arrays


def cut_off_by_one(network: Network) -> list[str]:
    """What is cut off by one device or cable of those that share gateways, one sentence for each; empty where nothing
    is, or nothing is shared."""
    knowledge = know(network)
    if not knowledge.elected.any:
        return []
    with suppress(QueryError):  # somebody of ours is called as the outside is
        knowledge = know(with_outside(knowledge)[0])
    index = NetworkIndex(knowledge)
    pairs = index.once(partners)
    cables = [str(cable) for cable in knowledge.written.cables if {end.device for end in cable.ends} & pairs.keys()]
    before = decide(build_arrays(knowledge))
    safe = _with_two_ways(knowledge, [*pairs], cables)
    promised = np.array([_is_promised(index, network, safe, name) for name in before.arrays.hosts], dtype=bool)
    told = []
    for part in steps([*pairs, *cables], "breaking one part after another"):
        after = decide(change_arrays(before.arrays, switched_off(knowledge, [part])))
        lost = next(_lost(index, promised, before, after), None)
        if lost is not None:
            says = f"with {part} off, {lost[0]} no longer reaches {lost[1]}, though cables still join them"
            told.append("; ".join([says, *_apart(network, pairs)]))
    return told


def _apart(network: Network, pairs: dict[str, dict[str, None]]) -> Iterator[str]:
    """Who shares a gateway and is not cabled to each other: then VLANs hang on the switches between them."""
    joined = {frozenset(end.device for end in cable.ends) for cable in network.cables}
    for one, others in pairs.items():
        for other in others:
            if one < other and frozenset((one, other)) not in joined:
                yield f"no cable joins {one} and {other}"


def _lost(
    index: NetworkIndex, promised: npt.NDArray[np.bool_], before: Decision, after: Decision
) -> Iterator[tuple[str, str]]:
    """Pairs of those who are promised it that were reached, are so no longer, and are still joined by cables."""
    part_of = joined_by_cables(after.arrays.knowledge)
    served = {part_of.get(name) for name in index.once(partners)}
    hosts = before.arrays.hosts
    for key, old in before.answers.items():
        new = after.answers.get(key)
        if new is None:
            continue
        kinds = (old.kind * (len(new.between) + 1) + new.kind) * 2 + promised
        _, first = np.unique(kinds, return_index=True)
        was = old.between[np.ix_(old.kind[first], old.kind[first])]
        now = new.between[np.ix_(new.kind[first], new.kind[first])]
        for source, target in zip(*np.nonzero(was & ~now), strict=True):
            if not (promised[first[source]] and promised[first[target]]):
                continue
            a, b = hosts[first[source]], hosts[first[target]]
            ends = [part_of.get(index.network.hosts[name].at.device) for name in (a, b)]
            if a != b and ends[0] == ends[1] and ends[0] in served - {None}:
                yield a, b


def _is_promised(index: NetworkIndex, ours: Network, safe: set[str], name: str) -> bool:
    """Whether all gateways of a host are shared, and its device has two ways to them; what lies outside is promised,
    too."""
    host = index.network.hosts[name]
    shared = bool(host.gateway) and all(index.knowledge.elected.sharing(hop.address) for hop in host.gateway)
    return name not in ours.hosts or (shared and host.at.device in safe)


def _with_two_ways(knowledge: Knowledge, sharing: list[str], cables: list[str]) -> set[str]:
    """The devices that still get to another that shares gateways over switches, whichever one device or cable of those
    is gone."""
    safe = set(knowledge.written.devices)
    for part in [*sharing, *cables]:
        part_of = joined_by_cables(knowledge, without=part, over_routers=False)
        served: dict[str, set[str]] = {}
        for name in sharing:
            if name in part_of:
                served.setdefault(part_of[name], set()).add(name)
        safe -= {name for name, own in part_of.items() if not served.get(own, set()) - {name}}
    return safe
