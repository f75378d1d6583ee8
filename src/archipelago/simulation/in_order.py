"""The checks in the order in which people make them: own card and port, lease, gateway, a neighbour, a host of each
other VLAN, both ends of each link on the way, outside. They go on after a no, since what works tells as much."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from functools import cache
from itertools import pairwise

from archipelago.addressing.values import parse_address
from archipelago.answer import Answer, OneLine
from archipelago.diagnosis.places import plugged_vlan, sits_in
from archipelago.knowledge.devices import Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.ends import OUTSIDE
from archipelago.model.parts import Host
from archipelago.simulation.reach import ReachResult
from archipelago.simulation.steps import Step

GATEWAY = "its gateway"


@dataclass(frozen=True, slots=True, repr=False)
class Check(OneLine):
    """One of the checks: what it is of, who or what was asked for, the verdict in a word or two, whether that is as it
    should be, what it means, and the answer where a question was put."""

    what: str
    target: str
    verdict: str
    good: bool
    meaning: str
    answer: ReachResult | None = None

    def __str__(self) -> str:
        return f"{self.verdict:<12} {self.what}: {self.target}" + (f": {self.meaning}" if self.meaning else "")


@dataclass(frozen=True, slots=True, repr=False)
class InOrder(Answer):
    """The checks that were made from one host or device."""

    SHOWN = "exploring.IN_ORDER"

    source: str
    checks: tuple[Check, ...]

    @property
    def reached(self) -> bool:
        """Whether every check is good: reached, or kept apart on purpose."""
        return all(check.good for check in self.checks)

    @property
    def first_wrong(self) -> Check | None:
        """The first check that is not good."""
        return next((check for check in self.checks if not check.good), None)

    @property
    def headline(self) -> str:
        """The answer in one line."""
        apart = sum(check.answer is not None and bool(check.answer.kept_apart) for check in self.checks)
        good = sum(check.good for check in self.checks) - apart
        first = self.first_wrong
        text = f"{self.source}: {good} of {len(self.checks)} checks good{f', {apart} kept apart' if apart else ''}"
        return f"{text}; the first that is not: {first.what}" if first is not None else text

    def __bool__(self) -> bool:
        return self.reached


@dataclass(frozen=True, slots=True, repr=False)
class AllInOrder(Answer):
    """The checks from a host of each VLAN."""

    SHOWN = "exploring.ALL_IN_ORDER"

    each: tuple[InOrder, ...]

    @property
    def headline(self) -> str:
        """The answer in one line."""
        good = sum(bool(answer) for answer in self.each)
        return f"from a host of each VLAN: {good} of {len(self.each)} find everything as it should be"

    def __bool__(self) -> bool:
        return all(self.each)


def in_order(index: NetworkIndex, source: Node, outside: bool, ask: Callable[[str], ReachResult]) -> InOrder:
    """Make the checks from a host or a device.

    Args:
        index: the network, indexed.
        source: who asks.
        outside: whether anything leads outside.
        ask: puts one question to the network.
    """
    checks = [*_own(index, source)]
    answers: list[ReachResult] = []
    causes: set[tuple[str | None, str | None]] = set()

    def check(what: str, target: str, where_not: str) -> None:
        answer = ask(target)
        answers.append(answer)
        meaning = _meaning(answer, where_not, known=(answer.cause, answer.at) in causes)
        causes.add((answer.cause, answer.at))
        if answer.reached and what == GATEWAY and _shared(index, target) and answer.out:
            meaning = f"{answer.out[-1].device} answered"
        checks.append(Check(what, answer.target, answer.verdict, answer.as_meant, meaning, answer))

    ask = cache(ask)
    for hop in source.written.gateway:
        check(GATEWAY, str(hop.address), "nothing gets out of its VLAN")
    near, others = _one_of_each_vlan(index, source)
    if near is not None:
        check("a neighbour in its VLAN", near, "the VLAN itself fails")
    for vlan, name in others.items():
        check(f"a host of {index.vlan_name(vlan)}", name, "look at the other VLAN, and at the routes between")
    if outside:
        answers.append(ask(OUTSIDE))
    for what, address in _links(index, source, answers):
        check(what, address, "the way to it, or its way back, is cut")
    if outside:
        check(OUTSIDE, OUTSIDE, "the default route, or the way back that the neighbour outside knows")
    return InOrder(source.name, tuple(checks))


def one_of_each(index: NetworkIndex) -> list[str]:
    """A host of each VLAN, the first that is written."""
    first: dict[int | None, str] = {}
    for host in index.network.hosts.values():
        first.setdefault(plugged_vlan(index.knowledge, host), host.name)
    return list(first.values())


def _own(index: NetworkIndex, source: Node) -> Iterator[Check]:
    """A host's own card and port, and its lease."""
    host = source.document
    if not isinstance(host, Host):
        return
    down = index.knowledge.links[host.at].down
    verdict = "UP" if down is None else "DOWN"
    yield Check("its own card and port", str(host.at), verdict, down is None, str(down) if down is not None else "")
    if host.dhcp:
        lease = index.knowledge.leases.of(host.name)
        if lease is None:
            yield Check("its lease", "DHCP", "NO LEASE", False, f"ask why: reach {host.name} --lease")
        else:
            yield Check("its lease", str(lease.address), "LEASED", True, f"from {lease.server}")


def _meaning(answer: ReachResult, where_not: str, *, known: bool) -> str:
    """What an answer means: nothing where it is reached, what keeps the two apart, or what is wrong and what that is
    behind."""
    if answer.reached:
        return ""
    if answer.kept_apart:
        return f"by {answer.kept_apart}"
    where = f" at {answer.at}" if answer.at else ""
    return f"{answer.cause}{where}, as above" if known else f"{where_not}: {answer.cause}{where}"


def _shared(index: NetworkIndex, address: str) -> bool:
    """Whether several share an address, so that it is worth knowing who answered."""
    elected = index.knowledge.elected
    return elected.any and len(elected.sharing(parse_address(address))) > 1


def _one_of_each_vlan(index: NetworkIndex, source: Node) -> tuple[str | None, dict[int | None, str]]:
    """A neighbour of a source, and a host of each other VLAN."""
    knowledge = index.knowledge
    first: dict[int | None, str] = {}
    for other in index.network.hosts.values():
        if other.name != source.name:
            first.setdefault(plugged_vlan(knowledge, other), other.name)
    own = next((nic for nic in source.nics.values() if nic.addresses), None)
    return first.pop(sits_in(index, source, own), None) if own is not None else None, first


def _links(index: NetworkIndex, source: Node, answers: Iterable[ReachResult]) -> list[tuple[str, str]]:
    """Both ends of each link between routers that probes came over, in that order: in words, and the address."""
    own = {str(hop.address) for hop in source.written.gateway}
    found: dict[str, str] = {}
    for answer in answers:
        routed = [step for step in answer.out if _forwards(index, step)]
        for near, far in pairwise(routed):
            if near.device == far.device:
                continue
            for side, step, name in (("near", near, near.egress), ("far", far, far.ingress)):
                address = _address(index, step.device, name, answer.family)
                if address is not None and address not in own and step.device != source.name:
                    found.setdefault(address, f"the {side} end of the link {near.device} to {far.device}")
    return [(what, address) for address, what in found.items()]


def _forwards(index: NetworkIndex, step: Step) -> bool:
    node = index.knowledge.devices.get(step.device)
    return node is not None and bool(node.forwards)


def _address(index: NetworkIndex, device: str, interface: str | None, family: int | None) -> str | None:
    nic = index.knowledge.devices[device].nics.get(interface or "")
    held = nic.addresses if nic is not None else ()
    return next((str(own.address) for own in held if own.version == (family or 4)), None)
