"""What runs out first as hosts become more: subnets, pools, ports, links; when; and what it takes then."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from math import inf
from typing import Literal

from archipelago.addressing.carve import Allotment, smallest_length
from archipelago.addressing.values import Prefix
from archipelago.changes.plan import plan_change
from archipelago.changes.recipes import follow
from archipelago.errors import QueryError
from archipelago.load.loading import Loading
from archipelago.model.brief import Brief, VlanNeed, foreseen, hosts_after
from archipelago.model.network import Network
from archipelago.model.parts import End, speed_text
from archipelago.model.plan import Design
from archipelago.model.recipe import Recipe, Renumbered

Kind = Literal["subnet", "pool", "ports", "link"]
NEVER = inf
"""After so many years what does not grow runs out."""


@dataclass(frozen=True, slots=True)
class Limit:
    """Something that runs out: which kind of thing, what it is, how much of it is in use today and when the years that
    are planned for are over, and how much there is (addresses, ports, or bits per second); after how many years it is
    used up (NEVER: it does not grow); what it takes then, in words, told of the first of each kind."""

    kind: Kind
    what: str
    now: float
    later: float
    room: float
    years: float
    then: str = ""


@dataclass(frozen=True, slots=True)
class Foreseen:
    """Everything that runs out, what does so first before the others.

    Args:
        years: for how many years the brief makes room.
        limits: what runs out.
    """

    years: int
    limits: tuple[Limit, ...]

    @property
    def first(self) -> Limit | None:
        """What runs out first; None where nothing does."""
        return next((limit for limit in self.limits if limit.years < NEVER), None)

    @property
    def headline(self) -> str:
        """The answer in one line."""
        first = self.first
        if first is None:
            return "nothing runs out: the brief foresees no more hosts than today"
        early = sum(limit.years < self.years for limit in self.limits)
        told = f"{first.kind} {first.what} runs out first, {when(first.years)}"
        if early:
            return f"{early} run{'s' * (early == 1)} out within the {self.years} years that are planned for: {told}"
        return f"there is room for the {self.years} years that are planned for; {told}"

    def __str__(self) -> str:
        return "\n".join([self.headline, *(f"  {one.kind} {one.what}: {when(one.years)}" for one in self.limits)])

    def __repr__(self) -> str:
        return f"<Foreseen: {self.headline}>"


def when(years: float) -> str:
    """A number of years in words.

    Example:
        >>> when(0), when(2.52), when(NEVER)
        ('is used up today', 'after 2.5 years', 'never')
    """
    if years == NEVER:
        return "never"
    return "is used up today" if years <= 0 else f"after {years:.1f} years"


def grows(brief: Brief) -> bool:
    """Whether a brief foresees more hosts than today."""
    return any(foreseen(brief, vlan) > vlan.hosts for vlan in brief.vlans.values())


def foresee(brief: Brief, made: Design) -> Foreseen:
    """What of a design runs out as its brief foresees that hosts become more. Hosts that are placed stand for the ports
    that their VLANs use: both grow alike; traffic grows as all hosts do together.

    Args:
        brief: the brief.
        made: its design.
    """
    limits = [*_subnets(brief, made), *_pools(brief, made.network), *_ports(brief, made.network)]
    limits += _links(brief, made.network)
    limits.sort(key=lambda limit: limit.years)
    first = {limit.kind: limit for limit in reversed(limits)}.values()
    told = [_with_cost(brief, made, limit) if limit in first else limit for limit in limits]
    return Foreseen(brief.conventions.years, tuple(told))


def _subnets(brief: Brief, made: Design) -> Iterator[Limit]:
    for allotment in made.carving.allotments:
        vlan = brief.vlans.get(allotment.name)
        if vlan is not None and allotment.prefix.version == 4 and vlan.hosts:
            own = allotment.needed - _with_headroom(brief, vlan)
            room = allotment.usable - max(own, 1)
            yield _limit("subnet", f"{allotment.name} {allotment.prefix}", brief, vlan, vlan.hosts, room)


def _with_headroom(brief: Brief, vlan: VlanNeed) -> int:
    """The hosts of a VLAN that its subnet makes room for, headroom included."""
    hosts, share = max(vlan.hosts, foreseen(brief, vlan)), brief.conventions.headroom
    return hosts + -(-share.numerator * hosts // share.denominator)


def _pools(brief: Brief, network: Network) -> Iterator[Limit]:
    pools = [pool for device in network.devices.values() for pool in device.dhcp_pools.values()]
    pools += [pool for host in network.hosts.values() for pool in host.dhcp_pools.values()]
    room: dict[str, int] = {}
    for pool in pools:
        name = next((vlan for vlan in brief.vlans if pool.name == vlan or pool.name.startswith(f"{vlan}-")), None)
        if name is not None:
            room[name] = room.get(name, 0) + sum(part.size for part in pool.ranges)
    for name, size in room.items():
        vlan = brief.vlans[name]
        static = sum(host.vlan == vlan.id and not host.dhcp for host in brief.hosts.values())
        yield _limit("pool", name, brief, vlan, max(vlan.hosts - static, 1), size)


def _ports(brief: Brief, network: Network) -> Iterator[Limit]:
    names = {vlan.id: vlan for vlan in brief.vlans.values()}
    for name, need in brief.devices.items():
        here = [host for host in network.hosts.values() if host.at.device == name]
        if need.ports is None or need.kind == "router" or not here:
            continue
        fixed = sum(end.device == name for cable in network.cables for end in cable.ends)
        vlans = [names[brief.hosts[host.name].vlan] for host in here]

        def used(years: float, vlans: list[VlanNeed] = vlans, fixed: int = fixed) -> float:
            return fixed + sum(_factor(brief, vlan, years) for vlan in vlans)

        room = float(len(need.ports))
        years = _solved(used, room)
        yield Limit("ports", name, used(0), used(brief.conventions.years), room, years)


def _links(brief: Brief, network: Network) -> Iterator[Limit]:
    if not network.hosts:
        return
    total = sum(max(vlan.hosts, 1) for vlan in brief.vlans.values())

    def factor(years: float) -> float:
        return sum(_factor(brief, vlan, years) * max(vlan.hosts, 1) for vlan in brief.vlans.values()) / total

    for link in Loading(network).load().links:
        if link.busiest:
            years = _solved(factor, link.growth)
            later = link.busiest * factor(brief.conventions.years)
            yield Limit("link", link.name, link.busiest, later, link.speed, years)


def _limit(kind: Kind, what: str, brief: Brief, vlan: VlanNeed, now: int, room: int) -> Limit:
    def used(years: float) -> float:
        return now * _factor(brief, vlan, years)

    return Limit(kind, what, now, used(brief.conventions.years), room, _solved(used, float(room)))


def _factor(brief: Brief, vlan: VlanNeed, years: float) -> float:
    """How many times today's hosts a VLAN has after some years."""
    today = hosts_after(brief, vlan, 0)
    return hosts_after(brief, vlan, years) / today if today else 1.0


FURTHEST = 100.0
"""So many years are looked ahead."""


def _solved(used: Callable[[float], float], room: float) -> float:
    """After how many years something that grows is more than there is; NEVER where it does not get there."""
    if used(0) > room:
        return 0.0
    if used(FURTHEST) <= room:
        return NEVER
    low, high = 0.0, FURTHEST
    for _ in range(60):
        middle = (low + high) / 2
        low, high = (low, middle) if used(middle) > room else (middle, high)
    return high


def _with_cost(brief: Brief, made: Design, limit: Limit) -> Limit:
    """The same, with what it takes then."""
    if limit.years == NEVER:
        return limit
    told = {"subnet": _renumbering, "pool": _pooling, "ports": _recabling, "link": _bundling}[limit.kind]
    return replace(limit, then=told(brief, made, limit))


def _renumbering(brief: Brief, made: Design, limit: Limit) -> str:
    """What giving a VLAN a larger subnet takes: the steps, and whom they cut off."""
    name = limit.what.split()[0]
    vlan = brief.vlans[name]
    free = _larger(made, next(one for one in made.carving.allotments if one.name == name and one.prefix.version == 4))
    if free is None:
        return f"no block of twice its size is free in the space: add one to 'space' before {name} is renumbered"
    network = made.network
    try:
        new = follow(network, Recipe(renumber=(Renumbered(vlan.id, (free,)),)))
        change = plan_change(network, new, next(iter(network.hosts)))
    except (QueryError, StopIteration) as error:
        return f"renumber it to {free}: {error}"
    cut = max((step.cut.pairs for step in change.steps), default=0)
    return f"renumber it to {free}: {len(change.steps)} steps, {cut:,} pairs cut off at the most meanwhile"


def _larger(made: Design, allotment: Allotment) -> Prefix | None:
    """A free block of twice the size of a subnet."""
    wanted = smallest_length(4, 2 * allotment.usable - 2)
    for block in made.carving.free:
        if block.version == 4 and block.length <= wanted:
            return Prefix(4, block.value, wanted)
    return None


def _pooling(brief: Brief, made: Design, limit: Limit) -> str:
    named = (one for one in made.carving.allotments if one.name == limit.what and one.prefix.version == 4)
    allotment = next(named)
    free = allotment.usable - limit.room
    return f"give it more of {allotment.prefix}, of which {free:,.0f} addresses are not in it, or raise 'leases'"


def _recabling(brief: Brief, made: Design, limit: Limit) -> str:
    more = limit.later - limit.room
    wanted = f"{more:,.0f} ports more by then" if more > 0 else "more ports"
    return f"{wanted}: a larger switch (its {limit.now:,.0f} cables moved), or one more beside it with a cable to it"


def _bundling(brief: Brief, made: Design, limit: Limit) -> str:
    """A second cable beside a link, where both ends have a port free; else a faster one."""
    first, _, second = limit.what.partition(" ~ ")
    devices = [end.partition("/")[0] for end in (first, second)]
    used = {end for cable in made.network.cables for end in cable.ends}
    used |= {host.at for host in made.network.hosts.values()}
    free = []
    for device in devices:
        ports = brief.devices[device].ports if device in brief.devices else None
        free.append(next((port for port in ports or () if End(device, port) not in used), None))
    if len(free) == 2 and all(free):
        ends = " ~ ".join(f"{device}/{port}" for device, port in zip(devices, free, strict=True))
        return f"one more cable, {ends}, and both as one aggregate; or a link faster than {speed_text(int(limit.room))}"
    return f"a link faster than {speed_text(int(limit.room))}: no port is free for a second cable"
