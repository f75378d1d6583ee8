"""A network as a shell script of the operating system's own commands: a namespace for each device and host.

The kernel's own switching, routing and address resolution then carry it: VLAN-aware bridges, 802.1Q interfaces,
bonds and routes. Where the kernel's conventions differ from the standards that we follow, a setting says so beside it.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable, Iterator
from itertools import count
from shlex import quote

from archipelago.addressing.values import Address, Prefix, is_link_local
from archipelago.exchange.daemons import DOWN, NEEDS, leasing
from archipelago.exchange.filters import COMMANDS, Place, chains
from archipelago.exchange.shared import NEEDS as SHARING_NEEDS
from archipelago.exchange.shared import electing, link_names
from archipelago.exchange.shell import ENDING, SETTINGS
from archipelago.exchange.tree import KernelTree, settling
from archipelago.knowledge.devices import Attachment, Nic, Node, speaks_ipv6
from archipelago.knowledge.forwarding import holder_of
from archipelago.knowledge.known import Knowledge, know
from archipelago.knowledge.links import Link
from archipelago.model.network import Network
from archipelago.model.parts import Aggregate, Device, End, Host, Route

BRIDGE = "bridge"
_RESERVED = {"lo", "all", "default", BRIDGE, "bonding_masters"}


def namespace_tag(network: Network) -> str:
    """What the names of a network's namespaces start with: the same network, the same tag."""
    body = repr((network.title, network.vlans, network.devices, network.hosts, network.cables))
    return f"isle-{hashlib.sha256(body.encode()).hexdigest()[:8]}"


def namespace(tag: str, name: str) -> str:
    return f"{tag}-{name}"


def script(network: Network, tag: str | None = None) -> str:
    """The script: `up` builds the network, `down` takes away what `up` made and nothing else.

    Args:
        network: the network.
        tag: what the names of its namespaces start with; by default what follows from the network.
    """
    knowledge = know(network)
    tag = tag or namespace_tag(network)
    heard = frozenset(hop.address for host in knowledge.network.hosts.values() if host.auto for hop in host.gateway)
    tree = KernelTree(knowledge.devices.tree)
    spaces = {name: _Space(knowledge, node, heard, tree) for name, node in knowledge.nodes.items()}
    lines = [
        *_opening(network, knowledge, tag),
        "build() {",
        "  down",
        *(f"  own {quote(namespace(tag, name))}" for name in knowledge.nodes),
        *_batch("ip -batch -", (f"netns add {namespace(tag, name)}" for name in knowledge.nodes)),
        *(
            f"  settings {quote(namespace(tag, node.name))} {quote(' '.join(f'ipv{v}' for v in sorted(node.forwards)))}"
            for node in knowledge.nodes.values()
        ),
        "",
        "  # Cables: a pair of linked ports each; a cable that is off is not there.",
        *_batch("ip -batch -", _cables(knowledge, spaces, tag)),
        "",
    ]
    for name, space in spaces.items():
        lines += _set_up(quote(namespace(tag, name)), space)
    lines += ["}", "", "# Once carrier has settled, for which the kernel takes up to a second.", "routes() {"]
    for name, space in spaces.items():
        lines += _finish(quote(namespace(tag, name)), space)
    lines += ["  :", "}"]

    def own(name: str) -> str:
        return namespace(tag, name)

    def called(name: str, part: str) -> str:
        return spaces[name].names[part]

    lines += ["", "# The spanning tree.", *settling(knowledge, own, called)]
    lines += ["", "# Who is active in shared gateways.", *electing(knowledge, own, called)]
    lines += ["", "# Servers, relays and clients of leases.", *leasing(knowledge, own, called)]
    return "\n".join([*lines, *ENDING]) + "\n"


def _opening(network: Network, knowledge: Knowledge, tag: str) -> list[str]:
    """What the script is and needs, the settings of every namespace, and how to take it all down."""
    comment = re.sub(r"[^ -~]", "?", network.title)
    return [
        "#!/bin/sh",
        f"# {comment}",
        "# Builds the network in namespaces of this machine's kernel and takes it down again.",
        "#   sh SCRIPT up | down        as root; needs iproute2, and bridge, 8021q, veth, dummy, bonding, vrf",
        *(["# Filters need iptables-legacy too."] if any(d.filters for d in network.devices.values()) else ()),
        *([f"# Shared gateways need {SHARING_NEEDS} too."] if knowledge.elected.any else ()),
        *([f"# Leases need {NEEDS} too."] if any(h.dhcp for h in network.hosts.values()) else ()),
        "set -eu",
        f"tag={quote(tag)}",
        "made=/run/archipelago-$tag   # the namespaces made by this script; only they are ever removed",
        "",
        SETTINGS,
        "down() {",
        '  [ -f "$made" ] || return 0',
        '  while read -r name; do echo "netns del $name"; done <"$made" | ip -force -batch - 2>/dev/null || :',
        '  rm -f "$made"',
        *DOWN,
        "}",
        "",
    ]


def _set_up(name: str, space: _Space) -> Iterator[str]:
    """The lines that make one namespace's interfaces, tables, addresses and VLAN memberships."""
    yield f"  # {space.node.kind} {space.node.name}"
    yield from (f"  # {old} is called {new} here" for old, new in space.names.items() if old != new)
    yield from (f"  # the table of vrf {old} is called {new} here" for old, new in space.vrf_names.items())
    for family in ("-4", "-6") if space.vrfs else ():
        # What the main table holds itself must not come before the tables that have a name.
        yield f"  ip {family} -n {name} rule add pref 32764 table local"
        yield f"  ip {family} -n {name} rule del pref 0"
    yield from _batch(f"ip -n {name} -batch -", (*space.links(), *space.tables(), *space.addresses()))
    yield from _batch(f"bridge -n {name} -batch -", space.memberships())
    yield from _batch(f"tc -n {name} -batch -", space.wires())
    for version, command in COMMANDS.items():
        yield from _batch(f"ip netns exec {name} {command}", space.filters(version))


def _finish(name: str, space: _Space) -> Iterator[str]:
    """What is left to do in one namespace when carrier has settled: addresses of dead interfaces go, routes come."""
    if any(nic.addresses for nic in space.node.nics.values()):
        yield f"  settle {name}"
    for nic in space.node.nics.values():
        if not space.speaks(nic) and space.holder(nic) is not None:
            yield f"  follow {name} {quote(space.names[nic.name])} {quote(space.names[nic.attachment or ''])}"
    yield from _batch(f"ip -n {name} -force -batch - 2>/dev/null", space.routes(), may_fail=True)


def _batch(command: str, lines: Iterable[str], may_fail: bool = False) -> list[str]:
    """Lines for one process to carry out, in a document that the shell does not look into."""
    listed = list(lines)
    if not listed:
        return []
    end = " || :" if may_fail else ""
    return [f"  {command} <<'END'{end}", *listed, "END"]


def _kernel_names(node: Node, taken: Iterable[str]) -> dict[str, str]:
    """Interface names as the kernel takes them: at most 15 characters, none of its own words, none taken already; each
    its own. Names that fit stay."""
    ports = (end.port for attachment in node.attachments.values() for end in attachment.members)
    wanted = list(dict.fromkeys((*node.nics, *node.attachments, *ports)))
    reserved = {*_RESERVED, *taken}
    names = {name: name for name in wanted if len(name) <= 15 and name.lower() not in reserved}
    free = (short for number in count() if (short := f"x{number}") not in names and short not in reserved)
    return {name: names.get(name) or next(free) for name in wanted}


def _cables(knowledge: Knowledge, spaces: dict[str, _Space], tag: str) -> Iterator[str]:
    done: set[End] = set()
    for end in (End(device, port) for device, ports in knowledge.ports.items() for port in ports):
        link = knowledge.links[end]
        if link.peer is not None and end not in done and _exists(link):
            done |= {end, link.peer}
            a, b = spaces[end.device].names[end.port], spaces[link.peer.device].names[link.peer.port]
            near, far = namespace(tag, end.device), namespace(tag, link.peer.device)
            yield f"link add name {a} netns {near} type veth peer name {b} netns {far}"
    for name, space in spaces.items():
        within = f"netns {namespace(tag, name)}"
        for port, other in space.beyond.items():  # what leads outside has carrier, and nobody at its other end
            yield f"link add name {space.names[port]} {within} type veth peer name {other} {within}"


class _Space:
    """The lines that set up one device's or host's namespace."""

    def __init__(self, knowledge: Knowledge, node: Node, heard: frozenset[Address], tree: KernelTree) -> None:
        self.node = node
        self.tree = tree
        self.members = knowledge.elected.members(node.name) if node.name in knowledge.devices else ()
        self.shared = link_names(self.members)
        self.state = knowledge.state(node.name)
        self.heard = heard  # the gateways that hosts took from what routers advertise
        self.leases = isinstance(node.written, Host) and node.written.dhcp
        self.device = node.written if isinstance(node.written, Device) else None
        named = dict.fromkeys(nic.vrf for nic in node.nics.values() if nic.vrf)
        self.vrfs = {name: 1001 + index for index, name in enumerate(named)}
        self.vrf_names = {name: f"table-{index}" for index, name in enumerate(named)}
        self.names = _kernel_names(node, self.vrf_names.values())
        free = (f"x{number}" for number in count())
        taken = {*self.names.values(), *self.vrf_names.values(), *_RESERVED}
        self.beyond = {
            end.port: next(name for name in free if name not in taken)
            for attachment in node.attachments.values()
            for end in attachment.members
            if end.device in knowledge.devices and _leads_outside(knowledge.links[end])
        }
        self.cabled = {
            attachment.name: [
                end for end in attachment.members if _exists(knowledge.links[end]) or end.port in self.beyond
            ]
            for attachment in node.attachments.values()
        }

    def links(self) -> Iterator[str]:
        """Bridge, bonds, tagged interfaces, and what is on."""
        node, names = self.node, self.names
        yield "link set dev lo up"
        switching = node.kind in ("switch", "l3switch")
        if switching:
            options = "vlan_filtering 1 vlan_default_pvid 0 mcast_snooping 0"
            yield f"link add name {BRIDGE} type bridge {options} {self.tree.bridge(node.name)}"
            yield f"link set dev {BRIDGE} address {_mac(node.mac)}"
        yield from (f"link set dev {other} arp off up" for other in self.beyond.values())
        bundles_last = sorted(node.attachments.values(), key=lambda one: isinstance(one.written, Aggregate))
        for attachment in bundles_last:  # the kernel numbers ports as they join, which can decide what is blocked
            yield from self._attached(attachment)
        if switching and not node.off:
            yield f"link set dev {BRIDGE} up"
        for nic in node.nics.values():
            name = names[nic.name]
            if nic.kind == "vlan":
                yield "# bridge_binding: the interface follows the ports that carry its VLAN"
                yield f"link add link {BRIDGE} name {name} type vlan id {nic.vlan} bridge_binding on"
            elif nic.kind == "loopback" or not self.speaks(nic):
                yield f"link add name {name} type dummy"
            elif nic.kind == "subinterface" and nic.tag is not None and self.cabled[nic.attachment or ""]:
                yield f"link add link {names[nic.attachment or '']} name {name} type vlan id {nic.tag}"
            else:
                continue  # a port is there already; an untagged subinterface is the port itself
            # The kernel refuses to switch on what stands on a port that is off.
            parent = node.attachments[nic.attachment].written if nic.attachment else None
            if not node.off and not self._switched_off(nic) and not (parent and parent.off):
                yield f"link set dev {name} up"

    def _attached(self, attachment: Attachment) -> Iterator[str]:
        """One port or bond: made, joined to the bridge where it is switched, switched on."""
        name = self.names[attachment.name]
        cabled = self.cabled[attachment.name]
        written = attachment.written
        members = cabled if isinstance(written, Aggregate) else []
        if isinstance(written, Aggregate):
            # all_slaves_active: what comes in by a member that does not send is heard too.
            yield f"link add name {name} type bond mode active-backup miimon 50 all_slaves_active 1 num_grat_arp 0"
            yield from (f"link set dev {self.names[end.port]} master {name}" for end in members)
            if members:
                yield f"link set dev {name} type bond primary {self.names[members[0].port]} primary_reselect always"
        elif not cabled:
            return
        if attachment.switched:
            yield f"link set dev {name} master {BRIDGE}"
            yield from self.tree.port(self.node.name, attachment.name, name)
        on = not self.node.off and not written.off
        if on:
            yield f"link set dev {name} up"
        for end in members:
            port = self.device.ports.get(end.port) if self.device else None
            yield f"link set dev {self.names[end.port]} {'up' if on and not (port and port.off) else 'down'}"

    def tables(self) -> Iterator[str]:
        """The routing tables that have a name (`vrf`), and which interfaces are in them."""
        for name, number in self.vrfs.items():
            yield f"link add name {self.vrf_names[name]} type vrf table {number}"
            yield f"link set dev {self.vrf_names[name]} up"
            for version in (4, 6):
                # What such a table does not know must not be looked up in the main one.
                everything = "0.0.0.0/0" if version == 4 else "::/0"
                yield f"route add unreachable {everything} metric 4278198272 vrf {self.vrf_names[name]}"
        for nic in self.node.nics.values():
            holder = self.holder(nic)
            if nic.vrf and holder is not None:
                yield f"link set dev {holder} master {self.vrf_names[nic.vrf]}"

    def memberships(self) -> Iterator[str]:
        """Which VLANs each port carries, and the device's own membership in them."""
        for attachment in self.node.attachments.values():
            if attachment.switched and (self.cabled[attachment.name] or isinstance(attachment.written, Aggregate)):
                for vlan in sorted(attachment.vlans):
                    flags = " pvid untagged" if vlan == attachment.untagged else ""
                    yield f"vlan add dev {self.names[attachment.name]} vid {vlan}{flags}"
        for nic in self.node.nics.values():
            if nic.kind == "vlan" and nic.vlan in self.node.vlans:
                yield f"vlan add dev {BRIDGE} vid {nic.vlan} self"

    def wires(self) -> Iterator[str]:
        """What makes a bridge that takes no part in the spanning tree a piece of wire; and of the half of a shared
        aggregate that waits one that nothing passes."""
        waits = self.tree.waiting_at(self.node.name)
        for name in sorted(waits):
            yield f"qdisc add dev {self.names[name]} clsact"
            for way in ("ingress", "egress"):
                yield f"filter add dev {self.names[name]} {way} protocol all u32 match u32 0 0 action drop"
        if self.node.kind in ("switch", "l3switch") and not self.node.off:
            cabled = [one for one in self.node.attachments.values() if one.switched and self.cabled[one.name]]
            cabled = [one for one in cabled if one.name not in waits]
            yield from self.tree.wire(self.node, [self.names[one.name] for one in cabled])

    def addresses(self) -> Iterator[str]:
        for member in self.members:  # an equal bid is decided by the link-local address, which follows the MAC address
            nic = self.node.nics[member.interface]
            if nic.attachment is not None and self.cabled[nic.attachment]:
                yield f"link set dev {self.names[nic.attachment]} address {_mac(nic.mac)}"
        for nic in self.node.nics.values():
            name = self.holder(nic)
            for address in nic.addresses if name else ():
                if address.version == 4 and self.leases:
                    continue  # it asks for it
                yield f"addr add {address} dev {name}{' nodad' if address.version == 6 else ''}"
            if name and nic.link_local in self.heard and speaks_ipv6(nic):
                yield f"addr replace {nic.link_local}/64 dev {name} nodad"  # the kernel may have given it itself

    def filters(self, version: int) -> Iterator[str]:
        """The chains of the device's filters in one family."""
        places = {}
        for number, nic in enumerate(self.node.nics.values(), 1):
            holder = self.holder(nic)
            if holder is not None:
                shared = tuple(link for member, link in self.shared.items() if member.interface == nic.name)
                places[nic.name] = Place(holder, number if nic.vrf else 0, shared)
        return chains(self.node, version, places)

    def holder(self, nic: Nic) -> str | None:
        """The kernel interface that an interface's addresses go to; None where there is none to hold them."""
        if self._switched_off(nic):
            return None
        if nic.kind == "vlan":
            return self.names[nic.name] if nic.vlan in self.node.vlans else None
        if nic.attachment is None:
            return self.names[nic.name]
        if not self.cabled[nic.attachment]:
            return None
        whole_port = nic.kind == "subinterface" and nic.tag is None and self.speaks(nic)
        return self.names[nic.attachment if whole_port else nic.name]

    def speaks(self, nic: Nic) -> bool:
        """Whether a subinterface has a tag, and is the first on its port with it."""
        if nic.kind != "subinterface":
            return True
        others_there = self.node.nics_on(nic.attachment or "")
        return nic.speaks and next(other for other in others_there if other.speaks and other.tag == nic.tag) is nic

    def routes(self) -> Iterator[str]:
        """Static routes as written; the kernel refuses those whose next hop is on no connected subnet, as it should.
        A connected route comes before any static one, also in IPv6, where the kernel gives it the metric 256."""
        for nic in self.node.nics.values():
            name = self.holder(nic)
            for address in nic.addresses if name else ():
                if address.prefix.reserved_ends():
                    # RFC 1122 3.2.1.3: a subnet's all-zeros address is a broadcast address too.
                    zeros = Address(4, address.prefix.value)
                    table = self.vrfs.get(nic.vrf, "local")
                    yield f"route add broadcast {zeros} dev {name} table {table} scope link"
        node = self.node
        gateways = [hop for hop in node.written.gateway if hop.address.version not in node.forwards]
        gateways = [hop for hop in gateways if hop.address.version == 6 or not self.leases]
        static = self.device.routes if self.device else ()
        for route in [*static, *(Route(Prefix(hop.address.version, 0, 0), hop) for hop in gateways)]:
            six = route.destination.version == 6
            via = f"via {route.next_hop.address}"
            if route.next_hop.interface is not None:
                via += f" dev {self.names.get(route.next_hop.interface, 'none')}"
            elif is_link_local(route.next_hop.address):
                via += f" dev {self.names[next(iter(node.nics))]}"
            if route.vrf and route.vrf not in self.vrfs:
                continue  # no interface is in that table
            if holder_of(self.state, route.vrf or "", route.next_hop.address):
                yield f"# not added: {route.destination}: its next hop {route.next_hop.address} is the device itself"
                continue  # the kernel would take such a route and lose every packet
            table = f" vrf {self.vrf_names[route.vrf]}" if route.vrf else ""
            yield f"route add {route.destination} {via} metric {route.metric + 1000 * six}{table}"

    def _switched_off(self, nic: Nic) -> bool:
        interface = self.device.interfaces.get(nic.name) if self.device else None
        return interface is not None and interface.off


def _leads_outside(link: Link) -> bool:
    """Whether a port has carrier though nothing is plugged in."""
    return link.peer is None and link.carrier


def _exists(link: Link) -> bool:
    """Whether a port has a far end; a cable that is off is not there."""
    return link.peer is not None and not (link.cable is not None and link.cable.off)


def _mac(number: int) -> str:
    """A MAC address as the kernel takes it."""
    return ":".join(f"{number >> shift & 0xFF:02x}" for shift in range(40, -1, -8))
