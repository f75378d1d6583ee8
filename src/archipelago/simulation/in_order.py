"""The checks in the order in which people make them: own gateway, a neighbour, each other VLAN, the routers on the way,
outside."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

from archipelago.addressing.values import Address
from archipelago.answer import Answer, OneLine
from archipelago.diagnosis.places import plugged_vlan, sits_in
from archipelago.knowledge.devices import Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.ends import OUTSIDE
from archipelago.model.parts import Host
from archipelago.simulation.reach import ReachResult

GATEWAY = "its gateway"


@dataclass(frozen=True, slots=True, repr=False)
class Check(OneLine):
    """One of the checks: what it is of, its answer, and what its failing means; empty where it is reached."""

    what: str
    answer: ReachResult
    meaning: str

    def __str__(self) -> str:
        return f"{self.answer.verdict:<12} {self.what}: {self.answer.target}" + (
            f": {self.meaning}" if self.meaning else ""
        )


@dataclass(frozen=True, slots=True, repr=False)
class InOrder(Answer):
    """The checks that were made from one host, and why no more were."""

    SHOWN = "exploring.IN_ORDER"

    source: str
    checks: tuple[Check, ...]
    stopped: str

    @property
    def reached(self) -> bool:
        """Whether every check was reached, or is kept apart on purpose."""
        return all(check.answer.as_meant for check in self.checks)

    @property
    def headline(self) -> str:
        """The answer in one line."""
        good = sum(check.answer.reached for check in self.checks)
        apart = sum(bool(check.answer.kept_apart) for check in self.checks)
        text = f"{self.source}: {good} of {len(self.checks)} checks reached{f', {apart} kept apart' if apart else ''}"
        return f"{text}; {self.stopped}" if self.stopped else text

    def __bool__(self) -> bool:
        return self.reached


def in_order(index: NetworkIndex, source: Node, outside: bool, ask: Callable[[str], ReachResult]) -> InOrder:
    """Make the checks from a host or a device; it stops where going on says nothing new.

    Args:
        index: the network, indexed.
        source: who asks.
        outside: whether anything leads outside.
        ask: puts one question to the network.
    """
    checks: list[Check] = []

    def check(what: str, target: str, meaning: str) -> bool:
        answer = ask(target)
        checks.append(Check(what, answer, _meaning(answer, meaning)))
        return answer.as_meant

    def made(stuck: str = "") -> InOrder:
        return InOrder(source.name, tuple(checks), f"nothing further was asked: {stuck}" if stuck else "")

    # A host without a gateway gets no further; a device may have routes, and routers may tell a host of themselves.
    waits = isinstance(source.written, Host) and not source.written.auto
    near, others = _one_of_each_vlan(index, source)
    gateway = next(iter(source.written.gateway), None)
    answers = gateway is None or check(GATEWAY, str(gateway.address), "nothing gets out of its VLAN")
    if near is not None:
        check("a neighbour in its VLAN", near, "the VLAN itself fails")
    if not answers:
        return made("all of it goes by the gateway")
    for vlan, name in others.items():
        meaning = "look at the other VLAN, and at the routes between"
        if not check(f"a host of {index.vlan_name(vlan)}", name, meaning) and gateway is None and waits:
            return made(f"{source.name} has no gateway")
    last = ask(OUTSIDE) if outside else None
    answered = [each.answer for each in checks] + ([last] if last is not None else [])
    for router in _routers(index, answered, gateway.address if gateway is not None else None):
        check("a router on the way", router, "the way to it, or its way back, is cut")
    if last is not None:
        meaning = "the default route, or the way back that the neighbour outside knows"
        checks.append(Check(OUTSIDE, last, _meaning(last, meaning)))
    return made()


def _meaning(answer: ReachResult, where_not: str) -> str:
    """What an answer means: nothing where it is reached, what keeps the two apart, or what is wrong."""
    return "" if answer.reached else f"by {answer.kept_apart}" if answer.kept_apart else where_not


def _one_of_each_vlan(index: NetworkIndex, source: Node) -> tuple[str | None, dict[int | None, str]]:
    """A neighbour of a source, and a host of each other VLAN."""
    knowledge = index.knowledge
    first: dict[int | None, str] = {}
    for other in index.network.hosts.values():
        if other.name != source.name:
            first.setdefault(plugged_vlan(knowledge, other), other.name)
    own = next((nic for nic in source.nics.values() if nic.addresses), None)
    return first.pop(sits_in(index, source, own), None) if own is not None else None, first


def _routers(index: NetworkIndex, answers: Iterable[ReachResult], gateway: Address | None) -> list[str]:
    """The routing devices that probes and replies came to, in that order, but the gateway itself."""
    own = {holder.node.name for holder in index.holders(gateway)} if gateway is not None else set()
    steps = (step for answer in answers for step in (*answer.out, *answer.back))
    passed = dict.fromkeys(step.device for step in steps if step.device in index.knowledge.devices)
    return [name for name in passed if index.knowledge.devices[name].forwards and name not in own]
