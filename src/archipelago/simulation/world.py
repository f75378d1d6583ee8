"""The clock, the wires and the record: one heap, one step, nothing hidden."""

from __future__ import annotations

from collections.abc import Callable
from heapq import heappop, heappush
from itertools import count
from typing import Any, NamedTuple

from archipelago.addressing.values import Address
from archipelago.knowledge.links import DEFAULT_SPEED, time_across
from archipelago.knowledge.reasons import Reason
from archipelago.model.parts import USUAL_MTU
from archipelago.simulation.events import FrameDropped
from archipelago.simulation.frames import Frame, Packet, length_of, octets_of


class Storm(NamedTuple):
    """A flooded frame came round again: where, by which port, and in which VLAN."""

    node: str
    port: str
    vlan: int


class World:
    """The clock and the record that everything in one simulation shares.

    `record` takes a tuple: a class of `events`, then the values of its fields; the record itself is made of it when
    somebody reads it. `learned` counts how often a neighbour table changed (when a probe changes none, the next will
    fare the same), `met` how often it did for a neighbour that was not known before; `asked` says who took each probe
    in, `seen_as` from which address it came there; `leasing` is who is handed what
    stations hear of leases; `sized` says that packets are sent which some link may be too small for.
    """

    __slots__ = (
        "asked",
        "count",
        "heap",
        "learned",
        "leasing",
        "log",
        "met",
        "now",
        "record",
        "seen_as",
        "serial",
        "sized",
        "storm",
    )

    def __init__(self) -> None:
        self.now = 0
        self.heap: list[tuple[Any, ...]] = []
        self.log: list[tuple[Any, ...]] = []
        self.record = self.log.append
        self.count = count().__next__
        self.serial = count(1).__next__
        self.storm: Storm | None = None
        self.learned = 0
        self.met = 0
        self.asked: dict[int, str] = {}
        self.seen_as: dict[int, Address] = {}
        self.leasing: Any = None
        self.sized = False

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

    def events(self, start: int = 0) -> tuple[Any, ...]:
        """What has happened, from the record of that number on, each as its class in `events`."""
        return tuple(kind._make(values) for kind, *values in self.log[start:])

    def break_off(self, storm: Storm) -> None:
        """A storm never ends by itself: note it and let nothing more happen."""
        self.storm = storm
        self.heap.clear()


class Wire:
    """A port or aggregate in operation: one end of what a frame can cross. It sends to its peer, the wire at the far
    end of its first live member, where `arrive(wire, tag, frame)` takes the frame in. The peer, with the speed of the
    link to it in bits per second, is found by `find_peer` when the first frame goes there. No packet of more octets
    than its `mtu` goes out or in."""

    __slots__ = ("_find_peer", "_peer", "_speed", "arrive", "mtu", "name", "node", "untagged", "vlans", "world")

    def __init__(
        self,
        world: World,
        place: tuple[str, str],
        vlans: frozenset[int],
        untagged: int | None,
        find_peer: Callable[[Wire], tuple[Wire, int] | None],
    ) -> None:
        self.world = world
        self.node, self.name = place
        self.vlans = vlans
        self.untagged = untagged
        self._peer: Wire | None = None
        self.mtu = USUAL_MTU
        self._speed = DEFAULT_SPEED
        self._find_peer: Callable[[Wire], tuple[Wire, int] | None] | None = find_peer
        self.arrive: Callable[[Wire, int | None, Frame], None] = nowhere

    @property
    def peer(self) -> Wire | None:
        """The wire at the far end."""
        if self._find_peer is not None:
            other_end = self._find_peer(self)
            self._find_peer = None
            if other_end is not None:
                self._peer, self._speed = other_end
        return self._peer

    def plug(self, find_peer: Callable[[Wire], tuple[Wire, int] | None] | None) -> None:
        """Something may be at the far end now, which is found once a frame goes there; nothing where None."""
        self._peer, self._find_peer = None, find_peer

    def transmit(self, vlan: int, frame: Frame) -> None:
        """Send a frame of a VLAN: untagged on the wire's untagged VLAN, tagged otherwise (IEEE 802.1Q 8.6.8)."""
        self.put(None if vlan == self.untagged else vlan, frame)

    def put(self, tag: int | None, frame: Frame) -> None:
        """Send a frame with that tag, or without one."""
        peer = self._peer or self.peer
        if peer is not None:
            world = self.world
            if world.sized and not self._fits(peer, tag, frame):
                return
            time = world.now + time_across(octets_of(frame, tag), self._speed)
            heappush(world.heap, (time, world.count(), peer.arrive, peer, tag, frame))

    def _fits(self, peer: Wire, tag: int | None, frame: Frame) -> bool:
        """Whether both ends pass a frame; one that does not drops it in silence (IEEE 802.1Q 6.5.8)."""
        if isinstance(frame.payload, Packet):
            for wire in (self, peer):
                if length_of(frame.payload) > wire.mtu:
                    world = self.world
                    world.record((FrameDropped, world.now, wire.node, wire.name, tag, frame, Reason.TOO_LARGE))
                    return False
        return True


def nowhere(wire: Wire, tag: int | None, frame: Frame) -> None:
    """Nothing is attached."""
