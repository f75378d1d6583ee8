"""Filters of gateways that several share: each is to let pass what the others do, or who is active decides."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from archipelago.audit.redundancy import groups
from archipelago.diagnosis.faults.redundancy import interface_path
from archipelago.diagnosis.kind import ALWAYS, Example, Kind, finding
from archipelago.knowledge.elected import Member
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.filters import Filter
from archipelago.model.finding import Finding
from archipelago.proof.placing import naming, put, taken_away


def unlike_filters(index: NetworkIndex) -> Iterator[Finding]:
    """A finding for each member whose filters do otherwise than the active one's, with edits that mirror them; where
    the active one has none, those of the first that has."""
    told: set[tuple[str, str, bool]] = set()
    for members, active in index.once(groups):
        for inwards in (True, False):
            model = next((one for one in (active, *members) if _filter(index, one, inwards) is not None), None)
            for other in members if model is not None else ():
                place = (other.device, other.interface, inwards)
                if model is not None and place not in told and not _alike(index, model, other, inwards):
                    told.add(place)
                    yield _unlike(index, model, other, inwards)


def _filter(index: NetworkIndex, member: Member, inwards: bool) -> Filter | None:
    nic = index.knowledge.devices[member.device].nics[member.interface]
    return nic.filter_in if inwards else nic.filter_out


def _alike(index: NetworkIndex, one: Member, other: Member, inwards: bool) -> bool:
    first, second = _filter(index, one, inwards), _filter(index, other, inwards)
    if first is None or second is None:
        return first is second
    return first == replace(second, name=first.name)


MEMBERS_FILTER_DIFFERENTLY = Kind(
    "members-filter-differently",
    "risk",
    "a filter that one member of a virtual router has and the other lacks",
    "what may pass changes with who is active",
    ALWAYS,
    example=Example("pair", "devices: {core-2: {interfaces: {guests-gw: {filter-in: ~}}}}"),
)


def _unlike(index: NetworkIndex, model: Member, other: Member, inwards: bool) -> Finding:
    wanted, own = _filter(index, model, inwards), _filter(index, other, inwards)
    assert wanted is not None
    node = index.knowledge.devices[other.device]
    nic = node.nics[other.interface]
    alone = own is not None and own.name == wanted.name and len(naming(node, own)) == 1
    edits = put(index, node, nic, wanted, inwards=inwards, anew=alone)
    if own is not None and own.name != wanted.name:
        edits = (*edits, *(edit for edit in taken_away(node, nic, inwards=inwards) if edit.path[-1] == own.name))
    way = "in" if inwards else "out"
    has = "none" if own is None else f"another filter ({own.name})" if own.name != wanted.name else "other lines in it"
    return finding(
        MEMBERS_FILTER_DIFFERENTLY,
        at=other.device,
        path=(*interface_path(index, other), f"filter-{way}"),
        says=f"{model} has the filter {wanted.name} ({way}), and {other}, which shares its gateway, has {has}",
        mend=f"let {wanted.name} of {other.device} say what that of {model.device} says"
        if alone
        else f"put {wanted.name} at {other} too",
        edits=edits,
    )
