"""A network at a glance: a line for each device, and for each VLAN."""

from __future__ import annotations

from collections import Counter

from archipelago.diagnosis.places import plugged_vlan, wanted_vlan
from archipelago.knowledge.alike import alike_hosts
from archipelago.knowledge.devices import Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.parts import KIND_NAMES, Device, End
from archipelago.model.problems import listed
from archipelago.views.table import Table, counted, table

MOST_NAMED = 4
"""So many devices or interfaces are named in a line."""


def devices(index: NetworkIndex) -> Table:
    """Each device: what it is, which families it routes, what it serves, where the tree's root is for it, its ports."""
    tree = index.knowledge.devices.tree
    rows = []
    for name, written in index.network.devices.items():
        node = index.knowledge.devices[name]
        bridge = tree.bridges.get(name)
        root = "" if bridge is None else tree.name(bridge.root)
        by = f"{root} by {bridge.root_port}" if bridge is not None and bridge.root_port else "itself" if root else ""
        state, ports = "off" if node.off else "", _ports(index, name)
        rows.append(
            (name, KIND_NAMES[node.kind], _routes(node), _serves(written), by, *ports, state, written.description)
        )
    columns = ("device", "kind", "routes", "serves", "root", "ports up", "down", "free", "state", "description")
    return table("each device", columns, rows, ("ports up", "down", "free"))


def _routes(node: Node) -> str:
    """The families that a device routes; what it could and does not."""
    if not node.can_route:
        return "cannot"
    does = ", ".join(f"IPv{version}" for version in (4, 6) if version in node.forwards)
    return does or "could, does not"


def _serves(device: Device) -> str:
    relays = {server for part in (*device.ports.values(), *device.interfaces.values()) for server in _relays(part)}
    pools = [counted(len(device.dhcp_pools), "pool")] if device.dhcp_pools else []
    return ", ".join([*pools, *([f"relays to {listed(map(str, relays), 2)}"] if relays else [])])


def _relays(part: object) -> tuple[object, ...]:
    return tuple(getattr(part, "dhcp_relay", ()))


def _ports(index: NetworkIndex, device: str) -> tuple[int, int, int]:
    """How many ports are up; plugged in and down; free."""
    links, plugs = index.knowledge.links, index.knowledge.plugs
    ends = [End(device, port) for port in index.knowledge.ports[device]]
    up = sum(links[end].carrier for end in ends)
    used = sum(links[end].carrier or end in plugs.cabled or end in plugs.hosts for end in ends)
    return up, used - up, len(ends) - used


def vlans(index: NetworkIndex) -> Table:
    """Each VLAN: on which devices it is, how many hosts are in it, its interfaces, and which of those are down."""
    hosts: Counter[int | None] = Counter()
    for alike in index.once(alike_hosts):
        hosts[plugged_vlan(index.knowledge, alike[0])] += len(alike)
    where: dict[int, dict[str, None]] = {}
    access: Counter[int] = Counter()
    faces: dict[int, list[tuple[str, bool]]] = {}
    suspended: dict[int, list[str]] = {}
    for name, node in index.knowledge.devices.items():
        for vlan in node.suspended:
            suspended.setdefault(vlan, []).append(name)
        for attachment in node.attachments.values():
            if not attachment.switched:
                continue
            for vlan in attachment.vlans:
                where.setdefault(vlan, {})[name] = None
            wanted = wanted_vlan(attachment)
            if attachment.written.trunk is None and wanted is not None and wanted in node.vlans | node.suspended:
                where.setdefault(wanted, {})[name] = None
                access[wanted] += 1
        for nic in node.nics.values():
            if nic.vlan is not None and nic.addresses:
                where.setdefault(nic.vlan, {})[name] = None
                faces.setdefault(nic.vlan, []).append((f"{name}/{nic.name}", nic.up))
    rows = []
    for name, number in index.network.vlans.items():
        own = faces.get(number, [])
        down = [place for place, up in own if not up]
        state = "on no port" if number not in where else f"down: {listed(down, MOST_NAMED)}" if down else ""
        if number in suspended:
            apart = "everywhere" if number in index.network.suspended else f"on {listed(suspended[number], MOST_NAMED)}"
            state = "; ".join(filter(None, (f"suspended {apart}", state)))
        on = listed(where[number], MOST_NAMED) if number in where else "none"
        named = listed([place for place, _ in own], MOST_NAMED) if own else "none"
        rows.append((number, name, on, access[number], hosts[number], named, state))
    columns = ("VLAN", "name", "on", "access ports", "hosts", "interfaces", "state")
    return table("each VLAN", columns, rows, ("VLAN", "access ports", "hosts"))
