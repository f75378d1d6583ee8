"""The gate: what a network did before a change it does after it, whoever made the change. Mends, recipes, additions and
designs that keep an old network all pass here, or name what they lose."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Hashable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

import numpy as np

from archipelago.errors import QueryError
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge, know
from archipelago.knowledge.outside import with_outside
from archipelago.model.filters import ECHO, Probe
from archipelago.model.finding import Finding
from archipelago.model.network import Network, written_sizes
from archipelago.model.parts import USUAL_MTU
from archipelago.proof.pairs import Decision, decide
from archipelago.reachability.apart import Meant
from archipelago.reachability.arrays import Ints
from archipelago.reachability.build import build_arrays
from archipelago.reachability.matrix import Matrix
from archipelago.reachability.policy import kinds_apart
from archipelago.reachability.promises import Promises

HEADERS = {4: 28, 6: 48}
"""Octets of a packet beside what an echo request carries: of IP and of ICMP (RFC 791, RFC 792, RFC 8200, RFC 4443)."""
MOST_KINDS = 64
"""So many kinds of probe are asked at most."""
TOLERATED = (
    "expectation-idle",
    "filter-idle",
    "policy-answers",
    "policy-line-hidden",
    "gateway-claimable",
    "lease-apart",
)
"""Risks that what is asked for may have: nobody is there yet, or answers need a line that lets a little more pass, or
the policy itself has lines that never decide; VRRP proves nobody (RFC 9568 9); and people say themselves who is where.
"""
Rules = Callable[[NetworkIndex], Sequence[Finding]]


def no_rules(index: NetworkIndex) -> Sequence[Finding]:
    """Rules that find nothing: where what is wrong is told elsewhere."""
    return ()


class Loss(NamedTuple):
    """Something that held before a change and does not after it, in words; how many pairs of hosts it is, where it is
    pairs."""

    says: str
    pairs: int = 0


def kinds_of_probe(*networks: Network) -> tuple[Probe, ...]:
    """A probe of every kind that filters, policies, expectations or sizes of some networks tell apart: echo requests
    first."""
    kinds: dict[Probe, None] = {ECHO: None}
    for network in networks:
        told_apart = bool(network.policy) or any(device.filters for device in network.devices.values())
        kinds.update(dict.fromkeys(kinds_apart(network) if told_apart else ()))
        kinds.update(dict.fromkeys(probe for expectation in network.expect for probe in expectation.probe))
    sizes = {size for network in networks for size in written_sizes(network)} - {USUAL_MTU}
    for size in sorted(sizes | ({USUAL_MTU} if sizes else set()), reverse=True):
        kinds.update({Probe("icmp", 0, size - octets): None for octets in HEADERS.values()})
    return tuple(kinds)[:MOST_KINDS]


@dataclass(frozen=True)
class Standing:
    """What a network does: its pairs by kind of probe, the outside among its hosts; its leases; what of its promises is
    not kept; what the rules find.

    Args:
        knowledge: the network.
        probes: the kinds of probe that are asked.
        rules: what finds mistakes.
    """

    knowledge: Knowledge
    probes: tuple[Probe, ...]
    rules: Rules

    @cached_property
    def _wide(self) -> tuple[Knowledge, tuple[str, ...]]:
        try:
            network, outside = with_outside(self.knowledge)
        except QueryError:  # somebody of ours is called as the outside is
            return self.knowledge, ()
        return (know(network), outside) if outside or network.outside is not None else (self.knowledge, ())

    @cached_property
    def decision(self) -> Decision:
        """All pairs."""
        return decide(build_arrays(self._wide[0]), self.probes)

    @cached_property
    def leases(self) -> Mapping[str, bool]:
        """Whether each host that asks is given a lease."""
        leases = self.knowledge.leases.given if self.knowledge.any_learning else {}
        return {name: lease is not None for name, lease in leases.items()}

    @cached_property
    def broken(self) -> Mapping[Hashable, str]:
        """What of expectations and policy is not kept, in words, by line."""
        promises = Promises(self.knowledge, self.decision.arrays)
        return dict([*promises.expectations.items(), *promises.policy.items()])

    @cached_property
    def findings(self) -> Counter[tuple[str, str]]:
        """The errors and risks that the rules find, by kind and place."""
        found = self.rules(NetworkIndex(self.knowledge))
        serious = (one for one in found if not one.is_note and one.kind not in TOLERATED)
        return Counter((one.kind, one.at) for one in serious)

    @cached_property
    def meant(self) -> Meant:
        """What the policy or what is expected wants apart."""
        known, outside = self._wide
        return Meant(known, self.decision.arrays.hosts, outside)


def losses(before: Standing, after: Standing) -> Iterator[Loss]:
    """What a network loses by a change: pairs of hosts that both have, in any family and by any kind of probe, those
    aside that the new network wants apart; leases; promises; and errors and risks that are new."""
    yield from _pairs_lost(before, after)
    gone = [name for name, given in before.leases.items() if given and after.leases.get(name) is False]
    if gone:
        yield Loss(f"the lease of {gone[0]}" + (f" and {_counted(gone[1:], 'other host')}" if gone[1:] else ""))
    for line, promise in after.broken.items():
        if line not in before.broken:
            yield Loss(f"not kept any more: {promise}")
    was, now = (_by_kind(standing.findings) for standing in (before, after))
    for kind, at in after.findings - before.findings:
        if now[kind] > was[kind]:  # else it is what was found elsewhere before
            yield Loss(f"the audit finds {kind} at {at}")


def _by_kind(findings: Counter[tuple[str, str]]) -> Counter[str]:
    kinds: Counter[str] = Counter()
    for (kind, _), count in findings.items():
        kinds[kind] += count
    return kinds


def _pairs_lost(before: Standing, after: Standing) -> Iterator[Loss]:
    """The pairs that are lost in each family: those of the kind of probe that loses most, and which others do."""
    new = after.decision
    there = {name: place for place, name in enumerate(new.arrays.hosts)}
    mine, its = _places(
        [(place, there[name]) for place, name in enumerate(before.decision.arrays.hosts) if name in there]
    )
    for version in before.decision.arrays.families:
        found: list[tuple[int, Probe, tuple[str, str]]] = []
        for probe in before.probes:
            old_answer, new_answer = before.decision.answers[version, probe], new.answers.get((version, probe))
            count, example = _lost(old_answer, new_answer, mine, its, after, version)
            if example is not None:
                found.append((count, probe, example))
        if found:
            count, probe, (source, target) = max(found, key=lambda one: one[0])
            others = f" and {_counted(found[1:], 'other kind')} of traffic" if found[1:] else ""
            lost = f"{count:,} pair{'s' * (count != 1)} of hosts in IPv{version} by {probe}{others}"
            yield Loss(f"{lost}, such as {source} to {target}", count)


def _lost(
    old: Matrix, new: Matrix | None, mine: Ints, its: Ints, after: Standing, version: int
) -> tuple[int, tuple[str, str] | None]:
    """How many pairs of hosts that both have are lost, and one of them."""
    if not len(mine):
        return 0, None
    columns = [old.kind[mine]]
    if new is not None:
        sort, apart = after.meant.wanted(new)
        columns += [new.kind[its], sort[its]]
    _, first, group = np.unique(np.stack(columns), axis=1, return_index=True, return_inverse=True)
    group = group.reshape(-1)
    kinds = old.kind[mine[first]]
    lost = old.between[np.ix_(kinds, kinds)].copy()
    if new is not None:
        there, sorts = new.kind[its[first]], sort[its[first]]
        lost &= ~new.between[np.ix_(there, there)] & ~apart[np.ix_(sorts, sorts)]
    size = np.bincount(group)
    pairs = np.multiply.outer(size, size)
    pairs[np.diag_indices_from(pairs)] -= size
    lost &= pairs > 0
    if not lost.any():
        return 0, None
    source, target = (int(at[0]) for at in np.nonzero(lost))
    ends = np.flatnonzero(group == source)[0], np.flatnonzero(group == target)[-1]
    return int(pairs[lost].sum()), (old.hosts[mine[ends[0]]], old.hosts[mine[ends[1]]])


def _places(pairs: Sequence[tuple[int, int]]) -> tuple[Ints, Ints]:
    places: Ints = np.array(pairs, dtype=np.int64).reshape(-1, 2)
    return places[:, 0], places[:, 1]


def _counted(things: Sequence[object], noun: str) -> str:
    return f"{len(things):,} {noun}{'s' * (len(things) != 1)}"
