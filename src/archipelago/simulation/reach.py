"""One question: does a probe get there and back, by which way, and if not, why not."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

from archipelago.addressing.values import Address
from archipelago.answer import Answer
from archipelago.diagnosis.explain import explain
from archipelago.diagnosis.no_address import no_common_family
from archipelago.diagnosis.stop import Direction
from archipelago.knowledge.devices import Node
from archipelago.knowledge.ends import common_family, first_address, managed_at, target_address
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge
from archipelago.model.filters import ECHO, Probe
from archipelago.model.finding import Edit, Finding
from archipelago.model.parts import Host
from archipelago.simulation.build import Simulation
from archipelago.simulation.events import ErrorReported, Event, PacketDelivered, PacketDropped
from archipelago.simulation.frames import ICMP_ERRORS, IcmpError
from archipelago.simulation.probe import Probing
from archipelago.simulation.station import SECOND
from archipelago.simulation.steps import Step, Steps, Track, tracks_of


@dataclass(frozen=True, slots=True, repr=False)
class ReachResult(Answer):
    """The answer to one question. `cause` is the kind of mistake, null when reached; `at` the device that holds it,
    `stopped_at` the one where the packet ended; `lost` says of each probe without a reply where it was lost.
    `other_family` is the answer in IPv6 beside one in IPv4, where both were asked; `answered_by` is who answered where
    that is another holder of the address than who was asked, which is not reached. `others` are the answers about the
    other hosts, where a VLAN or a subnet was asked, or several ends. `kept_apart` says what keeps the two apart on
    purpose, where something does: there is nothing to mend then. `error_from` is the device that told the source by
    ICMP that its packet ended, `error` what it said; None where nobody told it anything."""

    SHOWN = "answer.REACH"

    source: str
    target: str
    address: str | None
    family: int | None
    reached: bool
    cause: str | None
    direction: Direction | None
    at: str | None
    stopped_at: str | None
    says: str | None
    mend: str | None
    edits: tuple[Edit, ...]
    probes_sent: int
    probes_answered: int
    lost: tuple[str, ...]
    out: tuple[Step, ...]
    back: tuple[Step, ...]
    events: tuple[Event, ...]
    finding: Finding | None
    other_family: ReachResult | None = None
    answered_by: str | None = None
    probe: str = "icmp"
    others: tuple[ReachResult, ...] = ()
    kept_apart: str | None = None
    error_from: str | None = None
    error: str | None = None

    @property
    def each(self) -> tuple[ReachResult, ...]:
        """This answer and the others, each alone."""
        return (replace(self, others=()), *self.others)

    @property
    def as_meant(self) -> bool:
        """Whether it is reached, or kept apart on purpose."""
        return self.reached or bool(self.kept_apart)

    @property
    def headline(self) -> str:
        """The answer in one line; whether the two families agree, where both were asked."""
        if self.others:
            return f"{self.source}: {sum(map(bool, self.each))} of {len(self.each)} reached"
        other = self.other_family
        if other is None:
            return self._said
        if self.reached == other.reached:
            return f"{self._said}, IPv4 and IPv6 alike"
        verdicts = [f"{one.verdict} in IPv{one.family}" for one in (self, other)]
        return f"{', '.join(verdicts)}: {self.source} to {self.target}"

    @property
    def verdict(self) -> str:
        """The answer in a word or two."""
        return "REACHED" if self.reached else "KEPT APART" if self.kept_apart else "NOT REACHED"

    @property
    def _said(self) -> str:
        named = self.address and self.address != self.target
        target = f"{self.target} ({self.address})" if named else self.target
        by = f" by {self.probe}" if self.probe != "icmp" else ""
        if self.reached:
            return f"REACHED: {self.source} reaches {target}{by} and the answer comes back"
        if self.kept_apart:
            return f"KEPT APART: {self.source} does not reach {target}{by}, and is not to"
        return f"NOT REACHED: {self.source} does not reach {target}{by}"

    @property
    def why_not(self) -> tuple[str, ...]:
        """Where it stopped, why, and what mends it; nothing where it is reached."""
        if self.reached:
            return ()
        way = {"out": "on the way out", "back": "on the way back", None: ""}[self.direction]
        stopped = f" at {self.stopped_at}" if self.stopped_at else ""
        mend = f"mend:  {self.mend}" if not self.kept_apart else f"meant: by {self.kept_apart}"
        error = f"from {self.error_from}: {self.error}" if self.error_from else f"none reaches {self.source}"
        errors = (f"error: {error}",) if self.probes_sent else ()
        return (f"where: {way}{stopped}", f"why:   {self.says} [{self.cause}]", mend, *errors)

    def __bool__(self) -> bool:
        return self.reached and all(self.others)


def reach(
    index: NetworkIndex,
    source: Node,
    target: Node | Address,
    *,
    probes: int = 5,
    family: int | None = None,
    within: Knowledge | None = None,
    probe: Probe = ECHO,
) -> ReachResult:
    """Send probes from cold tables until the tables are warm, at least `probes` of them, one a second.

    Args:
        index: the network, indexed.
        source: who sends; a host or a device.
        target: a host (its first address of the family is probed), a device (the address by which the source would
            manage it: in a subnet of its own, else the first that it reaches), or an address.
        probes: how many probes at least.
        family: 4 or 6; by default IPv4 where both ends have it, else IPv6.
        within: a part of the network to simulate, where that is known to answer as the whole does.
        probe: what is sent.
    """
    name = str(target) if isinstance(target, Address) else target.name
    version = family or common_family(source, target)
    addresses = _addresses(index, source, target, version)
    if version is None or not addresses:
        return _without_family(source.name, name, version, no_common_family(index, source, target, family))
    first = None
    for address in addresses:
        probing = _probed(index, source, target, address, within, probe=probe, probes=probes)
        first = first or probing
        if probing.reached:
            return _answer(index, probing, name, version)
    assert first is not None
    return _answer(index, first, name, version)


class Reached(NamedTuple):
    """Whether a source reaches a target, and where packets went in and out on the way: each device and interface."""

    answered: bool
    crossed: frozenset[tuple[str, str]]


def reaches(
    index: NetworkIndex,
    source: Node,
    target: Node,
    *,
    family: int,
    within: Knowledge | None = None,
    probe: Probe = ECHO,
) -> Reached:
    """Whether `reach` says that a source reaches a target, without the reason why not.

    Args:
        index: the network, indexed.
        source, target: who sends, and to whom.
        family: 4 or 6.
        within: a part of the network to simulate, where that is known to answer as the whole does.
        probe: what is sent.
    """
    crossed: set[tuple[str, str]] = set()
    answered = False
    for address in _addresses(index, source, target, family):
        probing = _probed(index, source, target, address, within, probe=probe, probes=1)
        for entry in probing.simulation.world.log:
            crossed.add(entry[2:4])
            if entry[0] is PacketDropped and entry[-1] is not None:
                crossed.add((entry[2], entry[-1].interface))
        answered = probing.reached
        if answered:
            break
    return Reached(answered, frozenset(crossed))


def asked_address(
    index: NetworkIndex, source: Node, target: Node | Address, version: int | None, probe: Probe = ECHO
) -> Address | None:
    """The address that a source asks a target at: of a device's that by which it would manage it, the first that it
    reaches by such a probe, if it reaches any. None where the two have no family in common, or not that one."""
    addresses = _addresses(index, source, target, version)
    if len(addresses) > 1:
        asked = (one for one in addresses if _probed(index, source, target, one, None, probe=probe, probes=1).reached)
        return next(asked, addresses[0])
    return addresses[0] if addresses else None


def _addresses(index: NetworkIndex, source: Node, target: Node | Address, version: int | None) -> Sequence[Address]:
    """The addresses that are probed, in their order, until one is reached: several only where a device as a whole is
    asked; none where the two have no family in common, or not that one."""
    if version is None or first_address(source, version) is None:
        return ()
    if isinstance(target, Node) and target.kind != "host" and target is index.knowledge.nodes[target.name]:
        return managed_at(source, target, version)
    address = target_address(source, target, version)
    return () if address is None else (address,)


def _probed(
    index: NetworkIndex,
    source: Node,
    target: Node | Address,
    address: Address,
    within: Knowledge | None,
    *,
    probe: Probe,
    probes: int,
) -> Probing:
    """The probes, once the tables are warm."""
    simulation = Simulation(within) if within else start(index, source, address.version)
    probing = Probing(simulation, source, address, target.name if isinstance(target, Node) else None, probe)
    probing.until_settled(probes, warm=index.once(held_twice))
    return probing


def held_twice(index: NetworkIndex) -> bool:
    """Whether several hold any address."""
    return next(index.shared_addresses(), None) is not None


def simulate(index: NetworkIndex, source: Node, target: Node | Address) -> Simulation:
    """A simulation with one question's probes in it, for a look at the tables that they leave behind."""
    address = asked_address(index, source, target, common_family(source, target))
    simulation = start(index, source, address.version if address else 4)
    if address is not None:
        Probing(simulation, source, address).until_settled(5)
    return simulation


def start(index: NetworkIndex, source: Node, version: int) -> Simulation:
    """A simulation from cold tables; for a question in IPv6 once a source with `address: auto` has heard its routers.
    Where broadcasts never end it has heard them before: the storm is for the question itself to run into."""
    written = source.written
    hears = version == 6 and isinstance(written, Host) and written.auto
    if hears and index.domains.loop_at((source.name, next(iter(source.nics), ""))) is not None:
        hears = False
    simulation = Simulation(index.knowledge, source.name if hears else "")
    if hears:
        simulation.station(source.name).solicit()
        simulation.world.run(until=SECOND)
    return simulation


def _without_family(source: str, target: str, version: int | None, finding: Finding) -> ReachResult:
    return ReachResult(
        source=source,
        target=target,
        address=None,
        family=version,
        reached=False,
        cause=finding.kind,
        direction="out",
        at=finding.at,
        stopped_at=source,
        says=finding.says,
        mend=finding.mend,
        edits=finding.edits,
        probes_sent=0,
        probes_answered=0,
        lost=(),
        out=(),
        back=(),
        events=(),
        finding=finding,
    )


def _answer(index: NetworkIndex, probing: Probing, target: str, version: int) -> ReachResult:
    events: tuple[Event, ...] = probing.simulation.world.events()
    tracks = tracks_of(events)
    stop = None if probing.reached else probing.stop(index, events, tracks)
    finding = explain(index, stop, target) if stop is not None else None
    steps = Steps(probing.simulation, events)
    last = probing.sent - 1
    error = _error(events, probing.node.name)

    def both(number: int) -> tuple[Track, Track]:
        """What became of a probe, and of its answer."""
        return tracks[probing.body(False, number)], tracks[probing.body(True, number)]

    return ReachResult(
        source=probing.node.name,
        target=target,
        address=str(probing.address),
        family=version,
        reached=finding is None,
        cause=finding.kind if finding else None,
        direction=stop.direction if stop else None,
        at=finding.at if finding else None,
        stopped_at=stop.node if stop else None,
        says=finding.says if finding else None,
        mend=finding.mend if finding else None,
        edits=finding.edits if finding else (),
        probes_sent=probing.sent,
        probes_answered=len(probing.station.answered),
        lost=tuple(
            f"probe {number + 1}: {probing.fate(*both(number))}"
            for number in range(probing.sent)
            if not probing.answered(number)
        ),
        out=steps.of(both(last)[0]),
        back=steps.of(both(last)[1]),
        events=events,
        finding=finding,
        answered_by=probing.other_holder if probing.answered(last) else None,
        probe=str(probing.kind),
        error_from=error[0],
        error=error[1],
    )


def _error(events: Sequence[Event], source: str) -> tuple[str, str] | tuple[None, None]:
    """Who told a source last by ICMP that its packet ended, and what; nothing where nobody did."""
    last: tuple[str, str] | tuple[None, None] = (None, None)
    reporter = ""
    for event in events:
        if isinstance(event, ErrorReported):
            reporter = event.node
        elif isinstance(event, PacketDelivered) and event.node == source and isinstance(event.packet.body, IcmpError):
            last = reporter, ICMP_ERRORS[event.packet.body.reason]
    return last
