"""The checks in the order in which people make them: own gateway, a neighbour, each other VLAN, outside."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from archipelago.diagnosis.places import plugged_vlan
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.expectation import OUTSIDE
from archipelago.model.parts import Host
from archipelago.simulation.reach import ReachResult

GATEWAY = "its gateway"


@dataclass(frozen=True, slots=True)
class Check:
    """One of the checks: what it is of, its answer, and what its failing means; empty where it is reached."""

    what: str
    answer: ReachResult
    meaning: str

    def __str__(self) -> str:
        verdict = "REACHED" if self.answer.reached else "NOT REACHED"
        return f"{verdict:<12} {self.what}: {self.answer.target}" + (f": {self.meaning}" if self.meaning else "")


@dataclass(frozen=True, slots=True)
class InOrder:
    """The checks that were made from one host, and why no more were."""

    source: str
    checks: tuple[Check, ...]
    stopped: str

    @property
    def reached(self) -> bool:
        """Whether every check was reached."""
        return all(check.answer.reached for check in self.checks)

    @property
    def headline(self) -> str:
        """The answer in one line."""
        good = sum(check.answer.reached for check in self.checks)
        text = f"{self.source}: {good} of {len(self.checks)} checks reached"
        return f"{text}; {self.stopped}" if self.stopped else text

    def __str__(self) -> str:
        return "\n".join([self.headline, *(f"  {check}" for check in self.checks)])

    def __repr__(self) -> str:
        return f"<InOrder: {self.headline}>"


def in_order(index: NetworkIndex, host: Host, outside: bool, ask: Callable[[str], ReachResult]) -> InOrder:
    """Make the checks from one host; it stops where going on says nothing new.

    Args:
        index: the network, indexed.
        host: who asks.
        outside: whether anything leads outside.
        ask: puts one question to the network.
    """
    checks: list[Check] = []
    stuck = ""
    for what, target, meaning, near in _wanted(index, host, outside):
        if stuck and not near:
            return InOrder(host.name, tuple(checks), f"nothing further was asked: {stuck}")
        answer = ask(target)
        checks.append(Check(what, answer, "" if answer.reached else meaning))
        if not answer.reached and what == GATEWAY:
            stuck = "all of it goes by the gateway"
        elif not answer.reached and not near and not host.gateway and not host.auto:
            stuck = f"{host.name} has no gateway"
    return InOrder(host.name, tuple(checks), "")


def _wanted(index: NetworkIndex, host: Host, outside: bool) -> Iterator[tuple[str, str, str, bool]]:
    """What is checked, of whom, what failing means, and whether it is within the host's own VLAN."""
    knowledge = index.knowledge
    vlan = plugged_vlan(knowledge, host)
    others: dict[int | None, str] = {}
    for other in index.network.hosts.values():
        if other.name != host.name:
            others.setdefault(plugged_vlan(knowledge, other), other.name)
    for hop in host.gateway[:1]:
        yield GATEWAY, str(hop.address), "nothing gets out of its VLAN", True
    if vlan in others:
        yield "a neighbour in its VLAN", others[vlan], "the VLAN itself fails", True
    for there, name in others.items():
        if there != vlan:
            meaning = "look at the other VLAN, and at the routes between"
            yield f"a host of {index.vlan_name(there)}", name, meaning, False
    if outside:
        yield "outside", OUTSIDE, "the default route, or the way back that the neighbour outside knows", False
