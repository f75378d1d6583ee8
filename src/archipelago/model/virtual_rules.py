"""What must hold of virtual routers and of the spanning tree's keys within one device, whoever writes them down."""

from __future__ import annotations

from collections.abc import Collection

from archipelago.addressing.values import WIDTHS, Address, InterfaceAddress, is_link_local
from archipelago.errors import ModelProblem
from archipelago.model.parts import Aggregate, Device, Loopback, Path, Port, Subinterface, VlanInterface
from archipelago.model.problems import Names, Problems, can_be_held
from archipelago.model.virtual import LONGEST_INTERVAL, SHORTEST_INTERVAL, Track, VirtualRouter


def virtual_problems(device: Device, in_use: Collection[str], names: Names) -> Problems:
    """Everything wrong in a device's virtual routers.

    Args:
        device: the device.
        in_use: its ports, written or plugged into.
        names: for messages.
    """
    for section, parts in (("ports", device.ports), ("interfaces", device.interfaces)):
        for name, part in parts.items():
            if isinstance(part, Loopback) or not part.virtual:
                continue
            path: Path = ("devices", device.name, section, name, "virtual")
            if device.kind == "switch":
                message = f"switch '{device.name}' routes nothing; a virtual router belongs on a router or an l3switch"
                yield ModelProblem(path, message, True)
            seen: dict[tuple[int, int], int] = {}
            for number, virtual in enumerate(part.virtual):
                where: Path = (*path, number)
                yield from _address_problems((*where, "address"), virtual, part)
                yield from _time_problems(where, virtual)
                first = seen.setdefault((virtual.vrid, virtual.family), number) if virtual.addresses else number
                if first != number:
                    message = f"'{name}' is in virtual router {virtual.vrid} of this family already"
                    yield ModelProblem((*where, "vrid"), message)
                for at, track in enumerate(virtual.track):
                    known = {*in_use, *device.interfaces}
                    yield from _track_problems((*where, "track", at), track, known, names)


def _address_problems(
    path: Path, virtual: VirtualRouter, part: Port | Subinterface | VlanInterface | Aggregate
) -> Problems:
    if not virtual.addresses:
        yield ModelProblem(path, f"virtual router {virtual.vrid} has no address; give it one")
    if len({address.version for address in virtual.addresses}) > 1:
        message = f"the addresses of virtual router {virtual.vrid} are of both families; write one for each family"
        yield ModelProblem(path, message)
    families = {own.version for own in part.addresses}
    for address in virtual.addresses:
        within = any(own.prefix.holds(address) for own in part.addresses)
        if not _stands(address) or not (within or (is_link_local(address) and 6 in families)):
            subnets = ", ".join(dict.fromkeys(str(own.prefix) for own in part.addresses)) or "none"
            yield ModelProblem(path, f"{address} is in no subnet of '{part.name}', which has: {subnets}")


def _stands(address: Address) -> bool:
    return can_be_held(InterfaceAddress(address.version, address.value, WIDTHS[address.version]))


def _time_problems(path: Path, virtual: VirtualRouter) -> Problems:
    interval = virtual.advertise_interval
    if not SHORTEST_INTERVAL <= interval <= LONGEST_INTERVAL or interval % SHORTEST_INTERVAL:
        message = "an interval is 10ms to 40.95s, in hundredths of a second (RFC 9568 5.2.7)"
        yield ModelProblem((*path, "advertise-interval"), message)


def _track_problems(path: Path, track: Track, known: Collection[str], names: Names) -> Problems:
    if (track.interface is None) == (track.network is None):
        yield ModelProblem(path, "what is tracked is one thing: write one of 'interface' and 'network'")
    elif track.interface is not None:
        yield from names.unknown((*path, "interface"), track.interface, known, "port or interface")


def tree_problems(device: Device) -> Problems:
    """The keys of the spanning tree that a device or its ports cannot have."""
    path: Path = ("devices", device.name)
    if device.kind == "router":
        for key, written in (
            ("spanning-tree", not device.spanning_tree),
            ("bridge-priority", device.bridge_priority is not None),
        ):
            if written:
                message = "a router is no bridge and takes no part in the spanning tree; leave this out"
                yield ModelProblem((*path, key), message, True)
