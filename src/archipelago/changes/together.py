"""Steps that cannot be made one by one: what can only change together becomes one step, and hosts that change places
are unplugged first."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from itertools import combinations

from archipelago.changes.differences import Difference, Stage
from archipelago.changes.replacement import ABSENT, Replacement
from archipelago.model.network import Network

MOST_TRIED = 400
"""So many sets of steps are tried before all that are left become one."""
Done = frozenset[int]


class Stuck(Exception):
    """None of the steps that are left can be made by itself; `together` can be, or would be if hosts were unplugged."""

    def __init__(self, together: Done) -> None:
        super().__init__(together)
        self.together = together


def smallest_possible(left: Done, needs: Sequence[Done], done: Done, possible: Callable[[Done], bool]) -> Done:
    """The fewest of some steps that can be made at once: a step and what it needs, any two, any three; else all."""
    candidates = sorted(_candidates(left, needs, done), key=len)
    return next((chosen for chosen in candidates[:MOST_TRIED] if possible(chosen)), left)


def _candidates(left: Done, needs: Sequence[Done], done: Done) -> Iterator[Done]:
    seen: set[Done] = set()
    for size in (1, 2, 3):
        for some in combinations(sorted(left), size) if size < 3 or len(left) <= 12 else ():
            whole = _with_needs(some, needs) - done
            if whole not in seen:
                seen.add(whole)
                yield whole


def _with_needs(steps: Sequence[int], needs: Sequence[Done]) -> Done:
    whole: set[int] = set()
    waiting = list(steps)
    while waiting:
        step = waiting.pop()
        if step not in whole:
            whole.add(step)
            waiting += needs[step]
    return frozenset(whole)


def merged(steps: Sequence[Difference], together: Done, old: Network, new: Network) -> list[Difference]:
    """The steps with some of them as one; where they are hosts that change places, with one of them unplugged first."""
    moves = [steps[step] for step in sorted(together) if _moves_a_host(steps[step])]
    if len(moves) == len(together) > 1:
        return _unplugged(steps, moves[0].at, old, new)
    chosen = [steps[step] for step in sorted(together)]
    first = chosen[0]
    one = Difference(
        at=next((each.at for each in chosen if not each.by_hand), first.at),
        what="; and ".join(_told(each, first) for each in chosen),
        undo="; and ".join(_told_back(each, first) for each in reversed(chosen)),
        stage=max(each.stage for each in chosen),
        replacements=tuple(replacement for each in chosen for replacement in each.replacements),
        renewing=tuple(host for each in chosen for host in each.renewing),
        lines=tuple(line for each in chosen for line in each.lines),
    )
    place = min(together)
    return [one if number == place else each for number, each in enumerate(steps) if number not in together - {place}]


def _told(each: Difference, first: Difference) -> str:
    return each.what if each.at == first.at else str(each)


def _told_back(each: Difference, first: Difference) -> str:
    return each.undo if each.at == first.at else f"{each.at}: {each.undo}"


def _moves_a_host(step: Difference) -> bool:
    return len(step.place) == 3 and step.place[0] == "hosts" and step.place[2] == "at"


def _unplugged(steps: Sequence[Difference], host: str, old: Network, new: Network) -> list[Difference]:
    """The steps with one host taken off its port, and put at its new one as it is to be."""
    was, now = old.hosts[host], new.hosts[host]
    place = ("hosts", host)
    off = Replacement(place, was, ABSENT)
    on = Replacement(place, ABSENT, now)
    plug = Difference(host, f"plug it into {now.at}", f"unplug it from {now.at}", Stage.ADDS, (on,))
    unplug = Difference(host, f"unplug it from {was.at}", f"plug it into {was.at} again", Stage.TAKES, (off,))
    return [unplug, *(each for each in steps if each.place[:2] != place), plug]
