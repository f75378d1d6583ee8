"""Broadcast domains: who hears whom without a router, and where switching runs in a circle."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import NamedTuple

from archipelago.knowledge.devices import Attachment, Knowledge, Node
from archipelago.model.network import Cable, End

Foot = tuple[str, int | str]
"""A place that frames reach: (device, VLAN id) in a switch, (device or host, interface) at a station."""


@dataclass(frozen=True, slots=True)
class Loop:
    """A circle of cables that carry one domain round; a broadcast in it never ends."""

    foot: Foot
    cables: tuple[Cable, ...]


@dataclass(frozen=True, slots=True)
class Domains:
    """`of` gives the domain of each foot; a foot that is down is in none. `feet` lists each domain's feet. `loops`
    holds the circles of each domain that a broadcast of it runs into; `next_to` the feet beside each foot."""

    of: Mapping[Foot, int]
    feet: Mapping[int, tuple[Foot, ...]]
    loops: Mapping[int, Loop]
    next_to: Mapping[Foot, list[tuple[Foot, Cable | None]]]

    def together(self, a: Foot, b: Foot) -> bool:
        """Whether frames get from one foot to the other and back."""
        return a in self.of and self.of[a] == self.of.get(b)


def host_foot(knowledge: Knowledge, end: End) -> Foot | None:
    """The foot of its device that the host at a port stands on, whether the port has carrier or not; None where the
    port takes in no untagged frame."""
    attachment = knowledge.attachment_at(end)
    if any(knowledge.links[member].carrier for member in attachment.members[: attachment.members.index(end)]):
        return None  # an aggregate sends on its first live member (IEEE 802.1AX), which is another
    if attachment.switched:
        return None if attachment.untagged is None else (end.device, attachment.untagged)
    nics = knowledge.devices[end.device].nics_on(attachment.name)
    return next(((end.device, nic.name) for nic in nics if nic.tag is None and nic.speaks), None)


def domains(knowledge: Knowledge, hosts: bool = True) -> Domains:
    """Join the feet that frames pass between in both directions; without `hosts`, those of devices alone.

    A link can be one-way for a VLAN (sent untagged here, not accepted untagged there); it joins nothing, but a
    broadcast crosses it, so it counts when circles are looked for.
    """
    onward: dict[Foot, list[tuple[Foot, Cable | None]]] = {}
    parent: dict[Foot, Foot] = {}
    nodes: Mapping[str, Node] = knowledge.nodes if hosts else knowledge.devices
    for node in nodes.values():
        for one in node.attachments.values():
            if one.carrier:
                for foot in channels(knowledge, node.name, one).values():
                    parent.setdefault(foot, foot)
        for nic in node.nics.values():
            if nic.kind == "vlan" and nic.up and nic.vlan is not None:
                parent[node.name, nic.name] = (node.name, nic.name)
                parent.setdefault((node.name, nic.vlan), (node.name, nic.vlan))
                _join(parent, (node.name, nic.name), (node.name, nic.vlan))
                onward.setdefault((node.name, nic.name), []).append(((node.name, nic.vlan), None))
                onward.setdefault((node.name, nic.vlan), []).append(((node.name, nic.name), None))
    extra: list[tuple[Foot, Foot, Cable | None]] = []
    oneway: list[tuple[Foot, Foot, Cable | None]] = []
    for node in nodes.values():
        for one in node.attachments.values():
            for joint in joints(knowledge, node.name, one):
                if joint.far not in nodes:
                    continue
                foot, target, cable = joint.foot, joint.target, joint.cable
                if not joint.mutual:
                    oneway.append((foot, target, cable))
                elif joint.first:
                    onward.setdefault(foot, []).append((target, cable))
                    onward.setdefault(target, []).append((foot, cable))
                    if not _join(parent, foot, target):
                        extra.append((foot, target, cable))
    numbers: dict[Foot, int] = {}
    of: dict[Foot, int] = {}
    feet: dict[int, list[Foot]] = {}
    for foot in parent:
        number = numbers.setdefault(_root(parent, foot), len(numbers))
        of[foot] = number
        feet.setdefault(number, []).append(foot)
    loops: dict[int, Loop] = {}
    for a, b, cable in extra:
        loops.setdefault(of[a], Loop(a, _circle(onward, a, b, cable)))
    for a, b, cable in oneway:
        if of[a] == of[b]:
            loops.setdefault(of[a], Loop(a, _circle(onward, a, b, cable)))
    spread = True
    while spread and loops:
        spread = False
        for a, b, _ in oneway:
            if of[b] in loops and of[a] not in loops:
                loops[of[a]] = loops[of[b]]
                spread = True
    return Domains(of, {number: tuple(found) for number, found in feet.items()}, loops, onward)


class Joint(NamedTuple):
    """Two feet that a link lets frames pass between, seen from the attachment that sends. `mutual` where they pass
    back as well; of the two joints of a mutual pair one is `first`. `far` is the device or host at the other end."""

    foot: Foot
    target: Foot
    far: str
    cable: Cable | None
    mutual: bool
    first: bool


def joints(knowledge: Knowledge, name: str, one: Attachment) -> Iterator[Joint]:
    """Where the frames that an attachment sends arrive, VLAN by VLAN, tag by tag (IEEE 802.1Q 6.9, 8.6)."""
    far = _far(knowledge, one)
    if far is None:
        return
    far_node, there, cable = far
    back = _far(knowledge, there)
    returns = back is not None and back[1] is one
    theirs = channels(knowledge, far_node, there)
    ours = channels(knowledge, name, one) if returns else {}
    first = (name, one.name) < (far_node, there.name)
    for tag, foot in sending(knowledge, name, one).items():
        target = theirs.get(tag)
        if target is not None:
            mutual = ours.get(_tag_of(there, target, tag)) == foot
            yield Joint(foot, target, far_node, cable, mutual, mutual and first)


def channels(knowledge: Knowledge, node: str, one: Attachment) -> dict[int | None, Foot]:
    """Which foot takes in a frame with each tag (None: untagged) by an attachment (IEEE 802.1Q 6.9, 8.6.2)."""
    found: dict[int | None, Foot] = {}
    if one.switched:
        found = {vlan: (node, vlan) for vlan in one.vlans}
        if one.untagged is not None:
            found[None] = (node, one.untagged)
        return found
    for nic in knowledge.nodes[node].nics_on(one.name):
        if nic.up and nic.speaks:
            found.setdefault(nic.tag, (node, nic.name))
    return found


def sending(knowledge: Knowledge, node: str, one: Attachment) -> dict[int | None, Foot]:
    """Which foot sends frames with each tag by an attachment; the first written where two do."""
    if one.switched:
        return {(None if vlan == one.untagged else vlan): (node, vlan) for vlan in one.vlans}
    return channels(knowledge, node, one)


def _tag_of(one: Attachment, foot: Foot, tag: int | None) -> int | None:
    """The tag with which a foot answers by an attachment."""
    if not one.switched:
        return tag
    vlan = foot[1]
    return None if vlan == one.untagged or not isinstance(vlan, int) else vlan


def _far(knowledge: Knowledge, one: Attachment) -> tuple[str, Attachment, Cable | None] | None:
    """The attachment that an attachment's frames arrive by: at the far end of its first live member."""
    for end in one.members:
        link = knowledge.links[end]
        if link.carrier and link.peer is not None:
            return link.peer.device, knowledge.attachment_at(link.peer), link.cable
    return None


def _root(parent: dict[Foot, Foot], foot: Foot) -> Foot:
    while parent[foot] != foot:
        parent[foot] = parent[parent[foot]]
        foot = parent[foot]
    return foot


def _join(parent: dict[Foot, Foot], a: Foot, b: Foot) -> bool:
    """Put two feet together; False when they were together already."""
    root_a, root_b = _root(parent, a), _root(parent, b)
    parent[root_b] = root_a
    return root_a != root_b


def _circle(
    onward: Mapping[Foot, list[tuple[Foot, Cable | None]]], start: Foot, end: Foot, closing: Cable | None
) -> tuple[Cable, ...]:
    """The cables of the way from `start` to `end` that does not use the closing one, and the closing one."""
    came: dict[Foot, tuple[Foot, Cable | None] | None] = {start: None}
    queue = deque([start])
    while queue and end not in came:
        foot = queue.popleft()
        for target, cable in onward.get(foot, ()):
            if target not in came and cable is not closing:
                came[target] = (foot, cable)
                queue.append(target)
    cables = [closing]
    foot = end
    while (step := came.get(foot)) is not None:
        foot, cable = step
        cables.append(cable)
    return tuple(dict.fromkeys(cable for cable in reversed(cables) if cable is not None))
