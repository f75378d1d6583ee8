"""A network with few hosts in place of many: those that fare alike whatever breaks stand for each other."""

from __future__ import annotations

from collections import Counter
from contextlib import suppress
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from archipelago.errors import QueryError
from archipelago.knowledge.known import Knowledge, know
from archipelago.knowledge.outside import widened
from archipelago.model.ends import ANYBODY, GATEWAY
from archipelago.model.network import Network, with_changes
from archipelago.model.parts import Device, End
from archipelago.reachability.arrays import Ints
from archipelago.reachability.build import build_arrays
from archipelago.reachability.parties import Parties


class FewHosts(NamedTuple):
    """A network, and how many hosts each of its hosts stands for, by name (1 where it is not there)."""

    network: Network
    stands_for: dict[str, int]


def with_few_hosts(network: Network) -> FewHosts:
    """The network with two hosts for all that are of one class, with or without carrier, and that expectations and
    policy name alike: no failure of a device, cable or interface tells them apart. Where hosts learn addresses all
    stay, since what a server leases to one hangs on the others."""
    knowledge = know(network)
    if knowledge.any_learning:
        return FewHosts(network, {})
    arrays = build_arrays(widened(knowledge))
    alone = {host for family in arrays.families.values() for host, _, _ in family.duplicate_addresses}
    alone |= {other for family in arrays.families.values() for _, other, _ in family.duplicate_addresses}
    down = arrays.down.astype(np.int64)
    columns = np.stack([arrays.host_class, down, *_named(arrays.knowledge, arrays.hosts)])
    _, alike = np.unique(columns, axis=1, return_inverse=True)
    seen: Counter[int] = Counter()
    first: dict[int, str] = {}
    stands_for: dict[str, int] = {}
    for place, (name, group) in enumerate(zip(arrays.hosts, alike.reshape(-1).tolist(), strict=True)):
        if name not in network.hosts or place in alone:
            stands_for[name] = 1
            continue
        seen[group] += 1
        if seen[group] <= 2:
            stands_for[name] = 1
            first.setdefault(group, name)
        else:
            stands_for[first[group]] += 1
    hosts = {name: host for name, host in network.hosts.items() if name in stands_for}
    gone = {host.at for name, host in network.hosts.items() if name not in stands_for}
    devices = {name: _without_ports(device, gone) for name, device in network.devices.items()}
    few = with_changes(network, devices=devices, hosts=hosts, marks={})
    return FewHosts(few, {name: many for name, many in stands_for.items() if many > 1})


def _without_ports(device: Device, gone: set[End]) -> Device:
    """A device without the ports that only hosts were at which others stand for."""
    ports = {name: port for name, port in device.ports.items() if End(device.name, name) not in gone}
    return replace(device, ports=ports) if len(ports) < len(device.ports) else device


def _named(knowledge: Knowledge, hosts: tuple[str, ...]) -> list[Ints]:
    """For each end that expectations or the policy name, which hosts it stands for."""
    network = knowledge.network
    ends = {end for expectation in network.expect for end in (expectation.source, expectation.target)}
    if network.policy is not None:
        ends |= {end for rule in network.policy.rules for end in (*rule.source, *rule.target)}
    parties = Parties(knowledge, hosts, ())
    columns = []
    for end in sorted(ends - {ANYBODY, GATEWAY}):
        column = np.zeros(len(hosts), dtype=np.int64)
        with suppress(QueryError):  # told by whoever asks for what is expected
            column[parties.hosts(end)] = 1
        columns.append(column)
    return columns
