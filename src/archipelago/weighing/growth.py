"""What runs out first as hosts become more: subnets, pools, ports, links; when; and what it takes then."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from functools import partial
from math import inf
from typing import Literal, NamedTuple

from archipelago.addressing.carve import Allotment, Need, addresses_needed, smallest_length
from archipelago.addressing.values import Prefix
from archipelago.answer import Answer, OneLine
from archipelago.changes.plan import plan_change
from archipelago.changes.recipes import follow
from archipelago.errors import QueryError
from archipelago.load.loading import Loading
from archipelago.model.brief import Brief, VlanNeed, foreseen, hosts_after
from archipelago.model.network import Network
from archipelago.model.parts import Cable, speed_text
from archipelago.model.plan import Design
from archipelago.model.recipe import Recipe, Renumbered

Kind = Literal["subnet", "pool", "ports", "link"]
NEVER = inf
"""After so many years what does not grow runs out."""


@dataclass(frozen=True, slots=True, repr=False)
class Limit(OneLine):
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


@dataclass(frozen=True, slots=True, repr=False)
class Foreseen(Answer):
    """Everything that runs out, what does so first before the others.

    Args:
        years: for how many years the brief makes room.
        limits: what runs out.
    """

    SHOWN = "growth.GROWTH"

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


class _Costed(NamedTuple):
    """Something that runs out, and what works out what it takes then."""

    limit: Limit
    cost: Callable[[], str]


def foresee(brief: Brief, made: Design) -> Foreseen:
    """What of a design runs out as its brief foresees that hosts become more. Hosts that are placed stand for the ports
    that their VLANs use: both grow alike; traffic grows as all hosts do together.

    Args:
        brief: the brief.
        made: its design.
    """
    found = [*_subnets(brief, made), *_pools(brief, made), *_ports(brief, made.network), *_links(brief, made.network)]
    found.sort(key=lambda one: one.limit.years)
    limits: list[Limit] = []
    told: set[Kind] = set()
    for limit, cost in found:
        first = limit.kind not in told and limit.years < NEVER
        limits.append(replace(limit, then=cost()) if first else limit)
        told.add(limit.kind)
    return Foreseen(brief.conventions.years, tuple(limits))


def _subnets(brief: Brief, made: Design) -> Iterator[_Costed]:
    for vlan, allotment in _allotted(brief, made):
        if allotment.hosts:
            hosts = Need(vlan.name, allotment.hosts, gateways=0, later=foreseen(brief, vlan))
            gateways = allotment.needed - addresses_needed(hosts, brief.conventions.headroom)
            what = f"{vlan.name} {allotment.prefix}"
            limit = _limit("subnet", what, brief, vlan, (allotment.hosts, allotment.usable - gateways))
            yield _Costed(limit, partial(_renumbering, made, vlan, allotment))


def _allotted(brief: Brief, made: Design) -> Iterator[tuple[VlanNeed, Allotment]]:
    """The VLANs with their IPv4 subnets."""
    for allotment in made.carving.allotments:
        vlan = brief.vlans.get(allotment.name)
        if vlan is not None and allotment.prefix.version == 4:
            yield vlan, allotment


def _pools(brief: Brief, made: Design) -> Iterator[_Costed]:
    network = made.network
    pools = [pool for device in network.devices.values() for pool in device.dhcp_pools.values()]
    pools += [pool for host in network.hosts.values() for pool in host.dhcp_pools.values()]
    for vlan, allotment in _allotted(brief, made):
        own = [pool for pool in pools if pool.subnet == allotment.prefix]
        if own:
            size = sum(part.size for pool in own for part in pool.ranges)
            static = sum(host.vlan == vlan.id and not host.dhcp for host in brief.hosts.values())
            limit = _limit("pool", vlan.name, brief, vlan, (max(vlan.hosts - static, 1), size))
            yield _Costed(limit, partial(_pooling, allotment, size))


def _ports(brief: Brief, network: Network) -> Iterator[_Costed]:
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
        limit = Limit("ports", name, used(0), used(brief.conventions.years), room, _solved(used, room))
        yield _Costed(limit, partial(_recabling, limit))


def _links(brief: Brief, network: Network) -> Iterator[_Costed]:
    if not network.hosts:
        return
    total = sum(max(vlan.hosts, 1) for vlan in brief.vlans.values())

    def factor(years: float) -> float:
        return sum(_factor(brief, vlan, years) * max(vlan.hosts, 1) for vlan in brief.vlans.values()) / total

    cables = {str(cable): cable for cable in network.cables}
    for link in Loading(network).load().links:
        if link.busiest:
            later = link.busiest * factor(brief.conventions.years)
            limit = Limit("link", link.name, link.busiest, later, link.speed, _solved(factor, link.growth))
            yield _Costed(limit, partial(_bundling, brief, network, cables.get(link.name), link.speed))


def _limit(kind: Kind, what: str, brief: Brief, vlan: VlanNeed, now_and_room: tuple[int, int]) -> Limit:
    now, room = now_and_room

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


# What it takes then


def _renumbering(made: Design, vlan: VlanNeed, allotment: Allotment) -> str:
    """What giving a VLAN a larger subnet takes: the steps, and whom they cut off."""
    length = min(allotment.prefix.length - 1, smallest_length(4, allotment.needed))
    blocks = (block for block in made.carving.free if block.version == 4 and block.length <= length)
    block = next(blocks, None)
    if block is None:
        return f"no /{length} is free in the space: add a block to 'space' before {vlan.name} is renumbered"
    free, network = Prefix(4, block.value, length), made.network
    try:
        new = follow(network, Recipe(renumber=(Renumbered(vlan.id, (free,)),)))
    except QueryError as error:
        return f"renumber it to {free}: {error}"
    if not network.hosts:
        return f"renumber it to {free}"
    change = plan_change(network, new, next(iter(network.hosts)))
    cut = max((step.cut.pairs for step in change.steps), default=0)
    return f"renumber it to {free}: {len(change.steps)} steps, {cut:,} pairs cut off at the most meanwhile"


def _pooling(allotment: Allotment, size: int) -> str:
    outside = allotment.usable - size
    return f"give it more of {allotment.prefix}, of which {outside:,} addresses are not in it, or raise 'leases'"


def _recabling(limit: Limit) -> str:
    more = limit.later - limit.room
    wanted = f"{more:,.0f} ports more by then" if more > 0 else "more ports"
    return f"{wanted}: a larger switch (its {limit.now:,.0f} cables moved), or one more beside it with a cable to it"


def _bundling(brief: Brief, network: Network, cable: Cable | None, speed: int) -> str:
    """A second cable beside a link, where both ends have a port free; else a faster one."""
    faster = f"a link faster than {speed_text(speed)}"
    if cable is None:
        return faster  # it leads outside
    used = {end for other in network.cables for end in other.ends} | {host.at for host in network.hosts.values()}
    used |= {entry.at for entry in network.outside or ()}
    needs = [brief.devices[end.device] for end in cable.ends]
    free = [need.free_ports(used) for need in needs]
    if any(need.ports is None for need in needs):
        return f"one more cable between the two, and both as one aggregate; or {faster}"
    if not all(free):
        return f"{faster}: no port is free for a second cable"
    ends = " ~ ".join(f"{need.name}/{ports[0]}" for need, ports in zip(needs, free, strict=True))
    return f"one more cable, {ends}, and both as one aggregate; or {faster}"
