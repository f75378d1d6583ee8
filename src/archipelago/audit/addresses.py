"""Mistakes between addresses: held twice, not usable, subnets that overlap."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import combinations

from archipelago.addressing.carve import overlapping
from archipelago.addressing.values import Address, is_link_local
from archipelago.audit.registry import rule
from archipelago.diagnosis.faults.hosts import address_broadcast, insides_overlap, mask_mismatch
from archipelago.diagnosis.faults.interfaces import subnet_overlap
from archipelago.diagnosis.faults.words import label
from archipelago.diagnosis.kind import ALWAYS, Example, Kind, finding
from archipelago.diagnosis.outvoted import held_by_several
from archipelago.diagnosis.places import has_moved, unplugged, vlan_of
from archipelago.diagnosis.same_mac import same_mac
from archipelago.diagnosis.separated import by_their_hosts, misplaced
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.insides import apart
from archipelago.model.finding import Finding


@rule
def held_twice(index: NetworkIndex) -> Iterator[Finding]:
    """One address on two interfaces of one routing table's world."""
    for address, holders in index.shared_addresses():
        if not is_link_local(address):
            worlds: dict[str, list[Held]] = {}
            for holder in holders:
                worlds.setdefault(index.world_of(holder), []).append(holder)
            for together in worlds.values():
                if len(together) > 1 and not _hidden(index, together) and not _member_missing(index, address, together):
                    if any(_leased(index, holder) for holder in together):
                        continue  # the pool is told of
                    if _on_links_of_their_own(index, together):
                        yield subnet_overlap(*by_their_hosts(index, together[1], together[0]))
                    else:
                        yield held_by_several(index, address, tuple(together))


def _hidden(index: NetworkIndex, together: list[Held]) -> bool:
    """Whether what is between all that hold an address translates it: that is told of their subnets."""
    return all(apart(index, one, other) is not None for one, other in combinations(together, 2))


def _on_links_of_their_own(index: NetworkIndex, together: list[Held]) -> bool:
    """Whether one device has an address on links that nothing joins: a copied line, whose subnet is wrong."""
    one_device = len({holder.node.name for holder in together}) == 1
    pairs = combinations(together, 2)
    return one_device and not any(index.domains.together(one.endpoint, other.endpoint) for one, other in pairs)


def _member_missing(index: NetworkIndex, address: Address, together: list[Held]) -> bool:
    """Whether routers hold an address for their own that another one shares: that is told of the parts that they lack
    in its virtual router."""
    return bool(index.answering(address)) and all(holder.node.can_route for holder in together)


def _leased(index: NetworkIndex, holder: Held) -> bool:
    host = index.knowledge.written.hosts.get(holder.node.name)
    return host is not None and host.dhcp and holder.address.version == 4


@rule
def macs_twice(index: NetworkIndex) -> Iterator[Finding]:
    """One MAC address at two stations of a broadcast domain."""
    yield from same_mac(index)


@rule
def unusable(index: NetworkIndex) -> Iterator[Finding]:
    """The broadcast or all-zeros address of its own subnet, held by an interface."""
    for place in index.written_addresses:
        if place[2].at_reserved_end():
            holder, prefix = index.held(place), place[2].prefix
            home = index.home_of(holder.node, holder.address)
            if holder.node.kind not in ("host", "switch") or home is None or home.address.length == prefix.length:
                yield address_broadcast(index, holder.address.address, prefix)


@rule
def overlapping_subnets(index: NetworkIndex) -> Iterator[Finding]:
    """Two routed subnets that share addresses but are not one subnet in one broadcast domain."""
    subnets = [
        (holder.address.prefix, holder)
        for holder in index.device_addresses()
        if holder.node.can_route and not is_link_local(holder.address)
    ]
    for wide, narrow in overlapping(subnets):
        same = wide.address.prefix == narrow.address.prefix
        if wide.nic.vrf != narrow.nic.vrf or (wide.node is narrow.node and wide.nic is narrow.nic):
            continue
        if same and _share(index, wide, narrow):
            continue  # members of one virtual router: what parts them is told there
        if same and index.domains.together(wide.endpoint, narrow.endpoint):
            continue
        translated = apart(index, wide, narrow)
        if translated is not None:
            yield insides_overlap(translated)
            continue
        if wide.address.address == narrow.address.address or narrow.nic.kind == "loopback" or not _speak(wide, narrow):
            continue
        if same and has_moved(index, wide):
            yield subnet_overlap(wide, narrow, moved=True)
        elif same and has_moved(index, narrow):
            yield subnet_overlap(narrow, wide, moved=True)
        elif same and (
            index.domains.together(wide.endpoint, narrow.endpoint)
            or not (wide.nic.up and narrow.nic.up)
            or any(unplugged(index, holder.node, holder.nic) for holder in (wide, narrow))
            or (vlan_of(index, wide) is not None and vlan_of(index, wide) == vlan_of(index, narrow))
            or _at_one_link(index, wide, narrow)
        ):
            continue
        elif not same and index.domains.together(wide.endpoint, narrow.endpoint):
            first, last = narrow.address.prefix.usable()
            fits = first <= wide.address.value <= last and not _hosts_have(index, wide, narrow)
            yield link_mask_mismatch(wide, narrow) if fits else link_mask_mismatch(narrow, wide)
        else:
            elsewhere = misplaced(index, wide, narrow) if same else None
            yield elsewhere or subnet_overlap(*by_their_hosts(index, narrow, wide))


def _at_one_link(index: NetworkIndex, one: Held, other: Held) -> bool:
    """Whether two stand at the ends of one link, so that what parts them is told of the link."""
    own = one.node.attachments.get(one.nic.attachment or "")
    ends = index.knowledge.plugs.cabled
    far = next((ends[end][0] for end in own.members if end in ends), None) if own is not None else None
    if far is None or far.device != other.node.name:
        return False
    return index.knowledge.attachment_at(far).name == other.nic.attachment


LINK_MASK_MISMATCH = Kind(
    "link-mask-mismatch",
    "error",
    "two routing interfaces on one link that disagree on its prefix length",
    "each takes part of the other's subnet for addresses elsewhere",
    ALWAYS,
    example=Example("pier", "devices: {core: {ports: {p9: {address: 10.44.15.1/30}}}}"),
)


def link_mask_mismatch(holder: Held, other: Held) -> Finding:
    """Two routing interfaces on one link that disagree on its prefix length."""
    mistake = mask_mismatch(holder, other.address.prefix)
    return finding(
        LINK_MASK_MISMATCH,
        at=mistake.at,
        path=mistake.path,
        says=f"{label(holder)} has {holder.address} and {label(other)} on the same link has {other.address}",
        mend=mistake.mend,
        edits=mistake.edits,
    )


def _share(index: NetworkIndex, one: Held, other: Held) -> bool:
    """Whether two interfaces are in one virtual router."""
    elected = index.knowledge.elected
    mine, theirs = (
        {member.router for member in elected.members(held.node.name) if member.interface == held.nic.name}
        for held in (one, other)
    )
    return bool(mine & theirs)


def _hosts_have(index: NetworkIndex, wide: Held, narrow: Held) -> bool:
    """Whether the hosts around hold with the wider of two subnets."""
    around, within = (any(peer.node.kind == "host" for peer in index.subnet_peers(held)) for held in (wide, narrow))
    return around and not within


def _speak(*both: Held) -> bool:
    """Whether all have what they need to be heard: a subinterface without a tag is a mistake of its own."""
    return all(holder.nic.speaks for holder in both)
