"""Mistakes in the spanning tree: its root, edge ports, spare links, circles by wire."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from archipelago.audit.redundancy import groups, interface_of, preferred, vlan_text
from archipelago.audit.registry import rule
from archipelago.audit.switching import facing_attachments, users
from archipelago.diagnosis.kind import ALWAYS, OFTEN, Example, Kind, finding
from archipelago.diagnosis.places import port_path
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.parts import Path


@rule
def roots(index: NetworkIndex) -> Iterator[Finding]:
    """A root that nobody chose, and one that is elsewhere than the active gateways. Where nothing is blocked there is
    one way only, and it does not matter."""
    tree = index.knowledge.devices.tree
    parts: dict[str, list[str]] = {}
    for name, bridge in tree.bridges.items():
        parts.setdefault(tree.name(bridge.root), []).append(name)
    active: dict[str, dict[str, None]] = {}
    for group in index.once(groups):
        member = preferred(group)
        if interface_of(index, member).kind == "vlan":
            active.setdefault(member.device, {}).setdefault(vlan_text(index, member))
    for root, names in parts.items():
        if not any(tree.blocked_at(name) for name in names):
            continue
        devices = index.network.devices
        core = [name for name in names if devices[name].kind == "l3switch"]
        best = max(core, key=lambda name: len(active.get(name, ())), default=None)
        written = any(devices[name].bridge_priority is not None for name in names)
        if not written and devices[root].kind == "switch" and best is not None:
            yield root_by_accident(index, root, best)
            continue
        elsewhere = [name for name in names if name in active and name != root]
        if elsewhere and root not in active:
            first = max(elsewhere, key=lambda name: len(active[name]))
            yield root_elsewhere(root, first, list(active[first]), _lower(index, root, first))
        elif root in active and elsewhere:
            for name in elsewhere:  # roles that are shared out: a detour for those that are not at the root
                yield root_elsewhere(root, name, list(active[name]), None)


ROOT_ELSEWHERE = Kind(
    "root-elsewhere",
    "note",
    "the tree's root and the active gateway are different devices",
    "frames to the gateway can take a detour by {root}",
    OFTEN,
    example=Example("pair", "devices: {core-1: {bridge-priority: ~}}"),
)


def root_elsewhere(root: str, active: str, vlans: Sequence[str], edit: Edit | None) -> Finding:
    """The root is not where the gateways are active."""
    mend = f"raise the bridge priority of {root} above that of {active}, or let {root} be active"
    if edit is not None and edit.value is REMOVE:
        mend = f"take the bridge priority away from {root}"
    elif edit is not None:
        mend = f"set the bridge priority of {active} to {edit.value}, or raise that of {root}"
    return finding(
        ROOT_ELSEWHERE,
        at=root,
        path=("devices", root),
        says=f"{root} is the spanning tree's root, and {active} is the active gateway of {', '.join(vlans)}",
        mend=mend,
        edits=(edit,) if edit is not None else (),
        root=root,
    )


ROOT_BY_ACCIDENT = Kind(
    "root-by-accident",
    "risk",
    "nobody wrote a bridge priority, and a plain switch is the tree's root",
    "traffic between the others takes its way by {root}",
    OFTEN,
    example=Example(
        "pair",
        """
        devices:
          core-1: {bridge-priority: ~}
          core-2: {bridge-priority: ~}
          shed: {mac: 02-00-00-00-00-01}
        """,
    ),
)


def root_by_accident(index: NetworkIndex, root: str, better: str) -> Finding:
    """A plain switch is the root, as nobody wrote a priority."""
    path: Path = ("devices", better, "bridge-priority")
    return finding(
        ROOT_BY_ACCIDENT,
        at=root,
        path=("devices", root),
        says=f"{root} is the spanning tree's root, and only because no device has a bridge priority",
        mend=f"set the bridge priority of {better} to 4096",
        edits=(Edit(path, "4096"),),
        root=root,
    )


def _lower(index: NetworkIndex, root: str, better: str) -> Edit | None:
    """What makes another device the root: a plain switch gives its priority up, else the other bids less."""
    own = index.knowledge.devices.tree.bridges[root].id.priority
    if index.network.devices[root].kind == "switch" and index.network.devices[root].bridge_priority is not None:
        return Edit(("devices", root, "bridge-priority"), REMOVE)
    return Edit(("devices", better, "bridge-priority"), str(own - 4096)) if own else None


@rule
def edges(index: NetworkIndex) -> Iterator[Finding]:
    """An edge port where a bridge is."""
    for node, link, far_node, far in index.once(facing_attachments):
        if link.switched and link.written.edge and far.switched and far_node.kind != "host":
            yield edge_to_bridge(index, node.name, link.name, far_node.name)


EDGE_TO_BRIDGE = Kind(
    "edge-to-bridge",
    "risk",
    "an edge port that leads to another bridge",
    "it forwards before the tree has settled, which can close a circle for a while",
    ALWAYS,
    example=Example("pair", "devices: {quay: {ports: {p8: {edge: true}}}}"),
)


def edge_to_bridge(index: NetworkIndex, device: str, port: str, far: str) -> Finding:
    """An edge port with a bridge behind it."""
    path = (*port_path(index.knowledge, device, port), "edge")
    return finding(
        EDGE_TO_BRIDGE,
        at=device,
        path=path,
        says=f"{device}/{port} is an edge port and leads to {far}, which is a bridge",
        mend=f"write 'edge: false' at {device}/{port}",
        edits=(Edit(path, "false"),),
    )


@rule
def spares(index: NetworkIndex) -> Iterator[Finding]:
    """A blocked link that lacks VLANs which the way in use carries and somebody needs."""
    tree = index.knowledge.devices.tree
    needed = index.once(users)
    for name in tree.blocked:
        node = index.knowledge.devices[name]
        root_port = tree.bridges[name].root_port
        if root_port is None:
            continue
        in_use = node.attachments[root_port].vlans
        for port in sorted(tree.blocked_at(name)):
            spare = node.attachments[port]
            peer = next((index.knowledge.links[end].peer for end in spare.members), None)
            if peer is None or peer.device not in index.knowledge.devices:
                continue
            far = index.knowledge.attachment_at(peer)
            lacking = [v for v in sorted(in_use & needed.keys()) if v not in spare.vlans or v not in far.vlans]
            edits = [
                Edit((*port_path(index.knowledge, device, end.name), "trunk", "+"), index.vlan_key(vlan))
                for device, end in ((name, spare), (peer.device, far))
                for vlan in lacking
                if isinstance(end.written.trunk, tuple) and vlan not in end.vlans
            ]
            if lacking and edits:
                yield spare_lacks_vlan(index, (name, port), lacking, edits)


SPARE_LACKS_VLAN = Kind(
    "spare-lacks-vlan",
    "risk",
    "a link that the tree keeps in reserve carries less than the one in use",
    "{vlans} is cut once the tree falls back on it",
    ALWAYS,
    example=Example("pair", "devices: {core-2: {ports: {p3: {trunk: [crew, guests]}}}}"),
)


def spare_lacks_vlan(index: NetworkIndex, spare: tuple[str, str], vlans: Sequence[int], edits: list[Edit]) -> Finding:
    """A blocked link that lacks VLANs of the one in use."""
    names = ", ".join(index.vlan_key(vlan) for vlan in vlans)
    where = "/".join(spare)
    return finding(
        SPARE_LACKS_VLAN,
        at=spare[0],
        path=(*port_path(index.knowledge, *spare), "trunk"),
        says=f"the link at {where} is kept in reserve and does not carry {names}, which the link in use carries",
        mend=f"carry {names} on both ends of the link at {where}",
        edits=tuple(edits),
        vlans=names,
    )


@rule
def circles_by_wire(index: NetworkIndex) -> Iterator[Finding]:
    """A circle that a device closes which takes no part in the tree."""
    knowledge = index.knowledge
    tree = knowledge.devices.tree
    told: set[str] = set()
    for name, blocked in tree.blocked.items():
        for port in sorted(blocked):
            peers = [knowledge.links[end].peer for end in knowledge.devices[name].attachments[port].members]
            far = next((peer.device for peer in peers if peer is not None), "")
            if far in tree.bridges or far not in index.network.devices or far in told:
                continue
            told.add(far)
            yield circle_by_wire(far, f"{name}/{port}")


CIRCLE_BY_WIRE = Kind(
    "circle-by-wire",
    "risk",
    "a circle that is closed by a device which takes no part in the spanning tree",
    "a real device may not pass the tree's frames on, and the circle becomes a storm",
    ALWAYS,
    example=Example("pair", "devices: {quay: {spanning-tree: off}}"),
)


def circle_by_wire(device: str, blocked: str) -> Finding:
    """A circle through a device that takes no part in the tree."""
    path: Path = ("devices", device, "spanning-tree")
    return finding(
        CIRCLE_BY_WIRE,
        at=device,
        path=path,
        says=f"{device} takes no part in the spanning tree and closes a circle, which only {blocked} keeps open",
        mend=f"let {device} take part in the spanning tree",
        edits=(Edit(path, "on"),),
    )
