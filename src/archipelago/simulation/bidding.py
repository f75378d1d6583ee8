"""A member of a virtual router on the clock (VRRP version 3, RFC 9568 6.4): advertisements, the time after which the
active one is missed, takeover, preemption and its hold time."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

from archipelago.knowledge.elected import Member
from archipelago.simulation.frames import BROADCAST, Frame, GatewayBid, Resolution
from archipelago.simulation.interface import Interface
from archipelago.simulation.shared import SharedGateway
from archipelago.simulation.world import World

MILLISECOND = 10**6
GROUPS = {4: 0x0100_5E00_0012, 6: 0x3333_0000_0012}
"""Where advertisements are sent: 224.0.0.18 and ff02::12 (RFC 9568 5.1.1.2, 5.1.2.2)."""
ALL_NODES = 0x3333_0000_0001
"""Where an address is announced unasked in IPv6 (RFC 4861 7.2.6)."""

State = Literal["initialize", "backup", "active"]


def skew_time(priority: int, interval: int) -> int:
    """How much longer a member waits the less it bids (RFC 9568 6.1), in the unit of the interval."""
    return (256 - priority) * interval // 256


def down_time(priority: int, interval: int) -> int:
    """After how long without an advertisement the active one is missed (RFC 9568 6.1), in the unit of the interval."""
    return 3 * interval + skew_time(priority, interval)


class Bidder:
    """One member in operation. Times are in nanoseconds."""

    __slots__ = ("_heard_interval", "_timer", "_up_since", "_world", "interface", "member", "shared", "state", "tell")

    def __init__(
        self, world: World, interface: Interface, shared: SharedGateway, tell: Callable[[str, str], None]
    ) -> None:
        self._world = world
        self.interface = interface
        self.shared = shared
        self.member: Member = shared.member
        self.tell = tell
        self.state: State = "initialize"
        self._timer = 0
        self._up_since: int | None = None
        self._heard_interval = self.interval

    @property
    def name(self) -> str:
        """How it is called: its interface, and which virtual router."""
        return f"{self.member} (VRID {self.member.written.vrid}, IPv{self.member.written.family})"

    @property
    def interval(self) -> int:
        """What it advertises at itself."""
        return self.member.written.advertise_interval * MILLISECOND

    def settle(self) -> None:
        """Begin in the steady state, as if all had been on for long."""
        if self.member.up:
            self._begin("active" if self.shared.active else "backup")

    def changed(self, member: Member) -> None:
        """Its interface has gone down or come up, or what it tracks has."""
        was, self.member = self.member, member
        if was.up and not member.up:
            self.state = "initialize"
            self._timer += 1
            self.shared.active = False
            self.tell(self.name, "is down")
        elif member.up and not was.up:
            self._up_since = self._world.now
            self._heard_interval = self.interval
            if member.owns:
                self._take_over()
            else:
                self._begin("backup")
        elif member.up and member.priority != was.priority:
            self.tell(self.name, f"bids {member.priority}, not {was.priority}")

    def goodbye(self) -> None:
        """Shut down in order: an active member says that it goes (RFC 9568 6.4.3)."""
        if self.state == "active":
            self._advertise(priority=0)

    def _begin(self, state: State) -> None:
        self.state = state
        self.shared.active = state == "active"
        if state == "active":
            self._advertise()
            self._set(self.interval, self._due)
        else:
            self._set(down_time(self.member.priority, self._heard_interval), self._missed)

    def _set(self, delay: int, call: Callable[[int, object, object], None]) -> None:
        """One timer at a time: an older one that runs out does nothing."""
        self._timer += 1
        self._world.after(delay, call, self._timer)

    def _due(self, timer: int, *_: object) -> None:
        if timer == self._timer and self.state == "active":
            self._advertise()
            self._set(self.interval, self._due)

    def _missed(self, timer: int, *_: object) -> None:
        if timer == self._timer and self.state == "backup":
            self._take_over()

    def _take_over(self) -> None:
        """Become active: advertise, and announce the addresses, from which switches learn where they are now."""
        self.tell(self.name, "takes over")
        self._begin("active")
        for address in sorted(self.shared.addresses):
            target = BROADCAST if address.version == 4 else ALL_NODES
            self._send(target, Resolution(address.version == 4, address, self.shared.mac, address))

    def _advertise(self, priority: int | None = None) -> None:
        own = self.member
        bid = GatewayBid(
            vrid=own.written.vrid,
            family=own.written.family,
            priority=own.priority if priority is None else priority,
            interval=self.interval,
            sender=own.primary,
        )
        self._send(GROUPS[own.written.family], bid)

    def _send(self, target: int, payload: GatewayBid | Resolution) -> None:
        if self.interface.put is not None:
            self.interface.put(Frame(self.shared.mac, target, payload, self._world.serial()))

    def hear(self, bid: GatewayBid) -> None:
        """An advertisement came in (RFC 9568 6.4.2, 6.4.3)."""
        own = self.member
        if self.state == "backup":
            if bid.priority == 0:
                self._set(skew_time(own.priority, self._heard_interval), self._missed)
            elif bid.priority >= own.priority or not self._preempts():
                self._heard_interval = bid.interval
                self._set(down_time(own.priority, bid.interval), self._missed)
        elif self.state == "active":
            if bid.priority == 0:
                self._advertise()
                self._set(self.interval, self._due)
            elif (bid.priority, bid.sender.value) > (own.priority, own.primary.value):
                self.tell(self.name, f"gives way, as {bid.priority} is bid")
                self._heard_interval = bid.interval
                self._begin("backup")
            elif bid.sender != own.primary:
                self._advertise()  # it does not know yet; of two with one address each would answer for ever

    def _preempts(self) -> bool:
        """Whether it takes over from a lower one: not before its hold time is over."""
        if not self.member.written.preempt and not self.member.owns:
            return False
        held = self.member.written.hold_time * MILLISECOND
        return self._up_since is None or self._world.now >= self._up_since + held
