"""What does the work of what is broken: ports that were blocked, members that were backups, routes not used before."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import groupby

from archipelago.addressing.values import Address, Prefix
from archipelago.failures.result import Takeover, named
from archipelago.knowledge.forwarding import ForwardingState, route_to
from archipelago.knowledge.known import Knowledge
from archipelago.knowledge.outside import ways_outside
from archipelago.knowledge.routes import Entry
from archipelago.model.ends import OUTSIDE
from archipelago.reachability.answering import active_members
from archipelago.reachability.arrays import NetworkArrays


def takeovers(before: NetworkArrays, after: NetworkArrays) -> tuple[Takeover, ...]:
    """What does after a failure what it did not do before."""
    return (*_gateways(before, after), *_ports(before.knowledge, after.knowledge), *_routes(before, after.knowledge))


def _gateways(before: NetworkArrays, after: NetworkArrays) -> Iterator[Takeover]:
    """Who is active now for shared gateways and was not."""
    if not after.knowledge.elected.any:
        return
    was = {(member.device, member.interface, member.router) for member in active_members(before)}
    now = [member for member in active_members(after) if (member.device, member.interface, member.router) not in was]
    now.sort(key=lambda member: (member.place, member.number))
    for device, members in groupby(now, key=lambda member: member.device):
        interfaces = list(dict.fromkeys(member.interface for member in members))
        yield Takeover(device, f"is active on {named(interfaces)}")


def _ports(before: Knowledge, after: Knowledge) -> Iterator[Takeover]:
    """Ports that the spanning tree blocked, and halves of shared aggregates that waited, which forward now."""
    was, now = before.devices.tree, after.devices.tree
    for device in {**was.blocked, **was.waiting}:
        attachments = after.devices[device].attachments
        for port in sorted(was.idle_at(device) - now.idle_at(device)):
            if attachments[port].passes:
                yield Takeover(device, f"forwards on {port}")


def _routes(before: NetworkArrays, after: Knowledge) -> Iterator[Takeover]:
    """Static routes whose place another route takes. What a wider one sends outside instead is lost, not taken over."""
    place = {name: number for number, name in enumerate(after.devices)}
    outside = _beyond(after)
    for name in sorted(after.derived, key=place.__getitem__):
        if after.devices[name].off or not after.devices[name].forwards:
            continue
        now = after.state(name)
        changed: dict[str, list[Prefix]] = {}
        for (vrf, _), table in before.knowledge.routes(name).tables.items():
            for entry in table.entries():
                instead = _instead(entry, now, vrf) if entry.route is not None else None
                if instead is None or (instead.next_hop in outside and instead.prefix != entry.prefix):
                    continue
                by = str(instead.next_hop) if instead.next_hop is not None else f"{instead.interface} itself"
                changed.setdefault(by, []).append(entry.prefix)
        for by, prefixes in changed.items():
            yield Takeover(name, f"sends to {named(prefixes)} by {by}")


def _instead(entry: Entry, now: ForwardingState, vrf: str) -> Entry | None:
    """By which route packets go now that went by another; None where it is used as before, or nothing is."""
    found = route_to(now, Address(entry.prefix.version, entry.prefix.value), vrf)
    if found is None or (found.next_hop, found.interface) == (entry.next_hop, entry.interface):
        return None
    return found


def _beyond(knowledge: Knowledge) -> frozenset[Address]:
    """The next hops that lead outside: beyond ports that nothing is plugged into, and what stands for the outside."""
    hops = {hop for _, _, beyond in ways_outside(knowledge) for hop in beyond.values()}
    host = knowledge.written.hosts.get(OUTSIDE)
    upstream = knowledge.nodes[host.at.device].nics.values() if host is not None else ()
    return frozenset({*hops, *(own.address for nic in upstream for own in nic.addresses)})
