"""The clock, the wires and the record: one heap, one step, nothing hidden."""

from __future__ import annotations

from collections.abc import Callable
from heapq import heappop, heappush
from itertools import count
from typing import Any, NamedTuple, Protocol

from archipelago.simulation.frames import Frame


class Event(NamedTuple):
    """Something that happened. Times are in nanoseconds.

    `kind` is one of: "hears" (a station takes a frame in), "ignores" (a frame for another station), "switches" (a
    switch passes a frame on; `detail` is its VLAN and where to), "drops-frame", "asks", "answers", "learns" (address
    resolution), "sends", "forwards", "delivers" (packets), "waits" (for an answer), "loses" (a packet; `detail` is
    why), "unanswered", "refuses" (an ICMP error is due), "storm".
    """

    time: int
    kind: str
    node: str
    interface: str
    tag: int | None
    thing: Any
    detail: Any


class Storm(NamedTuple):
    """A flooded frame came round again: where, and in which VLAN."""

    node: str
    vlan: int


class Outlet(Protocol):
    """Where a switch can pass a frame to: a wire, or the device's own interface in the VLAN."""

    name: str

    def transmit(self, vlan: int, frame: Frame) -> None: ...


class World:
    """The clock and the record that everything in one simulation shares."""

    __slots__ = ("count", "heap", "learned", "log", "met", "now", "record", "serial", "storm")

    def __init__(self) -> None:
        self.now = 0
        self.heap: list[tuple[Any, ...]] = []
        self.log: list[tuple[Any, ...]] = []
        self.record = self.log.append
        self.count = count().__next__
        self.serial = count(1).__next__
        self.storm: Storm | None = None
        self.learned = 0
        """How often a neighbour table changed: when a probe changes none, the next will fare the same."""
        self.met = 0
        """How often it did for a neighbour that was not known before."""

    def after(
        self, delay: int, call: Callable[[Any, Any, Any], None], a: Any = None, b: Any = None, c: Any = None
    ) -> None:
        """Call `call(a, b, c)` once `delay` nanoseconds have passed."""
        heappush(self.heap, (self.now + delay, self.count(), call, a, b, c))

    def step(self) -> None:
        """Let the next thing happen."""
        self.now, _, call, a, b, c = heappop(self.heap)
        call(a, b, c)

    def run(self, until: int | None = None) -> None:
        """Step until nothing is left to happen, or until that time."""
        heap, step = self.heap, self.step
        if until is None:
            while heap:
                step()
            return
        while heap and heap[0][0] <= until:
            step()
        self.now = max(self.now, until)

    def break_off(self, storm: Storm, frame: Frame, wire: str) -> None:
        """A storm never ends by itself: note it and let nothing more happen."""
        self.storm = storm
        self.record((self.now, "storm", storm.node, wire, storm.vlan, frame, None))
        self.heap.clear()


class Wire:
    """A port or aggregate in operation: one end of what a frame can cross. It sends to `peer`, the wire at the far
    end of its first live member, where `arrive(wire, tag, frame)` takes the frame in."""

    __slots__ = ("arrive", "delay", "name", "node", "peer", "untagged", "vlans", "world")

    def __init__(self, world: World, node: str, name: str, vlans: frozenset[int], untagged: int | None) -> None:
        self.world = world
        self.node = node
        self.name = name
        self.vlans = vlans
        self.untagged = untagged
        self.peer: Wire | None = None
        self.delay = 0
        self.arrive: Callable[[Wire, int | None, Frame], None] = _nowhere

    def transmit(self, vlan: int, frame: Frame) -> None:
        """Send a frame of a VLAN: untagged on the wire's untagged VLAN, tagged otherwise (IEEE 802.1Q 8.6.8)."""
        self.put(None if vlan == self.untagged else vlan, frame)

    def put(self, tag: int | None, frame: Frame) -> None:
        """Send a frame with that tag, or without one."""
        peer = self.peer
        if peer is not None:
            world = self.world
            heappush(world.heap, (world.now + self.delay, world.count(), peer.arrive, peer, tag, frame))


def _nowhere(wire: Wire, tag: int | None, frame: Frame) -> None:
    """Nothing is attached."""
