"""A network into arrays: what is the same whatever is asked, and what a change of the network leaves standing of it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace

import numpy as np

from archipelago.knowledge import alike
from archipelago.knowledge.devices import Attachment, Node
from archipelago.knowledge.known import Knowledge, apply_change
from archipelago.knowledge.topology import (
    Adjacency,
    Layer2Endpoint,
    LinkName,
    adjacencies_inside,
    adjacencies_over,
    host_endpoint,
)
from archipelago.model.network import Network
from archipelago.model.parts import End, Host
from archipelago.reachability import profiles, tables
from archipelago.reachability.arrays import NO_ENDPOINT, Adjacencies, Bools, NetworkArrays
from archipelago.reachability.tables import Cut, change_family, family_of


def build_arrays(knowledge: Knowledge) -> NetworkArrays:
    """Put what every device knows into arrays; time and memory grow with devices, VLANs and hosts, not with pairs."""
    network = knowledge.network
    number = {name: index for index, name in enumerate(knowledge.devices)}
    endpoints: dict[Layer2Endpoint, int] = {}
    for node in knowledge.devices.values():
        for endpoint in _endpoints_of(node):
            endpoints.setdefault(endpoint, len(endpoints))
    versions = [
        version
        for version in (4, 6)
        if any(address.version == version for host in network.hosts.values() for address in host.addresses)
    ]
    repeated = {version: profiles.duplicated(knowledge, version) for version in versions}
    cuts = {version: profiles.cut_space(knowledge, version, repeated[version]) for version in versions}
    of_host, examples, seen = profiles.host_classes(knowledge, cuts)
    up = np.zeros(len(endpoints), dtype=np.bool_)
    _mark_up(up, knowledge.devices.values(), endpoints)
    links: dict[LinkName, int] = {}
    every = ((name, part) for name, node in knowledge.devices.items() for part in ("", *node.attachments))
    places = [network.hosts[name].at for name in examples]
    return NetworkArrays(
        knowledge=knowledge,
        hosts=tuple(network.hosts),
        device_number=number,
        endpoints=endpoints,
        up=up,
        links=links,
        adjacencies=_adjacency_arrays(_sent(knowledge, links, every), endpoints, number),
        host_class=of_host,
        down=np.fromiter((_down(knowledge, host) for host in network.hosts.values()), np.bool_, len(of_host)),
        examples=examples,
        endpoint=np.array([_joined(knowledge, at, endpoints) for at in places], dtype=np.int64),
        device=np.array([number[at.device] for at in places], dtype=np.int64),
        families={
            version: family_of(
                knowledge,
                Cut(version, cuts[version], repeated[version]),
                endpoints,
                examples,
                [address[at] for address in seen],
            )
            for at, version in enumerate(versions)
        },
    )


def change_arrays(before: NetworkArrays, network: Network) -> NetworkArrays:
    """The arrays once the network has changed in any way, made anew only where the change has a say: whole where it
    tells addresses or hosts apart that looked alike.

    Args:
        before: the arrays of the network as it was.
        network: the network as it is now. Parts of it that are the same objects as before cost next to nothing.
    """
    knowledge = apply_change(before.knowledge, network)
    touched = knowledge.derived
    if not _fits(before, knowledge):
        return build_arrays(knowledge)
    number, endpoints = before.device_number, before.endpoints
    mine = np.zeros(len(number) + 1, dtype=np.bool_)
    mine[[number[name] for name in touched]] = True
    up, joined, down = before.up.copy(), before.endpoint.copy(), before.down.copy()
    _mark_up(up, (knowledge.devices[name] for name in touched), endpoints)
    hosts = knowledge.network.hosts
    for row in np.flatnonzero(mine[before.device]):
        joined[row] = _joined(knowledge, hosts[before.examples[row]].at, endpoints)
    for host in np.flatnonzero(mine[before.device][before.host_class]):
        down[host] = _down(knowledge, hosts[before.hosts[host]])
    return replace(
        before,
        knowledge=knowledge,
        up=up,
        adjacencies=_changed_adjacencies(before, knowledge),
        endpoint=joined,
        down=down,
        families={
            version: change_family(knowledge, family, endpoints, touched) for version, family in before.families.items()
        },
    )


def _changed_adjacencies(before: NetworkArrays, knowledge: Knowledge) -> Adjacencies:
    """What is sent where once some devices have changed: worked out anew over the links that this has a say in."""
    again: dict[LinkName, None] = {}
    for name in knowledge.derived:
        again[name, ""] = None
        for part in _links_changed(before.knowledge, knowledge, name):
            again[name, part] = None
            for state in (before.knowledge, knowledge):
                again.update(dict.fromkeys(_facing(state, name, part)))
    links = before.links
    new = _adjacency_arrays(_sent(knowledge, links, again), before.endpoints, before.device_number)
    old = before.adjacencies
    gone = np.zeros(len(links), dtype=np.bool_)
    gone[[links[link] for link in again if link in links]] = True
    kept = ~gone[old.link]
    return Adjacencies(
        endpoint=np.concatenate((old.endpoint[kept], new.endpoint)),
        target=np.concatenate((old.target[kept], new.target)),
        sender=np.concatenate((old.sender[kept], new.sender)),
        receiver=np.concatenate((old.receiver[kept], new.receiver)),
        link=np.concatenate((old.link[kept], new.link)),
        mutual=np.concatenate((old.mutual[kept], new.mutual)),
        first=np.concatenate((old.first[kept], new.first)),
    )


def _links_changed(before: Knowledge, after: Knowledge, name: str) -> Iterator[str]:
    """The attachments of a device that pass other frames than before, or pass them to somebody else."""
    was, now = before.devices[name], after.devices[name]
    for part in {**was.attachments, **now.attachments}:
        old, new = was.attachments.get(part), now.attachments.get(part)
        if (
            old is None
            or new is None
            or old != new
            or _plugged(before, old) != _plugged(after, new)
            or (not old.switched and was.nics_on(part) != now.nics_on(part))
        ):
            yield part


def _plugged(knowledge: Knowledge, attachment: Attachment) -> list[tuple[End | None, bool]]:
    """What each member of an attachment is cabled to, and whether it has carrier."""
    cabled = knowledge.plugs.cabled
    peers = [cabled.get(end) for end in attachment.members]
    return [
        (peer[0] if peer is not None else None, peer is not None and knowledge.links[end].carrier)
        for end, peer in zip(attachment.members, peers, strict=True)
    ]


def _facing(knowledge: Knowledge, name: str, part: str) -> Iterator[LinkName]:
    """The attachments that cables lead to from one."""
    attachment = knowledge.devices[name].attachments.get(part)
    for end in attachment.members if attachment is not None else ():
        peer = knowledge.plugs.cabled.get(end)
        if peer is not None and peer[0].device in knowledge.devices:
            yield peer[0].device, knowledge.devices.attachment_at(peer[0]).name


def _sent(
    knowledge: Knowledge, links: dict[LinkName, int], which: Iterable[LinkName]
) -> Iterator[tuple[int, Adjacency]]:
    """What is sent over some links, and inside some devices (""), each with the number of its link."""
    for name, part in which:
        node = knowledge.devices[name]
        number = links.setdefault((name, part), len(links))
        attachment = node.attachments.get(part)
        if attachment is not None:
            yield from ((number, sent) for sent in adjacencies_over(knowledge.devices, node, attachment))
        elif not part:
            yield from ((number, sent) for sent in adjacencies_inside(node))


def _fits(before: NetworkArrays, knowledge: Knowledge) -> bool:
    """Whether the numbers that the arrays gave to endpoints, pieces, tables and classes still stand after a change."""
    old, new = before.knowledge.network, knowledge.network
    if list(old.devices) != list(new.devices) or not _same_hosts(before.knowledge, knowledge):
        return False
    derived = (knowledge.devices[name] for name in knowledge.derived)
    if any(endpoint not in before.endpoints for node in derived for endpoint in _endpoints_of(node)):
        return False
    if next(tables.READS.differing(old.devices, new.devices), None) is not None:
        return False
    for name in profiles.CUTS_READ.differing(old.devices, new.devices):
        for version, family in before.families.items():
            cuts, hops = profiles.device_cuts(knowledge, new.devices[name], version)
            if not hops <= family.hops.keys() or not cuts <= set(family.cuts):
                return False
    recast = list(alike.READS.differing(old.devices, new.devices))
    return not recast or _classes_hold(before, knowledge, recast)


def _same_hosts(before: Knowledge, knowledge: Knowledge) -> bool:
    """Whether the hosts are the same so far as their classes go."""
    if knowledge.other_hosts is None:
        return False
    old, new = before.network.hosts, knowledge.network.hosts
    names = old if knowledge.any_learning else knowledge.other_hosts  # what hosts learn can change anywhere
    return all(profiles.HOSTS_READ.same(old[name], new[name]) for name in names)


def _classes_hold(before: NetworkArrays, knowledge: Knowledge, names: list[str]) -> bool:
    """Whether the hosts of each class on some devices are still plugged in alike."""
    numbers = [before.device_number[name] for name in names]
    hosts = np.flatnonzero(np.isin(before.device, numbers)[before.host_class])
    seen: dict[int, object] = {}
    for host, number in zip(hosts.tolist(), before.host_class[hosts].tolist(), strict=True):
        at = knowledge.network.hosts[before.hosts[host]].at
        setting = alike.plugged_alike(knowledge.devices, at)
        if seen.setdefault(number, setting) != setting:
            return False
    return True


def _down(knowledge: Knowledge, host: Host) -> bool:
    """Whether a host's port has no carrier."""
    attachment = knowledge.attachment_at(host.at)
    return not (attachment.carrier if len(attachment.members) == 1 else knowledge.links[host.at].carrier)


def _endpoints_of(node: Node) -> Iterator[Layer2Endpoint]:
    for vlan in sorted(node.vlans):
        yield node.name, vlan
    for nic in node.nics.values():
        yield node.name, nic.name


def _mark_up(up: Bools, nodes: Iterable[Node], endpoints: Mapping[Layer2Endpoint, int]) -> None:
    for node in nodes:
        for nic in node.nics.values():
            up[endpoints[node.name, nic.name]] = nic.up


def _joined(knowledge: Knowledge, end: End, endpoints: Mapping[Layer2Endpoint, int]) -> int:
    """The endpoint that the host at a port is joined to, whether the port has carrier or not."""
    endpoint = host_endpoint(knowledge.devices, end)
    return NO_ENDPOINT if endpoint is None else endpoints[endpoint]


def _adjacency_arrays(
    sent: Iterable[tuple[int, Adjacency]], endpoints: Mapping[Layer2Endpoint, int], number: Mapping[str, int]
) -> Adjacencies:
    lines = [
        (endpoints[a], endpoints[b], number[a[0]], number[b[0]], link, mutual, first)
        for link, (a, b, _, mutual, first) in sent
        if first or not mutual or a[0] != b[0]
    ]
    endpoint, target, sender, receiver, link, mutual, first = np.array(lines, dtype=np.int64).reshape(-1, 7).T
    return Adjacencies(
        endpoint=endpoint,
        target=target,
        sender=sender,
        receiver=receiver,
        link=link,
        mutual=mutual == 1,
        first=first == 1,
    )
