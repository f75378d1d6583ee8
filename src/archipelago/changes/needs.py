"""What must be done before what: a state in between must be a network that can be."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from archipelago.changes.differences import PLAN, Difference, Stage
from archipelago.changes.replacement import ABSENT, Replacement
from archipelago.model.parts import Aggregate, Cable, Device, End, Host, Subinterface


def needs(differences: Sequence[Difference]) -> list[frozenset[int]]:
    """For each difference the places of those that must be made before it."""
    frees: dict[End, list[int]] = {}
    makes: dict[tuple[str, ...], list[int]] = {}
    ends: dict[tuple[str, ...], list[int]] = {}
    for number, difference in enumerate(differences):
        for one in difference.replacements:
            for end in _plugged(one, before=True):
                frees.setdefault(end, []).append(number)
            if one.before is ABSENT:
                makes.setdefault(one.place, []).append(number)
            ends.setdefault(one.place, []).append(number)
    wanted = []
    for number, difference in enumerate(differences):
        before = set(_plan(number, differences))
        for one in difference.replacements:
            before |= {other for end in _plugged(one, before=False) for other in frees.get(end, ())}
            before |= {other for place in _stands_on(one) for other in makes.get(place, ())}
            before |= set(_gone_first(one, differences))
            if difference.stage is Stage.TAKES and one.order is not None and one.place[-1] == "trunk":
                before |= {other for other in ends[one.place] if differences[other].stage is Stage.ADDS}
        wanted.append(frozenset(before - {number}))
    return wanted


def _plan(number: int, differences: Sequence[Difference]) -> Iterator[int]:
    """New VLANs are written down first, what must hold last."""
    own = differences[number]
    last = own.at == PLAN and own.stage is Stage.TAKES and own.place[0] not in ("outside", "cables")
    for other, difference in enumerate(differences):
        first = difference.at == PLAN and difference.place == ("vlans",) and difference.stage is Stage.ADDS
        if first or (last and other != number):
            yield other


def _plugged(one: Replacement, *, before: bool) -> Iterator[End]:
    """The ports that something is plugged into before or after a replacement, and not on its other side."""
    value, other = (one.before, one.after) if before else (one.after, one.before)
    yield from (end for end in _ends_in(one, value) if end not in set(_ends_in(one, other)))


def _ends_in(one: Replacement, value: object) -> Iterator[End]:
    if isinstance(value, End):
        yield value
    elif isinstance(value, Host):
        yield value.at
    elif isinstance(value, tuple) and one.place == ("cables",):
        for cable in value:
            if isinstance(cable, Cable):
                yield from cable.ends


def _stands_on(one: Replacement) -> Iterator[tuple[str, ...]]:
    """What must be in place before something new: its device, and the port or aggregate that it is part of."""
    for end in _ends_in(one, one.after):
        yield "devices", end.device
    if isinstance(one.after, Subinterface):
        yield (*one.place[:-1], one.after.parent)


def _gone_first(one: Replacement, differences: Sequence[Difference]) -> Iterator[int]:
    """Before a part goes what stands on it or is plugged in there goes."""
    if one.after is not ABSENT or not isinstance(one.before, (Device, Aggregate)):
        return
    for number, difference in enumerate(differences):
        for other in difference.replacements:
            if isinstance(one.before, Device):
                if any(end.device == one.before.name for end in _plugged(other, before=True)):
                    yield number
            elif isinstance(other.before, Subinterface) and _stands_on_it(other, one):
                yield number


def _stands_on_it(part: Replacement, aggregate: Replacement) -> bool:
    return part.place[:2] == aggregate.place[:2] and part.before.parent == aggregate.before.name
