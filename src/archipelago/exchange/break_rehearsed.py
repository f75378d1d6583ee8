"""A part that breaks in the simulation and in a real kernel: what is lost meanwhile, by both."""

from __future__ import annotations

from dataclasses import dataclass, replace

from archipelago.errors import QueryError
from archipelago.exchange.kernel import Breaks, Watch
from archipelago.knowledge.devices import Node
from archipelago.knowledge.elected import Member
from archipelago.knowledge.ends import common_family, find_end, find_source
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge, know
from archipelago.knowledge.parts import switched_off
from archipelago.model.filters import Probe
from archipelago.model.network import Network, with_changes
from archipelago.simulation.breaking import LEAD, MILLISECOND, USUAL_EVERY, Broken, Lost, break_part, runs_lost
from archipelago.simulation.reach import asked_address
from archipelago.simulation.station import SECOND

SLACK = 10 * MILLISECOND
"""So much later than meant a kernel may send a probe."""
TREE_DIFFERS = "the kernel's spanning tree is the classic one, which takes longer"
HANDS_OVER = (
    "a member that stays up hands over, after which the kernel's old one can be heard until the next advertisement"
)
WAITS = "in the kernel every member takes over from a lower one at once"


@dataclass(frozen=True, slots=True)
class BreakRehearsed:
    """What was lost while a part broke: by the simulation in full (None where nobody probed), and the kernel's probes,
    each with the seconds from the break on and whether it was answered. `not_compared` says why the two cannot be
    held against each other."""

    part: str
    ours: Broken | None
    theirs: tuple[tuple[float, bool], ...]
    not_compared: str | None

    @property
    def lost_by_us(self) -> int:
        """How many probes are lost in the simulation."""
        return sum(gap.count for gap in self.ours.lost) if self.ours is not None else 0

    @property
    def lost_in_the_kernel(self) -> int:
        """How many probes were lost in the kernel."""
        return sum(not answered for _, answered in self.theirs)

    @property
    def lost_runs(self) -> tuple[Lost, ...]:
        """The runs of probes that the kernel did not answer; what is sent last may be answered too late to be heard."""
        until = self.ours.until if self.ours is not None else 0
        probes = ((round(time * SECOND), answered) for time, answered in self.theirs)
        return tuple(runs_lost((time, answered) for time, answered in probes if time <= until))

    @property
    def alike(self) -> bool | None:
        """Whether they lose the same, one interval more or less, or are answered again at the same time: when the first
        one is lost hangs on how long it takes to break the part in a kernel; None where they are not compared."""
        if self.ours is None or self.not_compared is not None:
            return None
        runs = self.lost_runs
        answered_again = bool(self.theirs) and all(run.ended for run in runs)
        if not self.ours.survived or not answered_again:
            return self.ours.survived == answered_again
        if abs(self.lost_by_us - sum(run.count for run in runs)) <= 1:
            return True
        ends = [lost[-1].last for lost in (self.ours.lost, runs) if lost]
        return len(ends) == 2 and abs(ends[0] - ends[1]) <= self.ours.every + SLACK

    @property
    def headline(self) -> str:
        """What was lost, by both, in some words."""
        if self.ours is None:
            return f"{self.part} broken"
        both = (
            f"probes lost while it broke: {self.lost_by_us:,} by our account, {self.lost_in_the_kernel:,} in the kernel"
        )
        return both if self.not_compared is None else f"{both} (not compared)"


def broken_network(knowledge: Knowledge, part: str) -> Network:
    """The network once a part has broken.

    Raises:
        QueryError: there is no such part, or it is none that breaks, such as a VLAN.
    """
    network = knowledge.written
    if network.vlan_called(part) is not None and part not in network.devices and part not in network.hosts:
        raise QueryError(f"{part} is a VLAN; what breaks is a device, a host, DEVICE/PORT, DEVICE/INTERFACE or a cable")
    return switched_off(knowledge, [part])


def breaking(
    whole: NetworkIndex, after: NetworkIndex, part: str, watched: tuple[str, str] | None, probe: Probe
) -> tuple[Breaks, Broken | None]:
    """What a kernel is told of a break, and what the simulation says of the pair that is watched.

    Raises:
        QueryError: the two share no address family.
    """
    knowledge = whole.knowledge
    if watched is None:
        return Breaks(after.knowledge.written, None), None
    source, target = find_source(whole, watched[0]), find_end(whole, watched[1])
    name = target.name if isinstance(target, Node) else str(target)
    address = asked_address(whole, source, target, common_family(source, target), probe)
    if address is None:
        raise QueryError(f"{source.name} and {name} share no address family that is asked for")
    patient = know(_holding(knowledge.written))
    ours = break_part(patient, patient.nodes[source.name], (name, address), part, kind=probe)
    lost = _handed_over(knowledge, after.knowledge)
    interval = max((member.written.advertise_interval for member in lost), default=0) * MILLISECOND
    watch = Watch(
        source.name,
        address,
        every=USUAL_EVERY / SECOND,
        lead=LEAD / SECOND,
        until=ours.until / SECOND + 0.5,
        interval=interval / SECOND,
        hears=[(host, member.written.family, member.written.vrid) for host in watched for member in lost],
    )
    return Breaks(after.knowledge.written, watch), ours


def _holding(network: Network) -> Network:
    """The network, every packet waiting while its next hop's address is asked for, as a kernel does it."""
    devices = {name: replace(device, unresolved="hold") for name, device in network.devices.items()}
    hosts = {name: replace(host, unresolved="hold") for name, host in network.hosts.items()}
    return with_changes(network, devices=devices, hosts=hosts)


def _handed_over(before: Knowledge, after: Knowledge) -> list[Member]:
    """The members that are active, and not afterwards."""
    still = {(active.device, active.interface, active.number) for _, active in after.elected.routers() if active}
    actives = [active for _, active in before.elected.routers() if active is not None]
    return [one for one in actives if (one.device, one.interface, one.number) not in still]


def judged(
    before: Knowledge, after: Knowledge, part: str, ours: Broken | None, theirs: tuple[tuple[float, bool], ...]
) -> BreakRehearsed:
    """Both accounts, and whether they can be held against each other."""
    up = {(one.device, one.interface, one.number) for one in after.elected.every() if one.up}
    handed_over = any((one.device, one.interface, one.number) in up for one in _handed_over(before, after))
    at_once = all(one.written.preempt and not one.written.hold_time for one in before.elected.every())
    reason = HANDS_OVER if handed_over else None if at_once else WAITS
    if before.devices.tree.blocked:
        reason = TREE_DIFFERS
    return BreakRehearsed(part, ours, theirs, reason)
