"""Mistakes at the interfaces of routing devices: tags, VLANs, and why one is down."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace

from archipelago.audit.hosts import each_host
from archipelago.audit.registry import rule
from archipelago.diagnosis.cabling import leads_outside, link_fault, without_cable
from archipelago.diagnosis.faults.interfaces import set_beside, tag_mismatch, tag_missing
from archipelago.diagnosis.interface_down import interface_down
from archipelago.diagnosis.kind import ALWAYS, NEVER, OFTEN, Example, Kind, finding
from archipelago.diagnosis.link_ends import unlike_members
from archipelago.diagnosis.outvoted import outvoted
from archipelago.diagnosis.places import (
    host_attachment,
    hosts_by_vlan,
    meant_for,
    meant_vlan,
    nic_path,
    port_path,
    unplugged,
)
from archipelago.diagnosis.separated import tag_repeated
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.parts import Aggregate, Host, Path


def routed(index: NetworkIndex) -> Iterator[tuple[Node, Nic]]:
    for node in index.knowledge.devices.values():
        if node.can_route:
            for nic in node.nics.values():
                yield node, nic


@rule
def untagged_subinterfaces(index: NetworkIndex) -> Iterator[Finding]:
    """A subinterface whose tag is not written."""
    for node, nic in routed(index):
        if nic.kind == "subinterface" and not nic.speaks:
            yield tag_missing(index, node, nic, meant_for(index, nic))


@rule
def repeated_tags(index: NetworkIndex) -> Iterator[Finding]:
    """Two subinterfaces of one port with one tag: the later written hears nothing."""
    first: dict[tuple[str, str | None, int | None], Nic] = {}
    for node, nic in routed(index):
        if nic.attachment is not None and nic.speaks:
            other = first.setdefault((node.name, nic.attachment, nic.tag), nic)
            if other is not nic:
                yield tag_repeated(index, node, nic, other)


@rule
def contradicted(index: NetworkIndex) -> Iterator[Finding]:
    """A gateway whose address, or whose prefix length, all hosts of its VLAN contradict."""
    for node, nic in routed(index):
        yield from outvoted(index, node, nic)


@rule
@each_host
def untagged_hosts(index: NetworkIndex, host: Host) -> Iterator[Finding]:
    """A host, whose frames are untagged, plugged into a routed port that takes tagged frames only."""
    attachment = host_attachment(index.knowledge, host)
    node = index.knowledge.nodes[host.at.device]
    speaking = [nic for nic in node.nics_on(attachment.name) if nic.speaks]
    if attachment.switched or not speaking or any(nic.tag is None for nic in speaking):
        return
    prefixes = {address.prefix for address in host.addresses}
    own = next((nic for nic in speaking if any(address.prefix in prefixes for address in nic.addresses)), None)
    if own is not None:
        far = index.knowledge.nodes[host.name]
        yield tag_mismatch(index, (node, own), (far, next(iter(far.nics.values()))))


@rule
def down(index: NetworkIndex) -> Iterator[Finding]:
    """An interface with an address that is down. A routed port without a cable is left alone where no other free
    port has its subnet: what is beyond it is not ours to know."""
    for node, nic in routed(index):
        free = unplugged(index, node, nic)
        if not nic.addresses or (nic.up and not free) or leads_outside(index, node, nic):
            continue
        if nic.up:  # by its routes it leads outside, but its other end is here
            end = node.attachments[nic.name].members[0]
            yield without_cable(index, end)
            continue
        fault = interface_down(index, Held(node, nic, nic.addresses[0]))
        if fault.kind == "vlan-interface-down" and not index.once(hosts_by_vlan).get(nic.vlan or 0):
            fault = replace(fault, severity="note", breaks="nothing yet: no host is plugged into that VLAN")
        yield fault


@rule
def members_unlike(index: NetworkIndex) -> Iterator[Finding]:
    """An aggregate whose members differ in speed, or lead to different devices or aggregates."""
    for device in index.network.devices.values():
        for interface in device.interfaces.values():
            if isinstance(interface, Aggregate):
                yield from unlike_members(index, device, interface)


VLANS_SHARE_PORT = Kind(
    "vlans-share-port",
    "error",
    "a routed port with addresses for several VLANs, whose frames are all untagged",
    "at most one of {vlans} has a gateway there",
    OFTEN,
    example=Example(
        "pier",
        """
        devices:
          landing:
            ports:
              p1:
                address: [10.44.0.1/24, 10.44.1.1/24]
            interfaces: {p1.210: ~, p1.220: ~}
        """,
    ),
)


@rule
def vlans_on_one_port(index: NetworkIndex) -> Iterator[Finding]:
    """A routed port with addresses of several VLANs: untagged frames are of one."""
    for node, nic in routed(index):
        if nic.kind not in ("port", "aggregate") or len(nic.addresses) < 2 or nic.attachment is None:
            continue
        meant = {address: meant_vlan(index, address.prefix) for address in nic.addresses}
        vlans = sorted({vlan for vlan in meant.values() if vlan is not None})
        if len(vlans) < 2 or any(vlan is None for vlan in meant.values()):
            continue
        path: Path = ("devices", node.name)
        along = dict(set_beside(node.attachments[nic.attachment].written))
        edits = [Edit((*nic_path((node, nic)), key), REMOVE) for key in ("address", *along)]
        for vlan in vlans:
            addresses = [str(address) for address, wanted in meant.items() if wanted == vlan]
            section = {"parent": nic.name, "tag": index.vlan_key(vlan), "address": addresses, **along}
            edits.append(Edit((*path, "interfaces", f"{nic.name}.{vlan}"), section))
        if node.kind == "l3switch":
            edits.append(Edit((*nic_path((node, nic)), "routed"), "yes"))
        far = index.knowledge.links[node.attachments[nic.attachment].members[0]].peer
        if far is not None and far.device in index.knowledge.devices:
            there = index.knowledge.attachment_at(far)
            where = port_path(index.knowledge, far.device, there.name)
            if there.switched:
                edits.append(Edit((*where, "trunk"), [index.vlan_key(vlan) for vlan in vlans]))
                edits.append(Edit((*where, "untagged"), "none"))
                if there.written.access is not None:
                    edits.append(Edit((*where, "access"), REMOVE))
        names = ", ".join(index.vlan_name(vlan) for vlan in vlans)
        yield finding(
            VLANS_SHARE_PORT,
            at=node.name,
            path=nic_path((node, nic)),
            says=f"{node.name}/{nic.name} has addresses for {names}, but takes untagged frames, which are of one VLAN",
            mend=f"give {node.name}/{nic.name} a subinterface for each of them, and make its far end a trunk of them",
            edits=() if node.attachments[nic.attachment].written.virtual else tuple(edits),
            vlans=names,
        )


MEMBER_DEAD = Kind(
    "member-dead",
    "risk",
    "an aggregate with a dead member",
    "the next failure takes the whole link down",
    OFTEN,
    example=Example(
        "pair",
        """
        cables: [core-1/p1 ~ core-2/p1, core-1/p3 ~ quay/p8, core-2/p3 ~ quay/p9, core-1/p4 ~ shed/p9, core-1/p9
            ~ edge/p1, core-2/p9 ~ edge/p2]
        """,
    ),
)


@rule
def dead_members(index: NetworkIndex) -> Iterator[Finding]:
    """An aggregate that works, with a member that does not."""
    for node in index.knowledge.devices.values():
        for attachment in node.attachments.values():
            if len(attachment.members) < 2 or not attachment.carrier:
                continue
            for end in attachment.members:
                why = index.knowledge.links[end].down
                if why is not None:
                    fault = link_fault(index, end)
                    yield finding(
                        MEMBER_DEAD,
                        at=end.device,
                        path=("devices", end.device, "interfaces", attachment.name),
                        says=f"member {end} of {end.device}/{attachment.name} has no carrier: {why}",
                        mend=fault.mend if fault else f"mend {end}, or take it out of {attachment.name}",
                        edits=fault.edits if fault else (),
                    )


GATEWAY_IGNORED = Kind(
    "gateway-ignored",
    "risk",
    "a gateway on a device that routes that family itself",
    "the device does not use it",
    ALWAYS,
    example=Example("pier", "devices: {core: {gateway: 10.44.15.0}}"),
)


@rule
def gateway_ignored(index: NetworkIndex) -> Iterator[Finding]:
    """A `gateway` on a device that routes the family itself, and so does not use it."""
    for node in index.knowledge.devices.values():
        for hop in node.written.gateway:
            if hop.address.version in node.forwards:
                families = {held.address.version for held in node.written.gateway}
                keep = [str(held) for held in node.written.gateway if held.address.version not in node.forwards]
                path = ("devices", node.name, "gateway")
                yield finding(
                    GATEWAY_IGNORED,
                    at=node.name,
                    path=path,
                    says=f"{node.name} routes IPv{hop.address.version}, so its gateway {hop} is not used",
                    mend=f"remove the gateway {hop} from {node.name}; a route does what it was meant for",
                    edits=(Edit(path, keep if len(families) > 1 and keep else REMOVE),),
                )
                break


NUMBER_DIFFERS = Kind(
    "number-differs",
    "note",
    "a subinterface whose number is another VLAN's than its tag",
    "nothing; it misleads whoever reads the plan",
    NEVER,
    example=Example(
        "pier",
        """
        devices:
          landing:
            interfaces:
              p1.220: ~
              p1.240: {parent: p1, tag: crew, address: 10.44.1.1/24}
        """,
    ),
)


@rule
def numbers_differ(index: NetworkIndex) -> Iterator[Finding]:
    """A subinterface whose number says another VLAN than its tag."""
    for node in index.knowledge.devices.values():
        for nic in node.nics.values():
            number = nic.name.rpartition(".")[2]
            tag = nic.vlan if nic.kind == "subinterface" else None
            if tag and number.isdigit() and int(number[:9]) in index.names and int(number) != tag:
                yield finding(
                    NUMBER_DIFFERS,
                    at=node.name,
                    path=nic_path((node, nic)),
                    says=f"{node.name}/{nic.name} has the number of {index.vlan_name(int(number))} and the tag {tag}",
                    mend=f"name it after its tag, or set its tag to {number}",
                )


_RANGE = re.compile(r"([^{}]*)\{(\d{1,7})\.\.(\d{1,7})\}")


PORT_BEYOND_RANGE = Kind(
    "port-beyond-range",
    "risk",
    "something plugged into a port beyond those that the ranges of its device list",
    "the port exists with its defaults, which nobody chose",
    NEVER,
    example=Example(
        "pier",
        """
        devices:
          quay:
            ports:
              p{4..8}: {access: crew}
            vlans: ['1', tickets, crew]
        hosts:
          guest: {at: quay/p12, address: 10.44.77.2/24}
        """,
    ),
)


RANGES_OVERLAP = Kind(
    "ranges-overlap",
    "note",
    "two ranges of port names that overlap",
    "nothing; it misleads whoever reads the file",
    NEVER,
    example=Example("pier", "devices: {quay: {ports: {'p{4..6}': {access: crew}, 'p{6..8}': {access: crew}}}}"),
)


@rule
def beside_ranges(index: NetworkIndex) -> Iterator[Finding]:
    """Ranges of port names: two of a device that overlap, and something plugged in beyond all of them."""
    ranges: dict[tuple[str, str], list[tuple[int, int, Path]]] = {}
    for path in index.network.marks:
        braced = len(path) == 4 and path[2] == "ports" and "{" in str(path[3])
        found = _RANGE.fullmatch(str(path[3])) if braced else None
        if found:
            ranges.setdefault((str(path[1]), found[1]), []).append((int(found[2]), int(found[3]), path))
    for (device, stem), spans in ranges.items():
        for number, (first, last, path) in enumerate(spans):
            for low, high, other in spans[:number]:
                if low <= last and first <= high:
                    yield finding(
                        RANGES_OVERLAP,
                        at=device,
                        path=path,
                        says=f"{path[3]} and {other[3]} of {device} overlap; where they differ, the later one stands",
                        mend="write each port once",
                    )
        top = max(last for _, last, _ in spans)
        written = index.network.devices[device].ports if device in index.network.devices else {}
        for name in index.knowledge.ports.get(device, {}):
            tail = name.removeprefix(stem)
            if name not in written and name.startswith(stem) and tail.isdigit() and int(tail) > top:
                listed = f"{stem}{min(first for first, _, _ in spans)} to {stem}{top}"
                yield finding(
                    PORT_BEYOND_RANGE,
                    at=device,
                    path=spans[-1][2],
                    says=f"{device} lists {listed}, not {name}, and something is plugged in there",
                    mend=f"list {name}, or plug it into a port that is listed; did you mean {stem}{top}?",
                )
