"""Where things stand: in the document, in which VLAN, and in which VLAN they are meant to be."""

from __future__ import annotations

from collections.abc import Collection

from archipelago.addressing.values import Address, Prefix
from archipelago.knowledge.devices import Attachment, Nic, Node
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge
from archipelago.knowledge.links import HOST_PORT
from archipelago.model.ends import Kind, NamedEnd
from archipelago.model.parts import DEFAULT_VLAN, End, Host, Path


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


def sits_in(index: NetworkIndex, node: Node, nic: Nic) -> int | None:
    """The VLAN that an interface stands in, or that its host's port puts it in; None where there is none."""
    return plugged_vlan(index.knowledge, node.written) if isinstance(node.written, Host) else nic.vlan


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


def unplugged(index: NetworkIndex, node: Node, nic: Nic) -> bool:
    """Whether an interface is a routed port, or aggregate, that nothing is plugged into."""
    if nic.kind not in ("port", "aggregate"):
        return False
    return all(index.knowledge.links[end].peer is None for end in node.attachments[nic.name].members)


def meant_vlan(index: NetworkIndex, prefix: Prefix) -> int | None:
    """The VLAN that most hosts of a subnet are plugged into; None where there are none or no majority."""
    counts: dict[int, int] = {}
    for host in index.network.hosts.values():
        if any(prefix.holds(address) for address in host.addresses):
            attachment = host_attachment(index.knowledge, host)
            vlan = wanted_vlan(attachment)
            if vlan is not None:
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
            if other.nic is not nic and other.nic.vlan is not None and other.address.prefix == address.prefix:
                return other.nic.vlan
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
