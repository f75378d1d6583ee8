"""What a network expects and what its policy says, asked again with parts of it broken."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property

from archipelago.errors import QueryError
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge, apply_change, know
from archipelago.knowledge.outside import with_outside
from archipelago.knowledge.parts import switched_off
from archipelago.model.policy import Policy
from archipelago.reachability.arrays import NetworkArrays
from archipelago.reachability.build import build_arrays, change_arrays
from archipelago.reachability.expect import check, names_addresses_beyond
from archipelago.reachability.matrix import matrix
from archipelago.reachability.policy import Breach, BreachKey, breaches

Parts = Sequence[str]


class Promises:
    """The promises of a network: those that are kept while nothing is broken can be broken by a failure. Of the policy
    what it says of hosts and the outside; devices' own addresses are for the audit to tell of.

    Args:
        plain: the network.
        arrays: the same in arrays, with the outside where it says what leads there.
        contested: the policy is also asked about pairs whose way depends on an address that several hold, which takes
            the simulation.
    """

    def __init__(self, plain: Knowledge, arrays: NetworkArrays, *, contested: bool = True) -> None:
        self._contested = contested
        self._plain = plain
        self._network = plain.network
        self._given = arrays

    @cached_property
    def _wide(self) -> tuple[NetworkArrays, tuple[str, ...]]:
        """The network in arrays with hosts that stand for the outside, and their names."""
        try:
            network, outside = with_outside(self._plain)
        except QueryError:  # somebody of ours is called as the outside is
            return self._given, ()
        if self._network.outside is not None or not outside:
            return self._given, outside
        return build_arrays(know(network)), outside

    def _without(self, parts: Parts) -> NetworkArrays:
        wide, _ = self._wide
        return change_arrays(wide, switched_off(wide.knowledge, parts)) if parts else wide

    # What is expected

    def expectations_broken(self, parts: Parts) -> tuple[str, ...]:
        """The expectations that hold while nothing is broken, and not without some parts."""
        if not self._network.expect:
            return ()
        broken = self._not_holding(parts) - self._not_holding_anyway
        return tuple(str(self._network.expect[number]) for number in sorted(broken))

    @cached_property
    def _not_holding_anyway(self) -> set[int]:
        return self._not_holding(()) if self._network.expect else set()

    @cached_property
    def _asks_beyond(self) -> bool:
        return names_addresses_beyond(self._plain)

    def _not_holding(self, parts: Parts) -> set[int]:
        """The places of the expectations that do not hold without some parts."""
        if self._asks_beyond:  # hosts have to stand for what is named out there
            left = apply_change(self._plain, switched_off(self._plain, parts)) if parts else self._plain
            checked = check(left, reasons=False)
        else:
            arrays = self._without(parts)
            answer = matrix(arrays, causes=False)
            checked = check(arrays.knowledge, None, answer, outside=self._wide[1], reasons=False, arrays=arrays)
        return {number for number, verdict in enumerate(checked.verdicts) if verdict.broken}

    # What the policy says

    def policy_broken(self, parts: Parts) -> tuple[str, ...]:
        """What of the policy is kept while nothing is broken, and not without some parts, in words."""
        policy = self._network.policy
        if policy is None:
            return ()
        new = [breach for breach in self._breaches(parts) if breach.key not in self._breached_anyway]
        return tuple(dict.fromkeys(_told(policy, breach) for breach in new))

    @property
    def broken(self) -> tuple[str, ...]:
        """What is not kept although nothing is broken, in words; what ports for answers let pass is part of it."""
        return tuple(dict.fromkeys([*self.expectations.values(), *self.policy.values()]))

    @property
    def policy(self) -> dict[BreachKey, str]:
        """What of the policy is not kept although nothing is broken, in words, by line, way and family."""
        policy = self._network.policy
        return {breach.key: _told(policy, breach) for breach in self._breaches(())} if policy is not None else {}

    @property
    def policy_but_answers(self) -> dict[BreachKey, str]:
        """The same, those lines aside where only what ports for answers let pass is too much."""
        policy = self._network.policy
        breached = self._breaches(()) if policy is not None else ()
        return {breach.key: _told(policy, breach) for breach in breached if policy and not breach.only_answers}

    @property
    def expectations(self) -> dict[int, str]:
        """The expectations that do not hold although nothing is broken, by their places."""
        return {number: str(self._network.expect[number]) for number in sorted(self._not_holding_anyway)}

    @cached_property
    def _breached_anyway(self) -> set[BreachKey]:
        return {breach.key for breach in self._breaches(())}

    @property
    def lines(self) -> frozenset[str]:
        """Every expectation and every line of the policy, as it is written."""
        policy = self._network.policy
        rules = range(-1, len(policy.rules)) if policy is not None else ()
        expected = (str(expectation) for expectation in self._network.expect)
        return frozenset((*expected, *(self._line(number) for number in rules)))

    @cached_property
    def lines_broken(self) -> frozenset[str]:
        """Those that do not hold; lines of the policy, where only what ports for answers let pass is too much, do."""
        broken = set(self.expectations.values())
        for breach in self._breaches(()) if self._network.policy is not None else ():
            if not breach.only_answers:
                broken.add(self._line(-1 if breach.line is None else breach.line))
        return frozenset(broken)

    def _line(self, number: int) -> str:
        policy = self._network.policy
        assert policy is not None
        return f"policy: {policy.rules[number]}" if number >= 0 else f"policy, otherwise: {policy.otherwise}"

    def _breaches(self, parts: Parts) -> list[Breach]:
        arrays = self._without(parts)
        index, outside = NetworkIndex(arrays.knowledge), self._wide[1]
        return list(breaches(index, arrays, outside, devices=False, contested=self._contested))


def _told(policy: Policy, breach: Breach) -> str:
    """What of the policy is not kept, in words."""
    line = breach.line
    which = f"line {line + 1}, {policy.rules[line]}" if line is not None else "otherwise"
    does = "gets through to" if breach.let_through else "is kept from"
    return f"policy, {which}: {breach.example[0]} {does} {breach.example[1]} by {breach.probe}"
