"""What there is two of, as tables: the spanning tree with its blocked ports, and the gateways that devices share."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, NamedTuple

from archipelago.diagnosis.redundant import lessened, port_state, speaker, why_active, why_blocked, why_root
from archipelago.knowledge.devices import Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.shared_aggregates import halves
from archipelago.model.parts import End
from archipelago.views.face import Face
from archipelago.views.plain import plain
from archipelago.views.schema import COUNT, TEXT, by_name, maybe, one_of, record, several
from archipelago.views.table import Table, counted, table
from archipelago.views.view import View


def summary(index: NetworkIndex) -> str:
    """The root, how many ports are blocked, and who is active in how many virtual routers."""
    tree = index.knowledge.devices.tree
    roots = dict.fromkeys(tree.name(bridge.root) for bridge in tree.bridges.values() if bridge.ports)
    blocked = sum(map(len, tree.blocked.values()))
    if not roots:
        text = "no two bridges are cabled to each other"
    elif len(roots) == 1:
        text = f"the root is {next(iter(roots))}; {counted(blocked, 'port')} blocked"
    else:
        text = f"{len(roots)} roots, each of its own part: {', '.join(roots)}; {counted(blocked, 'port')} blocked"
    active = Counter(member.device for _, member in index.knowledge.elected.routers() if member is not None)
    if active:
        text += "; active: " + ", ".join(f"{name} for {counted(count, 'gateway')}" for name, count in active.items())
    return text


def tables(index: NetworkIndex) -> list[Table]:
    """Who is active, what is blocked, the roots; then each member and each port of the tree."""
    return [
        *(routers(index), blocked(index), shared_aggregates(index)),
        *(bridges(index), members(index), ports(index, None)),
    ]


def shared_aggregates(index: NetworkIndex) -> Table:
    """Each aggregate that two devices share: whose half is in use, whose waits, and the far end that decides it."""
    waiting = index.knowledge.devices.tree.waiting
    rows = []
    for device, half in halves(index.network):
        partner = half.shared_with or ""
        if half.name not in waiting.get(partner, ()):
            continue
        peers = [index.knowledge.links[End(device.name, member)].peer for member in half.members]
        far = next((f"{peer.device}/{index.knowledge.attachment_at(peer).name}" for peer in peers if peer), "")
        rows.append((half.name, device.name, partner, far, "it sends there first"))
    return table("shared aggregates", ("aggregate", "in use at", "waits at", "far end", "because"), rows)


def bridges(index: NetworkIndex) -> Table:
    """Each device that takes part in the tree, and its way to the root."""
    tree = index.knowledge.devices.tree
    rows = []
    for name, bridge in tree.bridges.items():
        root = tree.name(bridge.root)
        why = why_root(tree, name) if root == name else ""
        rows.append((name, bridge.id.priority, root, bridge.root_port or "itself", bridge.cost, why))
    return table("bridges", ("device", "bridge priority", "root", "by", "cost", "because"), rows, ("cost",))


def blocked(index: NetworkIndex) -> Table:
    """Each blocked port, and why it is the one."""
    tree = index.knowledge.devices.tree
    rows = []
    for name, bridge in tree.bridges.items():
        for port in sorted(tree.blocked_at(name), key=lambda port: bridge.ports[port].number):
            heard = bridge.ports[port].heard
            far = speaker(tree, heard) if heard is not None else ""
            rows.append((name, port, far, bridge.ports[port].role, why_blocked(tree, name, port)))
    return table("blocked ports", ("device", "port", "hears", "role", "because"), rows)


def ports(index: NetworkIndex, nodes: list[Node] | None) -> Table:
    """The cabled ports of the tree, of all devices or of some."""
    tree = index.knowledge.devices.tree
    names = list(tree.bridges) if nodes is None else [node.name for node in nodes if node.name in tree.bridges]
    rows = []
    for name in names:
        bridge = tree.bridges[name]
        for port, at in sorted(bridge.ports.items(), key=lambda item: item[1].number):
            role, state = port_state(bridge, port)
            far = speaker(tree, at.heard) if at.heard is not None else ""
            rows.append((name, port, role, state, at.cost, far))
    return table("spanning tree", ("device", "port", "role", "state", "cost", "hears"), rows, ("cost",))


def routers(index: NetworkIndex) -> Table:
    """Each virtual router in each broadcast domain: who is active, and why."""
    elected = index.knowledge.elected
    rows = []
    for beside, active in elected.routers():
        first = beside[0]
        nic = index.knowledge.devices[first.device].nics[first.interface]
        vlan = index.vlan_name(nic.vlan) if nic.vlan is not None else ""
        addresses = ", ".join(map(str, first.written.addresses))
        who = str(active) if active is not None else "none"
        why = why_active(elected, active) if active is not None else "all hear a better one, which does not hear them"
        backups = ", ".join(str(member) for member in beside if member != active) or "none"
        rows.append((first.written.vrid, addresses, vlan, who, why, backups))
    columns = ("VRID", "address", "VLAN", "active", "because", "backups")
    return table("virtual routers", columns, rows, ("VRID",))


def members(index: NetworkIndex) -> Table:
    """Each member, with what it bids."""
    rows = []
    for member in index.knowledge.elected.every():
        nic = index.knowledge.devices[member.device].nics[member.interface]
        state = "active" if index.knowledge.elected.active(member) else "backup"
        bids: Any = member.priority if member.up else ""
        why = "; ".join(lessened(index, member)) if member.up else ""
        if member.owns:
            why = "owner"
        addresses = ", ".join(map(str, member.written.addresses))
        own = state if member.up else f"down: {nic.down}"
        rows.append((member.device, member.interface, member.written.vrid, addresses, bids, why, own))
    columns = ("device", "interface", "VRID", "address", "priority", "changed", "state")
    return table("members of virtual routers", columns, rows, ("VRID", "priority"))


@dataclass(frozen=True, slots=True, repr=False)
class Redundancy(View):
    """What the spanning tree blocks, and who is active in shared gateways.

    Args:
        root: of each device that takes part in the tree its root.
        blocked: ports and aggregates as `DEVICE/PORT`.
        active: each virtual router in each broadcast domain.
    """

    SHOWN = "redundancy.REDUNDANCY"

    root: Mapping[str, str]
    blocked: tuple[str, ...]
    active: tuple[Active, ...]

    def __getitem__(self, key: str) -> Any:
        """One of its values, by the key of `--json`."""
        return self.values()[key]


class Active(NamedTuple):
    """A virtual router in a broadcast domain: its VRID, its address family, its members that are up, and the active one
    (as `DEVICE/INTERFACE`; None where all hear a better one that does not hear them)."""

    vrid: int
    family: int
    members: tuple[str, ...]
    active: str | None


def look(index: NetworkIndex) -> Redundancy:
    """What the spanning tree blocks, and who is active."""
    tree = index.knowledge.devices.tree
    return Redundancy(
        summary(index),
        tuple(table for table in tables(index) if table.rows),
        root={name: tree.name(bridge.root) for name, bridge in tree.bridges.items()},
        blocked=tuple(
            f"{name}/{port}"
            for name, bridge in tree.bridges.items()
            for port in sorted(tree.blocked_at(name), key=lambda port: bridge.ports[port].number)
        ),
        active=tuple(
            Active(
                beside[0].written.vrid,
                beside[0].written.family,
                tuple(map(str, beside)),
                str(active) if active is not None else None,
            )
            for beside, active in index.knowledge.elected.routers()
        ),
    )


REDUNDANCY = Face(
    name="redundancy",
    verb="view",
    shape=record(
        root=by_name(TEXT)("of each device that takes part in the spanning tree its root"),
        blocked=several(TEXT)("ports and aggregates, DEVICE/PORT"),
        active=several(
            record(
                vrid=COUNT,
                family=one_of(4, 6),
                members=several(TEXT)("DEVICE/INTERFACE"),
                active=maybe(TEXT)("DEVICE/INTERFACE; null where nobody is"),
            )
        )("each virtual router in each broadcast domain"),
    ),
    values=lambda found: {
        "root": dict(found.root),
        "blocked": list(found.blocked),
        "active": [plain(one) for one in found.active],
    },
    tables=lambda found: found.shown,
    rows=lambda found: [plain(one) for one in found.active],
)
