"""Mistakes between switches: VLANs that are cut, leak, run in a circle, or go where nobody needs them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace

from archipelago.audit.registry import rule
from archipelago.diagnosis import faults
from archipelago.diagnosis.catalogue import finding
from archipelago.diagnosis.cut import attachment_fault, cut, facing_access, partner_of, unlike_untagged
from archipelago.diagnosis.places import has_moved, host_attachment, port_path, sits_in, wanted_vlan
from archipelago.knowledge.devices import Attachment, Nic, Node
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.links import HOST_PORT
from archipelago.knowledge.reasons import DownCause
from archipelago.knowledge.topology import Layer2Endpoint, host_endpoint
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.parts import DEFAULT_VLAN, Device, Path


def users(index: NetworkIndex) -> dict[int, list[tuple[Node, Nic]]]:
    """Who stands in each VLAN: interfaces with addresses, and hosts that belong where they are plugged in."""
    found: dict[int, list[tuple[Node, Nic]]] = {}
    for node in index.knowledge.nodes.values():
        for nic in node.nics.values():
            if not nic.addresses:
                continue
            vlan = sits_in(index, node, nic)
            if vlan is None or (nic.kind == "subinterface" and not nic.speaks):
                continue
            if node.kind == "host":
                home = index.home_of(node, nic.addresses[0])
                if home is not None and home.nic.vlan not in (vlan, None):
                    continue
            found.setdefault(vlan, []).append((node, nic))
    return found


def _endpoint(one: tuple[Node, Nic]) -> Layer2Endpoint:
    return (one[0].name, one[1].name)


def _whole(index: NetworkIndex, members: list[tuple[Node, Nic]]) -> bool:
    """Whether everyone in a VLAN hears everyone."""
    return len({index.domains.of(_endpoint(one)) or number for number, one in enumerate(members)}) == 1


@rule
def cut_vlans(index: NetworkIndex) -> Iterator[Finding]:
    """A VLAN whose members are on more than one segment: what cuts it, from the gateway's point of view."""
    for vlan, members in users(index).items():
        current = [one for one in members if not any(has_moved(index, Held(*one, held)) for held in one[1].addresses)]
        if not current:
            continue
        anchor = min(current, key=lambda one: (not one[0].can_route, not one[1].up))
        judged: set[object] = set()
        for one in current:
            if index.domains.together(_endpoint(one), _endpoint(anchor)) or one is anchor:
                continue
            if not _same_subnet(one, anchor):
                continue
            segment = (index.domains.of(_endpoint(one)) if one[1].up else None) or _endpoint(one)
            if segment not in judged:
                judged.add(segment)
                yield from cut(index, vlan, one, anchor)


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
            yield faults.switching_loop(index, loop)


@rule
def facing_ends(index: NetworkIndex) -> Iterator[Finding]:
    """Links whose ends do not fit: a trunk facing an access port, different untagged VLANs."""
    for node, one, far_node, far in _links(index):
        found = facing_access(index, node, one, far_node, far)
        if found is not None:
            yield found
        else:
            unlike = unlike_untagged(index, (node, one), (far_node, far))
            if unlike is not None:
                yield unlike


def _links(index: NetworkIndex) -> Iterator[tuple[Node, Attachment, Node, Attachment]]:
    """Every attachment with the one at its far end, where both are devices, in both directions."""
    for node in index.knowledge.nodes.values():
        if node.kind == "host":
            continue
        for one in node.attachments.values():
            peers = [index.knowledge.links[end].peer for end in one.members]
            peer = next((peer for peer in peers if peer is not None), None)
            if peer is not None:
                far_node = index.knowledge.nodes[peer.device]
                if far_node.kind != "host":
                    yield node, one, far_node, index.knowledge.attachment_at(peer)


@rule
def default_vlan(index: NetworkIndex) -> Iterator[Finding]:
    """Ports left in VLAN 1: hosts in it, links between switches in it, trunks that carry it because nothing is
    written."""
    for host in index.network.hosts.values():
        attachment = host_attachment(index.knowledge, host)
        device = index.network.devices[host.at.device]
        home = next((index.home_of(index.knowledge.nodes[host.name], a) for a in host.addresses), None)
        if (
            attachment.switched
            and wanted_vlan(attachment) == DEFAULT_VLAN
            and (home is None or home.nic.vlan == DEFAULT_VLAN)
        ):
            path = port_path(index.knowledge, device.name, attachment.name)
            yield finding(
                "vlan-one",
                at=device.name,
                path=path,
                says=f"{host.name} at {host.at} is in VLAN 1, where every port starts",
                mend=f"give {host.name} a VLAN of its own on {host.at}",
            )
    inhabited = DEFAULT_VLAN in users(index)
    for node, one, far_node, _ in _links(index):
        if not one.switched or one.written.off or node.off or inhabited:
            continue
        path = port_path(index.knowledge, node.name, one.name)
        if one.written.trunk is not None and one.written.untagged is None:
            yield finding(
                "untagged-default",
                at=node.name,
                path=path,
                says=(
                    f"trunk {node.name}/{one.name} towards {far_node.name} carries VLAN 1 untagged, "
                    "because 'untagged' is not written"
                ),
                mend=f"write 'untagged: none' at {node.name}/{one.name}",
                edits=(Edit((*path, "untagged"), "none"),),
            )


@rule
def hosts_untagged(index: NetworkIndex) -> Iterator[Finding]:
    """A trunk whose untagged VLAN is one that hosts live in."""
    inhabited = {vlan for vlan, members in users(index).items() if any(node.kind == "host" for node, _ in members)}
    for node, one, far_node, far in _links(index):
        untagged = one.written.untagged
        if one.switched and one.written.trunk is not None and isinstance(untagged, int) and untagged in inhabited:
            if not far.switched or far.written.trunk is None:
                continue  # the far end takes it untagged on purpose
            path = port_path(index.knowledge, node.name, one.name)
            yield finding(
                "hosts-untagged",
                at=node.name,
                path=(*path, "untagged"),
                says=(
                    f"trunk {node.name}/{one.name} towards {far_node.name} carries {index.vlan_name(untagged)}, "
                    "which has hosts, untagged"
                ),
                mend=f"carry {index.vlan_key(untagged)} tagged on both ends of the link",
                edits=tuple(
                    edit
                    for device, end in ((node.name, one), (far_node.name, far))
                    for edit in _tagged(index, device, end, untagged)
                ),
            )


def _tagged(index: NetworkIndex, device: str, one: Attachment, vlan: int) -> list[Edit]:
    """One end of a link, changed so that a VLAN crosses it tagged."""
    path = port_path(index.knowledge, device, one.name)
    if not one.switched or one.untagged != vlan:
        return []
    edits = [Edit((*path, "untagged"), "none")]
    if isinstance(one.written.trunk, tuple) and vlan not in one.written.trunk:
        edits.append(Edit((*path, "trunk", "+"), index.vlan_key(vlan)))
    return edits


@rule
def lacking_vlans(index: NetworkIndex) -> Iterator[Finding]:
    """A port set to a VLAN that its device does not have."""
    for node in index.knowledge.nodes.values():
        if not isinstance(node.written, Device) or node.kind == "router":
            continue
        for one in node.attachments.values():
            written = one.written
            named = {written.access} if written.access else set()
            if isinstance(written.trunk, tuple):
                named |= set(written.trunk)
            if isinstance(written.untagged, int):
                named.add(written.untagged)
            for vlan in sorted(number for number in named if number and number not in node.vlans):
                yield faults.vlan_absent(index, node.written, vlan)


@rule
def excess(index: NetworkIndex) -> Iterator[Finding]:
    """A trunk that carries a VLAN that nobody beyond it needs."""
    everyone = users(index)
    peopled = {
        vlan for vlan, members in everyone.items() if any(node.kind in ("host", "switch") for node, _ in members)
    }
    planned = _planned(index)
    waiting = {vlan for _, vlan in planned}
    settled = {
        vlan for vlan, members in everyone.items() if vlan in peopled and _served(members) and _whole(index, members)
    }
    needed = _needed(index, planned)
    for node, one, _, _ in _links(index):
        trunk = one.written.trunk
        if not one.switched or trunk is None or not one.carrier or (trunk == "all" and node.off):
            continue
        listed = sorted(one.vlans) if trunk == "all" else list(trunk)
        spare = [
            vlan
            for vlan in listed
            if vlan in one.vlans
            and (vlan in settled or (vlan not in everyone and vlan not in waiting))
            and vlan != one.untagged
            and not _crosses(index, node, one, vlan, needed)
        ]
        if not spare or any(vlan in everyone and vlan not in settled for vlan in spare):
            continue
        if not any(vlan in everyone for vlan in listed) and trunk != "all":
            continue
        path = (*port_path(index.knowledge, node.name, one.name), "trunk")
        names = ", ".join(index.vlan_key(vlan) for vlan in spare)
        keep = [
            index.vlan_key(vlan)
            for vlan in listed
            if vlan not in spare and not (vlan == one.untagged and trunk == "all")
        ]
        yield finding(
            "vlan-not-needed-on-trunk",
            at=node.name,
            path=path,
            says=f"trunk {node.name}/{one.name} carries {names}, which nobody beyond it needs",
            mend=f"let {node.name}/{one.name} carry {', '.join(keep) or 'nothing'}",
            edits=(Edit(path, keep),),
        )


def _served(members: list[tuple[Node, Nic]]) -> bool:
    """Whether a VLAN has the gateway that its members call for."""
    routed = any(node.can_route for node, _ in members)
    return routed or not any(node.written.gateway for node, _ in members)


def _planned(index: NetworkIndex) -> set[Layer2Endpoint]:
    """Places where an access port waits for a host, or where a host belongs that is plugged in wrongly."""
    found: set[Layer2Endpoint] = set()
    for node in index.knowledge.nodes.values():
        for one in node.attachments.values():
            if one.switched and one.written.trunk is None and one.written.access and not one.written.off:
                found.add((node.name, one.written.access))
    for host in index.network.hosts.values():
        node = index.knowledge.nodes[host.name]
        homes = [index.home_of(node, address) for address in host.addresses]
        found |= {(host.at.device, home.nic.vlan) for home in homes if home is not None and home.nic.vlan is not None}
    return found


def _next_to(index: NetworkIndex) -> Mapping[Layer2Endpoint, list[Layer2Endpoint]]:
    """The endpoints beside each, hosts included."""
    knowledge = index.knowledge
    found: dict[Layer2Endpoint, list[Layer2Endpoint]] = {}
    for name in knowledge.devices:
        for one in knowledge.topology.of(name):
            if one.mutual:
                found.setdefault(one.endpoint, []).append(one.target)
    for host in knowledge.written.hosts.values():
        joined = host_endpoint(knowledge.devices, host.at)
        if joined is not None and knowledge.links[host.at].carrier:
            found.setdefault((host.name, HOST_PORT), []).append(joined)
            found.setdefault(joined, []).append((host.name, HOST_PORT))
    return found


def _needed(index: NetworkIndex, planned: set[Layer2Endpoint]) -> set[Layer2Endpoint]:
    """The places in switches that lie between users: what is left once dead ends are taken away."""
    next_to = _next_to(index)
    degree = {endpoint: len(set(near)) for endpoint, near in next_to.items()}
    gone: set[Layer2Endpoint] = set()

    def ends_here(endpoint: Layer2Endpoint) -> bool:
        return degree[endpoint] <= 1 and isinstance(endpoint[1], int) and endpoint not in planned

    queue = [endpoint for endpoint in degree if ends_here(endpoint)]
    while queue:
        endpoint = queue.pop()
        if endpoint in gone:
            continue
        gone.add(endpoint)
        for other in next_to[endpoint]:
            if other not in gone:
                degree[other] -= 1
                if ends_here(other):
                    queue.append(other)
    return set(next_to) - gone


def _crosses(index: NetworkIndex, node: Node, one: Attachment, vlan: int, needed: set[Layer2Endpoint]) -> bool:
    """Whether a VLAN has users on both sides of an attachment."""
    members = set(one.members)
    here: Layer2Endpoint = (node.name, vlan)
    if here not in needed:
        return False
    for joint in index.knowledge.topology.at(here):
        if joint.mutual and joint.cable is not None and (joint.cable.a in members or joint.cable.b in members):
            return joint.target in needed
    return False


@rule
def unused_vlans(index: NetworkIndex) -> Iterator[Finding]:
    """A VLAN of the catalogue that nothing is set to."""
    used: set[int | None] = set()
    for node in index.knowledge.nodes.values():
        for one in node.attachments.values():
            written = one.written
            used |= {written.access, written.untagged if isinstance(written.untagged, int) else None}
            used |= set(written.trunk) if isinstance(written.trunk, tuple) else set()
        used |= {nic.vlan for nic in node.nics.values()}
    for name, vlan in index.network.vlans.items():
        if vlan not in used:
            edits = [Edit(("vlans", name), REMOVE)]
            for device in index.network.devices.values():
                if device.vlans is not None and vlan in device.vlans:
                    path: Path = ("devices", device.name, "vlans")
                    edits.append(Edit(path, [index.vlan_key(one) for one in device.vlans if one != vlan]))
            yield finding(
                "vlan-unused",
                at=name,
                path=("vlans", name),
                says=f"VLAN {name} ({vlan}) is declared, but nothing uses it",
                mend=f"remove {name} from the catalogue, or put ports in it",
                edits=tuple(edits),
            )


@rule
def uncabled(index: NetworkIndex) -> Iterator[Finding]:
    """A trunk, or the parent of subinterfaces, that no cable goes to."""
    for node in index.knowledge.nodes.values():
        for one in node.attachments.values():
            ends = [end for end in one.members if index.knowledge.links[end].peer is None]
            if not ends or len(ends) < len(one.members) or node.off or one.written.off:
                continue
            trunk = one.switched and bool(one.written.trunk)
            parent = any(nic.kind == "subinterface" and not _off(nic) for nic in node.nics_on(one.name))
            if trunk or parent:
                partner = partner_of(index, ends[0])
                found = faults.not_cabled(index, ends[0], partner)
                yield found if parent or partner else replace(found, severity="risk")


def _off(nic: Nic) -> bool:
    return nic.down is not None and nic.down.root is DownCause.ADMIN_DOWN


@rule
def off_and_needed(index: NetworkIndex) -> Iterator[Finding]:
    """A cable that is off between two ports that are set up for each other."""
    for node, one, far_node, far in _links(index):
        if (
            not one.carrier
            and (node.name, one.name) < (far_node.name, far.name)
            and _set_up(node, one)
            and _set_up(far_node, far)
        ):
            shared = one.vlans & far.vlans
            if shared and all(index.domains.together((node.name, vlan), (far_node.name, vlan)) for vlan in shared):
                continue  # a spare: on, it would close a circle
            found = attachment_fault(index, one)
            if found is not None:
                yield replace(found, severity="risk")


def _set_up(node: Node, one: Attachment) -> bool:
    if one.switched:
        return bool(one.written.trunk)
    return any(nic.addresses for nic in node.nics_on(one.name))
