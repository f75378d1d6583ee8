"""Where everything goes in a diagram: routing devices above, switches below them, hosts at the bottom.

All lengths are in points. Every box has a column range of its own, so nothing overlaps at any size.
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field

from archipelago.addressing.values import is_link_local
from archipelago.diagnosis.places import sits_in, unplugged
from archipelago.knowledge.devices import Node
from archipelago.knowledge.domains import Domain
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.parts import Cable, End
from archipelago.views.table import counted

CHARACTER = 5.6
"""Width of a character of the diagram's text."""
LINE = 12.0
GAP = 16.0
TOP = 78.0
ROW_GAP = 58.0
SPINE = 10.0
"""Room to the left of a stack of panels for the line that joins them."""
MOST_PANELS = 200
"""The most VLANs whose hosts are drawn at one device."""
MOST_LINES = 12
"""More lines than this in one box are folded into a count."""


@dataclass(slots=True)
class Box:
    """A rectangle with a heading and lines of text. `vlan` colours it; `kind` gives it its shape."""

    kind: str
    heading: str
    texts: list[str]
    vlan: int | None = None
    x: float = 0.0
    y: float = 0.0
    width: float = 0.0
    height: float = 0.0

    def measure(self) -> None:
        longest = max(len(text) for text in (*self.texts, self.heading + "  "))
        self.width = max(longest * CHARACTER + 18, 76.0)
        self.height = LINE * (len(self.texts) + 1) + 12


@dataclass(slots=True)
class Line:
    """A cable from the bottom of one box to the top of another, with a label beside its lower end. One with a `mark`
    is in no tree: it runs dashed between the two, and a note tells what it is. One to a stack of panels ends at the
    stack's side."""

    upper: Box
    lower: Box
    label: str
    live: bool
    mark: int = 0
    stack: bool = False


@dataclass(slots=True)
class Sheet:
    """The whole diagram."""

    title: str
    subtitle: str = ""
    boxes: list[Box] = field(default_factory=list)
    lines: list[Line] = field(default_factory=list)
    vlans: list[tuple[int, str]] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    width: float = 0.0
    height: float = 0.0


@dataclass(slots=True)
class _Branch:
    box: Box
    row: int
    panels: list[Box] = field(default_factory=list)
    children: list[_Branch] = field(default_factory=list)
    label: str = ""
    live: bool = True
    width: float = 0.0


def lay_out(index: NetworkIndex) -> Sheet:
    """Place every device and host."""
    network = index.network
    kinds = {"router": "router", "l3switch": "layer 3 switch", "switch": "switch"}
    counts = [(sum(device.kind == kind for device in network.devices.values()), name) for kind, name in kinds.items()]
    counts += [(len(network.vlans), "VLAN"), (len(network.hosts), "host")]
    texts = [counted(count, noun).replace("switchs", "switches") for count, noun in counts if count]
    sheet = Sheet(network.title or "network", ", ".join(texts))
    sheet.vlans = [(number, name) for name, number in network.vlans.items()]
    branches, others = _trees(index)
    _panels(index, branches)
    for branch in branches.values():
        branch.box.measure()
        branch.box.width = max(branch.box.width, len(branch.label) * CHARACTER + 12)
        for panel in branch.panels:
            panel.measure()
    children = {id(child) for branch in branches.values() for child in branch.children}
    roots = [branch for branch in branches.values() if id(branch) not in children]
    rows = _rows(list(branches.values()))
    left = GAP
    for root in roots:
        _measure(root)
        _place(root, left, rows, sheet)
        left += root.width + GAP
    for mark, cable in enumerate(others, 1):
        a, b = branches[cable.a.device].box, branches[cable.b.device].box
        live = index.knowledge.links[cable.a].carrier
        sheet.lines.append(Line(a, b, "", live, mark=mark))
        sheet.notes.append(f"dashed line {mark}: {cable} ({_cable_text(index, cable)})")
    sheet.width = max(left, 360.0)
    sheet.height = (
        max(box.y + box.height for box in sheet.boxes) + GAP + LINE * (len(sheet.notes) + 1) if sheet.boxes else 80.0
    )
    return sheet


def _trees(index: NetworkIndex) -> tuple[dict[str, _Branch], list[Cable]]:
    """Devices as trees below the routing ones, and the cables that are in no tree."""
    network = index.network
    near: dict[str, list[Cable]] = {name: [] for name in network.devices}
    for cable in network.cables:
        near[cable.a.device].append(cable)
        near[cable.b.device].append(cable)
    routing = [name for name, node in index.knowledge.nodes.items() if _is_routing(node)]
    branches: dict[str, _Branch] = {}
    used: set[int] = set()
    queue: deque[str] = deque()
    for name in routing:
        branches[name] = _Branch(_device_box(index, name), 0)
        queue.append(name)
    pending = deque(name for name in network.devices if name not in branches)
    while queue or pending:
        if not queue:
            name = pending.popleft()
            if name in branches:
                continue
            branches[name] = _Branch(_device_box(index, name), 1 if routing else 0)
            queue.append(name)
        name = queue.popleft()
        for cable in near[name]:
            far = cable.b.device if cable.a.device == name else cable.a.device
            if far not in branches:
                used.add(id(cable))
                here, there = (cable.a, cable.b) if cable.a.device == name else (cable.b, cable.a)
                label = f"{here.port} to {there.port}: {_cable_text(index, cable)}"
                live = index.knowledge.links[cable.a].carrier
                child = _Branch(_device_box(index, far), branches[name].row + 1, label=label, live=live)
                branches[name].children.append(child)
                branches[far] = child
                queue.append(far)
    return branches, [cable for cable in network.cables if id(cable) not in used]


def _is_routing(node: Node) -> bool:
    return node.kind == "router" or (node.kind == "l3switch" and bool(node.forwards))


def _device_box(index: NetworkIndex, name: str) -> Box:
    node = index.knowledge.nodes[name]
    device = index.network.devices[name]
    texts = []
    for nic in node.nics.values():
        if nic.addresses:
            vlan = f" {index.vlan_name(nic.vlan)}" if nic.vlan is not None else ""
            addresses = ", ".join(str(address) for address in nic.addresses)
            beyond = nic.up and unplugged(index, node, nic)
            state = " - outside" if beyond else "" if nic.up else " - not cabled" if nic.uncabled else " - DOWN"
            texts.append(f"{nic.name}{vlan}: {addresses}{state}")
    kind = {"router": "router", "l3switch": "layer 3 switch", "switch": "switch"}[device.kind]
    off = " - OFF" if device.off else ""
    return Box(device.kind, f"{name} ({kind}){off}", _cut(texts, "interface"))


def _cut(texts: list[str], noun: str) -> list[str]:
    if len(texts) <= MOST_LINES:
        return texts
    return [*texts[: MOST_LINES - 1], f"and {counted(len(texts) - MOST_LINES + 1, 'more ' + noun)}"]


def _cable_text(index: NetworkIndex, cable: Cable) -> str:
    if cable.off:
        return "off"
    here = index.knowledge.attachment_at(cable.a)
    there = index.knowledge.attachment_at(cable.b)
    if not index.knowledge.links[cable.a].carrier:
        return "down"
    if (
        not here.switched
        and not there.switched
        and not any(nic.kind == "subinterface" for nic in index.knowledge.nodes[cable.a.device].nics_on(here.name))
    ):
        return "routed"
    shared = set(_tags(index, cable.a)) & set(_tags(index, cable.b))
    return counted(len(shared), "VLAN")


def _tags(index: NetworkIndex, end: End) -> list[int]:
    attachment = index.knowledge.attachment_at(end)
    if attachment.switched:
        return list(attachment.vlans)
    return [nic.vlan for nic in index.knowledge.nodes[end.device].nics_on(attachment.name) if nic.vlan is not None]


def _panels(index: NetworkIndex, branches: dict[str, _Branch]) -> None:
    """One panel for the hosts of each VLAN behind each device; it tells which segment of the VLAN it is."""
    groups: dict[tuple[str, int | None, Domain | None], list[str]] = {}
    for host in index.network.hosts.values():
        node = index.knowledge.nodes[host.name]
        nic = next(iter(node.nics.values()))
        vlan = sits_in(index, node, nic)
        segment = index.domains.of((host.name, nic.name))
        groups.setdefault((host.at.device, vlan, segment), []).append(host.name)
    segments: dict[int | None, list[Domain | None]] = {}
    for _, vlan, segment in groups:
        if segment not in segments.setdefault(vlan, []):
            segments[vlan].append(segment)
    panels: dict[str, list[Box]] = {device: [] for device, _, _ in groups}
    for (device, vlan, segment), names in groups.items():
        heading = index.vlan_name(vlan) if vlan is not None else "no VLAN"
        if segment is None:
            heading += " - no carrier"
        elif len([member for member in segments[vlan] if member is not None]) > 1:
            numbered = [member for member in segments[vlan] if member is not None]
            heading += f" - segment {numbered.index(segment) + 1} of {len(numbered)}"
        texts = _subnets(index, names)
        width = max(len(name) for name in names)
        for name in names:
            host = index.network.hosts[name]
            address = str(host.addresses[0].address) if host.addresses else "no address"
            also = " + auto" if host.auto else ""
            texts.append(f"{name:<{width}}  {address}{also}" + (" - OFF" if host.off else ""))
        panels[device].append(Box("hosts", heading, _cut(texts, "host"), vlan))
    for device, boxes in panels.items():
        more = boxes[MOST_PANELS:]
        branches[device].panels += boxes[: len(boxes) - len(more)]
        if more:
            listed = ", ".join(box.heading for box in (*more[:3], more[-1]))
            branches[device].panels.append(Box("hosts", f"and {counted(len(more), 'more VLAN')}", [f"{listed}, ..."]))


def _subnets(index: NetworkIndex, names: list[str]) -> list[str]:
    """A line for each family: the one subnet of its hosts, or how many there are."""
    lines = []
    for version in (4, 6):
        addresses = [
            address for name in names for address in index.network.hosts[name].addresses if address.version == version
        ]
        prefixes = sorted({address.prefix for address in addresses if not is_link_local(address)})
        if prefixes:
            lines.append(str(prefixes[0]) if len(prefixes) == 1 else f"{len(prefixes)} IPv{version} subnets")
    return lines or ["no subnet"]


def _rows(branches: list[_Branch]) -> tuple[list[float], float]:
    """The top of each row of devices, and that of the row of hosts."""
    heights: dict[int, float] = {}
    for branch in branches:
        heights[branch.row] = max(heights.get(branch.row, 0.0), branch.box.height)
    tops, y = [], TOP
    for row in range(max(heights, default=0) + 1):
        tops.append(y)
        y += heights.get(row, 0.0) + ROW_GAP
    return tops, y - ROW_GAP / 2


def _measure(root: _Branch) -> None:
    """The width of each branch below a root, the lowest first. A chain of switches may be longer than the stack of
    calls that Python allows, so nothing here calls itself."""
    order = [root]
    for branch in order:  # which grows while it is walked
        order += branch.children
    for branch in reversed(order):
        below = sum(map(_stack_width, _stacks(branch.panels))) + sum(child.width + GAP for child in branch.children)
        branch.width = max(branch.box.width, below - GAP if below else 0.0)


def _stacks(panels: list[Box]) -> list[list[Box]]:
    """Panels in columns of about the same height, so that a device with many VLANs stays narrow."""
    if not panels:
        return []
    columns = max(1, round((len(panels) * 0.7) ** 0.5))
    rows = -(-len(panels) // columns)
    return [panels[start : start + rows] for start in range(0, len(panels), rows)]


def _stack_width(stack: list[Box]) -> float:
    return max(panel.width for panel in stack) + GAP + SPINE


def _place(root: _Branch, left: float, rows: tuple[list[float], float], sheet: Sheet) -> None:
    """Every box below a root, and the lines between them."""
    tops, bottom = rows
    pending = [(root, left)]
    while pending:
        branch, left = pending.pop()
        branch.box.x = left + (branch.width - branch.box.width) / 2
        branch.box.y = tops[branch.row]
        sheet.boxes.append(branch.box)
        stacks = _stacks(branch.panels)
        below = sum(map(_stack_width, stacks)) + sum(child.width + GAP for child in branch.children) - GAP
        x = left + max(0.0, (branch.width - below) / 2)
        for stack in stacks:
            _place_stack(branch, stack, x, bottom, sheet)
            x += _stack_width(stack)
        for child in branch.children:
            pending.append((child, x))
            sheet.lines.append(Line(branch.box, child.box, child.label, child.live))
            x += child.width + GAP


def _place_stack(branch: _Branch, stack: list[Box], x: float, y: float, sheet: Sheet) -> None:
    width = max(panel.width for panel in stack)
    for panel in stack:
        panel.x, panel.y, panel.width = x + SPINE, y, width
        y += panel.height + GAP / 2
        sheet.boxes.append(panel)
        sheet.lines.append(Line(branch.box, panel, "", True, stack=True))
