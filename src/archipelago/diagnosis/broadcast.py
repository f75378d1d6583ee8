from __future__ import annotations

from archipelago.addressing.values import Address, Prefix
from archipelago.diagnosis.faults.hosts import address_broadcast, mask_mismatch
from archipelago.diagnosis.stop import Stop
from archipelago.knowledge.devices import Node
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Finding


def broadcast(index: NetworkIndex, node: Node, stop: Stop) -> Finding:
    """A packet for what somebody takes for a broadcast address: a mask is wrong, or the address is."""
    wrong = _own_mask(index, node, stop.target)
    if wrong is not None:
        return wrong
    holder = next((asked for asked in index.holders(stop.target) if asked.node.kind == "host"), None)
    home = next(iter(index.homes_in(stop.target, stop.vrf)), None)
    if holder and home and holder.address.length != home.address.length:
        return mask_mismatch(holder, home.address.prefix)
    connected = [
        address.prefix
        for nic in node.nics.values()
        for address in nic.addresses
        if nic.up and nic.vrf == stop.vrf and address.prefix.holds(stop.target)
    ]
    single = Prefix(4, stop.target.value, 32)
    return address_broadcast(index, stop.target, max(connected, key=lambda prefix: prefix.length, default=single))


def _own_mask(index: NetworkIndex, node: Node, target: Address) -> Finding | None:
    """The mistake in the sender's own mask, where that makes it take the target for a broadcast address."""
    for nic in node.nics.values() if node.kind in ("host", "switch") else ():
        for address in nic.addresses:
            home = index.home_of(node, address)
            if address.prefix.holds(target) and home is not None and home.address.length != address.length:
                return mask_mismatch(Held(node, nic, address), home.address.prefix)
    return None
