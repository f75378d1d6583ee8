"""Two more questions to a simulation: which routers lie on the way, and who hears a broadcast."""

from __future__ import annotations

from dataclasses import dataclass

from archipelago.addressing.values import Address, is_link_local
from archipelago.diagnosis.picture import Picture
from archipelago.errors import QueryError
from archipelago.knowledge.devices import Node
from archipelago.simulation.build import Simulation
from archipelago.simulation.frames import BROADCAST, FIRST_TTL, Echo, Frame, Packet, Refusal, Resolution
from archipelago.simulation.reach import MOST_PROBES, Run, target_address
from archipelago.simulation.station import SECOND
from archipelago.simulation.world import Event

SILENT = 3
"""So many TTLs without any answer in a row, and the trace ends."""


@dataclass(frozen=True, slots=True)
class Uncovered:
    """What one TTL uncovered: who answered, with which address, and what; nobody where `device` is None."""

    ttl: int
    device: str | None
    address: Address | None
    answer: str


def trace(view: Picture, source: Node, target: Node | Address, family: int | None = None) -> tuple[Uncovered, ...]:
    """Probe with a TTL of 1, 2, 3 and so on over warm tables, until the target answers or nobody does any more.

    Raises:
        QueryError: the two ends have no address family in common.
    """
    address = target_address(source, target, family)
    if address is None:
        raise QueryError(f"{source.name} has no address of the family of its target")
    simulation = Simulation(view.knowledge)
    run = Run(simulation, source, address)
    run.until_settled(5)
    world = simulation.world
    found: list[Uncovered] = []
    for ttl in range(1, FIRST_TTL + 1):
        if world.storm is not None:
            break
        number = MOST_PROBES + ttl
        for _ in range(2):  # the first one may be lost while the way back of an error is asked for
            start = len(world.log)
            run.station.originate(Packet(run.source, address, ttl, Echo(False, number)), run.vrf)
            world.run(until=world.now + 4 * SECOND)
            answer = _answer([Event._make(one) for one in world.log[start:]], source.name, number, ttl)
            if answer.device is not None:
                break
        found.append(answer)
        silent = all(one.device is None for one in found[-SILENT:]) and len(found) >= SILENT
        if answer.answer == "reply" or silent:
            break
    return tuple(found)


def _answer(events: list[Event], source: str, number: int, ttl: int) -> Uncovered:
    """The error or the reply that came back to the source."""
    for event in events:
        if event.kind != "delivers" or event.node != source:
            continue
        packet: Packet = event.thing
        body = packet.body
        about = body.about.body if isinstance(body, Refusal) else body
        if isinstance(about, Echo) and about.probe == number and (isinstance(body, Refusal) or body.reply):
            sender = _sender(events, packet)
            return Uncovered(ttl, sender, packet.source, body.kind if isinstance(body, Refusal) else "reply")
    return Uncovered(ttl, None, None, "no answer")


def _sender(events: list[Event], answer: Packet) -> str | None:
    for event in events:
        if event.kind == "sends" and event.thing.payload.body == answer.body:
            return event.node
    return None


@dataclass(frozen=True, slots=True)
class Heard:
    """Who hears a broadcast, and the switch ports that it came through, from the sender on."""

    name: str
    interface: str
    kind: str
    through: tuple[str, ...]


def broadcast(view: Picture, source: Node) -> tuple[Heard, ...]:
    """Who hears a broadcast frame of a host or device.

    Raises:
        QueryError: the source has no interface that is up, or the broadcast never ends (a switching loop).
    """
    simulation = Simulation(view.knowledge)
    station = simulation.stations[source.name]
    interface = next((one for one in station.interfaces.values() if one.put is not None), None)
    if interface is None or interface.put is None:
        raise QueryError(f"{source.name} has no interface that is up to send a broadcast from")
    own = next((held.address for held in interface.nic.addresses if not is_link_local(held)), Address(4, 0))
    serial = simulation.world.serial()
    interface.put(Frame(interface.mac, BROADCAST, Resolution(True, own, interface.mac, own), serial))
    simulation.world.run()
    storm = simulation.world.storm
    if storm is not None:
        raise QueryError(f"the broadcast never ends: switching runs in a circle at {storm.node} in VLAN {storm.vlan}")
    events = [Event._make(one) for one in simulation.world.log]
    passed = {event.node: event for event in events if event.kind == "switches"}
    found = []
    for event in events:
        if event.kind == "hears" and event.node != source.name:
            node = view.knowledge.nodes[event.node]
            nic = node.nics[event.interface]
            last = simulation.wires[event.node, nic.attachment].peer if nic.attachment else None
            through: list[str] = []
            name = last.node if last else event.node
            out = last.name if last else event.interface
            while name in passed and len(through) < len(passed):
                came = passed[name].interface
                through.append(f"{name} {came} to {out}")
                before = simulation.wires[name, came].peer
                name, out = (before.node, before.name) if before else ("", "")
            found.append(Heard(event.node, event.interface, node.kind, tuple(reversed(through))))
    return tuple(found)
