"""Why a port is blocked, and why a member of a virtual router is active: in words."""

from __future__ import annotations

from archipelago.knowledge.elected import Elected, Member
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.tree import Bridge, Claim, Role, SpanningTree


def speaker(tree: SpanningTree, claim: Claim) -> str:
    """The port that says something on a link, as DEVICE/PORT."""
    name = tree.name(claim.bridge)
    ports = tree.bridges[name].ports
    return f"{name}/{next(port for port, at in ports.items() if at.number == claim.port)}"


def why_blocked(tree: SpanningTree, device: str, port: str) -> str:
    """Why another port serves the link of a blocked one (IEEE 802.1Q 13.9)."""
    bridge = tree.bridges[device]
    heard = bridge.ports[port].heard
    assert heard is not None  # or nothing would have blocked it
    far, better = speaker(tree, heard), tree.name(heard.bridge)
    if heard.bridge == bridge.id:
        return f"{far} is the same device's lower port on this link"
    if heard.cost != bridge.cost:
        return f"{far} is nearer to the root: cost {heard.cost:,}, not {bridge.cost:,}"
    if heard.bridge.priority != bridge.id.priority:
        lower = f"{heard.bridge.priority}, not {bridge.id.priority}"
        return f"{far} is as near to the root, and {better} has the lower bridge priority: {lower}"
    return f"{far} is as near to the root, and {better} has the lower MAC address"


def why_root(tree: SpanningTree, device: str) -> str:
    """Why a device is the root of its part of the network: what it has before the others there."""
    own = tree.bridges[device].id
    others = [bridge.id for bridge in tree.bridges.values() if bridge.root == own and bridge.id != own]
    if not others:
        return "no other bridge is connected to it"
    if min(others).priority != own.priority:
        return f"the lowest bridge priority: {own.priority}"
    return f"the lowest MAC address of those with bridge priority {own.priority}"


def port_state(bridge: Bridge, port: str) -> tuple[str, str]:
    """A port's part in the tree and what it does, in words."""
    role = bridge.ports[port].role if port in bridge.ports else Role.DESIGNATED
    return str(role), "forwards" if role.forwards else "blocked"


def why_active(elected: Elected, active: Member) -> str:
    """Why a member is the active one among those that are up beside it (RFC 9568 6.4)."""
    others = [other for other in elected.beside(active) if other is not active and other.rank < active.rank]
    if not others:
        return "no other member is up in its broadcast domain"
    next_best = max(others, key=lambda member: member.rank)
    if active.owns and not next_best.owns:
        return "the address is its own"
    if active.priority != next_best.priority:
        return f"the highest priority: {active.priority}, not {next_best.priority}"
    if active.primary != next_best.primary:
        return f"priority {active.priority} each, and the higher address: {active.primary}, not {next_best.primary}"
    return f"priority {active.priority} and {active.primary} each, and written later"


def lessened(index: NetworkIndex, member: Member) -> list[str]:
    """What a member tracks that is not there, with what it costs."""
    elected = index.knowledge.elected
    node = index.knowledge.devices[member.device]
    nic = node.nics[member.interface]
    if member.owns:
        return []
    gone = (track for track in member.written.track if not elected.is_there(node, nic, track))
    return [
        f"less {track.priority_decrement}: {track} is down"
        if track.interface
        else f"less {track.priority_decrement}: no route to {track}"
        for track in gone
    ]
