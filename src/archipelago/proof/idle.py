"""Filters that no traffic comes to: the classic after a gateway has moved to another device."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from archipelago.design.filter_lines import ANY_ANSWER
from archipelago.diagnosis.kind import OFTEN, Example, Kind, finding
from archipelago.errors import DocumentError, EditError
from archipelago.files.amended import Amendable
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge, know
from archipelago.model.filters import Filter
from archipelago.model.finding import Edit, Finding
from archipelago.model.network import Network
from archipelago.model.parts import Device, Path
from archipelago.proof.placing import Edits, entrances, put, taken_away, wanted_filters
from archipelago.proof.policy import breaches_of, worse
from archipelago.proof.promise import newly_broken
from archipelago.reachability.engine import decide
from archipelago.reachability.widened import widened_of

Where = tuple[str, str, bool]
"""A device, an interface, and whether a filter sees there what comes in."""


def idle_filters(index: NetworkIndex) -> Iterator[Finding]:
    """A finding for each filter at an interface that nothing comes to which hosts, or the outside, send each other;
    where the traffic passes another interface, with edits that move the filter there."""
    for device, interface, inwards in _idle(index):
        node = index.knowledge.devices[device]
        nic = node.nics[interface]
        filter_ = nic.filter_in if inwards else nic.filter_out
        elected = index.knowledge.elected
        waits = any(one.interface == interface and not elected.active(one) for one in elected.members(device))
        if filter_ is None or not nic.up or waits:  # a backup's is for the day when it is active
            continue
        there = _passes(index, node, nic)
        if there is None and nic.vlan is not None and not _has_talk(index, nic):  # it is for the day when there is
            continue
        passes = f"{there[0].name}/{there[1].name}" if there else ""
        edits = _moved(index, (node, nic, inwards), filter_, there) if there else ()
        yield filter_idle((node, interface, "in" if inwards else "out"), filter_, passes, edits)


FILTER_IDLE = Kind(
    "filter-idle",
    "risk",
    "a filter where no traffic between hosts, or with the outside, passes",
    "what it is to keep out passes elsewhere",
    OFTEN,
    example=Example(
        "pair",
        """
        devices:
          edge:
            ports:
              p2: {filter-in: shore-in}
            filters:
              shore-in:
                rules:
                - {drop: tcp/23}
                otherwise: accept
        """,
    ),
)


def filter_idle(
    where: tuple[Node, str, str], filter_: Filter, passes: str = "", edits: tuple[Edit, ...] = ()
) -> Finding:
    """A filter that no traffic comes to, at an interface, on its way in or out; `passes` is the interface where the
    traffic passes instead, `edits` what moves it there."""
    node, interface, way = where
    section = "interfaces" if isinstance(node.written, Device) and interface in node.written.interfaces else "ports"
    path: Path = ("devices", node.name, section, interface, f"filter-{way}")
    says = f"nothing that hosts send comes to filter {filter_.name} at {node.name}/{interface} ({way})"
    mend = f"move it to {passes}" if edits else "put it where the traffic passes"
    mend = mend if edits else f"{mend}, at {passes}, or remove it" if passes else f"{mend}, or remove it"
    return finding(FILTER_IDLE, at=node.name, path=path, says=says, mend=mend, edits=edits)


def _idle(index: NetworkIndex) -> list[Where]:
    """Where filters sit that no traffic comes to."""
    if not any(device.filters for device in index.network.devices.values()):
        return []
    arrays = widened_of(index).arrays
    met: set[Where] = set()
    every: dict[Where, None] = {}
    for version in arrays.families:
        crossings = decide(arrays, version).crossings
        if crossings is not None:
            seen = crossings.seen()
            for number, guard in enumerate(crossings.guards.every):
                place = guard.device, guard.interface, guard.inwards
                every[place] = None
                if number in seen:
                    met.add(place)
    return [place for place in every if place not in met]


def _has_talk(index: NetworkIndex, nic: Nic) -> bool:
    """Whether there are hosts in an interface's subnets, and others that they could talk to by it."""
    own = {address.prefix for address in nic.addresses}
    every = {address.prefix for host in index.knowledge.network.hosts.values() for address in host.addresses}
    return bool(own & every) and (bool(every - own) or bool(index.network.outside))


def _passes(index: NetworkIndex, node: Node, nic: Nic) -> tuple[Node, Nic] | None:
    """The interface by which hosts of an interface's own subnets send their traffic instead."""
    subnets = {address.prefix for address in nic.addresses}
    gateways = {
        hop.address
        for host in index.knowledge.network.hosts.values()
        if any(address.prefix in subnets for address in host.addresses)
        for hop in host.gateway
    }
    for gateway in sorted(gateways):
        for holder in index.holders(gateway):
            if holder.node.kind != "host" and (holder.node.name, holder.nic.name) != (node.name, nic.name):
                return holder.node, holder.nic
    return None


def _moved(index: NetworkIndex, old: tuple[Node, Nic, bool], filter_: Filter, there: tuple[Node, Nic]) -> Edits:
    """The edits that move a filter; none where another is there, or where it would see nothing, let through what the
    policy forbids, or break what is expected."""
    node, nic, inwards = old
    to, at = there
    if (at.filter_in if inwards else at.filter_out) is not None:
        return ()
    moved = filter_
    if filter_.stateful and to.kind != "router":
        moved = replace(filter_, stateful=False, rules=(*ANY_ANSWER, *filter_.rules))
    if index.network.policy is not None:
        wanted = wanted_filters(index, entrances(index)).get((to.name, at.name, inwards))
        if wanted is not None and wanted.filter is not None:
            moved = replace(wanted.filter, name=filter_.name)
    edits = (*put(index, to, at, moved, inwards=inwards), *taken_away(node, nic, inwards=inwards))
    try:
        after = know(Amendable(index.knowledge.written).with_edits(edits))
    except (EditError, DocumentError):
        return ()
    idle = (to.name, at.name, inwards) in _idle(NetworkIndex(after))
    return () if idle or _breaks(index.knowledge, after) else edits


def _breaks(before: Knowledge, after: Knowledge) -> bool:
    """Whether a change breaks what is expected, or leaves more that the policy forbids, or less of what it allows."""
    if newly_broken(before, after):
        return True
    return _has_policy(after.written) and worse(breaches_of(before), breaches_of(after))


def _has_policy(network: Network) -> bool:
    return network.policy is not None
