"""All pairs of hosts: from classes to hosts, both families together, causes grouped."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from archipelago.diagnosis.picture import Picture
from archipelago.model.finding import Finding
from archipelago.reachability.engine import Outcome, solve
from archipelago.simulation.reach import reach

MOST_ASKED = 400
"""How often at most the simulation is asked why."""
_LEFT = Finding(
    "not-asked",
    "note",
    "",
    (),
    "the cause of these was not looked for",
    "too many pairs are cut off to ask about each",
    "mend the other causes, then ask again",
)


@dataclass(frozen=True, slots=True)
class Group:
    """Pairs of hosts that share a cause, with one of them as an example."""

    finding: Finding
    direction: str
    pairs: int
    source: str
    target: str


@dataclass(frozen=True, slots=True)
class Matrix:
    """Who reaches whom: `reached[i, j]` for the hosts in their order; the diagonal says nothing."""

    hosts: tuple[str, ...]
    reached: NDArray[np.bool_]
    groups: tuple[Group, ...]

    @property
    def pairs(self) -> int:
        """How many ordered pairs there are."""
        return len(self.hosts) * (len(self.hosts) - 1)

    @property
    def count(self) -> int:
        """How many of them are reached."""
        return int(self.reached.sum() - np.trace(self.reached))

    def rows(self) -> Iterator[tuple[str, str, bool]]:
        """Every ordered pair."""
        for i, source in enumerate(self.hosts):
            line = self.reached[i]
            for j, target in enumerate(self.hosts):
                if i != j:
                    yield source, target, bool(line[j])


def matrix(view: Picture, family: int | None = None, *, causes: bool = True) -> Matrix:
    """Decide every ordered pair of hosts.

    Args:
        view: the network, indexed.
        family: 4 or 6; by default IPv4 for the pairs where both ends have it, else IPv6.
        causes: also say why what is not reached is not, grouped by mistake.
    """
    hosts = tuple(view.network.hosts)
    place = {name: index for index, name in enumerate(hosts)}
    reached = np.zeros((len(hosts), len(hosts)), dtype=np.bool_)
    label = np.full((2, len(hosts)), -1, dtype=np.int64)
    apart: set[str] = set()
    for version in (6, 4) if family is None else (family,):
        outcome = solve(view, version)
        apart |= outcome.classes.apart
        number = _numbers(outcome, place, len(hosts))
        label[int(version == 6)] = number
        has = number >= 0
        both = np.ix_(has, has)
        if has.any():
            reached[both] = outcome.reached[np.ix_(number[has], number[has])]
    alone = sorted(place[name] for name in apart)
    alone += [
        place[name] for name in hosts if label[0, place[name]] < 0 and label[1, place[name]] < 0 and name not in apart
    ]
    _ask_for(view, hosts, reached, sorted(place[name] for name in apart), family)
    groups = _groups(view, hosts, reached, label, alone, family) if causes else ()
    return Matrix(hosts, reached, groups)


def _numbers(outcome: Outcome, place: dict[str, int], count: int) -> NDArray[np.int64]:
    """The class of each host, -1 for none."""
    number = np.full(count, -1, dtype=np.int64)
    for index, members in enumerate(outcome.classes.members):
        for name in members:
            number[place[name]] = index
    return number


def _ask_for(
    view: Picture, hosts: tuple[str, ...], reached: NDArray[np.bool_], apart: list[int], family: int | None
) -> None:
    """Pairs that no class can stand for are asked of the simulation, one by one: there are few."""
    nodes = view.knowledge.nodes
    for i in apart:
        for j in range(len(hosts)):
            if i != j:
                a, b = nodes[hosts[i]], nodes[hosts[j]]
                reached[i, j] = reach(view, a, b, probes=1, family=family).reached
                reached[j, i] = reach(view, b, a, probes=1, family=family).reached


def _groups(
    view: Picture,
    hosts: tuple[str, ...],
    reached: NDArray[np.bool_],
    label: NDArray[np.int64],
    apart: list[int],
    family: int | None,
) -> tuple[Group, ...]:
    """One pair of each pair of classes is asked why; the rest of those classes share the answer. Where that would be
    too many, each class that the best connected host does not reach is asked about once, from there."""
    missing = ~reached
    np.fill_diagonal(missing, False)
    sources, targets = np.nonzero(missing)
    if not len(sources):
        return ()
    _, kind = np.unique(label, axis=1, return_inverse=True)
    kind = kind.reshape(-1)
    for index in apart:  # a class of its own
        kind[index] = int(kind.max()) + 1
    keys = kind[sources] * (int(kind.max()) + 1) + kind[targets]
    _, first, counts = np.unique(keys, return_index=True, return_counts=True)
    questions = [(int(sources[at]), int(targets[at]), int(count)) for at, count in zip(first, counts, strict=True)]
    if len(questions) > MOST_ASKED:
        questions = _from_one_place(questions, reached, kind)
    nodes = view.knowledge.nodes
    found: dict[tuple[object, ...], Group] = {}
    for i, j, count in questions[:MOST_ASKED]:
        source, target = hosts[i], hosts[j]
        answer = reach(view, nodes[source], nodes[target], probes=1, family=family)
        if answer.finding is None:
            continue
        finding = answer.finding
        key = (finding.slug, finding.path, finding.mend)
        before = found.get(key)
        pairs = count + (before.pairs if before else 0)
        example = before or Group(finding, answer.direction or "out", 0, source, target)
        found[key] = Group(example.finding, example.direction, pairs, example.source, example.target)
    left = questions[MOST_ASKED:]
    if left:
        found["left",] = Group(_LEFT, "out", sum(count for _, _, count in left), hosts[left[0][0]], hosts[left[0][1]])
    return tuple(sorted(found.values(), key=lambda group: -group.pairs))


def _from_one_place(
    questions: list[tuple[int, int, int]], reached: NDArray[np.bool_], kind: NDArray[np.int64]
) -> list[tuple[int, int, int]]:
    """Fewer questions: a pair is put down to whichever end the best connected host does not reach."""
    place = int(reached.sum(axis=1).argmax())
    merged: dict[tuple[int, int], tuple[int, int, int]] = {}
    for i, j, count in questions:
        cut = next((end for end in (j, i) if end != place and not reached[place, end]), None)
        asked = (i, j) if cut is None else (place, cut)
        key = (int(kind[asked[0]]), int(kind[asked[1]]))
        before = merged.get(key, (*asked, 0))
        merged[key] = (before[0], before[1], before[2] + count)
    return sorted(merged.values(), key=lambda question: -question[2])
