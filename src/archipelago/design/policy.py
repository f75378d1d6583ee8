"""Filters that carry out a policy: one where each VLAN, and the outside, comes in at its gateway; where it goes out to
its target instead, where that saves lines."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace
from typing import Any

from archipelago.design.entrances import Entrance
from archipelago.design.fewest import fewest
from archipelago.design.filter_lines import Line, Wanted
from archipelago.design.incoming import Incoming
from archipelago.design.outgoing import Outgoing, worth_guarding
from archipelago.design.policy_ends import Ends
from archipelago.model.filters import Filter
from archipelago.model.network import Network, with_changes
from archipelago.model.parts import Device, Loopback
from archipelago.model.policy import Policy


def filters_for(network: Network, policy: Policy, entrances: Sequence[Entrance]) -> list[Wanted]:
    """What a policy wants at each entrance of a network, of what comes in there and of what goes out.

    Args:
        network: the network.
        policy: who may begin what with whom.
        entrances: where each VLAN, and the outside, comes in.
    """
    return min(ways_to_filter(network, policy, entrances), key=_lines)


def ways_to_filter(network: Network, policy: Policy, entrances: Sequence[Entrance]) -> list[list[Wanted]]:
    """What a policy wants where packets come in alone; and, where that can save lines, where they go out, too."""
    ends = Ends(network, policy, entrances)
    guarded = worth_guarding(ends, entrances)
    return [_filters(ends, entrances, some) for some in dict.fromkeys((frozenset[str](), guarded))]


def _filters(ends: Ends, entrances: Sequence[Entrance], guarded: frozenset[str]) -> list[Wanted]:
    incoming, outgoing = Incoming(ends, guarded), Outgoing(ends)
    made = []
    for entrance in entrances:
        stateful = ends.network.devices[entrance.at.device].kind == "router"
        made.append(_short(incoming.wanted(entrance, stateful)))
        if entrance.who in guarded:
            made.append(_short(outgoing.wanted(entrance, stateful)))
    return made


def _short(wanted: Wanted) -> Wanted:
    """The same with as few lines as say it."""
    if wanted.filter is None:
        return wanted
    lines = fewest(list(map(Line, wanted.filter.rules, wanted.serves)), wanted.filter.otherwise)
    made = replace(wanted.filter, rules=tuple(line.rule for line in lines))
    return replace(wanted, filter=made, serves=tuple(line.serves for line in lines))


def _lines(wanted: Iterable[Wanted]) -> int:
    """How many lines filters have, with what they do otherwise."""
    return sum(1 + len(one.filter.rules) for one in wanted if one.filter is not None)


def with_filters(network: Network, wanted: Iterable[Wanted]) -> Network:
    """The network with filters at its entrances."""
    devices = dict(network.devices)
    for one in wanted:
        if one.filter is not None:
            device = one.entrance.at.device
            devices[device] = _placed(devices[device], one, one.filter)
    return with_changes(network, devices=devices)


def _placed(device: Device, wanted: Wanted, filter_: Filter) -> Device:
    """The device with a filter that sees what comes in by an interface, or goes out."""
    ports, interfaces = dict(device.ports), dict(device.interfaces)
    interface = wanted.entrance.at.port
    named: dict[str, Any] = {"filter_in" if wanted.inwards else "filter_out": filter_.name}
    if interface in interfaces:
        part = interfaces[interface]
        assert not isinstance(part, Loopback)
        interfaces[interface] = replace(part, **named)
    else:
        ports[interface] = replace(ports[interface], **named)
    return replace(device, ports=ports, interfaces=interfaces, filters={**device.filters, filter_.name: filter_})
