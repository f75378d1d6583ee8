"""One question: does a probe get there and back, by which way, and if not, why not."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any, Literal

from archipelago.addressing.values import Address, source_for
from archipelago.diagnosis.culprit import Stop, culprit
from archipelago.diagnosis.picture import Picture
from archipelago.knowledge.devices import Knowledge, Node
from archipelago.model.finding import Edit, Finding
from archipelago.model.network import Host
from archipelago.simulation.build import Simulation
from archipelago.simulation.frames import FIRST_TTL, Echo, Frame, Packet
from archipelago.simulation.station import SECOND
from archipelago.simulation.world import Event, Wire

MOST_PROBES = 600
"""More than any way that the first TTL allows can lose on cold tables."""


MOST_CHANGES = 8
"""So many probes are sent after nobody new was met, while tables still change."""


@dataclass(frozen=True, slots=True)
class Step:
    """What one device did with the probe: where it came in, with which tag (None: untagged; 0: inside the device, by
    its own VLAN interface), what was looked up, what was done, and where it left."""

    device: str
    arrived: str | None
    arrived_tag: int | None
    looked_up: str
    did: str
    left: str | None
    left_tag: int | None


@dataclass(frozen=True, slots=True)
class Answer:
    """The answer to one question. `cause` is a slug, null when reached; `at` the device that holds the mistake,
    `stopped_at` the one where the packet ended; `lost` says of each probe without a reply where it was lost.
    `other_family` is the answer in IPv6 beside one in IPv4, where both were asked."""

    source: str
    target: str
    address: str | None
    family: int | None
    reached: bool
    cause: str | None
    direction: Literal["out", "back"] | None
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
    other_family: Answer | None = None


def reach(
    view: Picture,
    source: Node,
    target: Node | Address,
    *,
    probes: int = 5,
    family: int | None = None,
    within: Knowledge | None = None,
) -> Answer:
    """Send probes from cold tables until the tables are warm, at least `probes` of them, one a second.

    Args:
        view: the network, indexed.
        source: who sends; a host or a device.
        target: a host or device (its first address of the family is probed), or an address.
        probes: how many probes at least.
        family: 4 or 6; by default IPv4 where both ends have it, else IPv6.
        within: a part of the network to simulate, where that is known to answer as the whole does.
    """
    name = str(target) if isinstance(target, Address) else target.name
    version = family or common_family(source, target)
    address = target if isinstance(target, Address) else first_address(target, version) if version else None
    if version is None or address is None or address.version != version or first_address(source, version) is None:
        return _without_family(view, source, name, target, version, family)
    run = Run(Simulation(within) if within else start(view, source, version), source, address)
    run.until_settled(probes)
    return run.answer(view, name, version)


def simulate(view: Picture, source: Node, target: Node | Address) -> Simulation:
    """A simulation with one question's probes in it, for a look at the tables that they leave behind."""
    address = target_address(source, target)
    simulation = start(view, source, address.version if address else 4)
    if address is not None:
        Run(simulation, source, address).until_settled(5)
    return simulation


def start(view: Picture, source: Node, version: int) -> Simulation:
    """A simulation from cold tables; for a question in IPv6 once a source with `address: auto` has heard its routers.
    Where broadcasts never end it has heard them before: the storm is for the question itself to run into."""
    foot = (source.name, next(iter(source.nics), ""))
    looped = view.domains.of.get(foot) in view.domains.loops
    hears = version == 6 and _auto(source) and not looped
    simulation = Simulation(view.knowledge, source.name if hears else "")
    if hears:
        simulation.stations[source.name].solicit()
        simulation.world.run(until=SECOND)
    return simulation


def _auto(node: Node) -> bool:
    return isinstance(node.written, Host) and node.written.auto


def common_family(source: Node, target: Node | Address) -> int | None:
    """IPv4 where both ends have it, else IPv6, None where they share no family."""
    return next(iter(common_families(source, target)), None)


def common_families(source: Node, target: Node | Address) -> list[int]:
    """The families that both ends have, IPv4 first."""
    found = []
    for version in (4, 6):
        theirs = target.version == version if isinstance(target, Address) else first_address(target, version)
        if theirs and first_address(source, version) is not None:
            found.append(version)
    return found


def target_address(source: Node, target: Node | Address, family: int | None = None) -> Address | None:
    """The address that is probed: of the family asked for, or the first that both ends have."""
    version = family or common_family(source, target)
    address = target if isinstance(target, Address) else first_address(target, version) if version else None
    return address if address is not None and address.version == version else None


def first_address(node: Node, version: int) -> Address | None:
    """The address that a host or device is probed at: its first of the family."""
    for nic in node.nics.values():
        found = source_for(nic.addresses, Address(version, 0))
        if found is not None:
            return found.address
    return None


def without_family(view: Picture, source: Node, target: Node | Address, family: int | None) -> Finding:
    """Why two ends share no address family, or not the one asked for: one of them hears no router tell it an address,
    has no address at all, or lacks the one that is missing (IPv4, where each has the other's)."""
    ends = [source, *([] if isinstance(target, Address) else [target])]
    unheard = next((node for node in ends if _auto(node) and first_address(node, 6) is None), None)
    if unheard is not None and family != 4:
        return culprit(view, Stop("out", unheard.name, "no-address", Address(6, 0), Address(6, 0)))
    bare = next((node for node in ends if all(first_address(node, one) is None for one in (4, 6))), None)
    if bare is not None:
        wanted = Address(family or 4, 0)
        return culprit(view, Stop("out", bare.name, "no-address", wanted, wanted))
    version = family or (target.version if isinstance(target, Address) else 4)
    lacking = next((node for node in ends if first_address(node, version) is None), source)
    says = f"{lacking.name} has no IPv{version} address"
    if family is None:
        says += " and the other end has nothing else"
    return Finding(
        "no-common-family",
        "error",
        lacking.name,
        ("hosts" if lacking.kind == "host" else "devices", lacking.name),
        says,
        "no packet can be sent",
        f"give {lacking.name} an IPv{version} address",
    )


def _without_family(
    view: Picture, source: Node, name: str, target: Node | Address, version: int | None, family: int | None
) -> Answer:
    finding = without_family(view, source, target, family)
    return Answer(
        source.name,
        name,
        None,
        version,
        False,
        finding.slug,
        "out",
        finding.at,
        source.name,
        finding.says,
        finding.mend,
        finding.edits,
        0,
        0,
        (),
        (),
        (),
        (),
        finding,
    )


class Run:
    """One simulation with the probes of one question in it."""

    def __init__(self, simulation: Simulation, source: Node, address: Address) -> None:
        self.simulation = simulation
        self.node = source
        self.address = address
        self.station = simulation.stations[source.name]
        self.vrf = next((nic.vrf for nic in source.nics.values() if nic.addresses), "")
        towards = self.station.source_towards(address, self.vrf)
        self.source = towards or first_address(source, address.version) or Address(address.version, 0)
        self.sent = 0
        self.start = simulation.world.now

    def probe(self, number: int) -> None:
        self.sent += 1
        packet = Packet(self.source, self.address, FIRST_TTL, Echo(False, number))
        self.station.originate(packet, self.vrf)
        self.simulation.world.run(until=self.start + (number + 1) * SECOND)

    def until_settled(self, probes: int) -> None:
        """Probe until one is answered, or one changes no neighbour table: the next would fare the same. Where an
        address is held by several, tables can change for ever; once nobody new is met, a few more probes are enough."""
        world = self.simulation.world
        since = 0
        for number in range(MOST_PROBES):
            learned, met = world.learned, world.met
            self.probe(number)
            since = since + 1 if world.met == met else 0
            settled = self.answered(number) or world.learned == learned or since >= MOST_CHANGES
            if world.storm is not None or (number + 1 >= probes and settled):
                break
        world.run()

    def answered(self, number: int) -> bool:
        return number in self.station.answered

    def answer(self, view: Picture, name: str, version: int) -> Answer:
        last = self.sent - 1
        events = tuple(Event._make(one) for one in self.simulation.world.log)
        tracks = tracks_of(events)
        reached = self.answered(last) and self.simulation.world.storm is None
        finding = stop = None
        if not reached:
            stop = self._storm_stop(view, events)
            stop = stop or self._stop(tracks[Echo(False, last)], tracks[Echo(True, last)])
            finding = culprit(view, stop)
        steps = Steps(self.simulation, events)
        lost = tuple(
            f"probe {number + 1}: {self._fate(tracks[Echo(False, number)], tracks[Echo(True, number)])}"
            for number in range(self.sent)
            if not self.answered(number)
        )
        return Answer(
            self.node.name,
            name,
            str(self.address),
            version,
            reached,
            finding.slug if finding else None,
            stop.direction if stop else None,
            finding.at if finding else None,
            stop.node if stop else None,
            finding.says if finding else None,
            finding.mend if finding else None,
            finding.edits if finding else (),
            self.sent,
            len(self.station.answered),
            lost,
            steps.of(tracks[Echo(False, last)]),
            steps.of(tracks[Echo(True, last)]),
            events,
            finding,
        )

    def _storm_stop(self, view: Picture, events: tuple[Event, ...]) -> Stop | None:
        """The first place where a probe or its reply asked in a domain whose broadcasts never end."""
        for event in events if self.simulation.world.storm is not None else ():
            looped = view.domains.of.get((event.node, event.interface)) in view.domains.loops
            if event.kind == "waits" and isinstance(event.thing.body, Echo):
                packet = event.thing
                if looped:
                    direction: Literal["out", "back"] = "back" if packet.body.reply else "out"
                    return Stop(direction, event.node, "storm", packet.source, packet.target, event.interface)
        return None

    def _stop(self, out: list[Event], back: list[Event]) -> Stop:
        """Where the last probe ended."""
        delivered = any(event.kind == "delivers" for event in out)
        direction: Literal["out", "back"] = "back" if delivered else "out"
        track = back if delivered else out
        source, target = (self.address, self.source) if delivered else (self.source, self.address)
        passed = tuple(event.node for event in track if event.kind in ("sends", "forwards", "loses"))
        asked = [event for event in track if event.kind == "waits"]
        final = track[-1] if track else None
        if final is None:
            return Stop(direction, self.node.name, "no-route", source, target)
        if final.kind == "loses":
            why, _, entry = final.detail
            if why in ("unresolved", "unanswered", "superseded"):
                return Stop(
                    direction, final.node, "unanswered", source, target, final.interface, asked[-1].detail[2], passed
                )
            interface = entry.interface if entry is not None else final.interface
            return Stop(direction, final.node, why, source, target, interface, None, passed)
        if final.kind == "waits":
            return Stop(direction, final.node, "unanswered", source, target, final.interface, final.detail[2], passed)
        if final.kind in ("sends", "forwards"):
            hop = final.detail[1].next_hop
            return Stop(direction, final.node, "lost", source, target, final.interface, hop, passed)
        return Stop(direction, final.node, "no-route", source, target, final.interface, None, passed)

    def _fate(self, out: list[Event], back: list[Event]) -> str:
        if self.simulation.world.storm is not None:
            return f"caught in a broadcast storm at {self.simulation.world.storm.node}"
        way = "on its way out" if not any(event.kind == "delivers" for event in out) else "on its way back"
        track = back if way.endswith("back") else out
        final = next((event for event in reversed(track) if event.kind in ("loses", "sends", "forwards")), None)
        if final is None:
            return "never sent"
        if final.kind == "loses":
            return f"lost {way} at {final.node}: {_LOSSES[final.detail[0]]}{_asked(track, final.detail[0])}"
        return f"lost {way} behind {final.node}"


def tracks_of(events: Iterable[Event]) -> Mapping[Echo, list[Event]]:
    """What the stations did with each probe and each reply."""
    tracks: defaultdict[Echo, list[Event]] = defaultdict(list)
    for event in events:
        if event.kind in _TRACKED:
            packet = event.thing.payload if isinstance(event.thing, Frame) else event.thing
            if isinstance(packet, Packet) and isinstance(packet.body, Echo):
                tracks[packet.body].append(event)
    return tracks


def _asked(track: list[Event], why: str) -> str:
    """Whom a station asked for when it lost the packet."""
    if why not in ("unresolved", "superseded", "unanswered"):
        return ""
    waits = [event for event in track if event.kind == "waits"]
    return f" {waits[-1].detail[2]}" if waits else ""


_TRACKED = frozenset({"sends", "forwards", "delivers", "loses", "waits"})
_LOSSES = {
    "unresolved": "it dropped the packet while it asked for",
    "superseded": "a newer packet took its place while it asked for",
    "unanswered": "nobody answered for",
    "no-route": "no route",
    "not-routing": "it does not route",
    "ttl-expired": "the TTL or hop limit ran out",
    "broadcast": "broadcast addresses are not forwarded to",
    "mute": "its interface cannot send",
}


class Steps:
    """Turns what the stations did into a line for each device, the switches between them included."""

    def __init__(self, simulation: Simulation, events: tuple[Event, ...]) -> None:
        self._simulation = simulation
        self._switched: dict[tuple[int, str], Event] = {}
        self._heard: dict[int, Event] = {}
        self._dropped: dict[int, list[Event]] = {}
        for event in events:
            if event.kind == "switches":
                self._switched[event.thing.serial, event.node] = event
            elif event.kind == "hears" and isinstance(event.thing.payload, Packet):
                self._heard[event.thing.serial] = event
            elif event.kind == "drops-frame":
                self._dropped.setdefault(event.thing.serial, []).append(event)

    def of(self, track: list[Event]) -> tuple[Step, ...]:
        return tuple(self._steps(track))

    def _steps(self, track: list[Event]) -> Iterator[Step]:
        came: tuple[str, int | None] | None = None
        for event in track:
            arrived, tag = came if came else (None, None)
            if event.kind in ("sends", "forwards"):
                entry = event.detail[1]
                yield Step(
                    event.node,
                    arrived,
                    tag,
                    _route_text(entry),
                    "sent it" if event.kind == "sends" else "routed it",
                    event.interface,
                    self._tag(event),
                )
                serial = event.thing.serial
                yield from self._between(event)
                heard = self._heard.get(serial)
                came = (heard.interface, self._tag(heard)) if heard else None
            elif event.kind == "delivers":
                yield Step(event.node, arrived, tag, "the address is its own", "took it in", None, None)
            elif event.kind == "loses" and event.detail[0] != "superseded":
                why, _, entry = event.detail
                looked = _route_text(entry) if entry else _LOOKED.get(why, "")
                asked = _asked(track, why)
                did = f"asked for{asked}: no answer" if asked else f"dropped it: {_LOSSES[why]}"
                yield Step(event.node, arrived, tag, looked, did, None, None)

    def _tag(self, event: Event) -> int | None:
        """The tag that a station's frame had; 0 where it was handed over inside the device."""
        inside = self._simulation.stations[event.node].interfaces[event.interface].nic.attachment is None
        return 0 if inside else event.tag

    def _between(self, sent: Event) -> list[Step]:
        """The switches that a frame passed between two stations, found from the far end backwards."""
        serial = sent.thing.serial
        heard = self._heard.get(serial)
        if heard is None:
            passed = [event for (number, _), event in self._switched.items() if number == serial]
            return [_switch_step(event, None) for event in passed] + [
                Step(event.node, event.interface, event.tag, "", "dropped the frame", None, None)
                for event in self._dropped.get(serial, [])
            ]
        station = self._simulation.stations[heard.node]
        nic = station.interfaces[heard.interface].nic
        steps: list[Step] = []
        outlet: Any
        if nic.attachment is None:
            node, outlet = heard.node, station.interfaces[heard.interface]
        else:
            wire = self._simulation.wires[heard.node, nic.attachment].peer
            node, outlet = (wire.node, wire) if wire else ("", None)
        while (event := self._switched.get((serial, node))) is not None and len(steps) < 4096:
            steps.append(_switch_step(event, outlet))
            before = self._simulation.wires[node, event.interface].peer
            if before is None:
                break
            node, outlet = before.node, before
        return steps[::-1]


def _switch_step(event: Event, outlet: Any) -> Step:
    vlan, outs = event.detail
    known = "MAC table" if len(outs) == 1 else "not in the MAC table"
    did = "switched it" if len(outs) == 1 else f"flooded it to {len(outs)} ports"
    out = outlet or outs[0] if outs else None
    left = out.name if out is not None else None
    tag = (None if out.untagged == vlan else vlan) if isinstance(out, Wire) else 0
    return Step(event.node, event.interface, event.tag, f"VLAN {vlan}, {known}", did, left, tag)


_LOOKED = {"no-route": "no route matches", "not-routing": "not its own address", "ttl-expired": "TTL or hop limit 1"}


def _route_text(entry: Any) -> str:
    if entry.next_hop is None:
        return f"{entry.prefix} is connected"
    return f"{entry.prefix} via {entry.next_hop}"
