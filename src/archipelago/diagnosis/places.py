"""Where things stand: in the document, in which VLAN, and in which VLAN they are meant to be."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace

from archipelago.addressing.values import Address, Prefix
from archipelago.knowledge.alike import alike_hosts
from archipelago.knowledge.devices import Attachment, Nic, Node
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge
from archipelago.knowledge.links import HOST_PORT
from archipelago.model.ends import OUTSIDE, Kind, NamedEnd
from archipelago.model.network import pools_in
from archipelago.model.parts import DEFAULT_VLAN, End, Host, Path, Port


def port_path(knowledge: Knowledge, device: str, attachment: str) -> Path:
    """Where a port or an aggregate stands in the document."""
    kind = "interfaces" if attachment in knowledge.network.devices[device].interfaces else "ports"
    return ("devices", device, kind, attachment)


def nic_path(holder: Held | tuple[Node, Nic]) -> Path:
    """Where an interface stands in the document."""
    node, nic = (holder.node, holder.nic) if isinstance(holder, Held) else holder
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
    written = attachment.written
    if not attachment.switched:
        return None
    if written.trunk is None:
        return written.access or DEFAULT_VLAN
    return None if written.untagged == "none" else written.untagged or DEFAULT_VLAN


def is_set_up(attachment: Attachment) -> bool:
    """Whether a port is set to anything but what a member of an aggregate may be set to."""
    port = attachment.written
    return isinstance(port, Port) and replace(port, off=False, speed=None, description="") != Port(port.name)


def sits_in(index: NetworkIndex, node: Node, nic: Nic) -> int | None:
    """The VLAN that an interface stands in: its own, else the one that the switch port at the other end of its cable
    puts it in, a host's too; None where there is none."""
    if isinstance(node.written, Host):
        return plugged_vlan(index.knowledge, node.written)
    if nic.vlan is not None or nic.attachment is None or nic.kind not in ("port", "aggregate"):
        return nic.vlan
    far = far_end(index.knowledge, node.attachments[nic.attachment])
    return wanted_vlan(far[1]) if far is not None else None


def far_end(knowledge: Knowledge, attachment: Attachment) -> tuple[str, Attachment] | None:
    """The device at the other end of a port's or an aggregate's cable, and its port or aggregate there; None where that
    is no device, or there is no cable."""
    peers = (knowledge.links[end].peer for end in attachment.members)
    far = next((peer for peer in peers if peer is not None and peer.device in knowledge.devices), None)
    return (far.device, knowledge.attachment_at(far)) if far is not None else None


def vlan_of(index: NetworkIndex, held: Held) -> int | None:
    """The VLAN that an address is held in; None where there is none."""
    return sits_in(index, held.node, held.nic)


def plugged_vlan(knowledge: Knowledge, host: Host) -> int | None:
    """The VLAN that a host's port puts it in; None where there is none."""
    attachment = host_attachment(knowledge, host)
    if attachment.switched:
        return wanted_vlan(attachment)
    nics = knowledge.nodes[host.at.device].nics_on(attachment.name)
    return next((nic.vlan for nic in nics if nic.speaks and nic.tag is None), None)


def plugged_hosts(knowledge: Knowledge, outside: Collection[str] = ()) -> dict[int | None, list[str]]:
    """The hosts that are plugged into each VLAN, but those that stand for the outside."""
    plugged: dict[int | None, list[str]] = {}
    for name, host in knowledge.network.hosts.items():
        if name not in outside:
            plugged.setdefault(plugged_vlan(knowledge, host), []).append(name)
    return plugged


def hosts_by_vlan(index: NetworkIndex) -> dict[int, list[tuple[Host, int]]]:
    """The hosts that are plugged into each VLAN: of those that are alike one, and how many there are."""
    by_vlan: dict[int, list[tuple[Host, int]]] = {}
    for hosts in index.once(alike_hosts):
        vlan = wanted_vlan(host_attachment(index.knowledge, hosts[0]))
        if vlan is not None:
            by_vlan.setdefault(vlan, []).append((hosts[0], len(hosts)))
    return by_vlan


def others_ask(index: NetworkIndex, vlan: int, version: int) -> bool:
    """Whether hosts of a VLAN ask for their addresses of a family, or a pool is there for them."""
    near = [host for host, _ in index.once(hosts_by_vlan).get(vlan, ())]
    if any(host.dhcp if version == 4 else host.auto for host in near):
        return True
    routed = [held.address for held in index.routed() if held.address.version == 4 and vlan_of(index, held) == vlan]
    return version == 4 and any(pool.subnet.holds(one) for pool in pools_in(index.network) for one in routed)


def hosts_within(knowledge: Knowledge, block: Prefix, outside: Collection[str] = ()) -> list[str]:
    """The hosts that have an address in a subnet, but those that stand for the outside."""
    return [
        name
        for name, host in knowledge.network.hosts.items()
        if name not in outside and any(block.holds(address) for address in host.addresses)
    ]


def hosts_of(knowledge: Knowledge, end: NamedEnd) -> list[str]:
    """The hosts that an end stands for which is a VLAN or a subnet."""
    if end.kind is Kind.VLAN:
        return plugged_hosts(knowledge).get(end.vlan, [])
    return hosts_within(knowledge, end.block)


def is_upstream(index: NetworkIndex, node: Node) -> bool:
    """Whether a device is no device of ours, but stands for what is beyond the ports that lead outside."""
    network = index.network
    return network.outside == () and OUTSIDE in network.hosts and network.hosts[OUTSIDE].at.device == node.name


def unplugged(index: NetworkIndex, node: Node, nic: Nic) -> bool:
    """Whether an interface is a routed port, or aggregate, that nothing is plugged into."""
    if nic.kind not in ("port", "aggregate"):
        return False
    return all(index.knowledge.links[end].peer is None for end in node.attachments[nic.name].members)


def meant_vlan(index: NetworkIndex, prefix: Prefix) -> int | None:
    """The VLAN that most hosts of a subnet are plugged into; None where there are none or no majority. A port that is
    set to nothing says nothing."""
    counts: dict[int, int] = {}
    for host in index.network.hosts.values():
        if any(prefix.holds(address) for address in host.addresses):
            attachment = host_attachment(index.knowledge, host)
            vlan = wanted_vlan(attachment)
            if vlan is not None and is_set_up(attachment):
                counts[vlan] = counts.get(vlan, 0) + 1
    ranked = sorted(counts.values(), reverse=True)
    if not ranked or (len(ranked) > 1 and ranked[0] == ranked[1]):
        return None
    return max(counts, key=lambda vlan: counts[vlan])


def meant_for(index: NetworkIndex, nic: Nic) -> int | None:
    """The VLAN that an interface belongs in: where the hosts of its subnet are, else where another interface of the
    same subnet stands, else the one whose id its name ends in."""
    for address in nic.addresses:
        vlan = meant_vlan(index, address.prefix)
        if vlan is not None:
            return vlan
        for other in index.homes(address):
            if other.nic is not nic and vlan_of(index, other) is not None and other.address.prefix == address.prefix:
                return vlan_of(index, other)
    number = nic.name.rpartition(".")[2]  # subinterfaces are commonly called by their tags
    return int(number) if number.isdigit() and int(number) in index.network.vlans.values() else None


def has_moved(index: NetworkIndex, holder: Held) -> bool:
    """Whether a routing device still holds a subnet that has moved: another one holds it too, in the domain where its
    hosts are, and this one is in a domain without any."""
    if not holder.node.can_route or index.domains.of(holder.endpoint) is None:
        return False
    prefix = holder.address.prefix
    rivals = [
        other
        for other in index.homes(holder.address)
        if other.node is not holder.node and other.address.prefix == prefix and other.nic.vrf == holder.nic.vrf
    ]
    hosts = [holder for holder in index.subnet_peers(holder) if holder.node.kind == "host"] if rivals else []
    if not hosts or any(index.domains.together(host.endpoint, holder.endpoint) for host in hosts):
        return False
    return any(index.domains.together(host.endpoint, other.endpoint) for host in hosts for other in rivals)


def sample(prefix: Prefix) -> Address:
    """An address that stands for a whole subnet."""
    return Address(prefix.version, prefix.usable()[0])
