"""The two ends of a question, from the names that people write."""

from __future__ import annotations

from dataclasses import replace
from difflib import get_close_matches

from archipelago.addressing.values import Address, parse_address
from archipelago.diagnosis.picture import Picture
from archipelago.errors import AddressError, QueryError
from archipelago.knowledge.devices import Node


def find_source(view: Picture, name: str) -> Node:
    """A host or device, or one of its interfaces (DEVICE/INTERFACE), to send from.

    Raises:
        QueryError: there is none such.
    """
    end = find_end(view, name)
    if isinstance(end, Address):
        holders = view.holders.get(end, ())
        if not holders:
            raise QueryError(f"nobody holds {end}; a probe starts at a host or device")
        return _speaking_from(holders[0].node, holders[0].nic.name)
    return end


def find_end(view: Picture, name: str) -> Node | Address:
    """A host, a device, one of its interfaces (DEVICE/INTERFACE), or an address.

    Raises:
        QueryError: there is none such.
    """
    nodes = view.knowledge.nodes
    if name in nodes:
        return nodes[name]
    device, slash, interface = name.partition("/")
    if slash and device in nodes:
        node = nodes[device]
        if interface in node.nics:
            return _speaking_from(node, interface)
        known = ", ".join(node.nics) or "none"
        raise QueryError(f"'{device}' has no interface '{interface}'; it has: {known}")
    try:
        return parse_address(name)
    except AddressError:
        pass
    close = get_close_matches(name, list(nodes), n=1)
    hint = f"; did you mean '{close[0]}'?" if close else ""
    listed = list(view.network.hosts) or list(nodes)
    shown = ", ".join(listed[:12]) + (f" and {len(listed) - 12} more" if len(listed) > 12 else "")
    raise QueryError(
        f"there is no host, device or address '{name}'{hint} Hosts: {shown}".replace("' Hosts", "'; hosts")
    )


def _speaking_from(node: Node, interface: str) -> Node:
    """The node with that interface first, so that its address is the one used."""
    nics = {interface: node.nics[interface], **node.nics}
    return replace(node, nics=nics)
