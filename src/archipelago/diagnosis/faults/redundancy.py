"""Findings about the spanning tree and about gateways that several devices share."""

from __future__ import annotations

from collections.abc import Sequence

from archipelago.addressing.values import Address
from archipelago.diagnosis.kind import OFTEN, Example, Kind, finding
from archipelago.diagnosis.places import nic_path
from archipelago.knowledge.elected import Member
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Edit, Finding
from archipelago.model.parts import Path, Route
from archipelago.model.virtual import Track


def member_path(index: NetworkIndex, member: Member) -> Path:
    """Where a member's part in a virtual router stands in the document, whether one alone is written or a list."""
    path = (*interface_path(index, member), "virtual")
    numbered = (*path, member.number)
    marks = index.network.marks
    beside = [one for one in index.knowledge.elected.members(member.device) if one.interface == member.interface]
    listed = numbered in marks if path in marks else len(beside) > 1
    return numbered if listed else path


def interface_path(index: NetworkIndex, member: Member) -> Path:
    """Where a member's interface stands in the document."""
    node = index.knowledge.devices[member.device]
    return nic_path((node, node.nics[member.interface]))


def tracked(track: Sequence[Track]) -> list[dict[str, str]]:
    """What a member tracks, as a document holds it."""
    return [
        ({"interface": one.interface} if one.interface else {"network": str(one.network)})
        | {"priority-decrement": str(one.priority_decrement)}
        for one in track
    ]


def addresses_text(member: Member) -> str:
    """The addresses that a member shares, in words."""
    return ", ".join(map(str, member.written.addresses))


MEMBERS_ROUTE_DIFFERENTLY = Kind(
    "members-route-differently",
    "risk",
    "a route that one member of a pair has and the other lacks",
    "{destination} is out of reach {when}",
    OFTEN,
    example=Example("pair", "devices: {core-1: {routes: [{destination: 0.0.0.0/0, next-hop: 10.44.9.0}]}}"),
)


def routes_differ(have: str, lacks: str, route: Route, hop: Address | None, how: str = "", when: str = "") -> Finding:
    """A route that one of a pair lacks; or of two ways to one destination one, `how` says which, and `when` the other
    is not enough."""
    path: Path = ("devices", lacks, "routes")
    value = {"destination": str(route.destination), "next-hop": str(hop)}
    if route.metric != 1:
        value["metric"] = str(route.metric)
    if route.vrf:
        value["vrf"] = route.vrf
    what = f"way to {route.destination} {how}" if how else f"route to {route.destination}"
    add = f"add a route to {route.destination} via {hop} on {lacks}"
    return finding(
        MEMBERS_ROUTE_DIFFERENTLY,
        at=lacks,
        path=path,
        says=f"{lacks} has no {what}, and {have}, which shares gateways with it, has",
        mend=add if hop is not None else f"give {lacks} a way to {route.destination}",
        edits=(Edit((*path, "+"), value),) if hop is not None else (),
        destination=route.destination,
        when=when or f"once {lacks} is active",
    )


# Takeovers
