"""The same questions to the simulation and to a real kernel."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from archipelago.addressing.values import parse_address
from archipelago.answer import Answer
from archipelago.diagnosis.leased import server_address
from archipelago.diagnosis.places import hosts_of
from archipelago.errors import QueryError
from archipelago.exchange.break_rehearsed import BreakRehearsed, breaking, broken_network, judged
from archipelago.exchange.kernel import Answers, Question, Where, ask_kernel, kernel_here
from archipelago.exchange.tree import KernelTree
from archipelago.knowledge.ends import ASKED, checked, find_end, find_source
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge, know
from archipelago.knowledge.outside import widened
from archipelago.model.ends import Kind
from archipelago.model.filters import ECHO, Probe
from archipelago.model.network import Network
from archipelago.simulation.reach import ReachResult, reach

Pair = tuple[str, str]
Given = tuple[str, str, str]


@dataclass(frozen=True, slots=True, repr=False)
class Rehearsal(Answer):
    """Both answers for every pair: `ours` in full, `theirs` the pairs that the kernel answered, and where it ran.
    `shared_addresses` are those that several hold, whose holder a kernel decides by chance; `leases` what each host is
    leased, by us and by real servers: the address with its mask, the gateway, the server's address; `redundancy` the
    root of each device where something is blocked, each blocked port and who is active in each shared gateway, by us
    and by the kernel's tree and real daemons."""

    SHOWN = "rehearsal.REHEARSE"

    ours: Mapping[Pair, ReachResult]
    theirs: frozenset[Pair]
    where: Where
    shared_addresses: tuple[str, ...]
    leases: Mapping[str, tuple[Given | None, Given | None]] = field(default_factory=dict)
    redundancy: Mapping[str, tuple[str, str]] = field(default_factory=dict)
    broken: BreakRehearsed | None = None

    @property
    def agrees(self) -> bool:
        """Whether the two answer alike in all of it."""
        lost_alike = self.broken is None or self.broken.alike is not False
        return lost_alike and not (self.differ or self.leased_otherwise or self.redundant_otherwise)

    @property
    def differ(self) -> tuple[Pair, ...]:
        """The pairs that the two answer differently."""
        return tuple(pair for pair, answer in self.ours.items() if _answered(answer) != (pair in self.theirs))

    @property
    def leased_otherwise(self) -> tuple[str, ...]:
        """The hosts whose leases the two answer differently."""
        return tuple(host for host, (ours, theirs) in self.leases.items() if ours != theirs)

    @property
    def redundant_otherwise(self) -> tuple[str, ...]:
        """The roots, ports and shared gateways that the two answer differently."""
        return tuple(what for what, (ours, theirs) in self.redundancy.items() if ours != theirs)

    @property
    def headline(self) -> str:
        """The answer in one line."""
        pairs, agreed, answered = len(self.ours), len(self.ours) - len(self.differ), len(self.theirs)
        leased = ""
        if self.leases:
            alike = sum(ours == theirs for ours, theirs in self.leases.values())
            leased = f"; {alike:,} of {len(self.leases):,} lease{'s' * (len(self.leases) != 1)} agree"
        if self.redundancy:
            alike = len(self.redundancy) - len(self.redundant_otherwise)
            leased += f"; {alike:,} of {len(self.redundancy):,} roots, blocked ports and active gateways agree"
        if self.broken is not None and self.broken.ours is not None:
            leased += f"; {self.broken.headline}"
        after = f"with {self.broken.part} broken, " if self.broken is not None else ""
        return (
            f"{after}{agreed:,} of {pairs:,} pair{'s' * (pairs != 1)} agree; "
            f"the kernel answered {answered:,} pair{'s' * (answered != 1)}{leased}"
        )

    def __bool__(self) -> bool:
        return self.agrees


def rehearse(
    network: Network,
    sources: list[str],
    targets: list[str],
    seconds: float,
    probe: Probe = ECHO,
    part: str | None = None,
) -> Rehearsal:
    """Ask the simulation and a real kernel the same pairs; where a part is named, once it has broken.

    Raises:
        QueryError: a host or the part does not exist, or the network cannot be built because it would storm.
        KernelError: there is no kernel to use, or it did not finish in time.
    """
    whole = NetworkIndex(widened(know(network)))
    _buildable(whole)
    index, breaks, ours_broken = whole, None, None
    watched = part is not None and len(sources) == len(targets) == 1
    pairs = _pairs(whole, [] if watched else sources, [] if watched else targets)
    if part is not None:
        index = NetworkIndex(know(broken_network(whole.knowledge, part)))
    where = kernel_here()
    if part is not None:
        breaks, ours_broken = breaking(whole, index, part, (sources[0], targets[0]) if watched else None, probe)
    ours: dict[Pair, ReachResult] = {}
    asked = []
    for word, target in pairs:
        source = find_source(index, word)
        answer = reach(index, source, find_end(index, target), probe=probe)
        ours[source.name, target] = answer
        if answer.address is not None:
            asked.append((source.name, target, parse_address(answer.address)))
    expected = {pair for pair, answer in ours.items() if _answered(answer)}
    question = Question(whole.knowledge.written, asked, probe, expected, breaks)
    theirs = ask_kernel([question], where=where, seconds=seconds)[0]
    return Rehearsal(
        ours=ours,
        theirs=frozenset(theirs.pairs),
        where=where,
        shared_addresses=tuple(str(address) for address, _ in index.shared_addresses()),
        leases={host: (leased(index, host), theirs.leases.get(host)) for host in index.knowledge.leases.given},
        redundancy=redundancy(index.knowledge, theirs),
        broken=judged(whole.knowledge, index.knowledge, part, ours_broken, theirs.probes) if part is not None else None,
    )


def _buildable(index: NetworkIndex) -> None:
    """Raise where a kernel cannot build the network."""
    loop = next((domain.circle for domain in index.domains.every() if domain.circle is not None), None)
    if loop is not None:
        cables = ", ".join(str(cable) for cable in loop.cables)
        raise QueryError(f"this network would storm in a kernel: switching runs in a circle over {cables}")
    if not KernelTree(index.knowledge.devices.tree).fits:
        raise QueryError("a kernel's path costs end at 65,535, and these are more, in units of what divides them all")


def _answered(answer: ReachResult) -> bool:
    """Whether somebody answers: a kernel does not tell who."""
    return answer.reached or answer.answered_by is not None


def leased(index: NetworkIndex, host: str) -> Given | None:
    """What we say that a host is leased, as a client notes it down."""
    lease = index.knowledge.leases.of(host)
    if lease is None:
        return None
    return str(lease.address), str(lease.gateway or "none"), str(server_address(index, lease))


def redundancy(knowledge: Knowledge, theirs: Answers) -> dict[str, tuple[str, str]]:
    """What we say of the spanning tree and of shared gateways, and what the kernel and its daemons do. Where nothing is
    blocked, the kernel's tree is left off."""
    told: dict[str, tuple[str, str]] = {}
    tree = knowledge.devices.tree
    if tree.blocked:
        for name, bridge in tree.bridges.items():
            told[f"root of {name}"] = (tree.name(bridge.root), theirs.roots.get(name, "none"))
        ours = {f"{name}/{port}" for name in tree.bridges for port in tree.blocked_at(name)}
        for port in sorted(ours | theirs.blocked):
            told[port] = (_state(port, ours), _state(port, theirs.blocked))
    for members, active in knowledge.elected.routers():
        one = members[0].written
        acting = [str(member) for member in members if (str(member), str(one.vrid), str(one.family)) in theirs.active]
        what = f"VRID {one.vrid} in IPv{one.family}, {', '.join(map(str, members))}"
        told[what] = (str(active) if active is not None else "none", ", ".join(acting) or "none")
    return told


def _state(port: str, blocked: set[str]) -> str:
    return "blocked" if port in blocked else "forwards"


def _pairs(index: NetworkIndex, sources: list[str], targets: list[str]) -> list[Pair]:
    """Who asks whom: by default every host every other; a VLAN or a subnet stands for its hosts."""
    network = index.network
    for word in sources:
        find_source(index, word)
    asked = list(network.hosts) if not targets else []
    for word in targets:
        end = checked(network, word, ASKED)
        several = end.kind in (Kind.VLAN, Kind.PREFIX)
        asked += hosts_of(index.knowledge, end) if several else [word]
    return [(a, b) for a in sources or network.hosts for b in dict.fromkeys(asked) if a != b]
