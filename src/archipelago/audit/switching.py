"""Mistakes between switches: VLANs that are cut, leak, or run in a circle."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from archipelago.audit.registry import rule
from archipelago.diagnosis.cabling import attachment_fault, without_cable
from archipelago.diagnosis.cut import cut, facing_access, unlike_untagged
from archipelago.diagnosis.faults.links import switching_loop
from archipelago.diagnosis.faults.switching import vlan_absent
from archipelago.diagnosis.kind import ALWAYS, NEVER, OFTEN, Example, Kind, finding
from archipelago.diagnosis.link_ends import left_out_of, routed_against_switched
from archipelago.diagnosis.places import has_moved, host_attachment, port_path, sits_in, vlan_of, wanted_vlan
from archipelago.knowledge.alike import alike_hosts, port_settings
from archipelago.knowledge.devices import Attachment, Nic, Node
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.reasons import DownCause
from archipelago.knowledge.topology import Layer2Endpoint
from archipelago.model.finding import Edit, Finding
from archipelago.model.parts import DEFAULT_VLAN, Device, Host


def users(index: NetworkIndex) -> dict[int, list[tuple[Node, Nic]]]:
    """Who stands in each VLAN: interfaces with addresses, and hosts that belong where they are plugged in; of those
    that are alike, the first."""
    users_of: dict[int, list[tuple[Node, Nic]]] = {}
    examples = (index.knowledge.nodes[hosts[0].name] for hosts in index.once(alike_hosts))
    for node in (*index.knowledge.devices.values(), *examples):
        for nic in node.nics.values():
            if not nic.addresses:
                continue
            vlan = sits_in(index, node, nic)
            if vlan is None or (nic.kind == "subinterface" and not nic.speaks):
                continue
            if node.kind == "host":
                home = index.home_of(node, nic.addresses[0])
                if home is not None and vlan_of(index, home) not in (vlan, None):
                    continue
            users_of.setdefault(vlan, []).append((node, nic))
    return users_of


def _endpoint(end: tuple[Node, Nic]) -> Layer2Endpoint:
    return (end[0].name, end[1].name)


def whole(index: NetworkIndex, members: list[tuple[Node, Nic]]) -> bool:
    """Whether everyone in a VLAN hears everyone."""
    return len({index.domains.of(_endpoint(member)) or number for number, member in enumerate(members)}) == 1


@rule
def cut_vlans(index: NetworkIndex) -> Iterator[Finding]:
    """A VLAN whose members are on more than one segment: what cuts it, from the gateway's point of view."""
    for vlan, members in index.once(users).items():
        current = [
            member
            for member in members
            if not any(has_moved(index, Held(*member, address)) for address in member[1].addresses)
        ]
        if not current:
            continue
        anchor = min(current, key=lambda end: (not end[0].can_route, not end[1].up))
        judged: set[object] = set()
        for end in current:
            if index.domains.together(_endpoint(end), _endpoint(anchor)) or end is anchor:
                continue
            if not _same_subnet(end, anchor):
                continue
            segment = (index.domains.of(_endpoint(end)) if end[1].up else None) or _endpoint(end)
            if segment not in judged:
                judged.add(segment)
                yield from cut(index, vlan, end, anchor)


def _same_subnet(a: tuple[Node, Nic], b: tuple[Node, Nic]) -> bool:
    """Whether two interfaces are meant to hear each other."""
    return any(y.prefix.holds(x) or x.prefix.holds(y) for x in a[1].addresses for y in b[1].addresses)


@rule
def circles(index: NetworkIndex) -> Iterator[Finding]:
    """Switching loops, each once."""
    seen = set()
    for domain in index.domains.every():
        loop = index.domains.loop_at(domain.endpoints[0])
        if loop is not None and loop.cables not in seen:
            seen.add(loop.cables)
            yield switching_loop(index, loop)


@rule
def facing_ends(index: NetworkIndex) -> Iterator[Finding]:
    """Links whose ends do not fit: a trunk facing an access port, different untagged VLANs."""
    for node, link, far_node, far in index.once(facing_attachments):
        if any(left_out_of(index, one) is not None for one in (link, far)):
            continue  # that is told of the aggregate
        fault = routed_against_switched(index, (node, link), (far_node, far))
        fault = fault or facing_access(index, node, link, far_node, far)
        if fault is not None:
            yield fault
        else:
            unlike = unlike_untagged(index, (node, link), (far_node, far))
            if unlike is not None:
                yield unlike


def facing_attachments(index: NetworkIndex) -> list[tuple[Node, Attachment, Node, Attachment]]:
    """Every attachment with the one at its far end, where both are devices, in both directions."""
    cabled = index.knowledge.plugs.cabled
    pairs = []
    for node in index.knowledge.devices.values():
        for attachment in node.attachments.values():
            far = next((cabled[end][0] for end in attachment.members if end in cabled), None)
            if far is not None:
                pairs.append((node, attachment, index.knowledge.nodes[far.device], index.knowledge.attachment_at(far)))
    return pairs


VLAN_ONE = Kind(
    "vlan-one",
    "risk",
    "a host in VLAN 1, where every port starts",
    "whatever is plugged in anywhere joins it",
    NEVER,
    example=Example(
        "pier",
        """
        devices:
          quay:
            ports:
              p5: {}
        hosts:
          stray: {at: quay/p5, address: 10.44.77.2/24}
        """,
    ),
)


UNTAGGED_DEFAULT = Kind(
    "untagged-default",
    "note",
    "a trunk that carries VLAN 1 because nothing else is written",
    "VLAN 1 spreads to wherever it is not wanted",
    ALWAYS,
    example=Example("pier", "devices: {shed: {ports: {p9: {untagged: ~}}}}"),
)


@rule
def default_vlan(index: NetworkIndex) -> Iterator[Finding]:
    """Ports left in VLAN 1: hosts in it, links between switches in it, trunks that carry it because nothing is
    written."""
    left: dict[str, list[Host]] = {}
    for hosts in index.once(alike_hosts):
        host = hosts[0]
        attachment = host_attachment(index.knowledge, host)
        home = next((index.home_of(index.knowledge.nodes[host.name], a) for a in host.addresses), None)
        if (
            attachment.switched
            and wanted_vlan(attachment) == DEFAULT_VLAN
            and (home is None or vlan_of(index, home) == DEFAULT_VLAN)
        ):
            left.setdefault(host.at.device, []).extend(hosts)
    for device, hosts in left.items():
        first = hosts[0]
        path = port_path(index.knowledge, device, host_attachment(index.knowledge, first).name)
        others = f" and {len(hosts) - 1:,} more of {device}" if len(hosts) > 1 else ""
        yield finding(
            VLAN_ONE,
            at=device,
            path=path,
            says=f"{first.name} at {first.at}{others} {'are' if others else 'is'} in VLAN 1, where every port starts",
            mend=f"give {first.name}{others} a VLAN of {'their' if others else 'its'} own",
        )
    inhabited = DEFAULT_VLAN in index.once(users)
    for node, link, far_node, _ in index.once(facing_attachments):
        if not link.switched or link.written.off or node.off or inhabited:
            continue
        path = port_path(index.knowledge, node.name, link.name)
        if link.written.trunk is not None and link.written.untagged is None:
            yield finding(
                UNTAGGED_DEFAULT,
                at=node.name,
                path=path,
                says=(
                    f"trunk {node.name}/{link.name} towards {far_node.name} carries VLAN 1 untagged, "
                    "because 'untagged' is not written"
                ),
                mend=f"write 'untagged: none' at {node.name}/{link.name}",
                edits=(Edit((*path, "untagged"), "none"),),
            )


HOSTS_UNTAGGED = Kind(
    "hosts-untagged",
    "note",
    "a trunk whose untagged VLAN has hosts in it",
    "a port that is wrongly an access port elsewhere joins it unseen",
    OFTEN,
    example=Example(
        "pier",
        """
        devices:
          shed:
            ports:
              p9: {untagged: store}
          core:
            ports:
              p8: {untagged: store}
        """,
    ),
)


@rule
def hosts_untagged(index: NetworkIndex) -> Iterator[Finding]:
    """A trunk whose untagged VLAN is one that hosts live in."""
    inhabited = {vlan for vlan, members in index.once(users).items() if any(node.kind == "host" for node, _ in members)}
    for node, link, far_node, far in index.once(facing_attachments):
        untagged = link.written.untagged
        if link.switched and link.written.trunk is not None and isinstance(untagged, int) and untagged in inhabited:
            if not far.switched or far.written.trunk is None:
                continue  # the far end takes it untagged on purpose
            path = port_path(index.knowledge, node.name, link.name)
            yield finding(
                HOSTS_UNTAGGED,
                at=node.name,
                path=(*path, "untagged"),
                says=(
                    f"trunk {node.name}/{link.name} towards {far_node.name} carries {index.vlan_name(untagged)}, "
                    "which has hosts, untagged"
                ),
                mend=f"carry {index.vlan_key(untagged)} tagged on both ends of the link",
                edits=tuple(
                    edit
                    for device, end in ((node.name, link), (far_node.name, far))
                    for edit in _tagged(index, device, end, untagged)
                ),
            )


def _tagged(index: NetworkIndex, device: str, attachment: Attachment, vlan: int) -> list[Edit]:
    """One end of a link, changed so that a VLAN crosses it tagged."""
    path = port_path(index.knowledge, device, attachment.name)
    if not attachment.switched or attachment.untagged != vlan:
        return []
    edits = [Edit((*path, "untagged"), "none")]
    if isinstance(attachment.written.trunk, tuple) and vlan not in attachment.written.trunk:
        edits.append(Edit((*path, "trunk", "+"), index.vlan_key(vlan)))
    return edits


@rule
def lacking_vlans(index: NetworkIndex) -> Iterator[Finding]:
    """A port set to a VLAN that its device does not have, or that is suspended: an error where the device has to pass
    it on."""
    everywhere = set[int]()
    for node in index.knowledge.devices.values():
        if not isinstance(node.written, Device) or node.kind == "router":
            continue
        for attachment in index.once(port_settings)[node.name]:
            written = attachment.written
            own = {number for number in (written.access, written.untagged) if isinstance(number, int)}
            listed = set(written.trunk) if isinstance(written.trunk, tuple) else set()
            for vlan in sorted(number for number in own | listed if number and number not in node.vlans):
                if vlan in own or _passed_on(node, vlan):
                    if vlan not in everywhere:
                        yield vlan_absent(index, node.written, vlan)
                    if vlan in index.network.suspended:
                        everywhere.add(vlan)  # one mistake, however many switches carry it no more
                elif vlan not in node.suspended:
                    yield absent_vlan_listed(index, node, attachment, vlan)


VLAN_LISTED_IN_VAIN = Kind(
    "vlan-listed-in-vain",
    "note",
    "a trunk that lists a VLAN which its device neither has nor needs",
    "nothing; it misleads whoever reads it",
    ALWAYS,
    example=Example(
        "pier",
        """
        devices:
          shed:
            vlans: [cameras, store]
            ports:
              p9:
                trunk: [cameras, store, crew]
        """,
    ),
)


def absent_vlan_listed(index: NetworkIndex, node: Node, attachment: Attachment, vlan: int) -> Finding:
    """A trunk that lists a VLAN which its device does not have and has no other port for."""
    path = (*port_path(index.knowledge, node.name, attachment.name), "trunk")
    written = attachment.written.trunk
    keep = [index.vlan_key(number) for number in written if number != vlan] if isinstance(written, tuple) else []
    place = f"{node.name}/{attachment.name}"
    return finding(
        VLAN_LISTED_IN_VAIN,
        at=node.name,
        path=path,
        says=(f"trunk {place} lists {index.vlan_name(vlan)}, which {node.name} does not have and nobody there is in"),
        mend=f"let {place} carry {', '.join(keep) or 'nothing'}",
        edits=(Edit(path, keep),),
    )


def _passed_on(node: Node, vlan: int) -> bool:
    """Whether a VLAN could come in and go out at a device by what is set there: two trunks that carry it, an access
    port, or an interface."""
    trunks = 0
    for attachment in node.attachments.values():
        written = attachment.written
        if written.access == vlan or written.untagged == vlan:
            return True
        trunks += written.trunk == "all" or (isinstance(written.trunk, tuple) and vlan in written.trunk)
    return trunks > 1 or any(nic.vlan == vlan for nic in node.nics.values())


@rule
def uncabled(index: NetworkIndex) -> Iterator[Finding]:
    """A trunk, or the parent of subinterfaces, that no cable goes to."""
    for node in index.knowledge.devices.values():
        parents = {nic.attachment for nic in node.nics.values() if nic.kind == "subinterface" and not _off(nic)}
        for attachment in node.attachments.values():
            trunk = attachment.switched and bool(attachment.written.trunk)
            parent = attachment.name in parents
            if not (trunk or parent) or node.off or attachment.written.off:
                continue
            ends = [end for end in attachment.members if index.knowledge.links[end].peer is None]
            if ends and len(ends) == len(attachment.members):
                fault = without_cable(index, ends[0])
                yield fault if parent or fault.edits else replace(fault, severity="risk")


def _off(nic: Nic) -> bool:
    return nic.down is not None and nic.down.root is DownCause.ADMIN_DOWN


@rule
def off_and_needed(index: NetworkIndex) -> Iterator[Finding]:
    """A cable that is off between two ports that are set up for each other."""
    for node, link, far_node, far in index.once(facing_attachments):
        if (
            not link.carrier
            and (node.name, link.name) < (far_node.name, far.name)
            and _set_up(node, link)
            and _set_up(far_node, far)
        ):
            shared = link.vlans & far.vlans
            if shared and all(index.domains.together((node.name, vlan), (far_node.name, vlan)) for vlan in shared):
                continue  # a spare: on, it would close a circle
            fault = attachment_fault(index, link)
            if fault is not None:
                yield replace(fault, severity="risk")


def _set_up(node: Node, attachment: Attachment) -> bool:
    if attachment.switched:
        return bool(attachment.written.trunk)
    return any(nic.addresses for nic in node.nics_on(attachment.name))
