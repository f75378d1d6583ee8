"""The two ends of a question, from the names that people write, and the addresses that they are asked by."""

from __future__ import annotations

from dataclasses import replace
from difflib import get_close_matches

from archipelago.addressing.values import Address, parse_address, source_for
from archipelago.errors import AddressError, QueryError
from archipelago.knowledge.devices import Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.expectation import GATEWAY
from archipelago.model.parts import Host


def find_source(index: NetworkIndex, name: str) -> Node:
    """A host or device, or one of its interfaces (DEVICE/INTERFACE), to send from.

    Raises:
        QueryError: there is none such.
    """
    end = find_end(index, name)
    if isinstance(end, Address):
        source = source_at(index, end)
        if source is None:
            raise QueryError(f"nobody holds {end}; a probe starts at a host or device")
        return source
    return end


def source_at(index: NetworkIndex, address: Address) -> Node | None:
    """The first holder of an address, speaking from it; None where nobody holds it."""
    holders = index.holders(address)
    return _speaking_from(holders[0].node, holders[0].nic.name) if holders else None


def find_end(index: NetworkIndex, name: str) -> Node | Address:
    """A host, a device, one of its interfaces (DEVICE/INTERFACE), what a host sends to (HOST/gateway), or an address.

    Raises:
        QueryError: there is none such.
    """
    nodes = index.knowledge.nodes
    if name in nodes:
        return nodes[name]
    device, slash, interface = name.partition("/")
    if slash and device in nodes:
        node = nodes[device]
        if interface in node.nics:
            return _speaking_from(node, interface)
        if interface == GATEWAY and isinstance(node.written, Host):
            return _gateway_of(node.written)
        known = ", ".join(node.nics) or "none"
        raise QueryError(f"'{device}' has no interface '{interface}'; it has: {known}")
    try:
        return parse_address(name)
    except AddressError:
        pass
    close = get_close_matches(name, list(nodes), n=1)
    hint = f"; did you mean '{close[0]}'?" if close else ";"
    listed = list(index.knowledge.hosts) or list(nodes)
    shown = ", ".join(listed[:12]) + (f" and {len(listed) - 12} more" if len(listed) > 12 else "")
    raise QueryError(f"there is no host, device or address '{name}'{hint} hosts: {shown}")


def _gateway_of(host: Host) -> Address:
    """The address that a host sends to, whether it is written, leased or heard: that of IPv4, else of IPv6.

    Raises:
        QueryError: it has none.
    """
    if not host.gateway:
        raise QueryError(f"'{host.name}' has no gateway")
    return min((hop.address for hop in host.gateway), key=lambda address: address.version)


def _speaking_from(node: Node, interface: str) -> Node:
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


def first_address(node: Node, version: int) -> Address | None:
    """The address that a host or device is probed at: its first of the family."""
    for nic in node.nics.values():
        source = source_for(nic.addresses, Address(version, 0))
        if source is not None:
            return source.address
    return None
