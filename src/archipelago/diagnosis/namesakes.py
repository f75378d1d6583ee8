"""A host that leases in another VLAN than the one that is called like it, where most others of its name do."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import NamedTuple

from archipelago.diagnosis.faults import leases as faults
from archipelago.diagnosis.places import host_attachment, plugged_vlan, port_path
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Finding

_NUMBERED = re.compile(r"(.*?)[-_.]?(?:[0-9]+|(?<=[-_.])[a-z])")
"""What a name is before its number, or its single letter: `kiosk` of kiosk-12 and of kiosk-a."""


class Astray(NamedTuple):
    """A host that leases in a VLAN, the VLAN that is called like it, and how many others of its name lease there."""

    host: str
    there: int
    right: int
    others: int


def astray(index: NetworkIndex) -> Mapping[str, Astray]:
    """The hosts that lease in another VLAN than the one called like them, by name; not where as many others do, nor
    where an address is kept for them. Names prove nothing, but nothing else tells who works in the wrong VLAN."""
    given = index.knowledge.leases.given if index.knowledge.any_learning else {}
    groups: dict[str, dict[int, list[str]]] = {}
    for name, lease in given.items():
        numbered = _NUMBERED.fullmatch(name)
        known = lease is None or name in lease.pool.reservations
        vlan = None if known else plugged_vlan(index.knowledge, index.knowledge.written.hosts[name])
        if numbered is not None and vlan is not None:
            groups.setdefault(_word(numbered[1]), {}).setdefault(vlan, []).append(name)
    called = {_word(name): vlan for name, vlan in index.network.vlans.items()}
    found: dict[str, Astray] = {}
    for word, by_vlan in groups.items():
        right = called.get(word)
        if right is not None:
            others = len(by_vlan.pop(right, ()))
            apart = [(name, vlan) for vlan, names in by_vlan.items() for name in names]
            if len(apart) < max(others, 2):
                found.update((name, Astray(name, vlan, right, others)) for name, vlan in apart)
    return found


def _word(name: str) -> str:
    """A name without what tells one from many."""
    return name.lower().removesuffix("s")


def apart_from_namesakes(index: NetworkIndex, name: str) -> Finding | None:
    """A host that leases in another VLAN than the one called like it; None where it does not."""
    found = index.once(astray).get(name)
    if found is None:
        return None
    host = index.knowledge.written.hosts[name]
    attachment = host_attachment(index.knowledge, host)
    port = port_path(index.knowledge, host.at.device, attachment.name)
    switched = attachment.switched and attachment.written.trunk is None
    return faults.lease_apart(index, host, (found.there, found.right), found.others, port if switched else None)
