"""Why frames of one VLAN do not get from one interface to another: the mistakes along the least broken way."""

from __future__ import annotations

import heapq
from collections.abc import Iterable, Iterator
from dataclasses import replace

from archipelago.diagnosis.cabling import link_fault, spoken_vlans
from archipelago.diagnosis.faults.hosts import vlan_wrong
from archipelago.diagnosis.faults.interfaces import tag_mismatch
from archipelago.diagnosis.faults.links import not_cabled
from archipelago.diagnosis.faults.switching import vlan_absent
from archipelago.diagnosis.faults.words import node_path
from archipelago.diagnosis.kind import ALWAYS, NEVER, OFTEN, Example, Kind, finding
from archipelago.diagnosis.link_ends import holds_nothing, routed_against_switched
from archipelago.diagnosis.places import nic_path, port_path, wanted_vlan
from archipelago.knowledge.devices import Attachment, Nic, Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.links import Link
from archipelago.model.finding import REMOVE, Edit, Finding, Mend
from archipelago.model.parts import DEFAULT_VLAN, Device, End, Host

NodeInterface = tuple[Node, Nic]


def cut(index: NetworkIndex, vlan: int, start: NodeInterface, goal: NodeInterface) -> list[Finding]:
    """What keeps the frames of a VLAN from one interface to the other, in the order of the way; empty if nothing does.

    Of all ways along cables, also those that are off, the one with the fewest mistakes is judged.
    """
    first, last = _entrance(start), _entrance(goal)
    faults_found = _own_faults(index, vlan, start) + _own_faults(index, vlan, goal)
    if faults_found:
        return faults_found
    best: dict[str, int] = {first: 0}
    came: dict[str, tuple[str, list[Finding]]] = {}
    queue: list[tuple[int, int, str]] = [(0, 0, first)]
    order = 0
    while queue:
        cost, _, name = heapq.heappop(queue)
        if cost > best[name]:
            continue
        if name == last:
            break
        for far, wrong in _hops(index, vlan, name, start, goal):
            total = cost + 1 + 1000 * len(wrong)
            if total < best.get(far, total + 1):
                best[far] = total
                came[far] = (name, wrong)
                order += 1
                heapq.heappush(queue, (total, order, far))
    if last not in came and last != first:
        for node, nic in (start, goal):
            parent = _parent_meant(index, vlan, node, nic)
            if parent is not None:
                return [parent_wrong(index, node, nic, parent)]
        return _uncabled(index, vlan, set(best), start, goal)
    steps: list[list[Finding]] = []
    name = last
    while name != first:
        name, wrong = came[name]
        steps.append(wrong)
    return [fault for wrong in reversed(steps) for fault in wrong]


PARENT_WRONG = Kind(
    "parent-wrong",
    "error",
    "a subinterface of a port whose link does not lead to its VLAN",
    "nobody in {vlan} hears it",
    ALWAYS,
    example=Example("pier", "devices: {landing: {ports: {p3: {}}, interfaces: {p1.210: {parent: p3}}}}"),
)


def parent_wrong(index: NetworkIndex, node: Node, nic: Nic, parent: str) -> Finding:
    """A subinterface of a port whose link does not lead to its VLAN, while that of another port carries it."""
    path = (*nic_path((node, nic)), "parent")
    vlan = index.vlan_name(nic.vlan or 0)
    return finding(
        PARENT_WRONG,
        at=node.name,
        path=path,
        says=(
            f"{node.name}/{nic.name} is of {nic.attachment}, whose link does not lead to {vlan}; the one at {parent} "
            "carries it"
        ),
        mend=f"set the parent of {node.name}/{nic.name} to {parent}",
        edits=(Edit(path, parent),),
        vlan=vlan,
    )


def _parent_meant(index: NetworkIndex, vlan: int, node: Node, nic: Nic) -> str | None:
    """The one other port of a device whose far end carries the VLAN of a subinterface, for which it has none there."""
    if nic.kind != "subinterface":
        return None
    able = []
    for attachment in node.attachments.values():
        peer = index.knowledge.links[attachment.members[0]].peer if attachment.members else None
        if attachment.switched or attachment.name == nic.attachment or peer is None:
            continue
        far = index.knowledge.attachment_at(peer)
        taken = any(other.tag == nic.tag for other in node.nics_on(attachment.name))
        if peer.device in index.knowledge.devices and vlan in far.vlans and not taken:
            able.append(attachment.name)
    return able[0] if len(able) == 1 else None


def _entrance(interface: NodeInterface) -> str:
    return interface[0].name


def _own_faults(index: NetworkIndex, vlan: int, interface: NodeInterface) -> list[Finding]:
    node, nic = interface
    if nic.kind == "vlan" and vlan not in node.vlans and isinstance(node.written, Device):
        return [vlan_absent(index, node.written, vlan)]
    return []


def _hops(
    index: NetworkIndex, vlan: int, name: str, start: NodeInterface, goal: NodeInterface
) -> Iterator[tuple[str, list[Finding]]]:
    """The devices next to one, each with the mistakes on the link there."""
    node = index.knowledge.nodes[name]
    for attachment in node.attachments.values():
        if attachment.blocked or not _passes(node, attachment, start, goal):
            continue
        for end in attachment.members:
            link = index.knowledge.links[end]
            if link.peer is None:
                continue
            far_node = index.knowledge.nodes[link.peer.device]
            far = index.knowledge.attachment_at(link.peer)
            if not far.blocked and _passes(far_node, far, start, goal):
                yield (
                    far_node.name,
                    _link_mistakes(
                        index=index,
                        vlan=vlan,
                        link=link,
                        here=(node, attachment),
                        there=(far_node, far),
                        start=start,
                        goal=goal,
                    ),
                )


def _passes(node: Node, attachment: Attachment, start: NodeInterface, goal: NodeInterface) -> bool:
    """Whether the VLAN's frames may use an attachment at all: any switched one, and the interface' own."""
    if attachment.switched or holds_nothing(node, attachment):
        return True
    return any(node is end and nic.attachment == attachment.name for end, nic in (start, goal))


def _link_mistakes(
    index: NetworkIndex,
    vlan: int,
    link: Link,
    here: tuple[Node, Attachment],
    there: tuple[Node, Attachment],
    start: NodeInterface,
    goal: NodeInterface,
) -> list[Finding]:
    mistakes: list[Finding] = []
    blocked = link_fault(index, link.end)
    if blocked is not None:
        mistakes.append(blocked)
    tags = []
    for (node, attachment), (far_node, far) in ((here, there), (there, here)):
        if not attachment.switched:
            mine = (nic for end, nic in (start, goal) if end is node and nic.attachment == attachment.name)
            nic = next(mine, None)
            if nic is None:
                continue  # a routed port that is meant to be switched
            tags.append(nic.tag)
        elif vlan not in node.vlans and isinstance(node.written, Device):
            mistakes.append(vlan_absent(index, node.written, vlan))
        elif vlan not in attachment.vlans:
            mistakes.append(_uncarried(index, vlan, node, attachment, far_node, far))
        else:
            tags.append(None if attachment.untagged == vlan else vlan)
    unlike = routed_against_switched(index, here, there) or unlike_untagged(index, here, there)
    if unlike is not None:
        return [*([blocked] if blocked is not None else []), unlike]
    if len(tags) == 2 and tags[0] != tags[1] and not here[1].switched and not there[1].switched:
        ends = sorted((start, goal), key=lambda end: end[1].tag is None)
        mistakes.append(tag_mismatch(index, *ends))
    elif len(tags) == 2 and tags[0] != tags[1]:
        (node, attachment), (far_node, far) = (here, there) if tags[0] is None and here[1].switched else (there, here)
        if not attachment.switched:
            (node, attachment), (far_node, far) = (far_node, far), (node, attachment)
        if (
            attachment.written.trunk is None
            and far_node.kind != "host"
            and (far.written.trunk is not None or not far.switched)
        ):
            mistakes.append(trunk_expected(index, node.name, attachment, *_mirrored(index, far_node, far)))
        else:
            there_vlan = wanted_vlan(far) if far.switched else _untagged_of(far_node, far)
            mistakes.append(untagged_vlan_mismatch(index, node.name, attachment, wanted_vlan(attachment), there_vlan))
    return mistakes


UNTAGGED_VLAN_MISMATCH = Kind(
    "untagged-vlan-mismatch",
    "error",
    "a link whose two ends have different untagged VLANs",
    "{effect}",
    OFTEN,
    example=Example(
        "pier",
        """
        devices:
          core:
            ports:
              p8: {untagged: store}
          shed:
            ports:
              p9: {untagged: cameras}
        """,
    ),
)


def untagged_vlan_mismatch(
    index: NetworkIndex, device: str, attachment: Attachment, here: int | None, there: int | None
) -> Finding:
    """The untagged VLAN of a link is not the same at both ends."""
    path = port_path(index.knowledge, device, attachment.name)
    peer = next(
        (index.knowledge.links[end].peer for end in attachment.members if index.knowledge.links[end].peer), None
    )
    access = attachment.written.trunk is None
    key = index.vlan_key(there) if there else "none"
    edit = Edit((*path, "access" if access else "untagged"), key)
    return finding(
        UNTAGGED_VLAN_MISMATCH,
        at=device,
        path=path,
        says=(
            f"untagged frames are {index.vlan_name(here) if here else 'refused'} on {device}/{attachment.name} and "
            f"{index.vlan_name(there) if there else 'refused'} at its far end {peer}"
        ),
        mend=f"set the untagged VLAN of {device}/{attachment.name} to {key}",
        edits=(edit,) if not access or there else (),
        effect="two VLANs leak into each other, or one is cut" if here and there else "one VLAN is cut there",
    )


TRUNK_EXPECTED = Kind(
    "trunk-expected",
    "error",
    "an access port where the far end needs a trunk",
    "only one VLAN crosses it",
    ALWAYS,
    example=Example("pier", "devices: {quay: {ports: {p9: {trunk: ~, untagged: ~, access: crew}}}}"),
)


def trunk_expected(
    index: NetworkIndex, device: str, attachment: Attachment, vlans: Iterable[int], untagged: int | None
) -> Finding:
    """An access port where the far end needs a trunk."""
    path = port_path(index.knowledge, device, attachment.name)
    carried = list(vlans)
    keys = [index.vlan_key(vlan) for vlan in carried]
    names = ", ".join(index.vlan_name(vlan) for vlan in carried)
    if not carried:
        return finding(
            TRUNK_EXPECTED,
            at=device,
            path=path,
            says=f"{device}/{attachment.name} carries one VLAN, as does its far end, which takes untagged frames only",
            mend="carry each VLAN tagged at both ends, or by a link of its own",
        )
    edits = [Edit((*path, "trunk"), keys), Edit((*path, "untagged"), index.vlan_key(untagged) if untagged else "none")]
    if attachment.written.access is not None:
        edits = [Edit((*path, "access"), REMOVE), *edits]
    return finding(
        TRUNK_EXPECTED,
        at=device,
        path=path,
        says=f"{device}/{attachment.name} is an access port, but its far end carries {names}",
        mend=f"make {device}/{attachment.name} a trunk of {', '.join(keys)}",
        edits=tuple(edits),
    )


def _uncarried(
    index: NetworkIndex, vlan: int, node: Node, attachment: Attachment, far_node: Node, far: Attachment
) -> Finding:
    if attachment.written.trunk is not None:
        if far_node.kind == "host" and isinstance(far_node.written, Host):
            return vlan_wrong(index, far_node.written.at.device, attachment, far_node.name, vlan)
        if attachment.written.untagged == "none" and far.switched and far.untagged == vlan:
            return untagged_vlan_mismatch(index, node.name, attachment, None, vlan)  # the far end sends it untagged
        return vlan_not_carried(index, node.name, attachment, vlan)
    if far_node.kind == "host" and isinstance(far_node.written, Host):
        return vlan_wrong(index, far_node.written.at.device, attachment, far_node.name, vlan)
    if far.switched and far.written.trunk is None and wanted_vlan(attachment) == wanted_vlan(far):
        return link_of_one_vlan(index, (node, attachment), (far_node, far), vlan)
    if far.switched and far.written.trunk is None:
        return untagged_vlan_mismatch(index, node.name, attachment, wanted_vlan(attachment), wanted_vlan(far))
    vlans, untagged = _mirrored(index, far_node, far)
    if not vlans and untagged is not None:
        return untagged_vlan_mismatch(index, node.name, attachment, wanted_vlan(attachment), untagged)
    return trunk_expected(index, node.name, attachment, vlans, untagged)


VLAN_NOT_CARRIED = Kind(
    "vlan-not-carried",
    "error",
    "a trunk that lacks a VLAN which must cross it",
    "{vlan} is partitioned there",
    ALWAYS,
    example=Example("pier", "devices: {quay: {ports: {p9: {trunk: [tickets]}}}}"),
)


def link_of_one_vlan(
    index: NetworkIndex, one: tuple[Node, Attachment], other: tuple[Node, Attachment], vlan: int
) -> Finding:
    """A link whose two ends are access ports of one VLAN, where another must cross it: both are told of the end that
    sorts first."""
    ends = sorted((one, other), key=lambda end: (end[0].name, end[1].name))
    (node, own), (far_node, far) = ends
    carried = own.untagged or DEFAULT_VLAN
    untouched = all(end.written.access is None for _, end in ends)
    edits: list[Edit] = []
    for device, end in ends:
        path = port_path(index.knowledge, device.name, end.name)
        if untouched:
            edits.append(Edit((*path, "access"), index.vlan_key(vlan)))
            continue
        if end.written.access is not None:
            edits.append(Edit((*path, "access"), REMOVE))
        edits.append(Edit((*path, "trunk"), [index.vlan_key(carried), index.vlan_key(vlan)]))
        edits.append(Edit((*path, "untagged"), index.vlan_key(carried)))
    both = f"{node.name}/{own.name} and {far_node.name}/{far.name}"
    made = f"access ports of {index.vlan_key(vlan)}" if untouched else f"trunks that carry {index.vlan_key(vlan)} too"
    return finding(
        VLAN_NOT_CARRIED,
        at=node.name,
        path=port_path(index.knowledge, node.name, own.name),
        says=f"{both}, the two ends of a link, carry {index.vlan_name(carried)} alone, not {index.vlan_name(vlan)}",
        mend=f"make {both} {made}",
        edits=tuple(edits),
        vlan=index.vlan_name(vlan),
    )


def vlan_not_carried(index: NetworkIndex, device: str, attachment: Attachment, vlan: int) -> Finding:
    """A trunk that lacks a VLAN which must cross it."""
    path = (*port_path(index.knowledge, device, attachment.name), "trunk")
    return finding(
        VLAN_NOT_CARRIED,
        at=device,
        path=path,
        says=f"trunk {device}/{attachment.name} does not carry {index.vlan_name(vlan)}",
        mend=f"add {index.vlan_key(vlan)} to the trunk {device}/{attachment.name}",
        edits=(Edit((*path, "+"), index.vlan_key(vlan)),),
        vlan=index.vlan_name(vlan),
    )


def _mirrored(index: NetworkIndex, node: Node, attachment: Attachment) -> tuple[list[int], int | None]:
    """The VLANs, and the untagged one, that the other end of an attachment should carry."""
    if attachment.switched:
        written = attachment.written
        listed = sorted(attachment.vlans) if written.trunk == "all" else list(written.trunk or ())
        return listed, wanted_vlan(attachment)
    tags = [nic.tag for nic in node.nics_on(attachment.name) if nic.tag is not None]
    return list(dict.fromkeys(tags)), _untagged_of(node, attachment)


def _untagged_of(node: Node, attachment: Attachment) -> int | None:
    """The VLAN meant by the untagged frames of a routed attachment."""
    return next(
        (nic.vlan for nic in node.nics_on(attachment.name) if nic.tag is None and nic.kind == "subinterface"), None
    )


def _uncabled(
    index: NetworkIndex, vlan: int, reached: set[str], start: NodeInterface, goal: NodeInterface
) -> list[Finding]:
    """No path along cables: the free ports, one on each side, that look made for each other."""
    near: list[End] = []
    far: list[End] = []
    for name, ports in index.knowledge.ports.items():
        node = index.knowledge.nodes[name]
        side = near if name in reached else far
        for port in ports:
            end = End(name, port)
            attachment = index.knowledge.attachment_at(end)
            if index.knowledge.links[end].peer is None and _passes(node, attachment, start, goal):
                side.append(end)
    pairs = [(a, b) for a in near for b in far if vlan in spoken_vlans(index, a) and vlan in spoken_vlans(index, b)]
    if pairs:
        a, b = max(pairs, key=lambda pair: len(spoken_vlans(index, pair[0]) & spoken_vlans(index, pair[1])))
        return [not_cabled(index, a, b)]
    single = next((end for end in (*near, *far) if vlan in spoken_vlans(index, end)), None)
    if single is not None:
        return [not_cabled(index, single, None)]
    return [no_layer2_path(index, vlan, start[0], goal[0])]


NO_LAYER2_PATH = Kind(
    "no-layer2-path",
    "error",
    "no cables over switches join two that share a VLAN",
    "{vlan} is partitioned",
    NEVER,
    example=Example(
        "pier",
        """
        devices:
          attic:
            kind: switch
            ports:
              p1: {access: cameras}
        hosts:
          dome: {at: attic/p1, address: 10.44.2.9/24, gateway: 10.44.2.1}
        """,
    ),
)


def no_layer2_path(index: NetworkIndex, vlan: int, node: Node, far: Node) -> Finding:
    """No row of cables leads from one to the other over devices that could pass the VLAN on."""
    return finding(
        NO_LAYER2_PATH,
        at=far.name,
        path=node_path(far),
        says=f"no cables over switches join {node.name} and {far.name}, which share {index.vlan_name(vlan)}",
        mend=f"cable them together, or give {node.name} a gateway on its own side",
        vlan=index.vlan_name(vlan),
    )


def facing_access(
    index: NetworkIndex, node: Node, attachment: Attachment, far_node: Node, far: Attachment
) -> Finding | None:
    """An access port whose far end is a trunk with more than its untagged VLAN, or carries tagged subinterfaces."""
    if not attachment.switched or attachment.written.trunk is not None:
        return None
    vlans, untagged = _mirrored(index, far_node, far)
    if far.switched and far.written.trunk is None:
        return None
    if any(vlan != untagged for vlan in vlans):
        return trunk_expected(index, node.name, attachment, vlans, untagged)
    return None


def unlike_untagged(index: NetworkIndex, a: tuple[Node, Attachment], b: tuple[Node, Attachment]) -> Finding | None:
    """Two ends of a link that each take untagged frames, for different VLANs: told of the end that sorts last. Two
    access ports are for whoever knows which of them is wrong."""
    (first_node, first), (far_node, far) = sorted((a, b), key=lambda end: (end[0].name, end[1].name))
    if not first.switched or not far.switched or first.untagged is None or far.untagged is None:
        return None
    if first.untagged == far.untagged or (first.written.trunk is None and far.written.trunk is not None):
        return None
    if first.written.trunk is not None and far.written.trunk is None:
        return None
    mistake = untagged_vlan_mismatch(index, far_node.name, far, far.untagged, first.untagged)
    other = untagged_vlan_mismatch(index, first_node.name, first, first.untagged, far.untagged)
    return replace(mistake, instead=(Mend(other.mend, other.edits),)) if other.edits else mistake
