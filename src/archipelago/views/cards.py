"""What a diagram says: a card for each device with its interfaces and the hosts plugged into it, the cables between
them, what is wrong, and the way of a packet."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from itertools import pairwise
from typing import NamedTuple

from archipelago.diagnosis.places import sits_in
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.domains import Domain
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.outside import ways_outside
from archipelago.model.finding import Finding
from archipelago.model.parts import KIND_NAMES, USUAL_MTU, Cable, End, Path, speed_text
from archipelago.model.problems import folded
from archipelago.simulation.reach import ReachResult
from archipelago.simulation.steps import Step
from archipelago.views.table import counted

MOST_HOSTS = 12
"""More hosts of one VLAN at one device are folded into a count."""
MOST_INTERFACES = 16
MOST_GROUPS = 200
"""The most VLANs whose hosts are drawn at one device."""
MOST_WRONG = 9
"""So many mistakes are marked, the worst; the rest is a count."""
COLOURS = {"out": "blue", "back": "amber"}
"""What the two directions of a way are drawn in."""


@dataclass(slots=True)
class Row:
    """A line of a card: its cells, the VLAN whose pattern stands before it, where it stands in the document, and the
    numbers of what is wrong with it."""

    cells: tuple[str, ...]
    path: Path
    vlan: int | None = None
    marks: list[int] = field(default_factory=list)
    bold: bool = False


@dataclass(slots=True)
class Group:
    """The hosts of one VLAN at a device."""

    vlan: int | None
    heading: str
    rows: list[Row]


@dataclass(slots=True)
class Card:
    """A device: its name and kind, its interfaces, the hosts plugged into it; `depth` is how many cables it is from the
    nearest routing device; `shade` how much hangs on it, from 0 on."""

    name: str
    kind: str
    heading: str
    rows: list[Row]
    depth: int
    groups: list[Group] = field(default_factory=list)
    marks: list[int] = field(default_factory=list)
    stops: str = ""
    shade: int = 0


class Link(NamedTuple):
    """A cable from a port of one card to one of another; to none where it leads outside. `legs` says which legs of a
    way it carries, as (direction, number); `reserve` that the spanning tree keeps it in reserve; `shade` how much
    hangs on it, drawn so `broad` in pixels."""

    a: End
    b: End | None
    label: str
    live: bool
    legs: tuple[tuple[str, int], ...] = ()
    marks: tuple[int, ...] = ()
    reserve: bool = False
    shade: int = 0
    broad: float = 7.0


@dataclass(slots=True)
class Content:
    """Everything that a diagram says. `notes` stand below it."""

    title: str
    subtitle: str
    cards: dict[str, Card]
    links: list[Link]
    vlans: list[int]
    notes: list[tuple[str, bool]]


def content_of(index: NetworkIndex, findings: Sequence[Finding] = (), way: ReachResult | None = None) -> Content:
    """What the diagram of a network says.

    Args:
        index: the network.
        findings: what is wrong, worst first; each is marked where it stands.
        way: an answer whose way, both directions, is drawn.
    """
    network = index.network
    counts = [
        (sum(device.kind == kind for device in network.devices.values()), name) for kind, name in KIND_NAMES.items()
    ]
    counts += [(len(network.vlans), "VLAN"), (len(network.hosts), "host")]
    texts = [counted(count, noun).replace("switchs", "switches") for count, noun in counts if count]
    depths = _depths(index)
    cards = {name: _card(index, name, depths[name]) for name in network.devices}
    for name, group in _groups(index):
        cards[name].groups.append(group)
    for card in cards.values():
        more = card.groups[MOST_GROUPS:]
        if more:
            others = Group(None, f"and {counted(len(more), 'more VLAN')}", [])
            card.groups = [*card.groups[:MOST_GROUPS], others]
    shown, rest = findings[:MOST_WRONG], findings[MOST_WRONG:]
    legs = _legs(index, way) if way is not None else {}
    links = [*_links(index, legs, shown), *_outside(index)]
    _mark(cards, links, shown)
    notes = [(f"[{number}] {f.severity.upper()} at {f.at}: {f.says}", True) for number, f in enumerate(shown, 1)]
    if rest:
        notes.append((f"and {counted(len(rest), 'more finding')}: audit --quick lists them", True))
    if way is not None:
        notes = [*_told(way, cards), *notes]
    vlans = list(network.vlans.values())
    subtitle = ", ".join(texts) + (f"; {counted(len(findings), 'finding')} marked by number" if len(findings) else "")
    return Content(network.title or "network", subtitle, cards, links, vlans, notes)


def _depths(index: NetworkIndex) -> dict[str, int]:
    """How many cables each device is from the nearest that routes; without one, from the first of its part."""
    near: dict[str, list[str]] = {name: [] for name in index.network.devices}
    for cable in index.network.cables:
        near[cable.a.device].append(cable.b.device)
        near[cable.b.device].append(cable.a.device)
    depths = {name: 0 for name in near if _is_routing(index.knowledge.devices[name])}
    waiting = deque(depths)
    for start in (None, *near):
        if start is not None and start not in depths:
            depths[start] = 0
            waiting.append(start)
        while waiting:
            name = waiting.popleft()
            for far in near[name]:
                if far not in depths:
                    depths[far] = depths[name] + 1
                    waiting.append(far)
    return depths


def _is_routing(node: Node) -> bool:
    return node.kind == "router" or (node.kind == "l3switch" and bool(node.forwards))


def _card(index: NetworkIndex, name: str, depth: int) -> Card:
    node = index.knowledge.devices[name]
    device = index.network.devices[name]
    rows = [_interface_row(index, node, nic) for nic in node.nics.values() if nic.addresses]
    if len(rows) > MOST_INTERFACES:
        more = counted(len(rows) - MOST_INTERFACES + 1, "more interface")
        rows = [*rows[: MOST_INTERFACES - 1], Row((f"and {more}",), ("devices", name, "interfaces"))]
    told = KIND_NAMES[device.kind]
    if device.kind == "l3switch" and not node.forwards:
        told += ", does not route"
    tree = index.knowledge.devices.tree
    if tree.blocked and name in index.once(_roots):
        told += ", the tree's root"
    said = f", {device.description}" if device.description else ""
    return Card(name, device.kind, f"{told}{', OFF' if device.off else ''}{said}", rows, depth)


def _roots(index: NetworkIndex) -> set[str]:
    """The roots of the parts of the spanning tree in which something is blocked."""
    tree = index.knowledge.devices.tree
    return {tree.name(tree.bridges[name].root) for name in tree.blocked}


def _interface_row(index: NetworkIndex, node: Node, nic: Nic) -> Row:
    vlan = _vlan_beside(index, node, nic)
    four = ", ".join(str(address) for address in nic.addresses if address.version == 4)
    six = ", ".join(str(address) for address in nic.addresses if address.version == 6)
    state = "" if nic.up else "not cabled" if nic.uncabled else "DOWN"
    ways = [way for way, one in (("in", nic.filter_in), ("out", nic.filter_out)) if one is not None]
    filters = ["filter" if ways == ["in"] else f"filter {', '.join(ways)}"] if ways else []
    filters += [_leases(index, node, nic)] if _leases(index, node, nic) else []
    filters += [f"translates to {nic.translates_to}"] if nic.translates_to is not None else []
    elected = index.knowledge.elected
    for member in elected.members(node.name) if node.name in index.knowledge.devices else ():
        if member.interface == nic.name and member.up and member.written.family == 4:
            state_there = "active" if elected.active(member) else "backup"
            filters.append(f"{state_there} for {', '.join(map(str, member.written.addresses))}")
    section = "interfaces" if nic.name in index.network.devices[node.name].interfaces else "ports"
    return Row(
        (nic.name, vlan, four, six, state, ", ".join(filters)), ("devices", node.name, section, nic.name), nic.vlan
    )


def _vlan_beside(index: NetworkIndex, node: Node, nic: Nic) -> str:
    """The VLAN of an interface; nothing where it is called after it and hosts below stand under the VLAN's name."""
    if nic.vlan is None:
        return ""
    name = index.names.get(nic.vlan)
    told = name is not None and nic.name.startswith(name) and (node.name, nic.vlan) in index.once(_peopled)
    return "" if told else index.vlan_name(nic.vlan)


def _peopled(index: NetworkIndex) -> set[tuple[str, int | None]]:
    """The VLANs of hosts, with the devices that these are plugged into."""
    nodes = index.knowledge.nodes
    return {
        (host.at.device, sits_in(index, nodes[host.name], next(iter(nodes[host.name].nics.values()))))
        for host in index.network.hosts.values()
    }


def _leases(index: NetworkIndex, node: Node, nic: Nic) -> str:
    """Whether addresses are leased on an interface's subnet, or what is asked there is relayed."""
    if nic.dhcp_relay:
        return "relay"
    pools = index.knowledge.leases.pools_of(node.name).values()
    return "leases" if any(pool.subnet.holds(own) for pool in pools for own in nic.addresses) else ""


def _groups(index: NetworkIndex) -> Iterable[tuple[str, Group]]:
    """The hosts at each device by VLAN, with the segment of the VLAN where it is in several."""
    members: dict[tuple[str, int | None, Domain | None], list[str]] = {}
    segments: dict[int | None, list[Domain]] = {}
    for host in index.network.hosts.values():
        node = index.knowledge.nodes[host.name]
        nic = next(iter(node.nics.values()))
        vlan, segment = sits_in(index, node, nic), index.domains.of((host.name, nic.name))
        members.setdefault((host.at.device, vlan, segment), []).append(host.name)
        if segment is not None and segment not in segments.setdefault(vlan, []):
            segments[vlan].append(segment)
    for (device, vlan, segment), names in members.items():
        heading = index.vlan_name(vlan) if vlan is not None else "no VLAN"
        if segment is None:
            heading += ": no carrier"
        elif len(segments[vlan]) > 1:
            heading += f": segment {segments[vlan].index(segment) + 1} of {len(segments[vlan])}"
        rows = [_host_row(index, name) for name in names[:MOST_HOSTS]]
        if len(names) > MOST_HOSTS:
            more = names[MOST_HOSTS - 1 :]
            rows = [*rows[: MOST_HOSTS - 1], Row((f"and {counted(len(more), 'more host')}",), ("hosts",))]
        yield device, Group(vlan, heading, rows)


def _host_row(index: NetworkIndex, name: str) -> Row:
    host = index.network.hosts[name]
    address = ", ".join(str(address.address) for address in host.addresses[:1]) or ("" if host.auto else "no address")
    told = " + ".join(part for part in (address, "auto" if host.auto else "") if part)
    return Row((host.at.port, name, told, "OFF" if host.off else ""), ("hosts", name))


Legs = dict[End, list[tuple[str, int]]]
"""Which legs of a way, as direction and number, leave a device by a port."""


def _legs(index: NetworkIndex, way: ReachResult) -> Legs:
    legs: Legs = {}
    for direction, steps in (("out", way.out), ("back", way.back)):
        for number, (here, there) in enumerate(pairwise(steps), 1):
            if here.egress is not None and here.device in index.network.devices:
                for port in _ports(index, here.device, here.egress):
                    far = index.knowledge.links[End(here.device, port)].peer
                    if far is not None and far.device == there.device:
                        legs.setdefault(End(here.device, port), []).append((direction, number))
    return legs


def _ports(index: NetworkIndex, device: str, egress: str) -> list[str]:
    """The ports that an interface or an aggregate sends by."""
    node = index.knowledge.devices[device]
    nic = node.nics.get(egress)
    name = nic.attachment if nic is not None and nic.attachment is not None else egress
    attachment = node.attachments.get(name)
    return [end.port for end in attachment.members] if attachment is not None else []


def _links(index: NetworkIndex, legs: Legs, findings: Sequence[Finding]) -> Iterable[Link]:
    for number, cable in enumerate(index.network.cables):
        both = [*legs.get(cable.a, ()), *legs.get(cable.b, ())]
        paths = [("cables", number), *(("devices", end.device, "ports", end.port) for end in cable.ends)]
        marks = tuple(at for at, finding in enumerate(findings, 1) if any(finding.path[: len(p)] == p for p in paths))
        live = index.knowledge.links[cable.a].carrier
        ends = [index.knowledge.attachment_at(end) for end in cable.ends]
        reserve = live and any(end.blocked for end in ends)
        text = cable_text(index, cable)
        carried = tuple(sorted(both, reverse=True))
        yield Link(cable.a, cable.b, text, live, legs=carried, marks=marks, reserve=reserve)


def cable_text(index: NetworkIndex, cable: Cable) -> str:
    """What a cable carries, and how fast: `1G, VLANs 210, 220`."""
    if cable.off:
        return "OFF"
    if not index.knowledge.links[cable.a].carrier:
        return "DOWN"
    speed = speed_text(index.knowledge.links.speed(cable.a))
    here, there = (index.knowledge.attachment_at(end) for end in cable.ends)
    mtu = min(here.mtu, there.mtu)
    speed += f", {mtu:,} octets" if mtu != USUAL_MTU else ""
    nics = index.knowledge.devices[cable.a.device].nics_on(here.name)
    if not here.switched and not there.switched and not any(nic.kind == "subinterface" for nic in nics):
        return f"{speed}, routed"
    shared = sorted(set(_tags(index, cable.a)) & set(_tags(index, cable.b)))
    if here.blocked or there.blocked:
        speed = f"in reserve, {speed}"
    if not shared:
        return f"{speed}, no VLAN"
    return f"{speed}, VLAN{'s' * (len(shared) > 1)} {folded(map(str, shared))}"


def _tags(index: NetworkIndex, end: End) -> list[int]:
    attachment = index.knowledge.attachment_at(end)
    if attachment.switched:
        return list(attachment.vlans)
    return [nic.vlan for nic in index.knowledge.devices[end.device].nics_on(attachment.name) if nic.vlan is not None]


def _outside(index: NetworkIndex) -> Iterable[Link]:
    """A link to nowhere for each port that leads outside."""
    for node, nic, hops in ways_outside(index.knowledge):
        yield Link(End(node.name, nic.name), None, f"outside, via {' and '.join(map(str, hops.values()))}", True)


def _mark(cards: dict[str, Card], links: Sequence[Link], findings: Sequence[Finding]) -> None:
    """Put the number of each finding where it stands: at the row of a host or an interface, else at the device."""
    rows = {row.path: row for card in cards.values() for row in card.rows}
    rows |= {row.path: row for card in cards.values() for group in card.groups for row in group.rows}
    marked = {number for link in links for number in link.marks}
    for number, finding in enumerate(findings, 1):
        row = rows.get(finding.path[:4]) or rows.get(finding.path[:2])
        if row is not None:
            row.marks.append(number)
        elif number not in marked:
            at = str(finding.path[1]) if finding.path[:1] == ("devices",) and len(finding.path) > 1 else finding.at
            if at in cards:
                cards[at].marks.append(number)


def _told(way: ReachResult, cards: dict[str, Card]) -> Iterable[tuple[str, bool]]:
    """The way in words, and the place where it stops."""
    for name in (way.source, way.target):
        for card in cards.values():
            for row in (*card.rows, *(row for group in card.groups for row in group.rows)):
                row.bold = row.bold or row.path == ("hosts", name)
    if way.stopped_at in cards and not way.reached:
        direction = "back" if way.direction == "back" else "out"
        cards[way.stopped_at].stops = f"STOPS HERE on the way {direction}"
    yield way.headline, not way.reached
    for direction, steps in (("out", way.out), ("back", way.back)):
        if steps:
            yield f"way {direction} ({COLOURS[direction]}): {_steps_text(steps)}", False
    for line in way.why_not:
        yield " ".join(line.split()), True


def _steps_text(steps: Sequence[Step]) -> str:
    return ", ".join(f"{step.device} {step.did}" for step in steps)
