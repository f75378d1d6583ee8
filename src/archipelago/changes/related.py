"""Which steps of a change hang together: those about one device, one VLAN, one subnet, one cable."""

from __future__ import annotations

from collections.abc import Hashable, Iterator, Sequence
from dataclasses import fields, is_dataclass
from typing import Any

from archipelago.addressing.values import Address, InterfaceAddress
from archipelago.changes.differences import PLAN, Difference
from archipelago.model.parts import Cable, Device, End, NextHop, Subinterface, VlanInterface


def related(
    step: int, among: Sequence[int], differences: Sequence[Difference], needs: Sequence[frozenset[int]]
) -> list[int]:
    """The steps that hang together with one, itself first, then those that have most to do with it, and what these
    need."""
    subjects = {other: set(_subjects(differences[other])) for other in among}
    reached, frontier = {step}, subjects[step]
    near = [step]
    while True:
        left = [other for other in among if other not in reached]
        ranked = sorted(left, key=lambda other: (-len(subjects[other] & frontier), other))
        if not ranked or not subjects[ranked[0]] & frontier:
            break
        for other in [ranked[0], *sorted(needs[ranked[0]] & set(left))]:
            if other not in reached:
                reached.add(other)
                near.append(other)
        frontier = frontier | subjects[ranked[0]]
    return near


def _subjects(difference: Difference) -> Iterator[Hashable]:
    """What a step is about."""
    if difference.at != PLAN:
        yield "device", difference.at
    for one in difference.replacements:
        for value in (one.before, one.after):
            yield from _named_in(value)


def _named_in(value: Any) -> Iterator[Hashable]:
    if isinstance(value, InterfaceAddress):
        yield "subnet", value.prefix
        yield "address", value.address
    elif isinstance(value, (Address, NextHop)):
        yield "address", value.address if isinstance(value, NextHop) else value
    elif isinstance(value, End):
        yield "device", value.device
    elif isinstance(value, Cable):
        yield from (("device", end.device) for end in value.ends)
    elif isinstance(value, Device):
        yield "device", value.name
    elif isinstance(value, (VlanInterface, Subinterface)):
        yield "VLAN", value.vlan if isinstance(value, VlanInterface) else value.tag
        yield from (subject for address in value.addresses for subject in _named_in(address))
    elif isinstance(value, tuple):
        yield from (subject for entry in value for subject in _named_in(entry))
    elif isinstance(value, int) and not isinstance(value, bool):
        yield "VLAN", value
    elif is_dataclass(value):
        yield from (subject for spec in fields(value) for subject in _named_in(getattr(value, spec.name)))
