"""What the devices know, indexed by the questions that a diagnosis asks."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from archipelago.addressing.values import WIDTHS, Address, InterfaceAddress, Prefix, is_link_local
from archipelago.knowledge.devices import Attachment, Knowledge, Nic, Node, know, speaks_ipv6
from archipelago.knowledge.domains import Domains, Foot, domains
from archipelago.knowledge.links import HOST_PORT
from archipelago.model.network import DEFAULT_VLAN, End, Host, Network, Path


@dataclass(frozen=True, slots=True)
class Held:
    """An address on an interface of a device or host, up or down."""

    node: Node
    nic: Nic
    address: InterfaceAddress

    @property
    def foot(self) -> Foot:
        return (self.node.name, self.nic.name)


@dataclass(frozen=True, slots=True)
class Picture:
    """A network with its knowledge, its broadcast domains and who holds what. `gateways` indexes, by family, prefix
    length and network value, the addresses on devices that are there to route."""

    network: Network
    knowledge: Knowledge
    domains: Domains
    names: Mapping[int | None, str]
    holders: Mapping[Address, tuple[Held, ...]]
    hops: frozenset[Address]
    fellows: Mapping[Prefix, tuple[Held, ...]]
    gateways: Mapping[int, Mapping[int, Mapping[int, tuple[Held, ...]]]]

    @property
    def routed(self) -> Iterator[Held]:
        """Every address that is there to route."""
        for lengths in self.gateways.values():
            for networks in lengths.values():
                for found in networks.values():
                    yield from found

    def homes(self, address: Address | InterfaceAddress) -> list[Held]:
        """The addresses of routing devices whose subnet holds this address, longest prefix first."""
        width = WIDTHS[address.version]
        return [
            held
            for length, networks in self.gateways.get(address.version, {}).items()
            for held in networks.get(address.value >> (width - length), ())
        ]

    def home_of(self, node: Node, address: InterfaceAddress) -> Held | None:
        """The gateway that a host's address calls for: one that shares its broadcast domain if there is one, then
        one that is up."""
        found = [held for held in self.homes(address) if held.node.name != node.name]
        feet = [(node.name, nic.name) for nic in node.nics.values()]

        def order(held: Held) -> tuple[bool, bool]:
            return (not any(self.domains.together(held.foot, foot) for foot in feet), not held.nic.up)

        return min(found, key=order) if found else None

    def subnet_fellows(self, held: Held) -> list[Held]:
        """Everyone else whose address says that it is of the same subnet."""
        return [other for other in self.fellows.get(held.address.prefix, ()) if other.node is not held.node]

    def vlan_name(self, vlan: int | None) -> str:
        """A VLAN as people call it: its name and id."""
        return f"{self.names[vlan]} ({vlan})" if vlan in self.names else f"VLAN {vlan}"

    def vlan_key(self, vlan: int) -> str:
        """A VLAN as the document writes it."""
        return self.names.get(vlan, str(vlan))


def picture(network: Network, knowledge: Knowledge | None = None) -> Picture:
    """Index a network for diagnosis."""
    knowledge = knowledge or know(network)
    network = knowledge.network
    holders: dict[Address, list[Held]] = {}
    fellows: dict[Prefix, list[Held]] = {}
    hops = {hop.address for node in knowledge.nodes.values() for hop in node.written.gateway}
    hops |= {route.next_hop.address for device in network.devices.values() for route in device.routes}
    gateways: dict[int, dict[int, dict[int, list[Held]]]] = {}
    for held in every_address(knowledge):
        holders.setdefault(held.address.address, []).append(held)
        fellows.setdefault(held.address.prefix, []).append(held)
        if held.node.kind in ("router", "l3switch") and not is_link_local(held.address):
            version, value, length = held.address
            networks = gateways.setdefault(version, {}).setdefault(length, {})
            networks.setdefault(value >> (WIDTHS[version] - length), []).append(held)
    for node in knowledge.nodes.values():
        for nic in node.nics.values():
            if nic.link_local in hops and speaks_ipv6(nic):
                own = InterfaceAddress(*nic.link_local, 64)
                if own not in nic.addresses:
                    holders.setdefault(nic.link_local, []).append(Held(node, nic, own))
    return Picture(
        network,
        knowledge,
        domains(knowledge),
        {number: name for name, number in network.vlans.items()},
        {address: tuple(found) for address, found in holders.items()},
        frozenset(hops),
        {prefix: tuple(found) for prefix, found in fellows.items()},
        {
            version: {
                length: {value: tuple(found) for value, found in networks.items()}
                for length, networks in sorted(by_length.items(), reverse=True)
            }
            for version, by_length in gateways.items()
        },
    )


def every_address(knowledge: Knowledge) -> Iterator[Held]:
    for node in knowledge.nodes.values():
        for nic in node.nics.values():
            for address in nic.addresses:
                yield Held(node, nic, address)


def port_path(knowledge: Knowledge, device: str, attachment: str) -> Path:
    """Where a port or an aggregate stands in the document."""
    kind = "interfaces" if attachment in knowledge.network.devices[device].interfaces else "ports"
    return ("devices", device, kind, attachment)


def nic_path(held: Held | tuple[Node, Nic]) -> Path:
    """Where an interface stands in the document."""
    node, nic = (held.node, held.nic) if isinstance(held, Held) else held
    if node.kind == "host":
        return ("hosts", node.name)
    return ("devices", node.name, "ports" if nic.kind == "port" else "interfaces", nic.name)


def host_attachment(knowledge: Knowledge, host: Host) -> Attachment:
    """The port that a host is plugged into."""
    return knowledge.attachment_at(host.at)


def host_end(name: str) -> End:
    return End(name, HOST_PORT)


def wanted_vlan(attachment: Attachment) -> int | None:
    """The VLAN that untagged frames on a switched attachment are meant for, as written, existing or not."""
    one = attachment.written
    if not attachment.switched:
        return None
    if one.trunk is None:
        return one.access or DEFAULT_VLAN
    return None if one.untagged == "none" else one.untagged or DEFAULT_VLAN


def sits_in(view: Picture, node: Node, nic: Nic) -> int | None:
    """The VLAN that an interface stands in, or that its host's port puts it in; None where there is none."""
    return plugged_vlan(view.knowledge, node.written) if isinstance(node.written, Host) else nic.vlan


def plugged_vlan(knowledge: Knowledge, host: Host) -> int | None:
    """The VLAN that a host's port puts it in; None where there is none."""
    attachment = host_attachment(knowledge, host)
    if attachment.switched:
        return wanted_vlan(attachment)
    nics = knowledge.nodes[host.at.device].nics_on(attachment.name)
    return next((one.vlan for one in nics if one.speaks and one.tag is None), None)


def meant_vlan(view: Picture, prefix: Prefix) -> int | None:
    """The VLAN that most hosts of a subnet are plugged into; None where there are none or no majority."""
    counts: dict[int, int] = {}
    for host in view.network.hosts.values():
        if any(prefix.holds(held) for held in host.addresses):
            attachment = host_attachment(view.knowledge, host)
            vlan = wanted_vlan(attachment)
            if vlan is not None:
                counts[vlan] = counts.get(vlan, 0) + 1
    ranked = sorted(counts.values(), reverse=True)
    if not ranked or (len(ranked) > 1 and ranked[0] == ranked[1]):
        return None
    return max(counts, key=lambda vlan: counts[vlan])


def stale(view: Picture, held: Held) -> bool:
    """Whether a routing device still holds a subnet that has moved: another one holds it too, on the island where its
    hosts are, and this one is on an island without any."""
    if held.node.kind not in ("router", "l3switch") or held.foot not in view.domains.of:
        return False
    prefix = held.address.prefix
    rivals = [
        other
        for other in view.homes(held.address)
        if other.node is not held.node and other.address.prefix == prefix and other.nic.vrf == held.nic.vrf
    ]
    hosts = [one for one in view.subnet_fellows(held) if one.node.kind == "host"] if rivals else []
    if not hosts or any(view.domains.together(host.foot, held.foot) for host in hosts):
        return False
    return any(view.domains.together(host.foot, other.foot) for host in hosts for other in rivals)
