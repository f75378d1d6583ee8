"""Mistakes between switches: VLANs that are cut, leak, run in a circle, or go where nobody needs them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from archipelago.audit.registry import rule
from archipelago.diagnosis import faults
from archipelago.diagnosis.cut import attachment_fault, cut, facing_access, partner_of, unlike_untagged
from archipelago.diagnosis.picture import Held, Picture, host_attachment, port_path, sits_in, stale, wanted_vlan
from archipelago.knowledge.devices import Attachment, Nic, Node
from archipelago.knowledge.domains import Foot
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.network import DEFAULT_VLAN, Device, Path


def users(view: Picture) -> dict[int, list[tuple[Node, Nic]]]:
    """Who stands in each VLAN: interfaces with addresses, and hosts that belong where they are plugged in."""
    found: dict[int, list[tuple[Node, Nic]]] = {}
    for node in view.knowledge.nodes.values():
        for nic in node.nics.values():
            if not nic.addresses:
                continue
            vlan = sits_in(view, node, nic)
            if vlan is None or (nic.kind == "subinterface" and not nic.speaks):
                continue
            if node.kind == "host":
                home = view.home_of(node, nic.addresses[0])
                if home is not None and home.nic.vlan not in (vlan, None):
                    continue
            found.setdefault(vlan, []).append((node, nic))
    return found


def _foot(one: tuple[Node, Nic]) -> Foot:
    return (one[0].name, one[1].name)


def _whole(view: Picture, members: list[tuple[Node, Nic]]) -> bool:
    """Whether everyone in a VLAN hears everyone."""
    return len({view.domains.of.get(_foot(one), -1 - index) for index, one in enumerate(members)}) == 1


@rule
def cut_vlans(view: Picture) -> Iterator[Finding]:
    """A VLAN whose members are on more than one island: what cuts it, from the gateway's point of view."""
    for vlan, members in users(view).items():
        current = [one for one in members if not any(stale(view, Held(*one, held)) for held in one[1].addresses)]
        if not current:
            continue
        anchor = min(current, key=lambda one: (one[0].kind not in ("router", "l3switch"), not one[1].up))
        judged = set()
        for one in current:
            if view.domains.together(_foot(one), _foot(anchor)) or one is anchor:
                continue
            if not _same_subnet(one, anchor):
                continue
            island = view.domains.of.get(_foot(one)) if one[1].up else _foot(one)
            if island not in judged:
                judged.add(island)
                yield from cut(view, vlan, one, anchor)


def _same_subnet(a: tuple[Node, Nic], b: tuple[Node, Nic]) -> bool:
    """Whether two interfaces are meant to hear each other."""
    return any(y.prefix.holds(x) or x.prefix.holds(y) for x in a[1].addresses for y in b[1].addresses)


@rule
def circles(view: Picture) -> Iterator[Finding]:
    """Switching loops, each once."""
    seen = set()
    for loop in view.domains.loops.values():
        if loop.cables not in seen:
            seen.add(loop.cables)
            yield faults.switching_loop(view, loop)


@rule
def facing_ends(view: Picture) -> Iterator[Finding]:
    """Links whose ends do not fit: a trunk facing an access port, different untagged VLANs."""
    for node, one, far_node, far in _links(view):
        found = facing_access(view, node, one, far_node, far)
        if found is not None:
            yield found
        else:
            unlike = unlike_untagged(view, (node, one), (far_node, far))
            if unlike is not None:
                yield unlike


def _links(view: Picture) -> Iterator[tuple[Node, Attachment, Node, Attachment]]:
    """Every attachment with the one at its far end, where both are devices, in both directions."""
    for node in view.knowledge.nodes.values():
        if node.kind == "host":
            continue
        for one in node.attachments.values():
            peers = [view.knowledge.links[end].peer for end in one.members]
            peer = next((peer for peer in peers if peer is not None), None)
            if peer is not None:
                far_node = view.knowledge.nodes[peer.device]
                if far_node.kind != "host":
                    yield node, one, far_node, view.knowledge.attachment_at(peer)


@rule
def default_vlan(view: Picture) -> Iterator[Finding]:
    """Ports left in VLAN 1: hosts in it, links between switches in it, trunks that carry it because nothing is
    written."""
    for host in view.network.hosts.values():
        attachment = host_attachment(view.knowledge, host)
        device = view.network.devices[host.at.device]
        home = next((view.home_of(view.knowledge.nodes[host.name], a) for a in host.addresses), None)
        if (
            attachment.switched
            and wanted_vlan(attachment) == DEFAULT_VLAN
            and (home is None or home.nic.vlan == DEFAULT_VLAN)
        ):
            path = port_path(view.knowledge, device.name, attachment.name)
            yield Finding(
                "vlan-one",
                "risk",
                device.name,
                path,
                f"{host.name} at {host.at} is in VLAN 1, where every port starts",
                "whatever is plugged in anywhere joins it",
                f"give {host.name} a VLAN of its own on {host.at}",
            )
    inhabited = DEFAULT_VLAN in users(view)
    for node, one, far_node, _ in _links(view):
        if not one.switched or one.written.off or node.off or inhabited:
            continue
        path = port_path(view.knowledge, node.name, one.name)
        if one.written.trunk is not None and one.written.untagged is None:
            yield Finding(
                "untagged-default",
                "note",
                node.name,
                path,
                f"trunk {node.name}/{one.name} towards {far_node.name} carries VLAN 1 untagged, "
                "because 'untagged' is not written",
                "VLAN 1 spreads to wherever it is not wanted",
                f"write 'untagged: none' at {node.name}/{one.name}",
                (Edit((*path, "untagged"), "none"),),
            )


@rule
def hosts_untagged(view: Picture) -> Iterator[Finding]:
    """A trunk whose untagged VLAN is one that hosts live in."""
    inhabited = {vlan for vlan, members in users(view).items() if any(node.kind == "host" for node, _ in members)}
    for node, one, far_node, far in _links(view):
        untagged = one.written.untagged
        if one.switched and one.written.trunk is not None and isinstance(untagged, int) and untagged in inhabited:
            if not far.switched or far.written.trunk is None:
                continue  # the far end takes it untagged on purpose
            path = port_path(view.knowledge, node.name, one.name)
            yield Finding(
                "hosts-untagged",
                "note",
                node.name,
                (*path, "untagged"),
                f"trunk {node.name}/{one.name} towards {far_node.name} carries {view.vlan_name(untagged)}, "
                "which has hosts, untagged",
                "a port that is wrongly an access port elsewhere joins it unseen",
                f"carry {view.vlan_key(untagged)} tagged on both ends of the link",
                tuple(
                    edit
                    for device, end in ((node.name, one), (far_node.name, far))
                    for edit in _tagged(view, device, end, untagged)
                ),
            )


def _tagged(view: Picture, device: str, one: Attachment, vlan: int) -> list[Edit]:
    """One end of a link, changed so that a VLAN crosses it tagged."""
    path = port_path(view.knowledge, device, one.name)
    if not one.switched or one.untagged != vlan:
        return []
    edits = [Edit((*path, "untagged"), "none")]
    if isinstance(one.written.trunk, tuple) and vlan not in one.written.trunk:
        edits.append(Edit((*path, "trunk", "+"), view.vlan_key(vlan)))
    return edits


@rule
def lacking_vlans(view: Picture) -> Iterator[Finding]:
    """A port set to a VLAN that its device does not have."""
    for node in view.knowledge.nodes.values():
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
                yield faults.vlan_absent(view, node.written, vlan)


@rule
def excess(view: Picture) -> Iterator[Finding]:
    """A trunk that carries a VLAN that nobody beyond it needs."""
    everyone = users(view)
    peopled = {
        vlan for vlan, members in everyone.items() if any(node.kind in ("host", "switch") for node, _ in members)
    }
    planned = _planned(view)
    waiting = {vlan for _, vlan in planned}
    settled = {
        vlan for vlan, members in everyone.items() if vlan in peopled and _served(members) and _whole(view, members)
    }
    needed = _needed(view, planned)
    for node, one, _, _ in _links(view):
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
            and not _crosses(view, node, one, vlan, needed)
        ]
        if not spare or any(vlan in everyone and vlan not in settled for vlan in spare):
            continue
        if not any(vlan in everyone for vlan in listed) and trunk != "all":
            continue
        path = (*port_path(view.knowledge, node.name, one.name), "trunk")
        names = ", ".join(view.vlan_key(vlan) for vlan in spare)
        keep = [
            view.vlan_key(vlan)
            for vlan in listed
            if vlan not in spare and not (vlan == one.untagged and trunk == "all")
        ]
        yield Finding(
            "vlan-not-needed-on-trunk",
            "note",
            node.name,
            path,
            f"trunk {node.name}/{one.name} carries {names}, which nobody beyond it needs",
            "broadcasts of those VLANs cross the link for nothing",
            f"let {node.name}/{one.name} carry {', '.join(keep) or 'nothing'}",
            (Edit(path, keep),),
        )


def _served(members: list[tuple[Node, Nic]]) -> bool:
    """Whether a VLAN has the gateway that its members call for."""
    routed = any(node.kind in ("router", "l3switch") for node, _ in members)
    return routed or not any(node.written.gateway for node, _ in members)


def _planned(view: Picture) -> set[Foot]:
    """Places where an access port waits for a host, or where a host belongs that is plugged in wrongly."""
    found: set[Foot] = set()
    for node in view.knowledge.nodes.values():
        for one in node.attachments.values():
            if one.switched and one.written.trunk is None and one.written.access and not one.written.off:
                found.add((node.name, one.written.access))
    for host in view.network.hosts.values():
        node = view.knowledge.nodes[host.name]
        homes = [view.home_of(node, address) for address in host.addresses]
        found |= {(host.at.device, home.nic.vlan) for home in homes if home is not None and home.nic.vlan is not None}
    return found


def _needed(view: Picture, planned: set[Foot]) -> set[Foot]:
    """The places in switches that lie between users: what is left once dead ends are taken away."""
    next_to = view.domains.next_to
    degree = {foot: len({other for other, _ in near}) for foot, near in next_to.items()}
    gone: set[Foot] = set()
    queue = [foot for foot, count in degree.items() if count <= 1 and isinstance(foot[1], int) and foot not in planned]
    while queue:
        foot = queue.pop()
        if foot in gone:
            continue
        gone.add(foot)
        for other, _ in next_to[foot]:
            if other not in gone:
                degree[other] -= 1
                if degree[other] <= 1 and isinstance(other[1], int) and other not in planned:
                    queue.append(other)
    return set(next_to) - gone


def _crosses(view: Picture, node: Node, one: Attachment, vlan: int, needed: set[Foot]) -> bool:
    """Whether a VLAN has users on both sides of an attachment."""
    members = set(one.members)
    here: Foot = (node.name, vlan)
    if here not in needed:
        return False
    for other, cable in view.domains.next_to.get(here, ()):
        if cable is not None and (cable.a in members or cable.b in members):
            return other in needed
    return False


@rule
def unused_vlans(view: Picture) -> Iterator[Finding]:
    """A VLAN of the catalogue that nothing is set to."""
    used: set[int | None] = set()
    for node in view.knowledge.nodes.values():
        for one in node.attachments.values():
            written = one.written
            used |= {written.access, written.untagged if isinstance(written.untagged, int) else None}
            used |= set(written.trunk) if isinstance(written.trunk, tuple) else set()
        used |= {nic.vlan for nic in node.nics.values()}
    for name, vlan in view.network.vlans.items():
        if vlan not in used:
            edits = [Edit(("vlans", name), REMOVE)]
            for device in view.network.devices.values():
                if device.vlans is not None and vlan in device.vlans:
                    path: Path = ("devices", device.name, "vlans")
                    edits.append(Edit(path, [view.vlan_key(one) for one in device.vlans if one != vlan]))
            yield Finding(
                "vlan-unused",
                "note",
                name,
                ("vlans", name),
                f"VLAN {name} ({vlan}) is declared, but nothing uses it",
                "nothing; it misleads whoever reads the plan",
                f"remove {name} from the catalogue, or put ports in it",
                tuple(edits),
            )


@rule
def uncabled(view: Picture) -> Iterator[Finding]:
    """A trunk, or the parent of subinterfaces, that no cable goes to."""
    for node in view.knowledge.nodes.values():
        for one in node.attachments.values():
            ends = [end for end in one.members if view.knowledge.links[end].peer is None]
            if not ends or len(ends) < len(one.members) or node.off or one.written.off:
                continue
            trunk = one.switched and bool(one.written.trunk)
            parent = any(
                nic.kind == "subinterface" and not nic.down.endswith("is off") for nic in node.nics_on(one.name)
            )
            if trunk or parent:
                partner = partner_of(view, ends[0])
                found = faults.not_cabled(view, ends[0], partner)
                yield found if parent or partner else replace(found, severity="risk")


@rule
def off_and_needed(view: Picture) -> Iterator[Finding]:
    """A cable that is off between two ports that are set up for each other."""
    for node, one, far_node, far in _links(view):
        if (
            not one.carrier
            and (node.name, one.name) < (far_node.name, far.name)
            and _set_up(node, one)
            and _set_up(far_node, far)
        ):
            shared = one.vlans & far.vlans
            if shared and all(view.domains.together((node.name, vlan), (far_node.name, vlan)) for vlan in shared):
                continue  # a spare: on, it would close a circle
            found = attachment_fault(view, one)
            if found is not None:
                yield replace(found, severity="risk")


def _set_up(node: Node, one: Attachment) -> bool:
    if one.switched:
        return bool(one.written.trunk)
    return any(nic.addresses for nic in node.nics_on(one.name))
