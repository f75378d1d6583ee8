from __future__ import annotations

from archipelago.addressing.values import WIDTHS, Address
from archipelago.diagnosis.gateway_place import without_gateway
from archipelago.diagnosis.interface_down import interface_down
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Finding


def no_home(index: NetworkIndex, target: Address, vrf: str) -> Finding | None:
    """Why nothing leads to a host's subnet: its gateway's interface is down, or no routing device has one there. What
    packets for it then do, go round or get lost outside, is a symptom."""
    homes = index.homes_in(target, vrf)
    if homes:
        return None if any(holder.nic.up for holder in homes) else interface_down(index, homes[0])
    host = next((holder for holder in index.holders(target) if holder.node.kind == "host"), None)
    if host is None or host.address.length == WIDTHS[target.version]:  # that stands for the outside
        return None
    return without_gateway(index, host.node, host.address)
