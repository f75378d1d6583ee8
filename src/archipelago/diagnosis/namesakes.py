"""A host that leases in another VLAN than the one that is called like it, where most others of its name do."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import NamedTuple

from archipelago.diagnosis.kind import OFTEN, Example, Kind, finding
from archipelago.diagnosis.places import host_attachment, plugged_vlan, port_path
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Edit, Finding
from archipelago.model.parts import Host, Path

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
    return lease_apart(index, host, (found.there, found.right), found.others, port if switched else None)


LEASE_APART = Kind(
    "lease-apart",
    "risk",
    "a host that leases in another VLAN than the one called like it, where others of its name do",
    "{name} works, perhaps with an address of the wrong subnet",
    OFTEN,
    example=Example(
        "leases",
        """
        hosts:
          mess: ~
          crew-1: {at: hall/p7, address: dhcp}
          office:
            dhcp-pools:
              crew: {reservations: ~}
        devices:
          hall:
            ports:
              p7: {access: guests}
        """,
    ),
)


def lease_apart(index: NetworkIndex, host: Host, vlans: tuple[int, int], others: int, port: Path | None) -> Finding:
    """A host leases in another VLAN than the one called like it, where others of its name do; `vlans` are the two,
    `port` is where it is plugged in, where that is an access port."""
    there, right = map(index.vlan_name, vlans)
    many = f"where {others} other{'s' * (others != 1)} of its name lease{'s' * (others == 1)}"
    says = f"{host.name} leases in {there}, and not in {right}, which is called like it" + f", {many}" * (others > 0)
    mend = f"put the port of {host.name} into {right}"
    edits = (Edit((*port, "access"), index.vlan_key(vlans[1])),) if port is not None else ()
    at, path = (host.at.device, port) if port is not None else (host.name, ("hosts", host.name))
    return finding(LEASE_APART, at=at, path=path, says=says, mend=mend, edits=edits, name=host.name)
