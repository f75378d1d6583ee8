"""What a policy allows, beside what a network lets through: all pairs, for every kind of traffic that either tells
apart."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from archipelago.diagnosis.places import plugged_vlan
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge
from archipelago.model.ends import ANYBODY
from archipelago.model.filters import ECHO, FIRST_OWN_PORT, LAST_PORT, Probe, Traffic
from archipelago.model.network import Network
from archipelago.model.policy import Policy
from archipelago.reachability.arrays import Bools, Ints, NetworkArrays
from archipelago.reachability.families import Decided
from archipelago.reachability.management import DeviceBreach, named_devices, of_devices
from archipelago.reachability.matrix import Matrix, by_probe, unfiltered
from archipelago.reachability.parties import Parties

WITHIN = -2
"""In place of a line's number: both are of one VLAN."""
MOST_PROBES = 64
"""So many kinds of traffic are told apart at most; of more, those of the policy come first."""


class BreachKey(NamedTuple):
    """Which breach of a policy: of which line (None: of `otherwise`), which way, in which family."""

    line: int | None
    let_through: bool
    version: int


@dataclass(frozen=True, slots=True)
class Breach:
    """Pairs that fare otherwise than a line of the policy says (its place; None for `otherwise`): let through where
    they may not (`let_through`), or ended where they may. `services` are what was sent, `example` is one pair: a host,
    and a host or a device's address; `sources` and `targets` are a host of each sort at either end."""

    line: int | None
    let_through: bool
    version: int
    services: tuple[Probe, ...]
    pairs: int
    example: tuple[str, str]
    probe: Probe
    sources: tuple[str, ...]
    targets: tuple[str, ...]

    @property
    def key(self) -> BreachKey:
        """What it is known by, in any state of the network."""
        return BreachKey(self.line, self.let_through, self.version)

    @property
    def only_answers(self) -> bool:
        """Whether all that is let through goes to the ports that answers go to."""
        return self.let_through and all(map(of_answers, self.services))


def probes_of(network: Network) -> list[Probe]:
    """A probe for each kind of traffic that the policy or any filter tells apart, MOST_PROBES at most."""
    return kinds_apart(network)[:MOST_PROBES]


def kinds_apart(network: Network) -> list[Probe]:
    """A probe for each kind of traffic that the policy or any filter tells apart: echo requests, and of TCP and UDP one
    port of each range that no line cuts."""
    named = [kind for rule in network.policy.rules for kind in rule.traffic] if network.policy is not None else []
    lines = [rule for device in network.devices.values() for one in device.filters.values() for rule in one.rules]
    probes = [ECHO]
    for protocol in ("tcp", "udp"):
        first = _cuts(named, protocol)
        more = _cuts([kind for rule in lines for kind in rule.traffic], protocol)
        for rule in lines:
            for ports in rule.destination_port:
                more |= {ports.first, ports.last + 1}
        for port in [*sorted(first), *sorted(more - first)]:
            if 0 < port <= LAST_PORT:
                probes.append(Probe("tcp" if protocol == "tcp" else "udp", port))
    return probes


def of_answers(probe: Probe) -> bool:
    """Whether a probe goes to the ports that answers go to: a line that lets these pass cannot tell it from one."""
    return probe.protocol == "udp" and probe.port >= FIRST_OWN_PORT


def _cuts(kinds: list[Traffic], protocol: str) -> set[int]:
    """The first port of each range of ports that some kinds of traffic tell apart."""
    cuts = {1}
    for kind in kinds:
        if kind.protocol == protocol and kind.ports is not None:
            cuts |= {kind.ports.first, kind.ports.last + 1}
    return cuts


class Intent:
    """What a policy says of the hosts of a network.

    Args:
        knowledge: the network, the outside in it as a host.
        hosts: its hosts, in the order of the arrays.
        outside: those that stand for the outside.
    """

    def __init__(self, knowledge: Knowledge, hosts: tuple[str, ...], outside: tuple[str, ...]) -> None:
        network = knowledge.network
        assert network.policy is not None
        self.policy: Policy = network.policy
        self.parties = Parties(knowledge, hosts, outside)
        self._parties: dict[tuple[str, int], Ints] = {}
        self._named: dict[tuple[int, bytes], list[tuple[Ints, Ints]]] = {}
        vlans = [plugged_vlan(knowledge, network.hosts[name]) for name in hosts]
        place = np.arange(len(hosts))
        # The outside, and a host in no VLAN, is with nobody in one.
        self.vlan = np.array([vlan if vlan is not None else -1 - at for at, vlan in enumerate(vlans)], dtype=np.int64)
        for name in outside:
            at = self.parties.place[name]
            self.vlan[at] = -1 - place[at]

    def _party(self, end: str, version: int) -> Ints:
        """The places of the hosts that an end stands for in a family."""
        key = end, version
        if key not in self._parties:
            party = self.parties.of(end) if self.parties.family(end) in (None, version) else None
            self._parties[key] = party if isinstance(party, np.ndarray) else np.empty(0, dtype=np.int64)
        return self._parties[key]

    def members(self, ends: tuple[str, ...], version: int) -> Bools:
        """The hosts that some ends stand for in a family."""
        marks = np.full(len(self.vlan), ANYBODY in ends)
        for end in ends if ANYBODY not in ends else ():
            marks[self._party(end, version)] = True
        return marks

    def members_named(self, ends: tuple[str, ...], version: int) -> list[str]:
        """The names of the hosts that some ends stand for in a family."""
        names = list(self.parties.place)
        return [names[at] for at in np.flatnonzero(self.members(ends, version)).tolist()]

    def sorts(self, answer: Matrix | Decided, version: int) -> tuple[Ints, Ints]:
        """A host of each sort that the policy and the network take alike, and the sort of each host."""
        every = {end for rule in self.policy.rules for end in (*rule.source, *rule.target)} - {ANYBODY}
        parties = [self._party(end, version) for end in sorted(every)]
        hosts = np.concatenate([*parties, np.empty(0, dtype=np.int64)])
        ends = np.repeat(np.arange(len(parties)), [len(party) for party in parties])
        order = np.lexsort((ends, hosts))
        bounds = np.searchsorted(hosts[order], np.arange(len(self.vlan) + 1)).tolist()
        named = ends[order]
        numbers: dict[tuple[int, int, bytes], int] = {}
        sort = np.empty(len(self.vlan), dtype=np.int64)
        first: list[int] = []
        for at, (kind, vlan) in enumerate(zip(answer.kind.tolist(), self.vlan.tolist(), strict=True)):
            key = kind, vlan, named[bounds[at] : bounds[at + 1]].tobytes()
            sort[at] = numbers.setdefault(key, len(first))
            if sort[at] == len(first):
                first.append(at)
        return np.array(first, dtype=np.int64), sort

    def _among(self, some: Ints, version: int) -> list[tuple[Ints, Ints]]:
        """For each line the places among some hosts of those it names, as rows and columns of their pairs."""
        key = version, some.tobytes()
        if key not in self._named:
            ends = {end for rule in self.policy.rules for end in (rule.source, rule.target)}
            at = {end: np.flatnonzero(self.members(end, version)[some]) for end in ends}
            self._named[key] = [(at[rule.source][:, None], at[rule.target]) for rule in self.policy.rules]
        return self._named[key]

    def decides(self, some: Ints, version: int, probe: Probe) -> tuple[Bools, Ints]:
        """Whether each of some hosts may begin with each other, and the line that says so (-1: `otherwise`, WITHIN:
        they are of one VLAN)."""
        rules = self.policy.rules
        line = np.full((len(some), len(some)), -1, dtype=np.int64)
        named = self._among(some, version)
        speaking: dict[tuple[Traffic, ...], bool] = {}  # of a thousand lines most speak of the same few kinds
        for number in range(len(rules) - 1, -1, -1):
            kinds = rules[number].traffic
            if kinds not in speaking:
                speaking[kinds] = rules[number].speaks_of(probe)
            if speaking[kinds]:
                sources, targets = named[number]
                line[sources, targets] = number
        may = np.array([*(bool(rule.may) for rule in rules), self.policy.otherwise == "any"])  # the last is -1's
        allowed: Bools = may[line]
        within = self.vlan[some][:, None] == self.vlan[some]
        allowed[within], line[within] = True, WITHIN
        return allowed, line


class Compared(NamedTuple):
    """A kind of traffic in a family, pair by pair of sorts of host: `first` is a host of each sort, `sort` that of each
    host; how many pairs of hosts each pair stands for, which may begin, by which line (as Intent.decides), who reaches
    whom, and who would if no filter ended a packet."""

    probe: Probe
    first: Ints
    sort: Ints
    pairs: Ints
    allowed: Bools
    line: Ints
    reached: Bools
    able: Bools

    @property
    def open(self) -> Bools:
        """The pairs that are let through although they may not."""
        wrong: Bools = self.reached & ~self.allowed & (self.pairs > 0) & (self.line != WITHIN)
        return wrong

    @property
    def closed(self) -> Bools:
        """The pairs that a filter ends although they may."""
        wrong: Bools = self.allowed & self.able & ~self.reached & (self.pairs > 0) & (self.line != WITHIN)
        return wrong


def compared(
    intent: Intent, arrays: NetworkArrays, version: int, probes: Sequence[Probe], *, contested: bool = True
) -> Iterator[Compared]:
    """What a policy says of all pairs beside what a network does, for each kind of traffic. Without `contested`, pairs
    whose way depends on an address that several hold are left out."""
    # What no filter is to blame for is for others to tell.
    routed = unfiltered(arrays, version, contested=contested)
    kind = first = sort = np.empty(0, dtype=np.int64)
    for answer in by_probe(arrays, probes, version, causes=False, settled=None if contested else ()):
        if not np.array_equal(answer.kind, kind):  # most kinds of traffic tell the same hosts apart
            kind, (first, sort) = answer.kind, intent.sorts(answer, version)
        sizes = np.bincount(sort)
        pairs = np.multiply.outer(sizes, sizes)
        pairs[np.diag_indices_from(pairs)] -= sizes
        allowed, line = intent.decides(first, version, answer.probe)
        yield Compared(
            probe=answer.probe,
            first=first,
            sort=sort,
            pairs=pairs,
            allowed=allowed,
            line=line,
            reached=answer.between[np.ix_(answer.kind[first], answer.kind[first])],
            able=routed.between[np.ix_(routed.kind[first], routed.kind[first])],
        )


def breaches(
    index: NetworkIndex,
    arrays: NetworkArrays,
    outside: tuple[str, ...] = (),
    *,
    devices: bool = True,
    contested: bool = True,
) -> Iterator[Breach]:
    """Where the network and its policy differ.

    Args:
        index: the network, the outside in it as a host.
        arrays: the same network.
        outside: the hosts that stand for the outside.
        devices: also ask who gets through to devices' own addresses.
        contested: also ask, of the simulation, for pairs whose way depends on an address that several hold.
    """
    network = index.network
    intent = Intent(index.knowledge, arrays.hosts, outside)
    probes = probes_of(network)
    for version in arrays.families:
        found: dict[tuple[int, bool], list[_Told]] = {}
        first = np.empty(0, dtype=np.int64)
        for one in compared(intent, arrays, version, probes, contested=contested):
            first = one.first
            for is_open, wrong in ((True, one.open), (False, one.closed)):
                for number in np.unique(one.line[wrong]).tolist():
                    these = wrong & (one.line == number)
                    i, j = (int(at[0]) for at in np.nonzero(these))
                    members = [np.flatnonzero(one.sort == at) for at in (i, j)]
                    example = arrays.hosts[members[0][0]], arrays.hosts[members[1][-1]]
                    ends = [{arrays.hosts[at] for at in first[these.any(axis=axis)].tolist()} for axis in (1, 0)]
                    told = _Told(one.probe, int(one.pairs[these].sum()), example, *ends)
                    found.setdefault((number, is_open), []).append(told)
        for device in _of_devices(index, intent, first, version, probes) if devices else ():
            told = _Told(device.probe, 1, (device.host, str(device.address)), {device.host}, set())
            found.setdefault((device.line, device.let_through), []).append(told)
        for (number, is_open), every in found.items():
            most = max(every, key=lambda one: one.pairs)
            yield Breach(
                line=number if number >= 0 else None,
                let_through=is_open,
                version=version,
                services=tuple(dict.fromkeys(one.probe for one in every)),
                pairs=most.pairs,
                example=most.example,
                probe=most.probe,
                sources=tuple(sorted({host for one in every for host in one.sources})),
                targets=tuple(sorted({host for one in every for host in one.targets})),
            )


def _of_devices(
    index: NetworkIndex, intent: Intent, some: Ints, version: int, probes: Sequence[Probe]
) -> Iterator[DeviceBreach]:
    """Where the network and its policy differ about devices' own addresses, asked of some hosts."""
    if named_devices(index.network):
        names = list(intent.parties.place)
        speakers = [set(intent.members_named(rule.source, version)) for rule in intent.policy.rules]
        yield from of_devices(index, speakers, [names[at] for at in some.tolist()], version, probes)


class _Told(NamedTuple):
    probe: Probe
    pairs: int
    example: tuple[str, str]
    sources: set[str]
    targets: set[str]
