"""One failure over time: what is lost from the moment that a part breaks until something else has taken over, and
when the part comes back."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace

from archipelago.addressing.values import Address
from archipelago.answer import Answer
from archipelago.knowledge.devices import Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge, know, know_while
from archipelago.knowledge.links import aggregates
from archipelago.knowledge.parts import switched_off
from archipelago.model.filters import ECHO, Probe
from archipelago.model.network import Network
from archipelago.simulation.bidding import Bidder
from archipelago.simulation.bridging import SETTLED, Bridges
from archipelago.simulation.build import Simulation
from archipelago.simulation.lasting import lasting
from archipelago.simulation.probe import Probing
from archipelago.simulation.standing import TAKES, Standing, Watched
from archipelago.simulation.station import SECOND

MILLISECOND = 10**6
USUAL_EVERY = 100 * MILLISECOND
LEAD = 2 * SECOND + SECOND // 2
"""How long all is watched before the part breaks: with the usual interval half of one after an advertisement."""
SETTLING = 6 * SECOND
"""How long is watched at least after the part has broken, or come back."""
HEARD = 10 * MILLISECOND
"""How long what is shut down in order is still there, so that everybody hears its goodbyes before ports open."""
LONGEST = 120 * SECOND
"""How long is watched at the most, in nanoseconds, while the tree does not come to rest."""


@dataclass(frozen=True, slots=True)
class Noticed:
    """Something that happened: when, in nanoseconds from the break on, at which port, interface or member, and what."""

    time: int
    where: str
    what: str

    def __str__(self) -> str:
        return f"{self.time / SECOND:+9.3f} s  {self.where} {self.what}"


@dataclass(frozen=True, slots=True)
class Lost:
    """Probes in a row without an answer: when the first and the last of them were sent, in nanoseconds from the break
    on, and how many; `ended` whether one was answered after them."""

    first: int
    last: int
    count: int
    ended: bool


def runs_lost(probes: Iterable[tuple[int, bool]]) -> Iterator[Lost]:
    """The probes in a row without an answer, of probes with the time that each was sent and whether it was answered."""
    run: list[int] = []
    for time, answered in probes:
        if not answered:
            run.append(time)
        elif run:
            yield Lost(run[0], run[-1], len(run), ended=True)
            run = []
    if run:
        yield Lost(run[0], run[-1], len(run), ended=False)


@dataclass(frozen=True, slots=True, repr=False)
class Broken(Answer):
    """What became of probes from one end to the other while a part broke. Times are in nanoseconds from the break on;
    `restored` when the part came back (None: it did not), `until` when watching ended. `standing`
    is what has become of what had begun before: at the end of the break, and at the end. `answered_by` is who answers
    at the end where that is another holder of the address than who was asked: such a probe is lost. `lasting` says what
    is otherwise at the end than if everything were switched on anew, a sentence each."""

    SHOWN = "breaking.BREAK"

    part: str
    source: str
    target: str
    every: int
    restored: int | None
    until: int
    sent: int
    answered: int
    lost: tuple[Lost, ...]
    noticed: tuple[Noticed, ...]
    stormed: bool
    standing: tuple[Standing, ...] = ()
    answered_by: str | None = None
    lasting: tuple[str, ...] = ()

    @property
    def survived(self) -> bool:
        """Whether probes are answered at the end by who was asked, whatever was lost on the way."""
        return not self.stormed and self.answered > 0 and all(gap.ended for gap in self.lost)

    @property
    def headline(self) -> str:
        """The answer in one line."""
        if self.stormed:
            return f"{self.part} breaks: a broadcast runs in a circle"
        if not self.lost:
            return f"{self.part} breaks: no probe from {self.source} to {self.target} is lost"
        total = sum(gap.count for gap in self.lost)
        count = f"{total:,} probe{'s' * (total != 1)}"
        if self.survived:
            longest = max((gap.last - gap.first + self.every) / SECOND for gap in self.lost)
            return f"{self.part} breaks: {count} lost, {longest:.3f} s at the longest; then they are answered again"
        instead = f": {self.answered_by} answers, which holds the address too" if self.answered_by else ""
        return f"{self.part} breaks: {count} lost, and from then on {self.source} does not reach {self.target}{instead}"

    def __bool__(self) -> bool:
        return self.survived


def break_part(
    knowledge: Knowledge,
    source: Node,
    target: tuple[str, Address],
    part: str,
    *,
    every: int = USUAL_EVERY,
    restore: int | None = None,
    watch: int = 0,
    orderly: bool = False,
    kind: Probe = ECHO,
) -> Broken:
    """Probe from one end to the other at an interval, break a part, and watch.

    Args:
        knowledge: the network.
        source: who probes.
        target: whom, and at which address.
        part: what breaks, as people call it.
        every: nanoseconds between two probes.
        restore: after how many nanoseconds the part comes back; None where it does not.
        watch: for how many nanoseconds it is watched at least, once the last has happened.
        orderly: it is shut down in order: who is active says goodbye (RFC 9568 6.4.3, priority 0).
        kind: what is sent.

    Raises:
        QueryError: there is no such part.
    """
    return _Breaking(knowledge, source, target, every, kind).run(part, restore, max(watch, SETTLING), orderly)


def _partners(knowledge: Knowledge, name: str) -> set[str]:
    """The devices that one shares aggregates with."""
    partners = {one.shared_with for one in aggregates(knowledge.written.devices[name])}
    return {partner for partner in partners if partner is not None}


class _Breaking:
    """The simulation, with the protocols that notice failures on its clock."""

    def __init__(
        self, knowledge: Knowledge, source: Node, target: tuple[str, Address], every: int, kind: Probe
    ) -> None:
        self._whole = knowledge
        self._now: Network = knowledge.written
        self._simulation = Simulation(knowledge)
        self._target = target[0]
        asked = target[0] if target[0] in knowledge.nodes else None  # of an address whoever answers will do
        self._probing = Probing(self._simulation, source, target[1], asked, kind)
        self._probing.until_settled(5)
        self._watched = Watched(NetworkIndex(knowledge), self._probing, target[0])
        self._watched.begin()
        self._world = self._simulation.world
        self._every = every
        self._noticed: list[tuple[int, str, str]] = []
        self._sent: dict[int, int] = {}
        for name in knowledge.devices:
            self._simulation.station(name)
        self._waiting = knowledge.devices.tree.waiting
        self._bridges = Bridges(self._world, knowledge, self._port_changed, self._forget)
        self._bidders: dict[tuple[str, str, int], Bidder] = {}
        self._attend(knowledge)
        for bidder in self._bidders.values():
            bidder.settle()

    def run(self, part: str, restore: int | None, watch: int, orderly: bool) -> Broken:
        """Break the part, restore it, and say what came of it."""
        looks = []
        start = self._world.now
        at = start + LEAD
        broken = switched_off(self._whole, [part])
        back = None if restore is None else at + restore
        until = (at if back is None else back) + watch + self._longest()
        self._keep_probing(start, until)
        self._world.run(until=at)
        self._note(part, "is shut down" if orderly else "breaks")
        if orderly:
            gone = {(one.device, one.interface) for one in know(broken).elected.every() if not one.up}
            for key, bidder in self._bidders.items():
                if key[:2] in gone:
                    bidder.goodbye()
            self._world.run(until=self._world.now + HEARD)
        self._become(broken)
        if back is not None:
            if back - at > TAKES:
                self._world.run(until=back - TAKES)
                looks.append(self._watched.look(at))
            self._world.run(until=back)
            self._note(part, "is back")
            self._become(self._whole.written)
        self._world.run(until=until)
        while not self._bridges.at_rest and until < (back or at) + LONGEST:
            self._keep_probing(until, until + SETTLED)
            until += SETTLED
            self._world.run(until=until)
        told = self._told(part, at, back, until)
        if self._world.storm is not None:
            return told
        told = replace(told, standing=(*looks, self._watched.look(at)))
        knowledge = know(self._now)
        lasts = lasting(knowledge, self._probing, self._bidders.values(), told.survived)
        return replace(told, lasting=tuple(lasts))

    def _keep_probing(self, since: int, until: int) -> None:
        for time in range(since, until - self._every, self._every):
            self._world.after(time - self._world.now, self._probe, len(self._sent) + (time - since) // self._every)

    def _longest(self) -> int:
        """The longest that a takeover or a preemption can take here."""
        members = [bidder.member.written for bidder in self._bidders.values()]
        return max((4 * one.advertise_interval + one.hold_time for one in members), default=0) * MILLISECOND

    # What happens

    def _probe(self, number: int, *_: object) -> None:
        known = 1_000_000 + number  # those that warmed the tables have numbers of their own
        self._sent[known] = self._world.now
        self._probing.send(known)

    def _note(self, where: str, what: str) -> None:
        self._noticed.append((self._world.now, where, what))

    def _port_changed(self, device: str, port: str, what: str) -> None:
        self._note(f"{device}/{port}", what)
        self._renew()

    def _forget(self, device: str, kept: str) -> None:
        switch = self._simulation.switch(device)
        if switch is not None:
            switch.forget(kept)

    def _become(self, network: Network) -> None:
        """The network is written otherwise now: carrier is noticed at once, the rest takes its time."""
        for name, device in network.devices.items():
            if device.off and not self._now.devices[name].off:
                self._simulation.station(name).forget()
        self._now = network
        physical = know(network)
        self._bridges.rewired(physical)
        self._renew()

    def _renew(self) -> None:
        """Let stations and switches go by what is up and what forwards now."""
        knowledge = know_while(self._now, self._bridges.blocked)
        self._halves(knowledge)
        self._simulation.renew(knowledge)
        self._attend(knowledge)

    def _halves(self, knowledge: Knowledge) -> None:
        """The halves of shared aggregates that are in use now: both devices forget by which port they knew whom."""
        waiting = knowledge.devices.tree.waiting
        for name, parts in self._waiting.items():
            for part in sorted(parts - waiting.get(name, frozenset())):
                if knowledge.devices[name].attachments[part].passes:
                    self._note(f"{name}/{part}", "is used now, as the far end sends there")
        for name in waiting.keys() ^ self._waiting.keys():
            for device in (name, *_partners(knowledge, name)):
                self._forget(device, "")
        self._waiting = waiting

    def _attend(self, knowledge: Knowledge) -> None:
        """Every member of a virtual router bids as its interface and what it tracks now let it."""
        for member in knowledge.elected.every():
            key = member.device, member.interface, member.number
            bidder = self._bidders.get(key)
            if bidder is not None:
                bidder.changed(member)
                continue
            interface = self._simulation.station(member.device).interfaces.get(member.interface)
            if interface is not None:
                shared = next(one for one in interface.shared if one.member.number == member.number)
                shared.bidder = self._bidders[key] = Bidder(self._world, interface, shared, self._note)
                if self._noticed:  # one that was down until now
                    bidder = self._bidders[key]
                    bidder.member = member._replace(up=False)
                    bidder.changed(member)

    # What is told

    def _told(self, part: str, at: int, back: int | None, until: int) -> Broken:
        probing = self._probing
        last = max(self._sent)
        noticed = [*self._noticed, *self._missing(at)]
        return Broken(
            part=part,
            source=probing.node.name,
            target=self._target,
            every=self._every,
            restored=None if back is None else back - at,
            until=until - at,
            sent=len(self._sent),
            answered=sum(map(probing.reaches, self._sent)),
            lost=tuple(self._gaps(at)),
            noticed=tuple(Noticed(time - at, where, what) for time, where, what in sorted(noticed, key=lambda n: n[0])),
            stormed=self._world.storm is not None,
            answered_by=probing.took_instead(last) if probing.answered(last) else None,
        )

    def _gaps(self, at: int) -> Iterator[Lost]:
        """The runs of probes without an answer."""
        return runs_lost((time - at, self._probing.reaches(number)) for number, time in self._sent.items())

    def _missing(self, at: int) -> Sequence[tuple[int, str, str]]:
        """The first and the last of the probes that are lost, as things that happened."""
        source, told = self._probing.node.name, []
        for gap in self._gaps(0):
            probes = f"{gap.count:,} probe{'s' * (gap.count != 1)}"
            told.append((gap.first, source, f"gets no answer to {probes} from here on"))
            if gap.ended:
                told.append((gap.last + self._every, source, "is answered again"))
        return told
