"""What shared gateways promise: no single device or cable of those that share cuts off whom cables still join."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from archipelago.audit.redundancy import partners
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge, know
from archipelago.knowledge.outside import widened
from archipelago.knowledge.parts import switched_off
from archipelago.model.expectation import OUTSIDE
from archipelago.model.network import Network
from archipelago.progress import steps
from archipelago.proof.pairs import Decision, decide
from archipelago.reachability.build import build_arrays, change_arrays


def cut_off_by_one(network: Network) -> list[str]:
    """What is cut off by one device or cable of those that share gateways, one sentence for each; empty where nothing
    is, or nothing is shared."""
    if not know(network).elected.any:
        return []
    knowledge = widened(know(network))
    index = NetworkIndex(knowledge)
    pairs = index.once(partners)
    cables = [str(cable) for cable in knowledge.written.cables if {end.device for end in cable.ends} & pairs.keys()]
    before = decide(build_arrays(knowledge))
    told = []
    for part in steps([*pairs, *cables], "breaking one part after another"):
        after = decide(change_arrays(before.arrays, switched_off(knowledge, [part])))
        lost = next(_lost(index, before, after), None)
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


def _lost(index: NetworkIndex, before: Decision, after: Decision) -> Iterator[tuple[str, str]]:
    """Pairs of hosts with shared gateways that were reached, are so no longer, and are still joined by cables."""
    part_of = _parts(after.arrays.knowledge)
    served = {part_of.get(name) for name in index.once(partners)}
    hosts = before.arrays.hosts
    promised = {name for name in hosts if _is_promised(index, name)}
    for key, old in before.answers.items():
        new = after.answers.get(key)
        if new is None:
            continue
        kinds = old.kind * (len(new.between) + 1) + new.kind
        _, first = np.unique(kinds, return_index=True)
        was = old.between[np.ix_(old.kind[first], old.kind[first])]
        now = new.between[np.ix_(new.kind[first], new.kind[first])]
        for source, target in zip(*np.nonzero(was & ~now), strict=True):
            a, b = hosts[first[source]], hosts[first[target]]
            ends = [part_of.get(index.network.hosts[name].at.device) for name in (a, b)]
            if a != b and {a, b} <= promised and ends[0] == ends[1] and ends[0] in served - {None}:
                yield a, b


def _is_promised(index: NetworkIndex, name: str) -> bool:
    """Whether all gateways of a host are shared; what lies outside is promised, too."""
    gateways = index.network.hosts[name].gateway
    return name == OUTSIDE or (bool(gateways) and all(index.knowledge.elected.sharing(hop.address) for hop in gateways))


def _parts(knowledge: Knowledge) -> dict[str, str]:
    """The devices that are on, each with the first of those that cables join it to."""
    network = knowledge.written
    part = {name: name for name, device in network.devices.items() if not device.off}

    def find(name: str) -> str:
        while part[name] != name:
            name = part[name]
        return name

    for cable in network.cables:
        if knowledge.links[cable.a].carrier and all(end.device in part for end in cable.ends):
            part[find(cable.a.device)] = find(cable.b.device)
    return {name: find(name) for name in part}
