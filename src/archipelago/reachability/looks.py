"""What hosts look like from outside: the pieces of the address space that the network tells apart, and the bunches of
hosts that look alike."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

import numpy as np

from archipelago.addressing.values import Prefix, is_link_local
from archipelago.knowledge.devices import Knowledge
from archipelago.model.network import Host
from archipelago.reachability.arrays import Ints, Sign


def held_twice(knowledge: Knowledge, version: int) -> frozenset[int]:
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


def cut_space(knowledge: Knowledge, version: int, repeated: Iterable[int]) -> tuple[int, ...]:
    """Where the address space is cut into pieces: at both ends of every prefix that anybody has, in use or not, and
    around every single address that means something: a device's, a next hop, a subnet's ends, one held twice."""
    prefixes: set[Prefix] = set()
    singles = set(repeated)
    for node in knowledge.devices.values():
        held = [one for nic in node.nics.values() for one in nic.addresses if one.version == version]
        prefixes.update(one.prefix for one in held)
        singles.update(one.value for one in held)
    for device in knowledge.network.devices.values():
        routes = [route for route in device.routes if route.destination.version == version]
        prefixes.update(route.destination for route in routes)
    for host in knowledge.network.hosts.values():
        prefixes.update(one.prefix for one in host.addresses if one.version == version)
    singles.update(every_hop(knowledge, version))
    cuts = {0}
    for prefix in prefixes:
        cuts.update((prefix.value, prefix.last + 1))
        if prefix.reserved_ends():
            cuts.update((prefix.value + 1, prefix.last))
    for value in singles:
        cuts.update((value, value + 1))
    return tuple(sorted(cuts))


def every_hop(knowledge: Knowledge, version: int) -> Iterator[int]:
    """Every address that somebody uses, or could use, as a next hop."""
    network = knowledge.network
    for device in network.devices.values():
        for hop in (*(route.next_hop for route in device.routes), *device.gateway):
            if hop.address.version == version:
                yield hop.address.value
    for host in network.hosts.values():
        for hop in host.gateway:
            if hop.address.version == version:
                yield hop.address.value


def bunched(
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


def sign_of(addresses: tuple[tuple[int, ...], ...]) -> Sign:
    """The probed address is the first that is valid beyond its link (as `source_for` has it)."""
    order = sorted(range(len(addresses)), key=lambda at: len(addresses[at]) == 1)
    place = {at: number for number, at in enumerate(order)}
    speaks = tuple((place[at], one[1], one[2]) for at, one in enumerate(addresses) if len(one) > 1)
    return Sign(tuple(addresses[at][0] for at in order), speaks)
