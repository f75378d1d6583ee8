"""What hosts look like from outside: the pieces of the address space that the network tells apart, and the classes of
hosts that look alike."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

import numpy as np

from archipelago.addressing.values import Prefix, is_link_local
from archipelago.knowledge.alike import plugged_alike
from archipelago.knowledge.elected import shared_addresses, shares
from archipelago.knowledge.known import Knowledge
from archipelago.model.parts import Device, Host
from archipelago.model.projection import Projection
from archipelago.reachability.arrays import AddressProfile, Ints

HOSTS_READ = Projection(Host="name at addresses gateway mtu")
"""What of a host decides its class; whether it is off is kept for each host."""
CUTS_READ = Projection(
    Device="name ports interfaces routes gateway filters",
    Port="name addresses virtual source_nat",
    Aggregate="name addresses virtual source_nat",
    Subinterface="name addresses virtual source_nat",
    VlanInterface="name addresses virtual",
    Loopback="name addresses",
    VirtualRouter="vrid addresses",
    Route="destination next_hop",
    Filter="rules",
    FilterRule="source destination",
)
"""What of a device cuts the address space."""


def duplicated(knowledge: Knowledge, version: int) -> frozenset[int]:
    """The addresses that a host and somebody else hold."""
    taken = {
        address.value
        for node in knowledge.devices.values()
        for nic in node.nics.values()
        for address in nic.addresses
        if address.version == version
    }
    taken.update(
        address.value
        for member in knowledge.elected.every()
        for address in shared_addresses(member.written)
        if address.version == version
    )
    addresses = set()
    for host in knowledge.network.hosts.values():
        for address in host.addresses:
            if address.version == version and not is_link_local(address):
                if address.value in taken:
                    addresses.add(address.value)
                taken.add(address.value)
    return frozenset(addresses)


def cut_space(knowledge: Knowledge, version: int, repeated: Iterable[int]) -> tuple[int, ...]:
    """Where the address space is cut into pieces: at both ends of every prefix that anybody has, in use or not, and
    around every single address that means something: a device's, a next hop, a subnet's ends, one held twice."""
    network = knowledge.network
    cuts = {0}
    singles = set(repeated)
    prefixes: set[Prefix] = set()
    for device in network.devices.values():
        cuts |= device_cuts(knowledge, device, version)[0]
    for host in network.hosts.values():
        prefixes.update(address.prefix for address in host.addresses if address.version == version)
        singles.update(hop.address.value for hop in host.gateway if hop.address.version == version)
    _cut_prefixes(cuts, prefixes)
    for value in singles:
        cuts.update((value, value + 1))
    return tuple(sorted(cuts))


def device_cuts(knowledge: Knowledge, device: Device, version: int) -> tuple[set[int], set[int]]:
    """Where one device cuts the address space of a family, and the next hops that it names."""
    node = knowledge.devices[device.name]
    addresses = [address for nic in node.nics.values() for address in nic.addresses if address.version == version]
    hops = {
        hop.address.value
        for hop in (*(route.next_hop for route in device.routes), *device.gateway)
        if hop.address.version == version
    }
    cuts: set[int] = set()
    _cut_prefixes(cuts, (address.prefix for address in addresses))
    _cut_prefixes(cuts, (static.destination for static in device.routes if static.destination.version == version))
    shared = [
        address.value
        for _, virtual in shares(device)
        for one in virtual
        for address in shared_addresses(one)
        if address.version == version
    ]
    for value in (*hops, *(address.value for address in addresses), *shared):
        cuts.update((value, value + 1))
    if version == 4:
        for nic in node.nics.values():
            for prefix in nic.source_nat:
                cuts.update((prefix.value, prefix.last + 1))
    for filter_ in device.filters.values():
        for rule in filter_.rules:
            for prefix in (*rule.source, *rule.destination):
                if prefix.version == version:
                    cuts.update((prefix.value, prefix.last + 1))
    return cuts, hops


def _cut_prefixes(cuts: set[int], prefixes: Iterable[Prefix]) -> None:
    for prefix in prefixes:
        cuts.update((prefix.value, prefix.last + 1))
        if prefix.reserved_ends():
            cuts.update((prefix.value + 1, prefix.last))


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


def host_classes(
    knowledge: Knowledge, cuts: Mapping[int, tuple[int, ...]]
) -> tuple[Ints, tuple[str, ...], list[tuple[Any, ...]]]:
    """Each host's class, one host of each class, and what its addresses and gateways look like, family by family."""
    numbers: dict[tuple[Any, ...], int] = {}
    examples: list[str] = []
    profiles: list[tuple[Any, ...]] = []
    class_of = np.empty(len(knowledge.network.hosts), dtype=np.int64)
    for index, host in enumerate(knowledge.network.hosts.values()):
        profile = tuple(_seen(host, version, edges) for version, edges in cuts.items())
        key = (host.at.device, plugged_alike(knowledge.devices, host.at), profile, host.mtu)
        number = numbers.setdefault(key, len(numbers))
        if number == len(examples):
            examples.append(host.name)
            profiles.append(profile)
        class_of[index] = number
    return class_of, tuple(examples), profiles


def _seen(host: Host, version: int, cuts: tuple[int, ...]) -> tuple[Any, ...]:
    """A host's addresses (the piece of each, its prefix as pieces, its prefix length) and its gateways."""
    addresses: list[tuple[int, ...]] = []
    for address in host.addresses:
        if address.version == version:
            piece = bisect_right(cuts, address.value) - 1
            if is_link_local(address):
                addresses.append((piece,))
            else:
                prefix = address.prefix
                ends = bisect_right(cuts, prefix.value) - 1, bisect_right(cuts, prefix.last) - 1
                addresses.append((piece, *ends, address.length))
    return tuple(addresses), tuple(hop.address.value for hop in host.gateway if hop.address.version == version)


def profile_of(addresses: tuple[tuple[int, ...], ...]) -> AddressProfile:
    """The probed address is the first that is valid beyond its link (as `source_for` has it)."""
    order = sorted(range(len(addresses)), key=lambda at: len(addresses[at]) == 1)
    place = {at: number for number, at in enumerate(order)}
    speaks = tuple((place[at], address[1], address[2]) for at, address in enumerate(addresses) if len(address) > 1)
    return AddressProfile(tuple(addresses[at][0] for at in order), speaks)
