"""Leases as tables: what each host was given and by whom, and what each pool has given."""

from __future__ import annotations

from collections import Counter

from archipelago.diagnosis.no_lease import no_lease
from archipelago.diagnosis.places import plugged_vlan
from archipelago.knowledge.hearing import Lease
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.leases import duration_text
from archipelago.views.table import Table, counted, table

OWN = "in its VLAN"


def summary(index: NetworkIndex) -> str:
    """How many hosts ask, and how many were given something."""
    given = index.knowledge.leases.given
    leased = sum(lease is not None for lease in given.values())
    servers = counted(len(index.knowledge.leases.servers), "server")
    without = f"; {counted(len(given) - leased, 'host')} without" if leased < len(given) else ""
    return f"{leased:,} of {counted(len(given), 'host')} that ask have a lease, from {servers}{without}"


def tables(index: NetworkIndex) -> list[Table]:
    """The hosts without a lease and why, the pools, the leases."""
    return [missing(index), pools(index), leases(index)]


def missing(index: NetworkIndex) -> Table:
    """The hosts that were given nothing, and what mends that."""
    rows = []
    for name, lease in index.knowledge.leases.given.items():
        if lease is None:
            why = no_lease(index, index.knowledge.nodes[name])
            rows.append((name, _vlan(index, name), why.at, why.says, why.mend))
    return table("hosts without a lease", ("host", "VLAN", "at", "because", "mend"), rows, least=("VLAN",))


def leases(index: NetworkIndex) -> Table:
    """What each host was given."""
    rows = []
    for name, lease in index.knowledge.leases.given.items():
        if lease is not None:
            rows.append(
                (
                    name,
                    _vlan(index, name),
                    lease.address,
                    lease.pool.gateway or "none",
                    ", ".join(map(str, lease.pool.dns_server)),
                    lease.server,
                    lease.pool.name,
                    lease.relay or OWN,
                    duration_text(lease.pool.lease_time),
                )
            )
    columns = ("host", "VLAN", "address", "gateway", "name server", "server", "pool", "by the relay", "for")
    return table("leases", columns, rows, least=("for", "name server", "pool"))


def pools(index: NetworkIndex) -> Table:
    """Each pool, and how much of it is given."""
    known = index.knowledge.leases
    given = Counter((lease.server, lease.pool.name) for lease in known.given.values() if lease is not None)
    rows = []
    for server in known.servers:
        for pool in known.pools_of(server).values():
            size = sum(part.size for part in pool.ranges)
            rows.append(
                (
                    server,
                    pool.name,
                    pool.subnet,
                    ", ".join(map(str, pool.ranges)),
                    pool.gateway or "none",
                    given[server, pool.name],
                    size,
                    len(pool.reservations),
                )
            )
    columns = ("server", "pool", "subnet", "range", "gateway", "given", "addresses", "reserved")
    return table("pools", columns, rows, ("given", "addresses", "reserved"))


def values(index: NetworkIndex) -> dict[str, dict[str, str | None] | None]:
    """Each host that asks, with what it was given, as `--json` prints it."""
    return {name: _values(lease) for name, lease in index.knowledge.leases.given.items()}


def _values(lease: Lease | None) -> dict[str, str | None] | None:
    if lease is None:
        return None
    gateway = str(lease.pool.gateway) if lease.pool.gateway is not None else None
    return {"address": str(lease.address), "gateway": gateway, "server": lease.server, "relay": lease.relay}


def _vlan(index: NetworkIndex, name: str) -> str:
    vlan = plugged_vlan(index.knowledge, index.knowledge.written.hosts[name])
    return index.vlan_name(vlan) if vlan is not None else ""
