"""A policy as a table: what hosts of each VLAN may begin, and with whom."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from archipelago.errors import QueryError
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import know
from archipelago.knowledge.outside import with_outside
from archipelago.model.expectation import OUTSIDE
from archipelago.model.filters import Probe
from archipelago.model.network import Network
from archipelago.reachability.arrays import Bools
from archipelago.reachability.policy import Intent, probes_of
from archipelago.views.table import Table, counted, table

PART = " (some hosts)"


def summary(network: Network) -> str:
    """How many lines a policy has, and what holds where none says."""
    assert network.policy is not None
    return f"policy of {counted(len(network.policy.rules), 'line')}; otherwise {network.policy.otherwise}"


def policy(network: Network) -> Table:
    """What each VLAN may begin with each other, and with the outside; VLANs that it may the same with share a row.

    Raises:
        QueryError: the network has no policy, or something in it is called as the outside is.
    """
    if network.policy is None:
        raise QueryError("the network has no 'policy'; write who may talk to whom")
    wider, outside = with_outside(know(network))
    index = NetworkIndex(know(wider))
    hosts = tuple(wider.hosts)
    intent = Intent(index.knowledge, hosts, outside)
    names = {number: name for name, number in network.vlans.items()}
    members: dict[str, list[int]] = {name: [] for name in [*network.vlans, OUTSIDE]}
    for at, name in enumerate(hosts):
        vlan = int(intent.vlan[at])
        where = OUTSIDE if name in outside else names.get(vlan)
        if where is not None:
            members[where].append(at)
    members = {name: places for name, places in members.items() if places}
    probes = probes_of(network)
    some = np.arange(len(hosts))
    allowed = {probe: intent.decides(some, 4, probe)[0] for probe in probes}
    rows: list[tuple[str, str, str]] = []
    for source, ours in members.items():
        shared: dict[str, list[str]] = {}
        for target, theirs in members.items():
            if source != target:
                shared.setdefault(_may(allowed, ours, theirs), []).append(target)
        rows += [(source, may, ", ".join(targets)) for may, targets in shared.items()]
    return table("what may be begun", ("from", "may", "to"), rows)


def _may(allowed: Mapping[Probe, Bools], ours: list[int], theirs: list[int]) -> str:
    """What hosts of one place may begin with those of another."""
    whole = {probe: bool(grid[np.ix_(ours, theirs)].all()) for probe, grid in allowed.items()}
    part = {probe: bool(grid[np.ix_(ours, theirs)].any()) for probe, grid in allowed.items()}
    if all(whole.values()):
        return "any"
    if not any(part.values()):
        return "nothing"
    told = []
    for protocol in ("icmp", "tcp", "udp"):
        mine = [probe for probe in allowed if probe.protocol == protocol]
        if all(whole[probe] for probe in mine):
            told.append(protocol)
        else:
            told += [f"{_named(probe)}{'' if whole[probe] else PART}" for probe in mine if part[probe]]
    return ", ".join(told)


def _named(probe: Probe) -> str:
    return f"{probe} on" if probe.port == 1 else str(probe)
