"""Filters that do nothing (named by no interface, lines that never decide), and filters that lock everybody out."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Collection, Iterator, Sequence
from functools import cache

from archipelago.addressing.values import Prefix
from archipelago.audit.registry import rule
from archipelago.diagnosis.kind import ALWAYS, NEVER, Example, Kind, finding
from archipelago.knowledge.alike import alike_hosts
from archipelago.knowledge.devices import Nic
from archipelago.knowledge.forwarding import refused
from archipelago.knowledge.header import probe_header
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex, Place
from archipelago.model.covering import taker
from archipelago.model.filter_rules import unnamed_filters
from archipelago.model.filters import Filter, Probe
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.parts import Device, Host, Path


@rule
def unnamed(index: NetworkIndex) -> Iterator[Finding]:
    """A filter that no interface names sees nothing."""
    for device in index.network.devices.values():
        for filter_ in unnamed_filters(device) if device.filters else ():
            yield filter_unnamed(device, filter_)


FILTER_UNNAMED = Kind(
    "filter-unnamed",
    "note",
    "a filter that no interface names",
    "nothing: it sees no packet",
    NEVER,
    example=Example("pair", "devices: {edge: {filters: {shore-in: {rules: [{drop: tcp/23}], otherwise: accept}}}}"),
)


def filter_unnamed(device: Device, filter_: Filter) -> Finding:
    """A filter that no interface names."""
    path: Path = ("devices", device.name, "filters", filter_.name)
    says = f"no interface of {device.name} names the filter {filter_.name}"
    mend = f"write filter-in or filter-out: {filter_.name} at an interface of {device.name}, or remove it"
    return finding(FILTER_UNNAMED, at=device.name, path=path, says=says, mend=mend)


@rule
def hidden_lines(index: NetworkIndex) -> Iterator[Finding]:
    """A line that never decides, because an earlier one takes all that it speaks of."""
    for device in index.network.devices.values():
        for filter_ in device.filters.values():
            takers = [taker(line) for line in filter_.rules]
            for number, line in enumerate(filter_.rules):
                earlier = next((at for at, takes_all in enumerate(takers[:number]) if takes_all(line)), None)
                if earlier is not None:
                    yield line_hidden(device, filter_, earlier, number)


LINE_HIDDEN = Kind(
    "line-hidden",
    "risk",
    "a line of a filter that an earlier one leaves nothing to, and undoes",
    "what it is to {does} is decided otherwise",
    NEVER,
    example=Example(
        "pier",
        """
        devices:
          landing:
            interfaces:
              p1.210: {filter-in: tickets-in}
            filters:
              tickets-in:
                rules:
                - {accept: any, destination: 10.44.3.0/24}
                - {drop: tcp/23, destination: 10.44.3.0/24}
                otherwise: accept
        """,
    ),
)


LINE_UNNEEDED = Kind(
    "line-unneeded",
    "note",
    "a line of a filter that an earlier one leaves nothing to, and does the same",
    "nothing; it misleads whoever reads the filter",
    ALWAYS,
    example=Example(
        "pier",
        """
        devices:
          landing:
            interfaces:
              p1.210: {filter-in: tickets-in}
            filters:
              tickets-in:
                rules:
                - {drop: tcp, destination: 10.44.3.0/24}
                - {drop: tcp/23, destination: 10.44.3.0/24}
                otherwise: accept
        """,
    ),
)


def line_hidden(device: Device, filter_: Filter, earlier: int, number: int) -> Finding:
    """A line that an earlier one leaves nothing to; both by their places from 0."""
    path: Path = ("devices", device.name, "filters", filter_.name, "rules", number)
    before, line = filter_.rules[earlier], filter_.rules[number]
    says = f"line {number + 1} of {filter_.name} ({line}) never decides: line {earlier + 1} ({before}) takes all of it"
    if before.action == line.action:
        mend = f"remove line {number + 1} of {filter_.name} on {device.name}"
        return finding(LINE_UNNEEDED, at=device.name, path=path, says=says, mend=mend, edits=(Edit(path, REMOVE),))
    mend = f"put line {number + 1} of {filter_.name} before line {earlier + 1}, where it is meant, or remove it"
    return finding(LINE_HIDDEN, at=device.name, path=path, says=says, mend=mend, does=line.action)


MOST_WAYS = 2_000
"""Of a line that more ways lead between the ends of, nothing is said."""


@rule
def unmet_lines(index: NetworkIndex) -> Iterator[Finding]:
    """A line that no packet meets where its filter stands: what it names goes another way. Nothing is said of what is
    within one subnet, which no filter meets anywhere, and where ways or addresses change: where gateways are shared, or
    where a source is translated."""
    nodes, filtering = index.knowledge.devices, [device for device in index.network.devices.values() if device.filters]
    translated = (nic for node in nodes.values() if filtering for nic in node.nics.values() if nic.source_nat)
    if not filtering or index.knowledge.elected.any or any(translated):
        return
    ends = _Ends(index)
    way = cache(lambda start, vrf, target: list(index.carrier.way(start, target, vrf)))
    for device in filtering:
        named: dict[str, list[tuple[str, str]]] = {}
        for nic in nodes[device.name].nics.values():
            for leg, filter_ in (("in", nic.filter_in), ("out", nic.filter_out)):
                if filter_ is not None and nic.up:
                    named.setdefault(filter_.name, []).append((nic.name, leg))
        for name, places in named.items():
            filter_ = device.filters[name]
            for number, line in enumerate(filter_.rules):
                sources, targets = ends.within(line.source), ends.within(line.destination)
                if len(sources) * len(targets) > MOST_WAYS:
                    continue
                pairs = [
                    (start, target)
                    for start in sources
                    for target in targets
                    if start.node is not target.node
                    and start.address.version == target.address.version
                    and not start.address.prefix.holds(target.address.address)
                ]
                ways = (
                    (target, way(start.node.name, start.nic.vrf, target.address.address)) for start, target in pairs
                )
                if pairs and all(_arrives_past(stations, target, device.name, places) for target, stations in ways):
                    yield line_unmet(device, filter_, number, [interface for interface, _ in places])


LINE_UNMET = Kind(
    "line-unmet",
    "risk",
    "a line of a filter that no packet meets where the filter stands",
    "what whoever wrote it believes: it has nothing to {does}",
    NEVER,
    example=Example(
        "pier",
        """
        devices:
          landing:
            interfaces:
              p1.210: {filter-in: tickets-in}
            filters:
              tickets-in:
                rules:
                - {drop: tcp/23, source: 10.44.2.0/24, destination: 10.44.1.0/24}
                otherwise: accept
        """,
    ),
)


def line_unmet(device: Device, filter_: Filter, number: int, interfaces: list[str]) -> Finding:
    """A line, by its place from 0, that no packet meets where its filter stands."""
    places = " and ".join(dict.fromkeys(f"{device.name}/{interface}" for interface in interfaces))
    return finding(
        LINE_UNMET,
        at=device.name,
        path=("devices", device.name, "filters", filter_.name, "rules", number),
        says=(
            f"no packet that line {number + 1} of {filter_.name} ({filter_.rules[number].text(3)}) speaks of passes "
            f"{places}: what it names goes another way"
        ),
        mend=f"put the line into a filter where that passes, or remove line {number + 1} of {filter_.name}",
        does=filter_.rules[number].action,
    )


def _arrives_past(
    way: Sequence[tuple[str, str | None, str]], target: Held, device: str, places: Collection[tuple[str, str]]
) -> bool:
    """Whether a way leads to a target and through none of some interfaces of a device."""
    return way[-1][0] == target.node.name and not any(
        at == device and ((ingress, "in") in places or (egress, "out") in places) for at, ingress, egress in way
    )


class _Ends:
    """Who sends and is sent what lines speak of: of hosts that are alike one."""

    def __init__(self, index: NetworkIndex) -> None:
        self._index = index
        self._alike = {host.name: number for number, group in enumerate(alike_hosts(index)) for host in group}
        self._places = sorted(index.written_addresses, key=lambda place: place[2][:2])
        self.within = cache(self._within)

    def _within(self, prefixes: tuple[Prefix, ...]) -> list[Held]:
        """Every sort of address in some prefixes; none where a line names none, or more than one subnet's."""
        sorts: dict[object, Place] = {}
        for prefix in prefixes:
            first, last = ((prefix.version, value) for value in (prefix.value, prefix.last))
            start = bisect_left(self._places, first, key=lambda place: place[2][:2])
            end = bisect_right(self._places, last, key=lambda place: place[2][:2])
            if start == end:
                return []
            for name, interface, address in self._places[start:end]:
                if address.length > prefix.length:
                    return []
                sorts.setdefault((self._alike.get(name, name), address.prefix), (name, interface, address))
        return [held for held in map(self._index.held, sorts.values()) if held.nic.up]


MANAGED_BY = (Probe("tcp", 22), Probe("tcp", 443), Probe("udp", 161))
"""How a device is managed over the network (RFC 4253 4.1, RFC 8040 2.1, RFC 3417 3.2)."""


@rule
def locked_out(index: NetworkIndex) -> Iterator[Finding]:
    """A device that no host can manage any more, since a filter at each of its interfaces ends all that is for itself.
    Where there is a policy, that says who may."""
    if index.network.policy is not None or not any(device.filters for device in index.network.devices.values()):
        return
    sources = [group[0] for group in alike_hosts(index)]
    for name, device in index.network.devices.items():
        nics = [nic for nic in index.knowledge.devices[name].nics.values() if nic.up and nic.addresses]
        names = [nic.filter_in.name for nic in nics if nic.filter_in is not None]
        if names and sources and len(names) == len(nics) and not any(_lets_in(nic, sources) for nic in nics):
            yield management_filtered(device, names)


MANAGEMENT_FILTERED = Kind(
    "management-filtered",
    "risk",
    "filters at all interfaces of a device that leave no way to manage it",
    "the next change of {device} is made at its console",
    NEVER,
    example=Example(
        "pier",
        """
        devices:
          landing:
            ports:
              p2: {filter-in: shut}
            interfaces:
              p1.210: {filter-in: shut}
              p1.220: {filter-in: shut}
            filters:
              shut:
                rules:
                - reject: any
                  destination: [10.44.15.0, 10.44.0.1, 10.44.1.1]
                otherwise: accept
        """,
    ),
)


def management_filtered(device: Device, filters: list[str]) -> Finding:
    """Filters at all interfaces of a device that end whatever it could be managed by."""
    names = ", ".join(dict.fromkeys(filters))
    ended = f"{names} at its interfaces end it"
    return finding(
        MANAGEMENT_FILTERED,
        at=device.name,
        path=("devices", device.name, "filters", filters[0]),
        says=f"no host gets through to {device.name} itself by tcp/22, tcp/443 or udp/161: {ended}",
        mend=f"let who manages {device.name} in: a line {{accept: tcp/22, source: ..., destination: its address}}",
        device=device.name,
    )


def _lets_in(nic: Nic, sources: list[Host]) -> bool:
    """Whether the filter of an interface lets any of some hosts begin to manage its device by it."""
    return any(
        refused(nic, "in", probe_header(sender.address, own.address, probe)) is None
        for own in nic.addresses
        for host in sources
        for sender in host.addresses
        if sender.version == own.version
        for probe in MANAGED_BY
    )
