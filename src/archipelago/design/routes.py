"""Static routes: every routing device learns every subnet that it does not hold, by the shortest way."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable

from archipelago.addressing.values import WIDTHS, Address, Prefix
from archipelago.design.draft import Draft
from archipelago.design.links import Adjacency, routing_devices
from archipelago.model.parts import NextHop, Route

BACKUP_METRIC = 10
"""The metric of a second way, used when the first one's interface is down."""

Way = tuple[Address, Address | None]
"""The next hop of the first way, and of a second one that leads to the target without coming back."""


def route(draft: Draft, adjacencies: list[Adjacency], homes: dict[Prefix, list[str]]) -> None:
    """Write the static routes of every routing device.

    Args:
        draft: the design so far.
        adjacencies: which devices share a link.
        homes: the devices that each subnet is connected to.
    """
    devices = routing_devices(draft)
    near: dict[str, list[Adjacency]] = {name: [] for name in devices}
    for adjacency in adjacencies:
        near[adjacency.device].append(adjacency)
    distance = {name: _distances(name, near) for name in devices}
    outside = draft.brief.outside
    total = 0
    for name in devices:
        for version in (4, 6):
            default = _default(draft, name, near, distance, version)
            ways: dict[Prefix, Way] = {}
            towards: dict[tuple[str, ...], Way | None] = {}
            own = distance[name]
            for prefix, holders in homes.items():
                if prefix.version != version or name in holders:
                    continue
                reachable = [holder for holder in holders if holder in own]
                if not reachable:
                    continue
                goals = tuple(reachable)
                if goals not in towards:
                    towards[goals] = _way(name, goals, near, distance, version)
                way = towards[goals]
                if way is not None and way != default:
                    ways[prefix] = way
            merged = merge(ways)
            if default is not None:
                merged[Prefix(version, 0, 0)] = default
            for prefix, (first, second) in sorted(merged.items()):
                draft.routes[name].append(Route(prefix, NextHop(first)))
                if second is not None:
                    draft.routes[name].append(Route(prefix, NextHop(second), BACKUP_METRIC))
            total += len(merged)
    if outside is not None:
        for hop in outside.next_hop:
            draft.routes[outside.at.device].append(Route(Prefix(hop.address.version, 0, 0), hop))
    if total:
        draft.decide("routes", f"{total} on {len(devices)} routing devices", "the shortest way, summarised where exact")


def _default(
    draft: Draft, name: str, near: dict[str, list[Adjacency]], distance: dict[str, dict[str, int]], version: int
) -> Way | None:
    outside = draft.brief.outside
    if outside is None or outside.at.device == name or not any(h.address.version == version for h in outside.next_hop):
        return None
    return _way(name, (outside.at.device,), near, distance, version)


def _distances(start: str, near: dict[str, list[Adjacency]]) -> dict[str, int]:
    distances = {start: 0}
    queue = deque([start])
    while queue:
        name = queue.popleft()
        for adjacency in near[name]:
            if adjacency.other not in distances:
                distances[adjacency.other] = distances[name] + 1
                queue.append(adjacency.other)
    return distances


def _way(
    name: str,
    goals: tuple[str, ...],
    near: dict[str, list[Adjacency]],
    distance: dict[str, dict[str, int]],
    version: int,
) -> Way | None:
    """The first hop of the shortest way to the nearest goal, of equal ones the first; and a loop-free alternate
    (RFC 5286 3.1): a neighbour whose own shortest way does not lead through this device. Where one of its two shortest
    would, it is the one that it takes that counts."""
    options = _options(name, goals, near, distance, version)
    if not options:
        return None
    own = min(distance[name][goal] for goal in goals)
    first = options[0][3]
    for length, _, order, via in options[1:]:
        other = near[name][order].other
        if length > own + 1 or via == first:
            continue
        taken = _options(other, goals, near, distance, version) if length == own + 1 else []
        if length <= own or near[other][taken[0][2]].other != name:
            return first, via
    return first, None


def _options(
    name: str,
    goals: tuple[str, ...],
    near: dict[str, list[Adjacency]],
    distance: dict[str, dict[str, int]],
    version: int,
) -> list[tuple[int, int, int, Address]]:
    """The neighbours that a way can go by, the best first: how far it is from there to the nearest goal, which goal,
    the neighbour's place, and its address."""

    options = []
    for order, adjacency in enumerate(near[name]):
        via = next((address for address in adjacency.via if address.version == version), None)
        there = distance[adjacency.other]
        nearest = min(((there[goal], number) for number, goal in enumerate(goals) if goal in there), default=None)
        if via is not None and nearest is not None:
            options.append((*nearest, order, via))
    return sorted(options)


def merge(ways: dict[Prefix, Way]) -> dict[Prefix, Way]:
    """Summarise: two halves of a block that go the same way become the block, again and again. Nothing else is
    covered, so a summary never draws in addresses that nobody has."""
    left = dict(ways)
    for prefix in _widening(ways):
        length = prefix.length
        current = prefix
        while length > 0 and current in left:
            width = WIDTHS[current.version]
            sibling = Prefix(current.version, current.value ^ (1 << (width - length)), length)
            if left.get(sibling) != left[current]:
                break
            way = left.pop(current)
            left.pop(sibling)
            length -= 1
            current = current.supernet(length)
            left[current] = way
    return left


def _widening(ways: Iterable[Prefix]) -> list[Prefix]:
    return sorted(ways, key=lambda prefix: (-prefix.length, prefix.value))
