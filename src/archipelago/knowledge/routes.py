"""Routing tables: which routes a device can use now, and which one comes first (RFC 1812 5.2.4)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from enum import StrEnum

from archipelago.addressing.values import WIDTHS, Address, Prefix, is_link_local
from archipelago.knowledge.devices import Nic, Node
from archipelago.model.parts import Device, Host, NextHop, Route
from archipelago.model.projection import Projection

READS = Projection(Network="devices hosts", Device="name routes gateway", Host="name gateway")
"""What routing tables are derived from, beside what devices and hosts know of themselves."""


@dataclass(frozen=True, slots=True)
class Entry:
    """A route that is in use. `next_hop` is None on a connected subnet; `route` is None there too."""

    prefix: Prefix
    interface: str
    next_hop: Address | None
    metric: int
    route: Route | None


class NextHopFault(StrEnum):
    """Why a next hop cannot be used."""

    OWN = "own"
    INTERFACE_DOWN = "interface-down"
    NOTHING_UP = "nothing-up"
    NOT_CONNECTED = "not-connected"


_FAULT_TEXTS = {
    NextHopFault.OWN: "next hop {hop} is the device itself",
    NextHopFault.INTERFACE_DOWN: "interface {hop.interface} is down",
    NextHopFault.NOTHING_UP: "no interface is up",
    NextHopFault.NOT_CONNECTED: "next hop {hop} is on no connected subnet that is up",
}


@dataclass(frozen=True, slots=True)
class Unused:
    """A static route or gateway that cannot be used now, and why."""

    route: Route
    fault: NextHopFault

    @property
    def reason(self) -> str:
        """Why, in words."""
        return _FAULT_TEXTS[self.fault].format(hop=self.route.next_hop)


@dataclass(frozen=True, slots=True)
class Table:
    """The routes of one family in one `vrf`: for each prefix length, longest first, the best entry of each prefix."""

    lengths: tuple[tuple[int, Mapping[int, Entry]], ...]
    broadcasts: frozenset[int]

    def lookup(self, value: int) -> Entry | None:
        """The entry with the longest prefix that holds the address (RFC 1812 5.2.4.3)."""
        for shift, entries in self.lengths:
            entry = entries.get(value >> shift)
            if entry is not None:
                return entry
        return None

    def exact(self, prefix: Prefix) -> Entry | None:
        """The entry of just this prefix."""
        shift = WIDTHS[prefix.version] - prefix.length
        entries = next((entries for width, entries in self.lengths if width == shift), {})
        return entries.get(prefix.value >> shift)

    def entries(self) -> list[Entry]:
        """Every entry in use, in the order of their addresses."""
        all_entries = [entry for _, entries in self.lengths for entry in entries.values()]
        return sorted(all_entries, key=lambda entry: (entry.prefix.version, entry.prefix.value, entry.prefix.length))


@dataclass(frozen=True, slots=True)
class DeviceRoutes:
    """All tables of a device by (`vrf`, family), which interface holds each address (`vrf`, family, value), what
    cannot be used, and what is shadowed by a better route to the same prefix."""

    tables: Mapping[tuple[str, int], Table]
    held: Mapping[tuple[str, int, int], str]
    unused: tuple[Unused, ...]
    shadowed: tuple[Route, ...]


HeldName = tuple[str, int, int]
"""An address in a routing table: the `vrf`, the family and the value."""


def routes_of(node: Node, written: Device | Host, answering: Mapping[HeldName, str] | None = None) -> DeviceRoutes:
    """The tables of a device or host, as it knows itself and as it is written. A gateway serves the families that it
    does not route. `answering` are shared addresses that it answers for, which are no next hops of its own."""
    gateways = [hop for hop in written.gateway if hop.address.version not in node.forwards]
    static = written.routes if isinstance(written, Device) else ()
    return device_routes(node.nics.values(), static, gateways, answering or {})


def device_routes(
    nics: Iterable[Nic], static: Iterable[Route], gateways: Iterable[NextHop], answering: Mapping[HeldName, str]
) -> DeviceRoutes:
    """Build the tables. Connected routes need their interface up; a static route, or a gateway (a default route that
    comes after all others), needs its next hop on a connected subnet that is up, and not the device itself.

    Among equal prefixes a connected route wins, then the lower metric, then the first written.
    """
    up = [nic for nic in nics if nic.up]
    by_table: dict[tuple[str, int], dict[Prefix, Entry]] = {}
    owners: dict[HeldName, str] = dict(answering)
    broadcasts: dict[tuple[str, int], set[int]] = {}
    for nic in up:
        for address in nic.addresses:
            owners.setdefault((nic.vrf, address.version, address.value), nic.name)
            if is_link_local(address):
                continue
            prefix = address.prefix
            key = (nic.vrf, address.version)
            by_table.setdefault(key, {}).setdefault(prefix, Entry(prefix, nic.name, None, 0, None))
            if prefix.reserved_ends():
                broadcasts.setdefault(key, set()).update((prefix.value, prefix.last))
    connected = {key: table(entries, ()) for key, entries in by_table.items()}
    unused: list[Unused] = []
    shadowed: list[Route] = []
    by_name = {nic.name: nic for nic in up}
    wanted = [*static, *(Route(Prefix(hop.address.version, 0, 0), hop) for hop in gateways)]
    for route in sorted(wanted, key=lambda route: route.metric):
        key = (route.vrf or "", route.destination.version)
        towards = _towards(route, key, connected.get(key), owners, by_name)
        if isinstance(towards, NextHopFault):
            unused.append(Unused(route, towards))
        elif route.destination in by_table.setdefault(key, {}):
            shadowed.append(route)
        else:
            entry = Entry(route.destination, towards, route.next_hop.address, route.metric, route)
            by_table[key][route.destination] = entry
    tables = {key: table(entries, broadcasts.get(key, ())) for key, entries in by_table.items()}
    return DeviceRoutes(tables, owners, tuple(unused), tuple(shadowed))


def _towards(
    route: Route,
    key: tuple[str, int],
    connected: Table | None,
    owners: Mapping[tuple[str, int, int], str],
    up: Mapping[str, Nic],
) -> str | NextHopFault:
    """The interface that a static route leaves by, or why it cannot be used."""
    hop = route.next_hop
    if (*key, hop.address.value) in owners:
        return NextHopFault.OWN
    if hop.interface is not None:
        nic = up.get(hop.interface)
        return nic.name if nic and nic.vrf == key[0] else NextHopFault.INTERFACE_DOWN
    if is_link_local(hop.address):
        able = [nic.name for nic in up.values() if nic.vrf == key[0]]
        return able[0] if able else NextHopFault.NOTHING_UP
    entry = connected.lookup(hop.address.value) if connected else None
    return NextHopFault.NOT_CONNECTED if entry is None else entry.interface


def table(entries: Mapping[Prefix, Entry], broadcasts: Iterable[int]) -> Table:
    """Arrange the best entries by prefix length for lookup."""
    lengths: dict[int, dict[int, Entry]] = {}
    for prefix, entry in entries.items():
        shift = WIDTHS[prefix.version] - prefix.length
        lengths.setdefault(shift, {})[prefix.value >> shift] = entry
    return Table(tuple(sorted(lengths.items())), frozenset(broadcasts))
