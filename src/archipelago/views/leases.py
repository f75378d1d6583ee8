"""Leases as tables: what each host was given and by whom, and what each pool has given."""

from __future__ import annotations

from collections import Counter
from collections.abc import ItemsView, Iterator, KeysView, Mapping
from dataclasses import dataclass
from typing import Any

from archipelago.diagnosis.no_lease import no_lease
from archipelago.diagnosis.places import plugged_vlan
from archipelago.knowledge.hearing import Lease
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.leases import duration_text
from archipelago.views.face import Face
from archipelago.views.schema import TEXT, maybe, named, record
from archipelago.views.table import Table, counted, table
from archipelago.views.view import View

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


@dataclass(frozen=True, slots=True, repr=False, eq=False)
class Leases(View):
    """What every host that asks is leased, by its name; None for one that gets nothing."""

    SHOWN = "leases.LEASES"

    given: Mapping[str, Mapping[str, str | None] | None]

    def __getitem__(self, host: str) -> Mapping[str, str | None] | None:
        return self.given[host]

    def __iter__(self) -> Iterator[str]:
        return iter(self.given)

    def __len__(self) -> int:
        return len(self.given)

    def keys(self) -> KeysView[str]:
        """The hosts that ask."""
        return self.given.keys()

    def items(self) -> ItemsView[str, Mapping[str, str | None] | None]:
        """The hosts that ask, each with what it is leased."""
        return self.given.items()

    def get(self, host: str) -> Mapping[str, str | None] | None:
        """What a host is leased; None for one that gets nothing or does not ask."""
        return self.given.get(host)

    def __eq__(self, other: object) -> bool:
        return self.given == (other.given if isinstance(other, Leases) else other)

    def __hash__(self) -> int:
        return hash(tuple(self.given))

    def __bool__(self) -> bool:
        return None not in self.given.values()


def look(index: NetworkIndex) -> Leases:
    """What every host that asks is leased."""
    given = {name: _values(lease) for name, lease in index.knowledge.leases.given.items()}
    return Leases(summary(index), tuple(table for table in tables(index) if table.rows), given)


def _values(lease: Lease | None) -> dict[str, str | None] | None:
    if lease is None:
        return None
    gateway = str(lease.pool.gateway) if lease.pool.gateway is not None else None
    return {"address": str(lease.address), "gateway": gateway, "server": lease.server, "relay": lease.relay}


def _vlan(index: NetworkIndex, name: str) -> str:
    vlan = plugged_vlan(index.knowledge, index.knowledge.written.hosts[name])
    return index.vlan_name(vlan) if vlan is not None else ""


_LEASE = record(
    address=TEXT("with the prefix length"),
    gateway=maybe(TEXT),
    server=TEXT("a device or host"),
    relay=maybe(TEXT)("DEVICE/INTERFACE; null where the server is in the host's own VLAN"),
)


def _rows(found: Leases) -> list[dict[str, Any]]:
    nothing = dict.fromkeys(("address", "gateway", "server", "relay"))
    return [{"host": host, **(lease or nothing)} for host, lease in found.items()]


LEASES = Face(
    name="leases",
    verb="view",
    shape=named(maybe(_LEASE)("null: it gets nothing")),
    values=lambda found: dict(found.given),
    tables=lambda found: found.shown,
    rows=_rows,
)
