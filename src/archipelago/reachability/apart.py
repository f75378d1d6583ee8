"""What is kept apart on purpose: by the policy, or because an expectation wants it not reached."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from archipelago.knowledge.ends import first_address
from archipelago.knowledge.known import Knowledge
from archipelago.model.ends import OUTSIDE
from archipelago.model.expectation import Expectation
from archipelago.model.filters import ECHO, Probe
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


def keeps_apart(network: Network) -> str:
    """What of a network could keep hosts apart on purpose, in words; empty where nothing does."""
    said = ["the policy"] if network.policy is not None else []
    said += ["what is expected"] if any(not one.reached for one in network.expect) else []
    return " or ".join(said)


class Meant:
    """What a network's policy and expectations want apart.

    Args:
        knowledge: the network, the outside in it where the hosts have it.
        hosts: its hosts, in the order of the arrays.
        probe: what is sent.
    """

    def __init__(self, knowledge: Knowledge, hosts: tuple[str, ...], probe: Probe = ECHO) -> None:
        network = knowledge.network
        self._knowledge = knowledge
        self._hosts = hosts
        self._probe = probe
        self._network = network
        self._outside = (OUTSIDE,) if OUTSIDE in hosts else ()
        self._parties = Parties(knowledge, hosts, self._outside)
        self._intent = Intent(knowledge, hosts, self._outside) if network.policy is not None else None
        self._expected = [one for one in network.expect if self._speaks(one)]

    def _speaks(self, expectation: Expectation) -> bool:
        """Whether an expectation wants hosts of the arrays apart, for this probe."""
        outside = OUTSIDE in (expectation.source, expectation.target)
        return (
            not expectation.reached
            and self._probe in (expectation.probe or (ECHO,))
            and (bool(self._outside) or not outside)
        )

    def of(self, answer: Matrix | Decided) -> Apart:
        """What of an answer's pairs is kept apart."""
        sorts, apart = self._sorted(answer)
        kind_of = np.zeros(len(apart), dtype=np.int64)
        kind_of[sorts] = answer.kind
        cut = ~answer.between[np.ix_(kind_of, kind_of)]
        sizes = np.bincount(sorts, minlength=len(apart))
        own = sizes.copy()
        for name in self._outside:
            own[sorts[self._hosts.index(name)]] -= 1
        kinds = np.ones_like(answer.between)
        first, second = np.nonzero(~apart & (sizes > 0)[:, None] & (sizes > 0))
        kinds[kind_of[first], kind_of[second]] = False
        return Apart(count_pairs(cut & apart, sizes), count_pairs(cut & ~apart, own), kinds, keeps_apart(self._network))

    def _sorted(self, answer: Matrix | Decided) -> tuple[Ints, Bools]:
        """The sort of each host (of one kind, and taken alike by policy and expectations), and which pairs of sorts are
        to be apart."""
        marks = [np.asarray(answer.kind)]
        for one in self._expected:
            for end in (one.source, one.target):
                mark = np.zeros(len(self._hosts), dtype=np.int64)
                mark[self._parties.hosts(end)] = 1
                marks.append(mark)
        versions = (answer.family,) if answer.family is not None else (4, 6)
        if self._intent is not None:
            marks += [self._intent.sorts(answer, version)[1] for version in versions]
            marks.append(self._with_ipv4)
        _, first, sorts = np.unique(np.stack(marks), axis=1, return_index=True, return_inverse=True)
        sorts = sorts.reshape(-1)
        apart = np.zeros((len(first), len(first)), dtype=np.bool_)
        for number in range(len(self._expected)):
            source, target = (marks[1 + 2 * number + end][first] == 1 for end in (0, 1))
            apart |= source[:, None] & target
        if self._intent is not None:
            may = [self._intent.decides(first, version, self._probe)[0] for version in versions]
            both = self._with_ipv4[first].astype(np.bool_)
            apart |= ~np.where(both[:, None] & both, may[0], may[-1])
        return sorts, apart

    @cached_property
    def _with_ipv4(self) -> Ints:
        """Which hosts have an IPv4 address: pairs of these are asked in IPv4, where no family is asked for."""
        nodes = self._knowledge.nodes
        return np.array([first_address(nodes[name], 4) is not None for name in self._hosts], dtype=np.int64)

    def single(self, source: str, target: str, version: int) -> str:
        """What keeps two hosts apart, or a host and a device (DEVICE, DEVICE/INTERFACE), in words; empty where nothing
        does."""
        if source not in self._hosts:
            return ""
        start = self._hosts.index(source)
        if target not in self._hosts:
            return self._device(start, target, version)
        end = self._hosts.index(target)
        for one in self._expected:
            if start in self._parties.hosts(one.source) and end in self._parties.hosts(one.target):
                return f"what is expected: {one}"
        if self._intent is None:
            return ""
        allowed, line = self._intent.decides(np.array([start, end]), version, self._probe)
        return "" if allowed[0, 1] else in_words(self._network, int(line[0, 1]))

    def _device(self, host: int, target: str, version: int) -> str:
        device, _, interface = target.partition("/")
        if self._intent is None or device not in named_devices(self._network):
            return ""
        policy = self._intent.policy
        speaking = [n for n, rule in enumerate(policy.rules) if self._intent.members(rule.source, version)[host]]
        ((may, line),) = Allowed(policy, [self._probe]).lines(tuple(speaking), device, interface)
        return "" if may else f"{in_words(self._network, line)}, and nobody else"


def in_words(network: Network, line: int) -> str:
    """A line of the policy, or what it says otherwise, in words."""
    assert network.policy is not None
    rules: Sequence[object] = network.policy.rules
    said = f", line {line + 1}: {rules[line]}" if line >= 0 else f": otherwise {network.policy.otherwise}"
    return f"the policy{said}"
