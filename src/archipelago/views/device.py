"""What devices know, as tables: interfaces, VLANs and their ports, trunks, routes, and after a probe ARP and MAC."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable

from archipelago.addressing.values import Address, Prefix, is_link_local
from archipelago.diagnosis.places import unplugged
from archipelago.knowledge.devices import Attachment, Nic, Node, speaks_ipv6
from archipelago.knowledge.forwarding import Delivered, decide_own
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.links import Link
from archipelago.model.parts import DEFAULT_VLAN, KIND_NAMES, USUAL_MTU, Aggregate, End, Host, NextHop, speed_text
from archipelago.model.problems import folded
from archipelago.simulation.build import Simulation
from archipelago.simulation.frames import mac_text
from archipelago.simulation.interface import Interface
from archipelago.views.table import Table, counted, table


def tables(
    index: NetworkIndex, nodes: list[Node], vlans: frozenset[int] = frozenset(), ports: frozenset[str] = frozenset()
) -> list[Table]:
    """Every table of some devices.

    Args:
        index: the network.
        nodes: the devices.
        vlans: show only these VLANs; all where empty.
        ports: show only what concerns these ports or interfaces; all where empty.
    """
    made = [
        routing(index, nodes) if not vlans and not ports else None,
        interfaces(index, nodes, vlans, ports),
        vlan_ports(index, nodes, vlans, ports),
        trunks(index, nodes, vlans, ports),
        aggregates(index, nodes, ports) if not vlans else None,
        sizes(nodes, ports),
        routes(index, nodes, ports) if not vlans else None,
    ]
    return [row for row in made if row is not None and row.rows]


def routing(index: NetworkIndex, nodes: list[Node]) -> Table:
    """Which devices forward packets, family by family; a device that is none says so, and why no routes follow."""
    rows = []
    for node in nodes:
        if node.kind != "host":
            said = ["routes" if version in node.forwards else "does not route" for version in (4, 6)]
            rows.append((node.name, KIND_NAMES[node.kind], *said, "off" if node.off else ""))
    return table("routing", ("device", "kind", "IPv4", "IPv6", "state"), rows)


def interfaces(index: NetworkIndex, nodes: list[Node], vlans: frozenset[int], ports: frozenset[str]) -> Table:
    rows: list[tuple[object, ...]] = []
    for node in nodes:
        for nic in node.nics.values():
            if (vlans and nic.vlan not in vlans) or (ports and not {nic.name, nic.attachment} & ports):
                continue
            if nic.kind == "port" and not nic.addresses and nic.uncabled:
                continue
            tag = "" if nic.kind != "subinterface" else "untagged" if nic.tag is None and nic.speaks else nic.tag
            if nic.kind == "subinterface" and not nic.speaks:
                tag = "no tag"
            vlan = index.vlan_name(nic.vlan) if nic.vlan is not None else ""
            state = f"down: {nic.down}" if not nic.up else "up, outside" if unplugged(index, node, nic) else "up"
            addresses = ", ".join(str(address) for address in nic.addresses) or "no address"
            local = nic.link_local if speaks_ipv6(nic) else ""
            on, said = _on(node, nic), _description(node, nic)
            rows.append((node.name, nic.name, _KINDS[nic.kind], vlan, tag, on, addresses, local, nic.vrf, state, said))
    columns = ("device", "interface", "kind", "VLAN", "tag", "on", "address", "link-local", "vrf", "state")
    least = (*_alone(nodes), "link-local", "tag", "kind", "vrf", "on", "description")
    return table("interfaces", (*columns, "description"), rows, ("tag",), least)


def _description(node: Node, nic: Nic) -> str:
    """What people say of an interface; of a host's port what they say of the host."""
    written = node.written
    if isinstance(written, Host):
        return written.description
    part = written.ports.get(nic.name) or written.interfaces.get(nic.name)
    return part.description if part is not None else ""


def _on(node: Node, nic: Nic) -> str:
    """The physical ports behind a subinterface, an aggregate or a VLAN interface: those that have carrier and carry its
    VLAN."""
    if nic.kind == "vlan":
        return folded(a.name for a in node.attachments.values() if nic.vlan in a.vlans and a.carrier)
    if nic.kind == "aggregate":
        return folded(end.port for end in node.attachments[nic.name].members)
    return nic.attachment or "" if nic.kind == "subinterface" else ""


_KINDS = {
    "port": "routed port",
    "subinterface": "subinterface",
    "vlan": "VLAN interface",
    "aggregate": "routed aggregate",
    "loopback": "loopback",
    "host": "host port",
}


def vlan_ports(index: NetworkIndex, nodes: list[Node], vlans: frozenset[int], ports: frozenset[str]) -> Table:
    """Each VLAN of each device with the ports in it; one without ports there is left out, unless it is suspended."""
    rows = []
    names: dict[int, str] = {}
    for name, vlan in index.network.vlans.items():
        names.setdefault(vlan, name)
    for node in nodes:
        inside: dict[int, list[str]] = {}
        for nic in node.nics.values():
            if nic.kind == "vlan" and nic.vlan is not None:
                inside.setdefault(nic.vlan, []).append(nic.name)
        plain: dict[int, list[str]] = {}
        tagged: dict[int, list[str]] = {}
        native: dict[int, list[str]] = {}
        for attachment in node.attachments.values():
            if not attachment.switched or (ports and attachment.name not in ports):
                continue
            for vlan in attachment.vlans:
                if attachment.written.trunk is None:
                    plain.setdefault(vlan, []).append(attachment.name)
                elif vlan == attachment.untagged:
                    native.setdefault(vlan, []).append(attachment.name)
                else:
                    tagged.setdefault(vlan, []).append(attachment.name)
        for vlan in sorted({*plain, *tagged, *native, *(() if ports else node.suspended)}):
            if vlans and vlan not in vlans:
                continue
            rows.append(
                (
                    node.name,
                    vlan,
                    f"{names.get(vlan, '')} (suspended)" if vlan in node.suspended else names.get(vlan, ""),
                    folded(plain.get(vlan, ())),
                    folded(tagged.get(vlan, ())),
                    folded(native.get(vlan, ())),
                    folded(inside.get(vlan, ())),
                )
            )
    columns = ("device", "VLAN", "name", "access ports", "tagged on", "untagged on trunks", "VLAN interface")
    return table("VLANs", columns, rows, ("VLAN",), _alone(nodes))


def aggregates(index: NetworkIndex, nodes: list[Node], ports: frozenset[str]) -> Table:
    """Each aggregate: its members, those of them that have carrier, the one that it sends by (the first live one, IEEE
    802.1AX), the one that it would send by without that, and what their cables lead to."""
    rows = []
    for node in nodes:
        for attachment in node.attachments.values():
            written = attachment.written
            if not isinstance(written, Aggregate) or (ports and not {written.name, *written.members} & ports):
                continue
            links = [index.knowledge.links[end] for end in attachment.members]
            live = [link for link in links if link.carrier]
            leads_to = dict.fromkeys(_far_end(index, link.peer) for link in links if link.peer is not None)
            rows.append(
                (
                    node.name,
                    written.name,
                    folded(written.members),
                    folded(link.end.port for link in live) or "none",
                    live[0].end.port if live else "none",
                    _next_sender(index, written, live),
                    ", ".join(leads_to) or "nothing",
                )
            )
    columns = ("device", "aggregate", "members", "live", "sends by", "else by", "leads to")
    return table("aggregates", columns, rows, least=_alone(nodes))


def _far_end(index: NetworkIndex, peer: End) -> str:
    """What a member's cable leads to: an aggregate, or a port or host that is in none."""
    if peer.device not in index.knowledge.devices:
        return f"{peer.device} (in no aggregate)"
    there = index.knowledge.attachment_at(peer)
    return f"{peer.device}/{there.name}" if there.name != peer.port else f"{peer} (in no aggregate)"


def _next_sender(index: NetworkIndex, written: Aggregate, live: list[Link]) -> str:
    """The member that an aggregate would send by without the one that it sends by; of a shared one without another
    member the half at the other device, where that is up."""
    if len(live) > 1:
        first, second = live[:2]
        slower = f", at {speed_text(second.speed)} instead of {speed_text(first.speed)}"
        return f"{second.end.port}{slower if second.speed < first.speed else ''}"
    other = index.knowledge.devices[written.shared_with].attachments.get(written.name) if written.shared_with else None
    return f"the half at {written.shared_with}" if other is not None and other.carrier else "none"


def trunks(index: NetworkIndex, nodes: list[Node], vlans: frozenset[int], ports: frozenset[str]) -> Table:
    rows = []
    for node in nodes:
        for attachment in node.attachments.values():
            if ports and attachment.name not in ports:
                continue
            carried = _carried(node, attachment)
            if carried is None or (vlans and not vlans & set(carried)):
                continue
            names = folded(str(vlan) for vlan in sorted(carried)) or "nothing"
            untagged: object = "none" if attachment.untagged is None else attachment.untagged
            if not attachment.switched:
                untagged = next(
                    (nic.vlan for nic in node.nics_on(attachment.name) if nic.tag is None and nic.addresses), "none"
                )
            state = "up" if attachment.carrier else f"down: {attachment.down}"
            rows.append(
                (
                    node.name,
                    attachment.name,
                    _far(index, attachment),
                    counted(len(carried), "VLAN"),
                    names,
                    untagged,
                    state,
                )
            )
    columns = ("device", "trunk", "towards", "carries", "VLAN ids", "untagged", "state")
    return table("trunks", columns, rows, least=(*_alone(nodes), "carries"))


def sizes(nodes: list[Node], ports: frozenset[str]) -> Table:
    """The ports and interfaces that pass more or fewer octets than usual."""
    rows = []
    for node in nodes:
        passes = {one.name: one.mtu for one in node.attachments.values()}
        passes |= {nic.name: nic.mtu for nic in node.nics.values()}
        unusual = {name: mtu for name, mtu in passes.items() if mtu != USUAL_MTU and (not ports or name in ports)}
        rows += [(node.name, name, mtu) for name, mtu in unusual.items()]
    return table("packet sizes", ("device", "port or interface", "octets"), rows, ("octets",), _alone(nodes))


def _carried(node: Node, attachment: Attachment) -> list[int] | None:
    """The VLANs of a trunk, or of a port with subinterfaces; None for anything else."""
    if attachment.switched:
        return (
            None
            if attachment.written.trunk is None
            else [vlan for vlan in attachment.vlans if vlan != attachment.untagged or vlan != DEFAULT_VLAN]
        )
    tags = [nic.vlan for nic in node.nics_on(attachment.name) if nic.kind == "subinterface" and nic.vlan is not None]
    return tags or None


def _far(index: NetworkIndex, attachment: Attachment) -> str:
    peers = [index.knowledge.links[end].peer for end in attachment.members]
    named = [str(peer.device if peer.device in index.network.hosts else peer) for peer in peers if peer is not None]
    return ", ".join(named) or "nothing"


def routes(index: NetworkIndex, nodes: list[Node], ports: frozenset[str] = frozenset()) -> Table:
    """Routes in use, then those that are not and why."""
    rows: list[tuple[object, ...]] = []
    for node in nodes:
        known = index.knowledge.routes(node.name)
        for (vrf, _), entries in sorted(known.tables.items()):
            for entry in entries.entries():
                if ports and entry.interface not in ports:
                    continue
                how = (
                    "connected"
                    if entry.route is None
                    else "advertised"
                    if _is_advertised(node, entry.route.next_hop)
                    else "gateway"
                    if _is_gateway(node, entry.route.next_hop)
                    else "static"
                )
                metric = entry.metric if entry.route is not None and how == "static" else ""
                rows.append(
                    (node.name, vrf, entry.prefix, entry.next_hop or "", entry.interface, how, metric, "in use")
                )
        for unused in known.unused:
            rows.append(
                (
                    node.name,
                    unused.route.vrf,
                    unused.route.destination,
                    unused.route.next_hop,
                    "",
                    "static",
                    unused.route.metric,
                    f"not used: {unused.reason}",
                )
            )
        for route in known.shadowed:
            rows.append(
                (
                    node.name,
                    route.vrf,
                    route.destination,
                    route.next_hop,
                    "",
                    "static",
                    route.metric,
                    "inactive: a better one is in use",
                )
            )
    columns = ("device", "vrf", "destination", "next hop", "egress", "how", "metric", "state")
    return table("routes", columns, rows, ("metric",), (*_alone(nodes), "metric", "how"))


def _is_gateway(node: Node, via: object) -> bool:
    return via in node.written.gateway


def learned(simulation: Simulation, nodes: list[Node]) -> list[Table]:
    """The neighbour (ARP) and MAC tables that a simulation left behind."""
    names = [node.name for node in nodes]
    arp = [
        (name, interface.name, address, mac_text(mac))
        for name in names
        for interface in simulation.station(name).interfaces.values()
        for address, mac in sorted(interface.neighbours.items())
    ]
    macs = []
    for name in names:
        switch = simulation.switch(name)
        for vlan, entries in sorted(switch.tables.items()) if switch else ():
            for mac, outlet in sorted(entries.items()):
                where = "its own" if isinstance(outlet, Interface) else outlet.name
                macs.append((name, vlan, mac_text(mac), where))
    return [
        table("ARP and neighbour tables", ("device", "interface", "address", "MAC address"), arp),
        table("MAC tables", ("device", "VLAN", "MAC address", "port"), macs, ("VLAN",)),
    ]


def _alone(nodes: list[Node]) -> tuple[str, ...]:
    """The column that says nothing where one device is shown."""
    return ("device",) if len(nodes) == 1 else ()


def _is_advertised(node: Node, via: NextHop) -> bool:
    """Whether a gateway is one that a router advertised."""
    return isinstance(node.written, Host) and node.written.auto and is_link_local(via.address)


def summary(nodes: Iterable[Node]) -> str:
    """One line that says what is up and what is not."""
    nics: list[tuple[Node, Nic]] = [(node, nic) for node in nodes for nic in node.nics.values() if nic.addresses]
    down = [f"{node.name}/{nic.name}" for node, nic in nics if not nic.up]
    text = f"{counted(len(nics), 'interface')} with addresses, {len(nics) - len(down)} up"
    return text + (f"; down: {folded(down)}" if down else "")


def side_by_side(index: NetworkIndex, a: Node, b: Node) -> Table:
    """How each of two devices would send to every subnet of the network, and which of the two has a route at all."""
    rows = []
    for prefix, subnet in subnets(index):
        ways = [way_to(index, node, prefix) for node in (a, b)]
        known = [way != UNKNOWN for way in ways]
        mark = (
            ""
            if all(known)
            else "neither has a route"
            if not any(known)
            else f"only {(a if known[0] else b).name} has a route"
        )
        rows.append((prefix, subnet.node.name, *ways, mark))
    return table(
        "subnets, as both see them", ("subnet", "connected at", a.name, b.name, "mark"), rows, least=("connected at",)
    )


def unlike(beside: Table) -> str:
    """How many subnets only one of two devices has a route to, for their headline; empty where they are alike."""
    marks = Counter(row[-1] for row in beside.rows if beside.columns[-1] == "mark" and row[-1])
    return "".join(f"; {counted(count, 'subnet')} {mark} to" for mark, count in marks.items())


UNKNOWN = "no route"


def subnets(index: NetworkIndex) -> list[tuple[Prefix, Held]]:
    """Every subnet that a routing device has an address in, once, in order, with the first of its holders."""
    by_prefix: dict[Prefix, Held] = {}
    for node in index.knowledge.nodes.values():
        if node.can_route:
            for nic in node.nics.values():
                for address in nic.addresses:
                    if not is_link_local(address):
                        by_prefix.setdefault(address.prefix, Held(node, nic, address))
    return sorted(by_prefix.items())


def way_to(index: NetworkIndex, node: Node, prefix: Prefix, vrf: str = "") -> str:
    """How a device or host would send to a subnet."""
    target = Address(prefix.version, prefix.usable()[0])
    decision = decide_own(index.knowledge.state(node.name), target, vrf)
    if isinstance(decision, Delivered):
        return f"on {decision.interface}"
    entry = decision.route
    if entry is None:
        return UNKNOWN
    if entry.next_hop is None:
        return f"on {entry.interface}"
    return f"via {entry.next_hop}" + ("" if entry.prefix.length else " (default)")


def host_view(index: NetworkIndex, node: Node) -> Table:
    """How one host would send to each subnet, and why not."""
    rows = []
    why = "; ".join(
        f"gateway {route.route.next_hop}: {route.reason}" for route in index.knowledge.routes(node.name).unused
    )
    down = next((str(nic.down) for nic in node.nics.values() if nic.down), "")
    for prefix, subnet in subnets(index):
        way = way_to(index, node, prefix)
        if way == UNKNOWN:
            way += f": {down or why or f'no IPv{prefix.version} gateway'}"
        vlan = index.vlan_name(subnet.nic.vlan) if subnet.nic.vlan is not None else ""
        rows.append((prefix, vlan, way))
    return table(f"how {node.name} sends", ("subnet", "VLAN", "way"), rows)


def gateways(index: NetworkIndex) -> list[Table]:
    """All gateways of the network, then all static routes."""
    rows = []
    for node in index.knowledge.nodes.values():
        if node.can_route:
            for nic in node.nics.values():
                for address in nic.addresses:
                    vlan = index.vlan_name(nic.vlan) if nic.vlan is not None else ""
                    state = "up" if nic.up else f"down: {nic.down}"
                    rows.append((vlan, address.prefix, address.address, f"{node.name}/{nic.name}", state))
    rows.sort(key=lambda row: (row[0] == "", str(row[0])))
    nodes = [node for node in index.knowledge.nodes.values() if node.kind != "host"]
    static = routes(index, nodes)
    kept = [row for row in static.values if "connected" not in row]
    return [
        table("gateways", ("VLAN", "subnet", "address", "at", "state"), rows),
        table("static routes", static.columns, kept, static.right, static.least),
    ]
