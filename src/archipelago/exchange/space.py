"""One device or host as a namespace of a kernel: the lines that make its interfaces, tables, addresses and routes."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from itertools import count

from archipelago.addressing.values import Address, Prefix, is_link_local
from archipelago.exchange.filters import Place, chains
from archipelago.exchange.shared import link_names
from archipelago.exchange.tree import KernelTree
from archipelago.knowledge.devices import Attachment, Nic, Node, speaks_ipv6
from archipelago.knowledge.forwarding import holder_of
from archipelago.knowledge.known import Knowledge
from archipelago.knowledge.links import Link
from archipelago.model.parts import USUAL_MTU, Aggregate, Device, Host, Route
from archipelago.model.values import MTUS

BRIDGE = "bridge"
_KERNEL_NAME = re.compile(r"[A-Za-z][A-Za-z0-9._-]{0,14}")
_RESERVED = {"lo", "all", "default", BRIDGE, "bonding_masters"}


def _kernel_names(node: Node, taken: Iterable[str]) -> dict[str, str]:
    """Interface names as the kernel takes them: at most 15 characters, no slash, none of its own words, none taken
    already; each its own. Names that fit stay; a number alone could be taken for an interface's index."""
    ports = (end.port for attachment in node.attachments.values() for end in attachment.members)
    wanted = list(dict.fromkeys((*node.nics, *node.attachments, *ports)))
    reserved = {*_RESERVED, *taken}
    names = {name: name for name in wanted if _KERNEL_NAME.fullmatch(name) and name.lower() not in reserved}
    free = (short for number in count() if (short := f"x{number}") not in names and short not in reserved)
    return {name: names.get(name) or next(free) for name in wanted}


class Space:
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
                end for end in attachment.members if exists(knowledge.links[end]) or end.port in self.beyond
            ]
            for attachment in node.attachments.values()
        }

    def links(self) -> Iterator[str]:
        """Bridge, bonds, tagged interfaces, and what is on."""
        node, names = self.node, self.names
        yield "link set dev lo up"
        switching = node.kind in ("switch", "l3switch")
        sizes = {one.mtu for one in node.attachments.values()} | {nic.mtu for nic in node.nics.values()}
        if switching:
            options = "vlan_filtering 1 vlan_default_pvid 0 mcast_snooping 0"
            yield f"link add name {BRIDGE} type bridge {options} {self.tree.bridge(node.name)}"
            yield f"link set dev {BRIDGE} address {_mac(node.mac)}"
        yield from (f"link set dev {other} arp off up" for other in self.beyond.values())
        bundles_last = sorted(node.attachments.values(), key=lambda one: isinstance(one.written, Aggregate))
        for attachment in bundles_last:  # the kernel numbers ports as they join, which can decide what is blocked
            yield from self._attached(attachment)
        if switching and sizes != {USUAL_MTU}:
            yield f"link set dev {BRIDGE} mtu {MTUS[-1]}"  # else it takes the least of its ports for its own
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
            if nic.mtu != USUAL_MTU or (sizes != {USUAL_MTU} and nic.kind == "vlan"):
                yield f"link set dev {name} mtu {nic.mtu}"
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
        if attachment.mtu != USUAL_MTU:
            yield from (f"link set dev {self.names[end.port]} mtu {attachment.mtu}" for end in members)
            yield f"link set dev {name} mtu {attachment.mtu}"
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
        yield from self.memberships_of(self.node.attachments)
        for nic in self.node.nics.values():
            if nic.kind == "vlan" and nic.vlan in self.node.vlans:
                yield f"vlan add dev {BRIDGE} vid {nic.vlan} self"

    def memberships_of(self, ports: Iterable[str]) -> Iterator[str]:
        """Which VLANs some of the switched ports carry."""
        for attachment in map(self.node.attachments.__getitem__, ports):
            if attachment.switched and (self.cabled[attachment.name] or isinstance(attachment.written, Aggregate)):
                for vlan in sorted(attachment.vlans):
                    flags = " pvid untagged" if vlan == attachment.untagged else ""
                    yield f"vlan add dev {self.names[attachment.name]} vid {vlan}{flags}"

    @property
    def waiting(self) -> frozenset[str]:
        """The halves of shared aggregates that wait."""
        return self.tree.waiting_at(self.node.name)

    def wires(self) -> Iterator[str]:
        """What makes a bridge that takes no part in the spanning tree a piece of wire; and of the half of a shared
        aggregate that waits one that nothing passes."""
        waits = self.waiting
        yield from self.kept_waiting(waits)
        if self.node.kind in ("switch", "l3switch") and not self.node.off:
            cabled = [one for one in self.node.attachments.values() if one.switched and self.cabled[one.name]]
            cabled = [one for one in cabled if one.name not in waits]
            yield from self.tree.wire(self.node, [self.names[one.name] for one in cabled])

    def kept_waiting(self, halves: Iterable[str]) -> Iterator[str]:
        """What keeps halves of shared aggregates from passing anything."""
        for name in sorted(halves):
            yield f"qdisc add dev {self.names[name]} clsact"
            for way in ("ingress", "egress"):
                yield f"filter add dev {self.names[name]} {way} protocol all u32 match u32 0 0 action drop"

    def addresses(self) -> Iterator[str]:
        """The addresses of each interface, on what holds them in the kernel."""
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


def exists(link: Link) -> bool:
    """Whether a port has a far end; a cable that is off is not there."""
    return link.peer is not None and not (link.cable is not None and link.cable.off)


def _mac(number: int) -> str:
    """A MAC address as the kernel takes it."""
    return ":".join(f"{number >> shift & 0xFF:02x}" for shift in range(40, -1, -8))
