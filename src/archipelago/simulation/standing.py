"""What began before a failure and is to go on after it: a conversation, with what routers know of it, and leases."""

from __future__ import annotations

from dataclasses import dataclass

from archipelago.addressing.values import Address
from archipelago.diagnosis.leased import server_address
from archipelago.knowledge.header import FIRST_TTL
from archipelago.knowledge.index import NetworkIndex
from archipelago.simulation.frames import Echo, LeaseMessage, Packet
from archipelago.simulation.leasing import Exchange
from archipelago.simulation.probe import Probing
from archipelago.simulation.station import SECOND

NUMBER = 10**9
"""The number of the conversation among the probes."""
PATIENCE = SECOND + SECOND // 2
"""How long an answer, and what is sent again since next hops had to be asked for, is waited for."""
TRIES = 2
TAKES = 8 * SECOND
"""How long a look takes at most."""


@dataclass(frozen=True, slots=True)
class Renewal:
    """Whether a host's lease can be renewed by the server that it is from, asked directly (RFC 2131 4.4.5)."""

    host: str
    server: str
    acknowledged: bool

    def __str__(self) -> str:
        if self.acknowledged:
            return f"{self.host}'s lease would be renewed by {self.server}"
        return f"{self.server} would not answer {self.host}'s renewal: it keeps its address until the lease ends"


@dataclass(frozen=True, slots=True)
class Standing:
    """A look at what began before the break: when, in nanoseconds from the break on; what became of the conversation,
    in words, and whether it goes on (None: there was none); and of leases."""

    time: int
    goes_on: bool | None
    conversation: str
    renewals: tuple[Renewal, ...]

    @property
    def lines(self) -> tuple[str, ...]:
        """All of it, a sentence each."""
        return (*([self.conversation] if self.conversation else ()), *map(str, self.renewals))


class Watched:
    """A conversation that one end has begun with the other, and the leases of both.

    Args:
        index: the network before anything breaks.
        probing: the one who asks, in its simulation.
        target: whom.
    """

    def __init__(self, index: NetworkIndex, probing: Probing, target: str) -> None:
        self._index = index
        self._probing = probing
        self._target = target
        self._world = probing.simulation.world
        self._seen_as: Address | None = None

    def begin(self) -> None:
        """Begin the conversation, with warm tables."""
        if self._speak():
            self._seen_as = self._world.seen_as.get(NUMBER)

    def look(self, broken: int) -> Standing:
        """See what has become of it, which takes some seconds on the clock; `broken` is when the part broke."""
        time = self._world.now - broken
        goes_on, said = self._conversation()
        return Standing(time, goes_on, said, tuple(self._renewals()))

    # The conversation

    def _conversation(self) -> tuple[bool | None, str]:
        source, target, seen = self._probing.node.name, self._target, self._seen_as
        if seen is None:
            return None, ""
        what = f"the conversation that {source} had begun with {target}"
        answers = self._answer(seen)
        speaks = self._speak()
        now = self._world.seen_as.get(NUMBER)
        if not speaks:
            return False, f"{what} is over: nothing of it gets through"
        if now != seen:
            return False, f"{what} is over: it came from {seen}, and comes from {now} now"
        if not answers:
            return True, f"{what} goes on once {source} speaks: until then what {target} says is not let through"
        return True, f"{what} goes on"

    def _speak(self) -> bool:
        """Send the next packet of it, and wait for the answer."""
        answered = self._probing.station.answered
        answered.discard(NUMBER)
        for _ in range(TRIES):
            self._probing.send(NUMBER)
            self._world.run(until=self._world.now + PATIENCE)
            if self._probing.reaches(NUMBER):
                return True
        return False

    def _answer(self, seen_as: Address) -> bool:
        """Have the other end speak first, to the address that it knows."""
        answered = self._probing.station.answered
        answered.discard(NUMBER)
        holder = self._target if self._target in self._index.knowledge.nodes else self._world.asked.get(NUMBER)
        if holder is None:
            return False
        station = self._probing.simulation.station(holder)
        vrf = next((nic.vrf for nic in station.node.nics.values() if nic.addresses), "")
        for _ in range(TRIES):
            body = Echo(True, NUMBER, self._probing.kind)
            station.originate(Packet(self._probing.address, seen_as, FIRST_TTL, body), vrf)
            self._world.run(until=self._world.now + PATIENCE)
            if NUMBER in answered:
                return True
        return False

    # The leases

    def _renewals(self) -> list[Renewal]:
        leases = self._index.knowledge.leases if self._index.knowledge.any_learning else None
        told = []
        for host in (self._probing.node.name, self._target):
            lease = leases.of(host) if leases is not None else None
            if leases is None or lease is None:
                continue
            exchange = Exchange(self._probing.simulation, leases, host)
            server = server_address(self._index, lease)
            exchange.acknowledged = LeaseMessage("acknowledge", host, address=lease.address.address, server=server)
            exchange.renew(until_settled=False)
            told.append(Renewal(host, lease.server, exchange.renewed))
        self._world.leasing = None
        return told
