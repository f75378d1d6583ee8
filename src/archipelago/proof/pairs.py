"""Pairs of hosts before and after a change, compared in every family; and those that nobody promised."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from archipelago.addressing.values import is_link_local
from archipelago.audit.ways import table_parts
from archipelago.knowledge.held import TableName
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.ends import OUTSIDE
from archipelago.model.filters import ECHO, Probe
from archipelago.model.finding import Finding
from archipelago.reachability.apart import Meant
from archipelago.reachability.arrays import NetworkArrays
from archipelago.reachability.families import Decided
from archipelago.reachability.matrix import Matrix, by_probe, matrix, only

Bools = NDArray[np.bool_]
Ints = NDArray[np.int64]


class Decision(NamedTuple):
    """All pairs of a network, decided in each family that it has, for some probes."""

    arrays: NetworkArrays
    answers: dict[tuple[int, Probe], Matrix]


class Difference(NamedTuple):
    """How many ordered pairs a change gains and loses, over the families."""

    gained: int
    lost: int


def decide(
    arrays: NetworkArrays, probes: Sequence[Probe] = (ECHO,), settled: Sequence[Probe] | None = None
) -> Decision:
    """Decide all pairs in every family; where several hold an address, for the kinds that are to be `settled`."""
    answers = {
        (version, answer.probe): answer
        for version in arrays.families
        for answer in by_probe(arrays, probes, version, causes=False, settled=settled)
    }
    return Decision(arrays, answers)


def compare(before: Decision, after: Decision) -> Difference:
    """What a change gains and loses. Hosts that fare alike in both are compared once."""
    gained = lost = 0
    for key, old in before.answers.items():
        new = after.answers.get(key)
        if new is None:
            lost += old.reached
            continue
        (old_kind, old_between), (new_kind, new_between) = _aligned(old, new)
        kinds = old_kind * (len(new_between) + 1) + new_kind
        _, first, size = np.unique(kinds, return_index=True, return_counts=True)
        here = np.ix_(old_kind[first], old_kind[first])
        there = np.ix_(new_kind[first], new_kind[first])
        pairs = np.multiply.outer(size, size)
        pairs[np.diag_indices_from(pairs)] -= size
        was, now = old_between[here], new_between[there]
        gained += int(pairs[now & ~was].sum())
        lost += int(pairs[was & ~now].sum())
    for key in after.answers.keys() - before.answers.keys():
        gained += after.answers[key].reached
    return Difference(gained, lost)


def _aligned(old: Matrix, new: Matrix) -> tuple[tuple[Ints, Bools], tuple[Ints, Bools]]:
    """The kinds of two answers' hosts, and who reaches whom, over the hosts of both: one that an answer lacks, such as
    an outside that nothing led to, reaches nobody in it."""
    if old.hosts == new.hosts:
        return (old.kind, old.between), (new.kind, new.between)
    names = list(dict.fromkeys((*old.hosts, *new.hosts)))

    def over_all(answer: Matrix) -> tuple[Ints, Bools]:
        place = {name: number for number, name in enumerate(answer.hosts)}
        absent = len(answer.between)
        kind = np.array([answer.kind[place[name]] if name in place else absent for name in names], dtype=np.int64)
        return kind, np.pad(answer.between, (0, 1))

    return over_all(old), over_all(new)


def causes_of_loss(before: Decision, after: Decision) -> list[Finding]:
    """What then cuts off the pairs that a change loses, most pairs first."""
    findings: list[Finding] = []
    for (version, probe), old in before.answers.items():
        new = after.answers.get((version, probe))
        if new is not None:
            lost = np.zeros_like(new.between)
            if old.hosts != new.hosts:
                continue  # an outside that comes or goes: what cuts it off is told of it
            kinds = old.kind * (len(new.between) + 1) + new.kind
            _, first = np.unique(kinds, return_index=True)
            was, now = old.between[np.ix_(old.kind[first], old.kind[first])], new.kind[first]
            sources, targets = np.nonzero(was & ~new.between[np.ix_(now, now)])
            lost[now[sources], now[targets]] = True
            if lost.any():
                groups = matrix(after.arrays, version, excused=only(lost, new.kind), probe=probe).groups
                findings += [group.finding for group in groups]
    return findings


def excused(index: NetworkIndex, version: int | None) -> Callable[[Decided], Bools]:
    """What says which pairs of kinds need not be reached: in separate routing tables (`vrf`) that nothing joins, not to
    be reached by what the network expects, or without the family that is asked for. With the outside among its hosts,
    all but what goes out there: the others are asked of the network alone. None stands for both families."""

    def fine(answer: Decided) -> Bools:
        hosts = answer.arrays.hosts
        outside = (OUTSIDE,) if OUTSIDE in hosts else ()
        mask = Meant(index.knowledge, hosts, outside).kinds(answer, policy=False)
        if OUTSIDE in hosts:
            there = answer.kind[hosts.index(OUTSIDE)]
            mask[:, np.arange(len(mask)) != there] = True
        for family in answer.outcomes:
            mask |= _apart(index, answer, family)
        if version is not None:
            lacking = answer.classes[version] < 0
            mask[lacking, :] = True
            mask[:, lacking] = True
        return mask

    return fine


def _apart(index: NetworkIndex, answer: Decided, version: int) -> Bools:
    """The kinds of host that are in separate routing tables (`vrf`) which nothing joins."""
    tables: dict[TableName, None] = {}
    for node in index.knowledge.devices.values():
        if version in node.forwards:
            tables.update(dict.fromkeys((node.name, nic.vrf) for nic in node.nics.values()))
    parts = table_parts(index.ways(version), list(tables))
    part = np.full(len(answer.between), -1)
    named = np.zeros(len(answer.between), dtype=np.bool_)
    for kind, place in zip(*np.unique(answer.kind, return_index=True), strict=True):
        node = index.knowledge.nodes[answer.arrays.hosts[place]]
        written = (address for nic in node.nics.values() for address in nic.addresses)
        address = next((held for held in written if held.version == version and not is_link_local(held)), None)
        home = index.home_of(node, address) if address is not None else None
        if home is not None:
            part[kind] = parts.get(home.table, -1)
            named[kind] = bool(home.nic.vrf)
    separate: Bools = (part[:, None] != part) & (named[:, None] | named) & (part[:, None] >= 0) & (part >= 0)
    return separate
