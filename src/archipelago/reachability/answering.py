"""Who answers for shared gateways, for the arrays: the active member in each broadcast domain, as labelled here."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace

import numpy as np

from archipelago.knowledge.elected import Member, elect, shared_addresses
from archipelago.reachability.arrays import Family, Holders, NetworkArrays
from archipelago.reachability.domains import DomainLabels, label_domains


def with_shared(arrays: NetworkArrays, family: Family, labels: DomainLabels) -> Family:
    """A family with what the active members of virtual routers answer for: as holders of next hops, and as addresses of
    their own routing tables. Those of their owners are there already."""
    holding: list[tuple[int, int, int, int]] = []
    own: list[tuple[int, int]] = []
    for member in _active_members(arrays, family.version, labels):
        nic = arrays.knowledge.devices[member.device].nics[member.interface]
        row = family.rows.get((member.device, nic.vrf), -1)
        for address in shared_addresses(member.written) if not member.owns else ():
            if address.value in family.hops:
                holding.append((family.hops[address.value], arrays.endpoints[member.endpoint], row, -1))
            if row >= 0:
                own.append((row, family.piece_of(address.value)))
    if not holding and not own:
        return family
    old = family.holders
    hop, endpoint, place, host = np.array(holding, dtype=np.int64).reshape(-1, 4).T
    cells = np.array(own, dtype=np.int64).reshape(-1, 2).T
    return replace(
        family,
        holders=Holders(
            hop=np.concatenate((old.hop, hop)),
            endpoint=np.concatenate((old.endpoint, endpoint)),
            place=np.concatenate((old.place, place)),
            host=np.concatenate((old.host, host)),
        ),
        own_addresses=np.concatenate((family.own_addresses, cells), axis=1),
    )


def active_members(arrays: NetworkArrays) -> list[Member]:
    """Who is active in each virtual router, in both families."""
    labels = label_domains(len(arrays.endpoints), arrays.adjacencies)
    return [member for version in (4, 6) for member in _active_members(arrays, version, labels)]


def _active_members(arrays: NetworkArrays, version: int, labels: DomainLabels) -> Iterable[Member]:
    groups: dict[tuple[int, int], list[Member]] = {}
    for member in arrays.knowledge.elected.every():
        if member.up and member.written.family == version:
            groups.setdefault(member.router, []).append(member)
    heard_in = _spread(arrays, labels) if groups else None
    for members in groups.values():
        assert heard_in is not None
        yield from elect(members, heard_in)


def _spread(arrays: NetworkArrays, labels: DomainLabels) -> Callable[[Member], Sequence[int]]:
    """The domains that what a member sends gets to, its own first: those that it leaks to, too, and they."""
    joints = arrays.adjacencies
    leaks: dict[int, set[int]] = {}
    one_way = ~joints.mutual
    sources, targets = labels.of[joints.endpoint[one_way]].tolist(), labels.of[joints.target[one_way]].tolist()
    for source, target in zip(sources, targets, strict=True):
        leaks.setdefault(source, set()).add(target)

    def heard_in(member: Member) -> Sequence[int]:
        reached = [int(labels.of[arrays.endpoints[member.endpoint]])]
        for domain in reached:
            reached += [far for far in leaks.get(domain, ()) if far not in reached]
        return reached

    return heard_in
