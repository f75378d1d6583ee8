"""All pairs of hosts: from classes to hosts, both families together, causes grouped."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Protocol

import numpy as np

from archipelago.answer import Answer
from archipelago.errors import QueryError
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import know
from archipelago.knowledge.outside import widened
from archipelago.knowledge.parts import switched_off
from archipelago.model.filters import ECHO, Probe
from archipelago.model.network import Network
from archipelago.reachability.arrays import Bools, Ints, NetworkArrays
from archipelago.reachability.build import build_arrays, change_arrays
from archipelago.reachability.causes import MOST_CAUSES, Group, explain
from archipelago.reachability.families import Decided
from archipelago.reachability.settling import MOST_ASKED, settle

if TYPE_CHECKING:
    from archipelago.knowledge.known import Knowledge
    from archipelago.reachability.apart import Apart
    from archipelago.reachability.devices import DevicePairs
    from archipelago.reachability.expect import Checked

ROWS = 256
MOST_HOSTS = 20_000
"""The most hosts whose pairs are laid out one by one: 400 million."""


class Beside(Protocol):
    """What there is to tell beside all pairs: the network that was asked, what must hold, all pairs in IPv6 with the
    causes that only it has, what is kept apart on purpose, devices' addresses where somebody asks, and whether all is
    as it should be."""

    @property
    def knowledge(self) -> Knowledge: ...
    @property
    def checked(self) -> Checked | None: ...
    @property
    def six(self) -> Matrix | None: ...
    @property
    def only_six(self) -> tuple[Group, ...]: ...
    @property
    def apart(self) -> Apart | None: ...
    @property
    def devices(self) -> DevicePairs | None: ...
    @property
    def fine(self) -> bool: ...


@dataclass(frozen=True, slots=True, repr=False)
class Matrix(Answer):
    """Who reaches whom, by kind of host: hosts of a kind fare alike.

    `kind` (int64, of shape (hosts,)) gives each host the number of its kind. `between[a, b]` (bool, of shape (kinds,
    kinds), as `every` and `some`) says whether hosts of kind a reach those of kind b (another of its own, where a is
    b); `every` that they do in each family that both have, `some` that they do in any. `family` is the one asked for,
    None for IPv4 where both ends of a pair have it, else IPv6. `groups` are the causes of what is not reached, where
    they were asked for, `probe` is what was sent, `beside` what else there is to tell where somebody asks.
    """

    SHOWN = "matrix.MATRIX"

    hosts: tuple[str, ...]
    kind: Ints
    between: Bools
    every: Bools
    some: Bools
    family: int | None
    groups: tuple[Group, ...]
    probe: Probe = ECHO
    beside: Beside | None = field(default=None, compare=False)

    @property
    def sizes(self) -> Ints:
        """How many hosts each kind has."""
        return np.bincount(self.kind, minlength=len(self.between))

    @property
    def pairs(self) -> int:
        """How many ordered pairs there are."""
        return len(self.hosts) * (len(self.hosts) - 1)

    @property
    def reached(self) -> int:
        """How many of them are reached."""
        return count_pairs(self.between, self.sizes)

    @property
    def differing(self) -> int:
        """How many pairs are reached in one of the families that both ends have and not in the other."""
        return count_pairs(self.some & ~self.every, self.sizes)

    @property
    def headline(self) -> str:
        """The answer in one line."""
        count, pairs = self.reached, self.pairs
        by = f" by {self.probe}" if self.probe != ECHO else ""
        text = f"{count:,} of {pairs:,} pair{'s' * (pairs != 1)} reached{by}"
        apart = self.beside.apart if self.beside is not None else None
        meant = apart.pairs if apart is not None else 0
        if apart is not None and meant:
            text += f"; {meant:,} kept apart by {apart.by}"
        cut = pairs - count - meant
        text += f"; {cut:,} pair{'s' * (cut != 1)} cut off" if cut else ""
        both = self.beside is not None and self.beside.six is not None
        return f"{text} (in IPv4 where both ends have it, else in IPv6)" if both else text

    def reaches(self, source: int, target: int) -> bool:
        """Whether one host, by its place in `hosts`, reaches another."""
        return bool(self.between[self.kind[source], self.kind[target]])

    def __getitem__(self, pair: tuple[str, str]) -> bool:
        """Whether one host reaches another, by their names.

        Raises:
            QueryError: there is no such host.
        """
        places = []
        for name in pair:
            if name not in self.hosts:
                raise QueryError(f"there is no host '{name}' in this matrix")
            places.append(self.hosts.index(name))
        return self.reaches(*places)

    def block(self, sources: Sequence[int] | Ints, targets: Sequence[int] | Ints) -> Bools:
        """Who of some reaches whom of others, host by host; a host and itself say nothing.

        Raises:
            QueryError: that would be too many pairs to lay out.
        """
        if len(sources) * len(targets) > MOST_HOSTS**2:
            raise QueryError(
                f"{len(sources):,} times {len(targets):,} hosts are too many to lay out pair by pair; "
                f"at most {MOST_HOSTS:,} hosts are; ask by class, by VLAN or for a part"
            )
        kind = self.kind
        return self.between[np.ix_(kind[np.asarray(sources, dtype=int)], kind[np.asarray(targets, dtype=int)])]

    def rows(self) -> Iterator[tuple[str, str, bool]]:
        """Every ordered pair."""
        for i, source in enumerate(self.hosts):
            line = self.between[self.kind[i]][self.kind].tolist()
            for j, target in enumerate(self.hosts):
                if i != j:
                    yield source, target, line[j]

    def __bool__(self) -> bool:
        return self.beside.fine if self.beside is not None else self.reached == self.pairs


def count_pairs(kinds: Bools, sizes: Ints) -> int:
    """How many pairs of hosts some pairs of kinds stand for; a few rows at a time, as a product makes them wide."""
    total = 0
    for start in range(0, len(kinds), ROWS):
        total += int(sizes[start : start + ROWS] @ (kinds[start : start + ROWS] @ sizes))
    return total - int(sizes[np.diagonal(kinds)].sum())


def matrix(
    network: Network | NetworkIndex | NetworkArrays,
    family: int | None = None,
    *,
    causes: bool = True,
    excused: Callable[[Decided], Bools] | None = None,
    most: int = MOST_CAUSES,
    probe: Probe = ECHO,
) -> Matrix:
    """Decide every ordered pair of hosts.

    Args:
        network: a network, or one that is indexed or in arrays already.
        family: 4 or 6; by default IPv4 for the pairs where both ends have it, else IPv6.
        causes: also say why what is not reached is not, grouped by mistake.
        excused: gives the pairs of kinds that need not be reached: they count as if they were.
        most: how many ends of ways are looked into for causes, those of the most pairs first.
        probe: what is sent.
    """
    index = network if isinstance(network, NetworkIndex) else None
    if isinstance(network, NetworkArrays):
        arrays = network
    else:
        arrays = build_arrays(network.knowledge if isinstance(network, NetworkIndex) else know(network))
    return _answer(Decided(arrays, family, (probe,)), index, causes, excused, most)


def by_probe(
    arrays: NetworkArrays,
    probes: Iterable[Probe],
    family: int | None = None,
    *,
    causes: bool = True,
    settled: Iterable[Probe] | None = None,
    meant: Callable[[Decided], Bools] | None = None,
) -> Iterator[Matrix]:
    """All pairs once for each kind of probe; where packets go is worked out once for all. Where several hold an address
    the simulation is asked for those that are to be `settled`, all where that is not said; else such pairs count as not
    reached. For pairs of kinds that are `meant` to be apart no cause is looked for."""
    wanted = tuple(dict.fromkeys(probes))
    if wanted:
        decided = Decided(arrays, family, wanted)
        asked = dict.fromkeys(wanted if settled is None else settled, MOST_ASKED)
        for probe in wanted:
            most = asked.get(probe, 0)
            yield _answer(decided.for_probe(probe), None, causes, None, MOST_CAUSES, most, meant=meant)


def unfiltered(arrays: NetworkArrays, family: int | None = None, *, contested: bool = True) -> Matrix:
    """All pairs as they would fare if no filter ended a packet; where several hold an address as the simulation says,
    or not reached where that is not asked (`contested`)."""
    most_asked = MOST_ASKED if contested else 0
    return _answer(Decided(arrays, family, filters=False), None, False, None, MOST_CAUSES, most_asked)


def _answer(
    answer: Decided,
    index: NetworkIndex | None,
    causes: bool,
    excused: Callable[[Decided], Bools] | None,
    most: int,
    most_asked: int = MOST_ASKED,
    meant: Callable[[Decided], Bools] | None = None,
) -> Matrix:
    arrays = answer.arrays
    groups: tuple[Group, ...] = ()
    if answer.doubtful.any() or answer.doubtful_in_ipv6.any() or (causes and not answer.all_reached):
        index = index or NetworkIndex(arrays.knowledge)
        settled = settle(index, answer, causes=causes, most=most_asked)
        if excused is not None:
            fine = excused(answer)
            answer.between |= fine
            answer.doubtful &= ~fine
            settled = {pair: said for pair, said in settled.items() if not fine[pair]}
        if causes:
            groups = explain(index, answer, settled, most, meant(answer) if meant is not None else None)
    return Matrix(
        hosts=arrays.hosts,
        kind=answer.kind,
        between=answer.between,
        every=answer.every,
        some=answer.some,
        family=answer.family,
        groups=groups,
        probe=answer.probe,
    )


def only(wanted: Bools, kind: Ints) -> Callable[[Decided], Bools]:
    """What excuses all pairs of hosts but the wanted ones.

    Args:
        wanted: pairs of kinds.
        kind: the kind of each host; an answer may tell hosts apart otherwise.
    """

    def fine(answer: Decided) -> Bools:
        its, theirs = np.unique(np.stack((answer.kind, kind)), axis=1)
        unwanted = np.ones_like(answer.between)
        source, target = np.nonzero(wanted[np.ix_(theirs, theirs)])
        unwanted[its[source], its[target]] = False
        return unwanted

    return fine


def what_if(
    network: Network, parts: Iterable[str | Sequence[str]], family: int | None = None
) -> Iterator[tuple[str | Sequence[str], Matrix]]:
    """All pairs with each part (or each set of parts) switched off in turn. What the part has no say in is worked out
    once for all.

    Raises:
        QueryError: there is no such part.
    """
    arrays = build_arrays(widened(know(network)))
    for part in parts:
        yield part, matrix(without(arrays, [part] if isinstance(part, str) else part), family, causes=False)


def without(arrays: NetworkArrays, parts: Sequence[str]) -> NetworkArrays:
    """The network in arrays with parts switched off.

    Raises:
        QueryError: there is no such part.
    """
    return change_arrays(arrays, switched_off(arrays.knowledge, parts))
