"""The layer 2 topology: which places frames pass between, link by link and VLAN by VLAN, and in which direction.

A port that the spanning tree blocks joins nothing.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

from archipelago.knowledge.devices import Attachment, Devices, Node
from archipelago.model.parts import Cable, End

Layer2Endpoint = tuple[str, int | str]
"""A place that frames reach: (device, VLAN id) in a switch, (device or host, interface) at a station."""


class Adjacency(NamedTuple):
    """Two endpoints that a link lets frames pass between, seen from the one that sends. `mutual` where they pass back
    as well; of the two of a mutual pair one is `first`. `cable` is None inside a device."""

    endpoint: Layer2Endpoint
    target: Layer2Endpoint
    cable: Cable | None
    mutual: bool
    first: bool


LinkName = tuple[str, str]
"""One side of a link: a device and its port or aggregate."""
Sent = Mapping[Layer2Endpoint, tuple[Adjacency, ...]]
"""What leaves from each endpoint."""


class Topology:
    """The adjacencies of every device: to other devices, link by link, and between its VLANs and their interfaces.
    Each link is worked out when it is asked for."""

    __slots__ = ("_alive", "_devices", "_inside", "_known", "_links")

    def __init__(self, devices: Devices, kept: Mapping[LinkName, Sent]) -> None:
        self._devices = devices
        self._known = dict(kept)
        self._inside: dict[str, Sent] = {}
        self._links: dict[str, Mapping[int | str, list[Attachment]]] = {}
        self._alive: dict[str, dict[Layer2Endpoint, int]] = {}

    @property
    def known(self) -> Mapping[LinkName, Sent]:
        """What is sent over the links that were worked out so far."""
        return self._known

    def of(self, device: str) -> Iterator[Adjacency]:
        """What a device sends where: inside itself first, then to other devices."""
        node = self._devices[device]
        for sent in (self._within(node), *(self._over(node, link) for link in self._cabled(node))):
            for crossings in sent.values():
                yield from crossings

    def at(self, endpoint: Layer2Endpoint) -> Iterator[Adjacency]:
        """What leaves from one endpoint of a device, in the same order."""
        node = self._devices[endpoint[0]]
        yield from self._within(node).get(endpoint, ())
        for link in self._links_at(node).get(endpoint[1], ()):
            yield from self._over(node, link).get(endpoint, ())

    def over(self, endpoint: Layer2Endpoint, attachment: str) -> Sequence[Adjacency]:
        """What leaves from one endpoint of a device by one of its attachments."""
        node = self._devices[endpoint[0]]
        return self._over(node, node.attachments[attachment]).get(endpoint, ())

    def leaking_into(self, endpoint: Layer2Endpoint) -> Iterator[Layer2Endpoint]:
        """The endpoints of other devices whose frames get to one, and none back."""
        for link in self._links_at(self._devices[endpoint[0]]).get(endpoint[1], ()):
            for member in link.members:
                peer = self._devices.links[member].peer
                if peer is not None and peer.device in self._devices:
                    far = self._devices.attachment_at(peer)
                    for sent in self._over(self._devices[peer.device], far).values():
                        yield from (one.endpoint for one in sent if one.target == endpoint and not one.mutual)

    def _links_at(self, node: Node) -> Mapping[int | str, list[Attachment]]:
        if node.name not in self._links:
            self._links[node.name] = _links_of(node, self._cabled(node))
        return self._links[node.name]

    def alive(self, device: str) -> Mapping[Layer2Endpoint, int]:
        """The endpoints of a device that frames can be at now, in order, each with its place."""
        if device not in self._alive:
            live = dict.fromkeys(_live_endpoints(self._devices[device]))
            self._alive[device] = {endpoint: place for place, endpoint in enumerate(live)}
        return self._alive[device]

    def _cabled(self, node: Node) -> list[Attachment]:
        """The attachments of a device that a cable leads from."""
        cabled = self._devices.plugs.cabled
        return [a for a in node.attachments.values() if not cabled.keys().isdisjoint(a.members)]

    def _within(self, node: Node) -> Sent:
        if node.name not in self._inside:
            self._inside[node.name] = _by_endpoint(adjacencies_inside(node))
        return self._inside[node.name]

    def _over(self, node: Node, link: Attachment) -> Sent:
        key = (node.name, link.name)
        crossings = self._known.get(key)
        if crossings is None:
            crossings = self._known[key] = _by_endpoint(adjacencies_over(self._devices, node, link))
        return crossings


def _by_endpoint(sent: Iterable[Adjacency]) -> Sent:
    by_endpoint: dict[Layer2Endpoint, list[Adjacency]] = {}
    for crossing in sent:
        by_endpoint.setdefault(crossing.endpoint, []).append(crossing)
    return {endpoint: tuple(adjacent) for endpoint, adjacent in by_endpoint.items()}


def _links_of(node: Node, cabled: list[Attachment]) -> Mapping[int | str, list[Attachment]]:
    """The cabled attachments that each VLAN and each interface of a device sends by."""
    links: dict[int | str, list[Attachment]] = {}
    by_name = {attachment.name: attachment for attachment in cabled}
    for attachment in cabled:
        for vlan in attachment.vlans:
            links.setdefault(vlan, []).append(attachment)
    for nic in node.nics.values():
        if nic.attachment in by_name:
            links[nic.name] = [by_name[nic.attachment]]
    return links


def _live_endpoints(node: Node) -> Iterator[Layer2Endpoint]:
    seen: set[tuple[frozenset[int], int | None]] = set()
    for attachment in node.attachments.values():
        if attachment.passes:
            alike = (attachment.vlans, attachment.untagged)
            if not attachment.switched or alike not in seen:
                seen.add(alike)
                yield from channels(node, attachment).values()
    for nic in node.nics.values():
        if nic.kind == "vlan" and nic.up and nic.vlan is not None:
            yield node.name, nic.name
            yield node.name, nic.vlan


def adjacencies_inside(node: Node) -> Iterator[Adjacency]:
    """Between the VLANs of a device and its interfaces in them."""
    name = node.name
    for nic in node.nics.values():
        if nic.kind == "vlan" and nic.up and nic.vlan is not None:
            yield Adjacency((name, nic.vlan), (name, nic.name), None, True, True)
            yield Adjacency((name, nic.name), (name, nic.vlan), None, True, False)


def adjacencies_over(devices: Devices, node: Node, attachment: Attachment) -> Iterator[Adjacency]:
    """Where the frames that an attachment sends arrive, VLAN by VLAN, tag by tag (IEEE 802.1Q 6.9, 8.6)."""
    cabled = devices.plugs.cabled
    far = far_end(devices, attachment) if any(end in cabled for end in attachment.members) else None
    if far is None or far.peer.device not in devices:
        return
    there = devices.attachment_at(far.peer)
    far_node = devices[far.peer.device]
    back = far_end(devices, there)
    returns = back is not None and back.peer.device == node.name and devices.attachment_at(back.peer) is attachment
    theirs = channels(far_node, there)
    ours = channels(node, attachment) if returns else {}
    first = (node.name, attachment.name) < (far_node.name, there.name)
    for tag, endpoint in sending(node, attachment).items():
        target = theirs.get(tag)
        if target is not None:
            mutual = ours.get(_tag_of(there, target, tag)) == endpoint
            yield Adjacency(endpoint, target, far.cable, mutual, mutual and first)


class FarEnd(NamedTuple):
    """The port that an attachment's frames arrive by, and the cable there (None: a host is plugged in)."""

    peer: End
    cable: Cable | None


def far_end(devices: Devices, attachment: Attachment) -> FarEnd | None:
    """Where an attachment's frames arrive: at the far end of its first live member (IEEE 802.1AX)."""
    for end in attachment.members:
        link = devices.links[end]
        if link.carrier and link.peer is not None:
            return FarEnd(link.peer, link.cable)
    return None


def channels(node: Node, attachment: Attachment) -> dict[int | None, Layer2Endpoint]:
    """Which endpoint takes in a frame with each tag (None: untagged) by an attachment (IEEE 802.1Q 6.9, 8.6.2)."""
    carried: dict[int | None, Layer2Endpoint] = {}
    if attachment.blocked:
        return carried
    if attachment.switched:
        carried = {vlan: (node.name, vlan) for vlan in attachment.vlans}
        if attachment.untagged is not None:
            carried[None] = (node.name, attachment.untagged)
        return carried
    for nic in node.nics_on(attachment.name):
        if nic.up and nic.speaks:
            carried.setdefault(nic.tag, (node.name, nic.name))
    return carried


def sending(node: Node, attachment: Attachment) -> dict[int | None, Layer2Endpoint]:
    """Which endpoint sends frames with each tag by an attachment; the first written where two do."""
    if attachment.switched and not attachment.blocked:
        return {(None if vlan == attachment.untagged else vlan): (node.name, vlan) for vlan in attachment.vlans}
    return channels(node, attachment)


def _tag_of(attachment: Attachment, endpoint: Layer2Endpoint, tag: int | None) -> int | None:
    """The tag with which an endpoint answers by an attachment."""
    if not attachment.switched:
        return tag
    vlan = endpoint[1]
    return None if vlan == attachment.untagged or not isinstance(vlan, int) else vlan


def host_endpoint(devices: Devices, end: End) -> Layer2Endpoint | None:
    """The endpoint of its device that the host at a port is joined to, whether the port has carrier or not; None where
    the port takes in no untagged frame, or is a member of an aggregate that sends by another."""
    attachment = devices.attachment_at(end)
    if any(devices.links[member].carrier for member in attachment.members[: attachment.members.index(end)]):
        return None  # an aggregate sends on its first live member (IEEE 802.1AX), which is another
    return untagged_endpoint(devices, end)


def untagged_endpoint(devices: Devices, end: End) -> Layer2Endpoint | None:
    """The endpoint that takes in an untagged frame at a port; None where there is none."""
    attachment = devices.attachment_at(end)
    if attachment.switched:
        return None if attachment.untagged is None or attachment.blocked else (end.device, attachment.untagged)
    nics = devices[end.device].nics_on(attachment.name)
    return next(((end.device, nic.name) for nic in nics if nic.tag is None and nic.speaks), None)
