"""The two ends of a question, from the names that people write, and the addresses that they are asked by."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from archipelago.addressing.values import Address, is_link_local, source_for
from archipelago.errors import QueryError
from archipelago.knowledge.devices import Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.outside import NOTHING_LEADS
from archipelago.model.ends import OUTSIDE, Kind, NamedEnd, find, problem
from archipelago.model.network import Network
from archipelago.model.parts import Host

SOURCES = (Kind.HOST, Kind.DEVICE, Kind.PART, Kind.ADDRESS, Kind.OUTSIDE)
"""Who can send: an address stands for who holds it."""
TARGETS = (Kind.HOST, Kind.DEVICE, Kind.PART, Kind.GATEWAY, Kind.ADDRESS, Kind.OUTSIDE)
"""Who can be asked, one at a time."""
ASKED = (*TARGETS, Kind.VLAN, Kind.PREFIX)
"""Who can be asked: a VLAN and a subnet stand for their hosts."""


def find_source(index: NetworkIndex, word: str) -> Node:
    """A host or device, one of its interfaces (DEVICE/INTERFACE), or who holds an address, to send from.

    Raises:
        QueryError: there is none such.
    """
    end = find_end(index, word, SOURCES)
    if isinstance(end, Address):
        source = source_at(index, end)
        if source is None:
            raise QueryError(f"nobody holds {end}; a probe starts at a host or device")
        return source
    return end


def source_at(index: NetworkIndex, address: Address) -> Node | None:
    """The first holder of an address, speaking from it; None where nobody holds it."""
    holders = index.holders(address)
    return speaking_from(holders[0].node, holders[0].nic.name) if holders else None


def find_end(index: NetworkIndex, word: str, accepted: Sequence[Kind] = TARGETS) -> Node | Address:
    """A host, a device, one of its interfaces (DEVICE/INTERFACE), what a host sends to (HOST/gateway), or an address.

    Args:
        index: the network.
        word: what the end is called.
        accepted: what it may be; by default what can be asked.

    Raises:
        QueryError: there is none such.
    """
    end = checked(index.network, word, accepted)
    if end.address is not None:
        return end.address
    if end.kind is Kind.OUTSIDE:
        if OUTSIDE not in index.knowledge.nodes:
            raise QueryError(NOTHING_LEADS)
        return index.knowledge.nodes[OUTSIDE]
    node = index.knowledge.nodes[end.name]
    if end.kind is Kind.GATEWAY and isinstance(node.written, Host):
        return _gateway_of(node.written)
    if end.kind is not Kind.PART:
        return node
    if end.part not in node.nics:
        known = ", ".join(node.nics) or "none"
        raise QueryError(f"'{end.name}' has no interface '{end.part}'; it has: {known}")
    return speaking_from(node, end.part)


def checked(network: Network, word: str, accepted: Sequence[Kind]) -> NamedEnd:
    """What a word stands for, of the kinds that are accepted.

    Raises:
        QueryError: it is nothing, or of another kind.
    """
    wrong = problem(word, network, accepted)
    end = find(word, network)
    if wrong is not None or end is None:
        raise QueryError(wrong or word)
    return end


def _gateway_of(host: Host) -> Address:
    """The address that a host sends to, whether it is written, leased or heard: that of IPv4, else of IPv6.

    Raises:
        QueryError: it has none.
    """
    if not host.gateway:
        raise QueryError(f"'{host.name}' has no gateway")
    return min((hop.address for hop in host.gateway), key=lambda address: address.version)


def speaking_from(node: Node, interface: str) -> Node:
    """The node with that interface first, so that its address is the one used."""
    nics = {interface: node.nics[interface], **node.nics}
    return replace(node, nics=nics)


def common_family(source: Node, target: Node | Address) -> int | None:
    """IPv4 where both ends have it, else IPv6, None where they share no family."""
    return next(iter(common_families(source, target)), None)


def common_families(source: Node, target: Node | Address) -> list[int]:
    """The families that both ends have, IPv4 first."""
    families = []
    for version in (4, 6):
        theirs = target.version == version if isinstance(target, Address) else first_address(target, version)
        if theirs and first_address(source, version) is not None:
            families.append(version)
    return families


def target_address(source: Node, target: Node | Address, family: int | None = None) -> Address | None:
    """The address that is probed: of the family asked for, or the first that both ends have."""
    version = family or common_family(source, target)
    address = target if isinstance(target, Address) else first_address(target, version) if version else None
    return address if address is not None and address.version == version else None


def managed_at(source: Node, device: Node, version: int) -> list[Address]:
    """The addresses of a device in the order in which a source would manage it by them: those in a subnet of its own
    first, then the others as they are written."""
    own = [
        address.address
        for nic in device.nics.values()
        for address in nic.addresses
        if address.version == version and not is_link_local(address)
    ]
    near = [address.prefix for nic in source.nics.values() for address in nic.addresses if address.version == version]
    return sorted(own, key=lambda address: not any(prefix.holds(address) for prefix in near))


def first_address(node: Node, version: int) -> Address | None:
    """The address that a host or device is probed at: its first of the family."""
    for nic in node.nics.values():
        source = source_for(nic.addresses, Address(version, 0))
        if source is not None:
            return source.address
    return None
