"""All pairs with devices' addresses among the ends: their own, and those that they share, ask and are asked as hosts
are."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from itertools import islice, product
from typing import NamedTuple

import numpy as np

from archipelago.addressing.values import Address, is_link_local
from archipelago.answer import OneLine
from archipelago.knowledge.devices import Node
from archipelago.knowledge.ends import first_address, source_at, speaking_from
from archipelago.knowledge.forwarding import source_towards
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge
from archipelago.model.filters import ECHO, Probe
from archipelago.model.network import Network
from archipelago.reachability.arrays import Bools, NetworkArrays
from archipelago.reachability.few import few_hosts
from archipelago.reachability.matrix import Matrix, count_pairs, matrix
from archipelago.reachability.settling import MOST_ASKED
from archipelago.reachability.walks import Question, Walks
from archipelago.simulation.reach import reach

AT_A_TIME = 50_000
"""So many questions are put together at a time."""


class DeviceEnd(NamedTuple):
    """An address of a device: what it is called, the device and its interface. An interface's first address of a family
    is called DEVICE/INTERFACE. Any other is called as it reads (`by_address`), and so is one that devices share: that
    is reached where anybody who holds it answers."""

    name: str
    device: str
    interface: str
    address: Address
    by_address: bool = False
    shared: bool = False


def device_ends(network: Network, version: int) -> list[DeviceEnd]:
    """The addresses of devices in one family, in the order of the network, then those that devices share, each once."""
    own: list[DeviceEnd] = []
    shared: dict[Address, DeviceEnd] = {}
    for device in network.devices.values():
        for part in (*device.ports.values(), *device.interfaces.values()):
            written = [held.address for held in part.addresses if held.version == version and not is_link_local(held)]
            for number, address in enumerate(written):
                name = str(address) if number else f"{device.name}/{part.name}"
                own.append(DeviceEnd(name, device.name, part.name, address, bool(number)))
            for address in (held for virtual in getattr(part, "virtual", ()) for held in virtual.addresses):
                if address.version == version:
                    shared.setdefault(address, DeviceEnd(str(address), device.name, part.name, address, True, True))
    owned = {end.address for end in own}
    return [*own, *(end for address, end in shared.items() if address not in owned)]


@dataclass(frozen=True, slots=True, repr=False)
class DevicePairs(OneLine):
    """The ordered pairs of which one end, or both, is an address of a device.

    Args:
        device: for each end of `pairs` the device that has the address; nothing for a host.
        by_family: who reaches whom in each family; pairs of hosts count as not reached here.
        asked: pairs of kinds of `pairs` that can be asked: both have an address of one family, and one is a device's.
        pairs: who reaches whom in IPv4 where both have it, else in IPv6; `some` in any family, `every` in each.
    """

    device: tuple[str, ...]
    by_family: Mapping[int, Matrix]
    asked: Bools
    pairs: Matrix

    @property
    def counted(self) -> int:
        """How many pairs there are."""
        return count_pairs(self.asked, self.pairs.sizes)

    @property
    def reached(self) -> int:
        """How many of them are reached."""
        return self.pairs.reached

    def rows(self) -> Iterator[tuple[str, str, bool]]:
        """Every pair of an address of a device and another end, and whether the one reaches the other."""
        kind, between = self.pairs.kind.tolist(), self.pairs.between
        for (i, source), (j, target) in product(enumerate(self.pairs.hosts), repeat=2):
            if i != j and self.asked[kind[i], kind[j]]:
                yield source, target, bool(between[kind[i], kind[j]])

    def by_device(self) -> list[DeviceCount]:
        """The counts of each device."""
        device_of = np.full(len(self.asked), "", dtype=object)
        device_of[self.pairs.kind] = self.device
        names = dict.fromkeys(name for name in self.device if name)
        return [self._count(name, device_of == name, device_of == "") for name in names]

    def _count(self, name: str, own: Bools, hosts: Bools) -> DeviceCount:
        pairs, sizes = self.pairs, self.pairs.sizes
        towards, onwards = self.asked[:, own] & ~own[:, None], self.asked[own] & ~own
        lacking = towards & ~pairs.between[:, own]
        examples = lacking & hosts[:, None] if (lacking & hosts[:, None]).any() else lacking
        example = None
        if examples.any():
            source, target = (int(axis[0]) for axis in np.nonzero(examples))
            kinds = source, int(np.flatnonzero(own)[target])
            first, second = (pairs.hosts[int(np.flatnonzero(pairs.kind == kind)[0])] for kind in kinds)
            example = first, second
        return DeviceCount(
            device=name,
            addresses=int(own.sum()),
            towards=int((sizes @ towards).sum()),
            towards_reached=int((sizes @ (towards & pairs.between[:, own])).sum()),
            onwards=int((onwards @ sizes).sum()),
            onwards_reached=int(((onwards & pairs.between[own]) @ sizes).sum()),
            example=example,
        )


class DeviceCount(NamedTuple):
    """A device, how many addresses it has, how many pairs there are from other ends towards these and how many of them
    are reached, the same from them, and a pair towards them that is not reached, from a host if there is one."""

    device: str
    addresses: int
    towards: int
    towards_reached: int
    onwards: int
    onwards_reached: int
    example: tuple[str, str] | None


def device_pairs(arrays: NetworkArrays, probe: Probe = ECHO, family: int | None = None) -> DevicePairs:
    """Decide the pairs of devices' addresses with each other and with all hosts.

    Args:
        arrays: the network.
        probe: what is sent.
        family: 4 or 6; by default IPv4 for the pairs where both ends have it, else IPv6.
    """
    index = NetworkIndex(arrays.knowledge)
    asking = {
        version: _Asking(index, version, probe, matrix(arrays, version, causes=False, probe=probe))
        for version in arrays.families
        if family in (None, version)
    }
    by_family = {version: one.answer() for version, one in asking.items()}
    ends = {end.name: end.device for one in asking.values() for end in one.ends}
    names = (*arrays.hosts, *ends)
    table = np.zeros((len(names), 2 * len(asking) + 1), dtype=np.int64)
    table[len(arrays.hosts) :, -1] = 1 + np.arange(len(ends))
    for number, (version, one) in enumerate(asking.items()):
        place = {name: at for at, name in enumerate(by_family[version].hosts)}
        here = np.array([place.get(name, -1) for name in names], dtype=np.int64)
        has = np.array([name in ends or one.has(name) for name in names], dtype=np.bool_) & (here >= 0)
        table[:, 2 * number] = np.where(has, by_family[version].kind[here], 0)
        table[:, 2 * number + 1] = has
    unique, kind = np.unique(table, axis=0, return_inverse=True)
    own = unique[:, -1] > 0
    device = own[:, None] | own
    asked = np.zeros((len(unique), len(unique)), dtype=np.bool_)
    between, every, some = asked.copy(), device.copy(), asked.copy()
    for number, version in reversed(list(enumerate(asking))):
        has = unique[:, 2 * number + 1].astype(np.bool_)
        both = has[:, None] & has & device
        kinds = unique[:, 2 * number]
        reached = by_family[version].between[np.ix_(kinds, kinds)] & both
        between = np.where(both, reached, between)
        every &= reached | ~both
        some |= reached
        asked |= both
    pairs = Matrix(
        hosts=names,
        kind=kind.reshape(-1),
        between=between,
        every=every & asked,
        some=some,
        family=family,
        groups=(),
        probe=probe,
    )
    return DevicePairs(tuple(ends.get(name, "") for name in names), by_family, asked, pairs)


class _Asking:
    """Asks for devices' addresses in one family, from one host of each kind and from each routing table of a device."""

    def __init__(self, index: NetworkIndex, version: int, probe: Probe, hosts: Matrix) -> None:
        self._index = index
        self._version = version
        self._probe = probe
        self._hosts = hosts
        self.ends = device_ends(index.network, version)
        _, first = np.unique(hosts.kind, return_index=True)
        self._examples = [hosts.hosts[place] for place in first.tolist()]

    def answer(self) -> Matrix:
        """All pairs but those of hosts."""
        hosts, kinds = self._hosts, len(self._examples)
        speakers = [self._index.knowledge.nodes[name] for name in self._examples]
        row_of: dict[tuple[str, str], int] = {}  # by device and routing table
        rows = [*range(kinds)]
        for end in self.ends:
            node = self._speaking(end)
            table = (node.name, _table(node)) if node is not None else ("", "")
            if node is not None and table not in row_of:
                speakers.append(node)
            rows.append(row_of.setdefault(table, len(speakers) - 1) if node is not None else -1)
        answers = self._asked(speakers, kinds)
        nowhere = np.zeros((1, answers.shape[1]), dtype=np.bool_)
        between: Bools = np.concatenate((answers, nowhere))[rows]
        between[:kinds, :kinds] = False
        names = tuple(end.name for end in self.ends)
        kind = np.concatenate((hosts.kind, kinds + np.arange(len(names))))
        return Matrix(
            hosts=(*hosts.hosts, *names),
            kind=kind,
            between=between,
            every=between,
            some=between,
            family=self._version,
            groups=(),
            probe=self._probe,
        )

    def has(self, host: str) -> bool:
        """Whether a host has an address of the family."""
        return first_address(self._index.knowledge.nodes[host], self._version) is not None

    def _speaking(self, end: DeviceEnd) -> Node | None:
        """Who speaks for an end; None where nobody answers for a shared address."""
        return (
            source_at(self._index, end.address)
            if end.shared
            else speaking_from(self._index.knowledge.nodes[end.device], end.interface)
        )

    def _asked(self, speakers: list[Node], kinds: int) -> Bools:
        """Whether each speaker reaches each end; of hosts among themselves nobody asks here."""
        reached = np.zeros((len(speakers), kinds + len(self.ends)), dtype=np.bool_)
        targets = self._targets()
        questions = self._questions(speakers, targets)
        walks = Walks(self._index, self._version, [self._probe])
        within = few_hosts(self._index, self._examples)
        asked = 0
        while some := list(islice(questions, AT_A_TIME)):
            answers = walks.ask([question for _, _, question in some])
            for number, (row, column, _) in enumerate(some):
                says = bool(answers.reached[number, 0])
                if answers.unclear[number] or (self._probe.size and says):
                    asked += 1
                    says = asked <= MOST_ASKED and self._simulated(speakers[row], targets[column], within)
                reached[row, column] = says
        return reached

    def _targets(self) -> list[Node | Address]:
        """Whom to ask for each kind of host and each address of a device."""
        nodes = self._index.knowledge.nodes
        devices = (
            end.address if end.by_address else speaking_from(nodes[end.device], end.interface) for end in self.ends
        )
        return [*(nodes[name] for name in self._examples), *devices]

    def _questions(self, speakers: list[Node], targets: list[Node | Address]) -> Iterator[tuple[int, int, Question]]:
        kinds = len(self._examples)
        asked = [
            ("", target) if isinstance(target, Address) else (target.name, first_address(target, self._version))
            for target in targets
        ]
        for row, node in enumerate(speakers):
            state, table = self._index.knowledge.state(node.name), _table(node)
            for column, (holder, address) in enumerate(asked):
                if address is not None and max(row, column) >= kinds:
                    own = source_towards(state, address, table)
                    if own is not None:
                        yield row, column, Question(node.name, own, holder, address, table)

    def _simulated(self, speaker: Node, target: Node | Address, within: Knowledge) -> bool:
        answer = reach(self._index, speaker, target, probes=1, family=self._version, within=within, probe=self._probe)
        return answer.reached


def _table(node: Node) -> str:
    """The routing table (`vrf`) that a station speaks by: that of its first interface with an address."""
    return next((nic.vrf for nic in node.nics.values() if nic.addresses), "")
