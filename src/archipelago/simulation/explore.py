"""Two more questions to a simulation: which routers lie on the way, and who hears a broadcast."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

from archipelago.addressing.values import Address, is_link_local
from archipelago.answer import Answer
from archipelago.errors import QueryError
from archipelago.knowledge.devices import Node
from archipelago.knowledge.ends import common_family
from archipelago.knowledge.header import FIRST_TTL
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.reasons import Reason
from archipelago.simulation.build import Simulation
from archipelago.simulation.events import Event, FrameReceived, FrameSwitched, PacketDelivered, PacketSent
from archipelago.simulation.frames import BROADCAST, Echo, Frame, IcmpError, Packet, Resolution
from archipelago.simulation.probe import MOST_PROBES, Probing
from archipelago.simulation.reach import asked_address
from archipelago.simulation.station import SECOND

SILENT = 3
"""So many TTLs without any answer in a row, and the trace ends."""
REPLY, NO_ANSWER = "reply", "no answer"


@dataclass(frozen=True, slots=True)
class Uncovered:
    """What one TTL uncovered: who answered, with which address, and what (the reason of an ICMP error, `reply`, or
    `no answer`); nobody where `device` is None."""

    ttl: int
    device: str | None
    address: Address | None
    answer: str


@dataclass(frozen=True, slots=True, repr=False)
class Trace(Answer):
    """The routers between two ends, as a growing TTL uncovers them; `others` are to the other hosts of a VLAN or a
    subnet."""

    SHOWN = "exploring.TRACE"

    source: str
    target: str
    trace: tuple[Uncovered, ...]
    others: tuple[Trace, ...] = ()

    @property
    def reached(self) -> bool:
        """Whether the target itself answered at last."""
        return bool(self.trace) and self.trace[-1].answer == REPLY

    @property
    def headline(self) -> str:
        """The answer in one line."""
        if self.others:
            answering = self.reached + sum(map(bool, self.others))
            return f"{self.source}: {answering} of {1 + len(self.others)} answer"
        routers = sum(hop.answer == Reason.TTL_EXPIRED for hop in self.trace)
        said = "answers" if self.reached else "does not answer"
        return f"{self.target} {said}; {routers} router{'s' * (routers != 1)} on the way answered"

    @property
    def each(self) -> tuple[Trace, ...]:
        """This answer and the others, each alone."""
        return (replace(self, others=()), *self.others)

    def __bool__(self) -> bool:
        return self.reached and all(self.others)


def trace(
    index: NetworkIndex, source: Node, target: Node | Address, family: int | None = None
) -> tuple[Uncovered, ...]:
    """Probe with a TTL of 1, 2, 3 and so on over warm tables, until the target answers, somebody refuses, or
    nobody answers any more.

    Raises:
        QueryError: the two ends have no address family in common.
    """
    address = asked_address(index, source, target, family or common_family(source, target))
    if address is None:
        raise QueryError(f"{source.name} has no address of the family of its target")
    simulation = Simulation(index.knowledge)
    probing = Probing(simulation, source, address)
    probing.until_settled(5)
    hops: list[Uncovered] = []
    for ttl in range(1, FIRST_TTL + 1):
        if simulation.world.storm is not None:
            break
        hops.append(_uncover(probing, ttl))
        silent = all(hop.device is None for hop in hops[-SILENT:]) and len(hops) >= SILENT
        refused = hops[-1].answer not in (NO_ANSWER, Reason.TTL_EXPIRED)  # whoever refuses will do so again
        if hops[-1].answer == REPLY or silent or refused:
            break
    return tuple(hops)


def _uncover(probing: Probing, ttl: int) -> Uncovered:
    world, number = probing.simulation.world, MOST_PROBES + ttl
    answer = Uncovered(ttl, None, None, NO_ANSWER)
    for _ in range(2):  # the first one may be lost while the way back of an error is asked for
        start = len(world.log)
        packet = Packet(probing.source, probing.address, ttl, Echo(False, number))
        probing.station.originate(packet, probing.vrf)
        world.run(until=world.now + 4 * SECOND)
        answer = _answer(world.events(start), probing.node.name, number, ttl)
        if answer.device is not None:
            break
    return answer


def _answer(events: tuple[Event, ...], source: str, number: int, ttl: int) -> Uncovered:
    """The error or the reply that came back to the source."""
    for event in events:
        if not isinstance(event, PacketDelivered) or event.node != source:
            continue
        packet = event.packet
        body = packet.body
        about = body.about.body if isinstance(body, IcmpError) else body
        if not isinstance(about, Echo) or about.probe != number:
            continue
        if isinstance(body, IcmpError) or about.reply:
            sender = _sender(events, packet)
            said = body.reason if isinstance(body, IcmpError) else REPLY
            return Uncovered(ttl, sender, packet.source, str(said))
    return Uncovered(ttl, None, None, NO_ANSWER)


def _sender(events: Iterable[Event], answer: Packet) -> str | None:
    """Who sent an answer; a router on its way may have changed addresses in it."""
    for event in events:
        if isinstance(event, PacketSent) and _same(event.packet.body, answer.body):
            return event.node
    return None


def _same(sent: object, heard: object) -> bool:
    if isinstance(sent, IcmpError) and isinstance(heard, IcmpError):
        return sent.reason is heard.reason and sent.about.body == heard.about.body
    return sent == heard


@dataclass(frozen=True, slots=True)
class Heard:
    """Who hears a broadcast, and the switch ports that it came through, from the sender on."""

    name: str
    interface: str
    kind: str
    through: tuple[str, ...]


@dataclass(frozen=True, slots=True, repr=False)
class Broadcast(Answer):
    """Who hears a broadcast of a host or device."""

    SHOWN = "exploring.BROADCAST"

    source: str
    heard: tuple[Heard, ...]

    @property
    def hosts(self) -> int:
        """How many of them are hosts."""
        return sum(receiver.kind == "host" for receiver in self.heard)

    @property
    def headline(self) -> str:
        """The answer in one line."""
        hosts, every = self.hosts, len(self.heard)
        return (
            f"a broadcast of {self.source} is heard by {hosts:,} host{'s' * (hosts != 1)}, "
            f"{every:,} station{'s' * (every != 1)} in all"
        )


def broadcast(index: NetworkIndex, source: Node) -> tuple[Heard, ...]:
    """Who hears a broadcast frame of a host or device.

    Raises:
        QueryError: the source has no interface that is up, or the broadcast never ends (a switching loop).
    """
    simulation = Simulation(index.knowledge)
    station = simulation.station(source.name)
    interface = next(
        (held_interface for held_interface in station.interfaces.values() if held_interface.put is not None), None
    )
    if interface is None or interface.put is None:
        raise QueryError(f"{source.name} has no interface that is up to send a broadcast from")
    own = next((address.address for address in interface.nic.addresses if not is_link_local(address)), Address(4, 0))
    serial = simulation.world.serial()
    interface.put(Frame(interface.mac, BROADCAST, Resolution(True, own, interface.mac, own), serial))
    simulation.world.run()
    storm = simulation.world.storm
    if storm is not None:
        raise QueryError(f"the broadcast never ends: switching runs in a circle at {storm.node} in VLAN {storm.vlan}")
    events = simulation.world.events()
    passed = {event.node: event for event in events if isinstance(event, FrameSwitched)}
    received = [happened for happened in events if isinstance(happened, FrameReceived) and happened.node != source.name]
    return tuple(_heard(index, simulation, passed, packet) for packet in received)


def _heard(
    index: NetworkIndex, simulation: Simulation, passed: dict[str, FrameSwitched], event: FrameReceived
) -> Heard:
    node = index.knowledge.nodes[event.node]
    nic = node.nics[event.interface]
    last = simulation.wire(event.node, nic.attachment).peer if nic.attachment else None
    through: list[str] = []
    name = last.node if last else event.node
    egress = last.name if last else event.interface
    while name in passed and len(through) < len(passed):
        came = passed[name].interface
        through.append(f"{name} {came} to {egress}")
        before = simulation.wire(name, came).peer
        name, egress = (before.node, before.name) if before else ("", "")
    return Heard(event.node, event.interface, node.kind, tuple(reversed(through)))
