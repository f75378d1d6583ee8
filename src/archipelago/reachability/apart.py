"""What is kept apart on purpose: by the policy, because an expectation wants it not reached, or by translation, which
nobody outside can begin a conversation through (RFC 3022 2.1)."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from archipelago.knowledge.ends import first_address
from archipelago.knowledge.known import Knowledge
from archipelago.knowledge.outside import Hiding, hiding
from archipelago.model.ends import OUTSIDE
from archipelago.model.expectation import Expectation
from archipelago.model.filters import Probe
from archipelago.model.network import Network
from archipelago.reachability.arrays import Bools, Ints
from archipelago.reachability.families import Decided
from archipelago.reachability.management import Allowed, named_devices
from archipelago.reachability.matrix import Matrix, count_pairs
from archipelago.reachability.parties import Parties
from archipelago.reachability.policy import Intent


@dataclass(frozen=True, slots=True)
class Apart:
    """The pairs that are not reached and are not to be.

    Args:
        pairs: how many there are.
        unforeseen: how many pairs of the network's own hosts are cut off that nothing wants cut off.
        kinds: the pairs of kinds all of whose hosts are to be apart, of shape (kinds, kinds).
        by: what keeps them apart, in words; empty where nothing could.
    """

    pairs: int
    unforeseen: int
    kinds: Bools
    by: str


TRANSLATED = "translation: nobody outside can begin"
"""Why the outside does not reach a host."""


class Meant:
    """What a network's policy and expectations want apart.

    Args:
        knowledge: the network, the outside in it where the hosts have it.
        hosts: its hosts, in the order of the arrays.
        outside: those that stand for the outside.
        hidden: also count as apart whom the outside has no way to since what goes out is translated.
    """

    def __init__(
        self, knowledge: Knowledge, hosts: tuple[str, ...], outside: tuple[str, ...], *, hidden: bool = False
    ) -> None:
        network = knowledge.network
        self._knowledge = knowledge
        self._hosts = hosts
        self._network = network
        self._outside = outside
        self._hidden = hidden and bool(outside)
        self._parties = Parties(knowledge, hosts, outside)
        self._intent = Intent(knowledge, hosts, outside) if network.policy is not None else None
        self._sorted: dict[tuple[Probe, int | None, bool], tuple[Ints, Ints, Bools]] = {}

    def of(self, answer: Matrix | Decided) -> Apart:
        """What of an answer's pairs is kept apart."""
        sorts, apart = self.wanted(answer)
        kind_of = np.zeros(len(apart), dtype=np.int64)
        kind_of[sorts] = answer.kind
        cut = ~answer.between[np.ix_(kind_of, kind_of)]
        sizes = np.bincount(sorts, minlength=len(apart))
        own = sizes.copy()
        for name in self._outside:
            own[sorts[self._hosts.index(name)]] -= 1
        by = " or ".join(self._keep_apart())
        return Apart(count_pairs(cut & apart, sizes), count_pairs(cut & ~apart, own), self.kinds(answer), by)

    def _keep_apart(self) -> Iterator[str]:
        """What of the network could keep hosts apart on purpose, in words."""
        if self._network.policy is not None:
            yield "the policy"
        if any(not one.reached for one in self._network.expect):
            yield "what is expected"
        if self._hidden:
            yield "translation"

    def kinds(self, answer: Matrix | Decided, *, policy: bool = True) -> Bools:
        """The pairs of kinds all of whose hosts are to be apart, of shape (kinds, kinds), with or without the
        policy."""
        sorts, apart = self.wanted(answer, policy=policy)
        kind_of = np.zeros(len(apart), dtype=np.int64)
        kind_of[sorts] = answer.kind
        kinds = np.ones_like(answer.between)
        first, second = np.nonzero(~apart)
        kinds[kind_of[first], kind_of[second]] = False
        return kinds

    def wanted(self, answer: Matrix | Decided, *, policy: bool = True) -> tuple[Ints, Bools]:
        """The sort of each host (of one kind, and taken alike by the policy and expectations), and which pairs of sorts
        are to be apart, for the probe and the family of an answer; with or without the policy."""
        key = answer.probe, answer.family, policy
        known = self._sorted.get(key)
        if known is None or known[0] is not answer.kind:  # all pairs are asked twice, as they are decided and after
            known = self._sorted[key] = (answer.kind, *self._wanted(answer, self._intent if policy else None))
        return known[1:]

    def _wanted(self, answer: Matrix | Decided, intent: Intent | None) -> tuple[Ints, Bools]:
        expected = [one for one in self._network.expect if self._speaks(one, answer.probe)]
        marks = [np.asarray(answer.kind)]
        for one in expected:
            for end in (one.source, one.target):
                mark = np.zeros(len(self._hosts), dtype=np.int64)
                mark[self._parties.hosts(end)] = 1
                marks.append(mark)
        versions = (answer.family,) if answer.family is not None else (4, 6)
        if intent is not None:
            marks += [intent.sorts(answer, version)[1] for version in versions]
            marks.append(self._with_ipv4)
        if self._hidden:
            marks.append(self._out_of_sight(answer.family))
        _, first, sorts = np.unique(np.stack(marks), axis=1, return_index=True, return_inverse=True)
        apart = np.zeros((len(first), len(first)), dtype=np.bool_)
        for number in range(len(expected)):
            source, target = (marks[1 + 2 * number + end][first] == 1 for end in (0, 1))
            apart |= source[:, None] & target
        if intent is not None:
            may = [intent.decides(first, version, answer.probe)[0] for version in versions]
            both = self._with_ipv4[first].astype(np.bool_)
            apart |= ~np.where(both[:, None] & both, may[0], may[-1])
        if self._hidden:
            beyond = np.isin(first, [self._hosts.index(name) for name in self._outside])
            apart |= beyond[:, None] & marks[-1][first].astype(np.bool_)
        return sorts.reshape(-1), apart

    def _speaks(self, expectation: Expectation, probe: Probe) -> bool:
        """Whether an expectation wants hosts of the arrays apart, for a probe: where it names none, for every one."""
        beyond = OUTSIDE in (expectation.source, expectation.target)
        return (
            not expectation.reached
            and (not expectation.probe or probe in expectation.probe)
            and (bool(self._outside) or not beyond)
        )

    def _out_of_sight(self, family: int | None) -> Ints:
        """Which hosts the outside has no way to, in the family that they are asked in."""
        return np.array([self._is_hidden(name, family) for name in self._hosts], dtype=np.int64)

    def _is_hidden(self, host: str, family: int | None) -> bool:
        node = self._knowledge.nodes[host]
        versions = (version for version in self._beyond if family in (None, version))
        own = next((own for version in versions if (own := first_address(node, version)) is not None), None)
        return own is not None and self._hiding.hides(own)

    @cached_property
    def _beyond(self) -> tuple[int, ...]:
        """The families that the outside has."""
        outside = self._knowledge.nodes[self._outside[0]]
        return tuple(version for version in (4, 6) if first_address(outside, version) is not None)

    @cached_property
    def _hiding(self) -> Hiding:
        return hiding(self._knowledge)

    @cached_property
    def _with_ipv4(self) -> Ints:
        """Which hosts have an IPv4 address: pairs of these are asked in IPv4, where no family is asked for."""
        nodes = self._knowledge.nodes
        return np.array([first_address(nodes[name], 4) is not None for name in self._hosts], dtype=np.int64)

    def single(self, source: str, target: str, version: int, probe: Probe) -> str:
        """What keeps two hosts apart, or a host and a device (DEVICE, DEVICE/INTERFACE), in words; empty where nothing
        does."""
        if source not in self._hosts:
            return ""
        if self._hidden and source in self._outside and target in self._hosts and self._is_hidden(target, version):
            return TRANSLATED
        start = self._hosts.index(source)
        if target not in self._hosts:
            return self._device(start, target, version, probe)
        end = self._hosts.index(target)
        for one in self._network.expect:
            if not self._speaks(one, probe):
                continue
            if start in self._parties.hosts(one.source) and end in self._parties.hosts(one.target):
                return f"what is expected: {one}"
        if self._intent is None:
            return ""
        allowed, line = self._intent.decides(np.array([start, end]), version, probe)
        return "" if allowed[0, 1] else in_words(self._network, int(line[0, 1]))

    def _device(self, host: int, target: str, version: int, probe: Probe) -> str:
        device, _, interface = target.partition("/")
        if self._intent is None or device not in named_devices(self._network):
            return ""
        policy = self._intent.policy
        speaking = [n for n, rule in enumerate(policy.rules) if self._intent.members(rule.source, version)[host]]
        ((may, line),) = Allowed(policy, [probe]).lines(tuple(speaking), device, interface)
        return "" if may else f"{in_words(self._network, line)}, and nobody else"


def in_words(network: Network, line: int) -> str:
    """A line of the policy, or what it says otherwise, in words."""
    assert network.policy is not None
    rules: Sequence[object] = network.policy.rules
    said = f", line {line + 1}: {rules[line]}" if line >= 0 else f": otherwise {network.policy.otherwise}"
    return f"the policy{said}"
