"""The network in arrays: what is the same whatever is asked, and what a part switched off changes of it.

A *foot* is a place that frames reach: a VLAN on a device, or an interface. A *bunch* is hosts of one device that are
plugged in and set up alike, so far as any table of the network can tell their addresses apart. A *place* is something
with a routing table: a routing device (once for each of its `vrf`), then each bunch.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from archipelago.addressing.values import Prefix, is_link_local, source_for
from archipelago.knowledge.devices import Knowledge, Node, host_node, know_again, speaks_ipv6
from archipelago.knowledge.domains import Foot, host_foot, joints
from archipelago.knowledge.routes import Entry
from archipelago.model.network import End, Host, Network

Ints = NDArray[np.int64]
Bools = NDArray[np.bool_]
NOWHERE = -1
"""The foot of a host whose port takes in no untagged frame."""
CONNECTED, MUTE = -1, -2
"""In place of a next hop: the target itself is asked for; the interface cannot send."""


@dataclass(frozen=True, slots=True)
class Joints:
    """Which feet frames pass between: from `foot` to `target`, sent by one device and heard by another (numbers);
    `mutual` where they pass back as well, and of the two of a mutual pair one is `first`."""

    foot: Ints
    target: Ints
    sender: Ints
    hearer: Ints
    mutual: Bools
    first: Bools


@dataclass(frozen=True, slots=True)
class Holders:
    """Who holds each next hop: the hop's number, the foot (of a device's interface), the place that forwards there
    (-1: it does not forward), and the host (its number; -1: a device)."""

    hop: Ints
    foot: Ints
    place: Ints
    host: Ints


@dataclass(frozen=True, slots=True)
class Entries:
    """Every route in use, of devices and of bunches: whose it is, the first and last piece of the address space that
    it covers, its prefix length, the foot it leaves by (a bunch's own foot is not written here), and the number of
    its next hop. `written` has each as the device knows it."""

    place: Ints
    first: Ints
    last: Ints
    length: Ints
    foot: Ints
    hop: Ints
    written: NDArray[np.object_]


@dataclass(frozen=True, slots=True)
class Sign:
    """What a host's addresses look like from outside: the piece that each lies in, the one that is probed first; and
    for each prefix, in the order written, which address speaks to it, and its pieces."""

    pieces: tuple[int, ...]
    speaks: tuple[tuple[int, int, int], ...]


@dataclass(frozen=True, slots=True)
class Family:
    """What one address family adds. `cuts` are where the pieces of the address space start; `rows` are the routing
    devices' tables; `sign` gives each bunch the number of its sign (-1: it has no address of the family). `deaf` are
    a place and a piece: a broadcast address that it forwards nothing to. `twice` are hosts with an address that
    somebody else holds too: (host, the other host or -1, the other's foot)."""

    version: int
    cuts: tuple[int, ...]
    rows: Mapping[tuple[str, str], int]
    sign: Ints
    signs: tuple[Sign, ...]
    hops: Mapping[int, int]
    holders: Holders
    entries: Entries
    deaf: Ints
    twice: tuple[tuple[int, int, int], ...]


@dataclass(frozen=True, slots=True)
class Fabric:
    """A network in arrays. `bunch` gives each host its bunch, `likeness` each bunch one of its hosts, `stands` its
    foot and `device` its device; `down` says that a host has no carrier; `up` that a device's interface is up."""

    knowledge: Knowledge
    hosts: tuple[str, ...]
    device_number: Mapping[str, int]
    feet: Mapping[Foot, int]
    up: Bools
    joints: Joints
    bunch: Ints
    down: Bools
    likeness: tuple[str, ...]
    stands: Ints
    device: Ints
    families: Mapping[int, Family]


def weave(knowledge: Knowledge) -> Fabric:
    """Put what every device knows into arrays; time and memory grow with devices, VLANs and hosts, not with pairs."""
    network = knowledge.network
    number = {name: index for index, name in enumerate(knowledge.devices)}
    feet: dict[Foot, int] = {}
    for node in knowledge.devices.values():
        for foot in _feet_of(node):
            feet.setdefault(foot, len(feet))
    versions = [
        version
        for version in (4, 6)
        if any(held.version == version for host in network.hosts.values() for held in host.addresses)
    ]
    repeated = {version: _repeated(knowledge, version) for version in versions}
    cuts = {version: _cuts(knowledge, version, repeated[version]) for version in versions}
    bunch, likeness, looks = _bunches(knowledge, cuts)
    up = np.zeros(len(feet), dtype=np.bool_)
    _raise(up, knowledge.devices.values(), feet)
    return Fabric(
        knowledge,
        tuple(network.hosts),
        number,
        feet,
        up,
        _joints(_sent(knowledge, number), feet, number),
        bunch,
        np.fromiter((_down(knowledge, host) for host in network.hosts.values()), np.bool_, len(bunch)),
        likeness,
        np.array([_host_foot(knowledge, network.hosts[name].at, feet) for name in likeness], dtype=np.int64),
        np.array([number[network.hosts[name].at.device] for name in likeness], dtype=np.int64),
        {
            version: _family(
                knowledge, version, cuts[version], repeated[version], feet, likeness, [look[at] for look in looks]
            )
            for at, version in enumerate(versions)
        },
    )


def weave_again(before: Fabric, network: Network, touched: Collection[str]) -> Fabric:
    """The arrays once parts are switched off, made anew only where the devices touched have a say.

    Args:
        before: the arrays of the network with everything as it was.
        network: the same network, other parts off.
        touched: every device that holds such a part or faces one.
    """
    knowledge = know_again(before.knowledge, network, frozenset(touched))
    if any(knowledge.network.hosts[one.name] != one for one in before.knowledge.network.hosts.values() if one.auto):
        return weave(knowledge)  # hosts hear other routers now
    network = knowledge.network
    number, feet = before.device_number, before.feet
    mine = np.zeros(len(number) + 1, dtype=np.bool_)
    mine[[number[name] for name in touched]] = True
    near = {
        far.device for name in touched for port in knowledge.ports[name] if (far := _far_end(knowledge, name, port))
    }
    old = before.joints
    kept = ~(mine[old.sender] | mine[old.hearer])
    again = _joints(_sent(knowledge, [*touched, *(near - set(touched))], frozenset(touched)), feet, number)
    joined = Joints(*(np.concatenate((a[kept], b)) for a, b in zip(_columns(old), _columns(again), strict=True)))
    up = before.up.copy()
    _raise(up, (knowledge.devices[name] for name in touched), feet)
    stands = before.stands.copy()
    for one in np.flatnonzero(mine[before.device]):
        stands[one] = _host_foot(knowledge, network.hosts[before.likeness[one]].at, feet)
    down = before.down.copy()
    places = np.flatnonzero(mine[before.device][before.bunch])
    for place in places:
        down[place] = _down(knowledge, network.hosts[before.hosts[place]])
    families = {
        version: _family_again(knowledge, family, feet, frozenset(touched))
        for version, family in before.families.items()
    }
    return replace(before, knowledge=knowledge, up=up, joints=joined, stands=stands, down=down, families=families)


def _columns(one: Joints) -> tuple[NDArray[Any], ...]:
    return one.foot, one.target, one.sender, one.hearer, one.mutual, one.first


def _far_end(knowledge: Knowledge, device: str, port: str) -> End | None:
    far = knowledge.plugs.cabled.get(End(device, port))
    return far[0] if far else None


def _down(knowledge: Knowledge, host: Host) -> bool:
    """Whether a host's port has no carrier."""
    attachment = knowledge.attachment_at(host.at)
    return not (attachment.carrier if len(attachment.members) == 1 else knowledge.links[host.at].carrier)


# Feet


def _feet_of(node: Node) -> Iterator[Foot]:
    for vlan in sorted(node.vlans):
        yield node.name, vlan
    for nic in node.nics.values():
        yield node.name, nic.name


def _raise(up: Bools, nodes: Iterable[Node], feet: Mapping[Foot, int]) -> None:
    for node in nodes:
        for nic in node.nics.values():
            up[feet[node.name, nic.name]] = nic.up


def _host_foot(knowledge: Knowledge, end: End, feet: Mapping[Foot, int]) -> int:
    """The foot that the host at a port stands on, whether the port has carrier or not."""
    foot = host_foot(knowledge, end)
    return NOWHERE if foot is None else feet[foot]


def _sent(
    knowledge: Knowledge, senders: Iterable[str], only: frozenset[str] | None = None
) -> Iterator[tuple[Foot, Foot, str, str, bool, bool]]:
    """The joints between devices, those between a VLAN and its interface among them; where `only` is given, just
    those that one of these devices sends or hears."""
    for name in senders:
        node = knowledge.devices[name]
        whole = only is None or name in only
        for one in node.attachments.values():
            fars = {end.device for member in one.members if (end := _far_end(knowledge, *member))}
            if fars and (whole or only is None or fars & only):
                for joint in joints(knowledge, name, one):
                    if joint.far in knowledge.devices:
                        yield joint.foot, joint.target, name, joint.far, joint.mutual, joint.first
        for nic in node.nics.values() if whole else ():
            if nic.kind == "vlan" and nic.up and nic.vlan is not None:
                yield (name, nic.vlan), (name, nic.name), name, name, True, True


def _joints(
    sent: Iterable[tuple[Foot, Foot, str, str, bool, bool]], feet: Mapping[Foot, int], number: Mapping[str, int]
) -> Joints:
    lines = [(feet[a], feet[b], number[sender], number[hearer], *kind) for a, b, sender, hearer, *kind in sent]
    table = np.array(lines, dtype=np.int64).reshape(-1, 6).T
    return Joints(table[0], table[1], table[2], table[3], table[4] == 1, table[5] == 1)


# Addresses


def _repeated(knowledge: Knowledge, version: int) -> frozenset[int]:
    """The addresses that a host and somebody else hold."""
    taken = {
        held.value
        for node in knowledge.devices.values()
        for nic in node.nics.values()
        for held in nic.addresses
        if held.version == version
    }
    found = set()
    for host in knowledge.network.hosts.values():
        for held in host.addresses:
            if held.version == version and not is_link_local(held):
                if held.value in taken:
                    found.add(held.value)
                taken.add(held.value)
    return frozenset(found)


def _cuts(knowledge: Knowledge, version: int, repeated: Iterable[int]) -> tuple[int, ...]:
    """Where the address space is cut into pieces: at both ends of every prefix that anybody has, in use or not, and
    around every single address that means something: a device's, a next hop, a subnet's ends, one held twice."""
    prefixes: set[Prefix] = set()
    singles = set(repeated)
    for node in knowledge.devices.values():
        held = [one for nic in node.nics.values() for one in nic.addresses if one.version == version]
        prefixes.update(one.prefix for one in held)
        singles.update(one.value for one in held)
    for device in knowledge.network.devices.values():
        routes = [route for route in device.routes if route.to.version == version]
        prefixes.update(route.to for route in routes)
    for host in knowledge.network.hosts.values():
        prefixes.update(one.prefix for one in host.addresses if one.version == version)
    singles.update(_hops(knowledge, version))
    cuts = {0}
    for prefix in prefixes:
        cuts.update((prefix.value, prefix.last + 1))
        if prefix.reserved_ends():
            cuts.update((prefix.value + 1, prefix.last))
    for value in singles:
        cuts.update((value, value + 1))
    return tuple(sorted(cuts))


def _hops(knowledge: Knowledge, version: int) -> Iterator[int]:
    """Every address that somebody uses, or could use, as a next hop."""
    network = knowledge.network
    for device in network.devices.values():
        for hop in (*(route.via for route in device.routes), *device.gateway):
            if hop.address.version == version:
                yield hop.address.value
    for host in network.hosts.values():
        for hop in host.gateway:
            if hop.address.version == version:
                yield hop.address.value


def _bunches(
    knowledge: Knowledge, cuts: Mapping[int, tuple[int, ...]]
) -> tuple[Ints, tuple[str, ...], list[tuple[Any, ...]]]:
    """Each host's bunch, one host of each bunch, and what its addresses and gateways look like, family by family."""
    numbers: dict[tuple[Any, ...], int] = {}
    likeness: list[str] = []
    looks: list[tuple[Any, ...]] = []
    bunch = np.empty(len(knowledge.network.hosts), dtype=np.int64)
    for index, host in enumerate(knowledge.network.hosts.values()):
        attachment = knowledge.attachment_at(host.at)
        one = attachment.written
        plugged = (attachment.vlans, attachment.untagged, one.access, one.trunk, one.untagged)
        look = tuple(_look(host, version, edges) for version, edges in cuts.items())
        alone = not attachment.switched or len(attachment.members) > 1
        key = (host.at.device, host.at.port if alone else plugged, look)
        found = numbers.setdefault(key, len(numbers))
        if found == len(likeness):
            likeness.append(host.name)
            looks.append(look)
        bunch[index] = found
    return bunch, tuple(likeness), looks


def _look(host: Host, version: int, cuts: tuple[int, ...]) -> tuple[Any, ...]:
    """A host's addresses (the piece of each, its prefix as pieces, its prefix length) and its gateways."""
    addresses: list[tuple[int, ...]] = []
    for held in host.addresses:
        if held.version == version:
            piece = bisect_right(cuts, held.value) - 1
            if is_link_local(held):
                addresses.append((piece,))
            else:
                prefix = held.prefix
                ends = bisect_right(cuts, prefix.value) - 1, bisect_right(cuts, prefix.last) - 1
                addresses.append((piece, *ends, held.length))
    return tuple(addresses), tuple(hop.address.value for hop in host.gateway if hop.address.version == version)


def _sign(addresses: tuple[tuple[int, ...], ...]) -> Sign:
    """The probed address is the first that is valid beyond its link (as `source_for` has it)."""
    order = sorted(range(len(addresses)), key=lambda at: len(addresses[at]) == 1)
    place = {at: number for number, at in enumerate(order)}
    speaks = tuple((place[at], one[1], one[2]) for at, one in enumerate(addresses) if len(one) > 1)
    return Sign(tuple(addresses[at][0] for at in order), speaks)


# Routes


def _family(
    knowledge: Knowledge,
    version: int,
    cuts: tuple[int, ...],
    repeated: frozenset[int],
    feet: Mapping[Foot, int],
    likeness: tuple[str, ...],
    looks: list[tuple[Any, ...]],
) -> Family:
    rows: dict[tuple[str, str], int] = {}
    for node in knowledge.devices.values():
        if version in node.forwards:
            for vrf in dict.fromkeys(nic.vrf for nic in node.nics.values()):
                rows[node.name, vrf] = len(rows)
    numbers: dict[tuple[Any, ...], int] = {}
    sign = np.array([numbers.setdefault(look, len(numbers)) if look[0] else -1 for look in looks], dtype=np.int64)
    hops = {value: index for index, value in enumerate(dict.fromkeys(_hops(knowledge, version)))}
    gathered = _Gathered(version, cuts, hops)
    for (name, vrf), row in rows.items():
        gathered.take(row, knowledge.devices[name], vrf, feet)
    for one, name in enumerate(likeness):
        if sign[one] >= 0:
            gathered.take(len(rows) + one, host_node(knowledge.network.hosts[name], "", 0), "", {})
    entries, deaf = gathered.arrays()
    return Family(
        version,
        cuts,
        rows,
        sign,
        tuple(_sign(addresses) for addresses, _ in numbers),
        hops,
        _holders(knowledge, version, feet, rows, hops),
        entries,
        deaf,
        _twice(knowledge, version, feet, repeated),
    )


def _family_again(knowledge: Knowledge, before: Family, feet: Mapping[Foot, int], touched: frozenset[str]) -> Family:
    old = before.entries
    mine = np.zeros(len(before.rows) + len(before.sign), dtype=np.bool_)
    gathered = _Gathered(before.version, before.cuts, before.hops)
    for (name, vrf), row in before.rows.items():
        if name in touched:
            mine[row] = True
            gathered.take(row, knowledge.devices[name], vrf, feet)
    if not mine.any():
        return before
    kept = ~mine[old.place]
    new, deaf = gathered.arrays()
    entries = Entries(
        np.concatenate((old.place[kept], new.place)),
        np.concatenate((old.first[kept], new.first)),
        np.concatenate((old.last[kept], new.last)),
        np.concatenate((old.length[kept], new.length)),
        np.concatenate((old.foot[kept], new.foot)),
        np.concatenate((old.hop[kept], new.hop)),
        np.concatenate((old.written[kept], new.written)),
    )
    return replace(before, entries=entries, deaf=np.concatenate((before.deaf[:, ~mine[before.deaf[0]]], deaf), axis=1))


class _Gathered:
    """Collects routes of one family into arrays."""

    def __init__(self, version: int, cuts: tuple[int, ...], hops: Mapping[int, int]) -> None:
        self._version = version
        self._cuts = cuts
        self._hops = hops
        self._lines: list[tuple[int, int, int, int, int, int]] = []
        self._deaf: list[tuple[int, int]] = []
        self._written: list[Entry] = []

    def take(self, place: int, node: Node, vrf: str, feet: Mapping[Foot, int]) -> None:
        """The table of one place."""
        table = node.routes.tables.get((vrf, self._version))
        if table is None:
            return
        for _, entries in table.lengths:
            for entry in entries.values():
                nic = node.nics[entry.interface]
                hop = CONNECTED if entry.next_hop is None else self._hops[entry.next_hop.value]
                asks = source_for(nic.addresses, entry.next_hop or entry.prefix.first)
                if not nic.speaks or nic.kind == "loopback" or asks is None:
                    hop = MUTE
                first, last = self._piece(entry.prefix.value), self._piece(entry.prefix.last)
                foot = feet.get((node.name, nic.name), NOWHERE)
                self._lines.append((place, first, last, entry.prefix.length, foot, hop))
                self._written.append(entry)
        self._deaf += [(place, self._piece(value)) for value in table.broadcasts]

    def _piece(self, value: int) -> int:
        return bisect_right(self._cuts, value) - 1

    def arrays(self) -> tuple[Entries, Ints]:
        lines = np.array(self._lines, dtype=np.int64).reshape(-1, 6).T.copy()
        deaf = np.array(self._deaf, dtype=np.int64).reshape(-1, 2).T.copy()
        written = np.empty(len(self._written), dtype=object)
        written[:] = self._written
        return Entries(lines[0], lines[1], lines[2], lines[3], lines[4], lines[5], written), deaf


def _holders(
    knowledge: Knowledge,
    version: int,
    feet: Mapping[Foot, int],
    rows: Mapping[tuple[str, str], int],
    hops: Mapping[int, int],
) -> Holders:
    lines: list[tuple[int, int, int, int]] = []
    for node in knowledge.devices.values():
        for nic in node.nics.values():
            row, foot = rows.get((node.name, nic.vrf), -1), feet[node.name, nic.name]
            held_here = {held.value for held in nic.addresses if held.version == version}
            if version == 6 and speaks_ipv6(nic):
                held_here.add(nic.link_local.value)
            lines += [(hops[value], foot, row, -1) for value in held_here if value in hops]
    for index, host in enumerate(knowledge.network.hosts.values()):
        for held in host.addresses:
            if held.version == version and held.value in hops:
                lines.append((hops[held.value], NOWHERE, -1, index))
    table = np.array(lines, dtype=np.int64).reshape(-1, 4).T.copy()
    return Holders(table[0], table[1], table[2], table[3])


def _twice(
    knowledge: Knowledge, version: int, feet: Mapping[Foot, int], repeated: frozenset[int]
) -> tuple[tuple[int, int, int], ...]:
    if not repeated:
        return ()
    holders: dict[int, list[tuple[int, int]]] = {value: [] for value in repeated}
    for node in knowledge.devices.values():
        for nic in node.nics.values():
            for held in nic.addresses:
                if held.version == version and held.value in repeated:
                    holders[held.value].append((-1, feet[node.name, nic.name]))
    for index, host in enumerate(knowledge.network.hosts.values()):
        for held in host.addresses:
            if held.version == version and held.value in repeated:
                holders[held.value].append((index, NOWHERE))
    return tuple(
        (host, *other)
        for found in holders.values()
        for host, _ in found
        if host >= 0
        for other in found
        if other[0] != host
    )
