"""A network into arrays: what is the same whatever is asked, and what a part switched off changes of it."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from archipelago.knowledge.devices import Knowledge, Node, know_again
from archipelago.knowledge.domains import Foot, host_foot, joints
from archipelago.model.network import End, Host, Network
from archipelago.reachability.arrays import NOWHERE, Bools, Fabric, Joints
from archipelago.reachability.looks import bunched, cut_space, held_twice
from archipelago.reachability.tables import family_again, family_of


def weave(knowledge: Knowledge) -> Fabric:
    """Put what every device knows into arrays; time and memory grow with devices, VLANs and hosts, not with pairs."""
    network = knowledge.network
    number = {name: index for index, name in enumerate(knowledge.devices)}
    feet: dict[Foot, int] = {}
    for node in knowledge.devices.values():
        for foot in _feet_of(node):
            feet.setdefault(foot, len(feet))
    versions = [
        version
        for version in (4, 6)
        if any(held.version == version for host in network.hosts.values() for held in host.addresses)
    ]
    repeated = {version: held_twice(knowledge, version) for version in versions}
    cuts = {version: cut_space(knowledge, version, repeated[version]) for version in versions}
    bunch, likeness, looks = bunched(knowledge, cuts)
    up = np.zeros(len(feet), dtype=np.bool_)
    _raise(up, knowledge.devices.values(), feet)
    return Fabric(
        knowledge,
        tuple(network.hosts),
        number,
        feet,
        up,
        _joints(_sent(knowledge, number), feet, number),
        bunch,
        np.fromiter((_down(knowledge, host) for host in network.hosts.values()), np.bool_, len(bunch)),
        likeness,
        np.array([_host_foot(knowledge, network.hosts[name].at, feet) for name in likeness], dtype=np.int64),
        np.array([number[network.hosts[name].at.device] for name in likeness], dtype=np.int64),
        {
            version: family_of(
                knowledge, version, cuts[version], repeated[version], feet, likeness, [look[at] for look in looks]
            )
            for at, version in enumerate(versions)
        },
    )


def weave_again(before: Fabric, network: Network, touched: Collection[str]) -> Fabric:
    """The arrays once parts are switched off, made anew only where the devices touched have a say.

    Args:
        before: the arrays of the network with everything as it was.
        network: the same network, other parts off.
        touched: every device that holds such a part or faces one.
    """
    knowledge = know_again(before.knowledge, network, frozenset(touched))
    if any(knowledge.network.hosts[one.name] != one for one in before.knowledge.network.hosts.values() if one.auto):
        return weave(knowledge)  # hosts hear other routers now
    network = knowledge.network
    number, feet = before.device_number, before.feet
    mine = np.zeros(len(number) + 1, dtype=np.bool_)
    mine[[number[name] for name in touched]] = True
    near = {
        far.device for name in touched for port in knowledge.ports[name] if (far := _far_end(knowledge, name, port))
    }
    old = before.joints
    kept = ~(mine[old.sender] | mine[old.hearer])
    again = _joints(_sent(knowledge, [*touched, *(near - set(touched))], frozenset(touched)), feet, number)
    joined = Joints(*(np.concatenate((a[kept], b)) for a, b in zip(_columns(old), _columns(again), strict=True)))
    up = before.up.copy()
    _raise(up, (knowledge.devices[name] for name in touched), feet)
    stands = before.stands.copy()
    for one in np.flatnonzero(mine[before.device]):
        stands[one] = _host_foot(knowledge, network.hosts[before.likeness[one]].at, feet)
    down = before.down.copy()
    places = np.flatnonzero(mine[before.device][before.bunch])
    for place in places:
        down[place] = _down(knowledge, network.hosts[before.hosts[place]])
    families = {
        version: family_again(knowledge, family, feet, frozenset(touched))
        for version, family in before.families.items()
    }
    return replace(before, knowledge=knowledge, up=up, joints=joined, stands=stands, down=down, families=families)


def _columns(one: Joints) -> tuple[NDArray[Any], ...]:
    return one.foot, one.target, one.sender, one.hearer, one.mutual, one.first


def _far_end(knowledge: Knowledge, device: str, port: str) -> End | None:
    far = knowledge.plugs.cabled.get(End(device, port))
    return far[0] if far else None


def _down(knowledge: Knowledge, host: Host) -> bool:
    """Whether a host's port has no carrier."""
    attachment = knowledge.attachment_at(host.at)
    return not (attachment.carrier if len(attachment.members) == 1 else knowledge.links[host.at].carrier)


# Feet


def _feet_of(node: Node) -> Iterator[Foot]:
    for vlan in sorted(node.vlans):
        yield node.name, vlan
    for nic in node.nics.values():
        yield node.name, nic.name


def _raise(up: Bools, nodes: Iterable[Node], feet: Mapping[Foot, int]) -> None:
    for node in nodes:
        for nic in node.nics.values():
            up[feet[node.name, nic.name]] = nic.up


def _host_foot(knowledge: Knowledge, end: End, feet: Mapping[Foot, int]) -> int:
    """The foot that the host at a port stands on, whether the port has carrier or not."""
    foot = host_foot(knowledge, end)
    return NOWHERE if foot is None else feet[foot]


def _sent(
    knowledge: Knowledge, senders: Iterable[str], only: frozenset[str] | None = None
) -> Iterator[tuple[Foot, Foot, str, str, bool, bool]]:
    """The joints between devices, those between a VLAN and its interface among them; where `only` is given, just
    those that one of these devices sends or hears."""
    for name in senders:
        node = knowledge.devices[name]
        whole = only is None or name in only
        for one in node.attachments.values():
            fars = {end.device for member in one.members if (end := _far_end(knowledge, *member))}
            if fars and (whole or only is None or fars & only):
                for joint in joints(knowledge, name, one):
                    if joint.far in knowledge.devices:
                        yield joint.foot, joint.target, name, joint.far, joint.mutual, joint.first
        for nic in node.nics.values() if whole else ():
            if nic.kind == "vlan" and nic.up and nic.vlan is not None:
                yield (name, nic.vlan), (name, nic.name), name, name, True, True


def _joints(
    sent: Iterable[tuple[Foot, Foot, str, str, bool, bool]], feet: Mapping[Foot, int], number: Mapping[str, int]
) -> Joints:
    lines = [(feet[a], feet[b], number[sender], number[hearer], *kind) for a, b, sender, hearer, *kind in sent]
    table = np.array(lines, dtype=np.int64).reshape(-1, 6).T
    return Joints(table[0], table[1], table[2], table[3], table[4] == 1, table[5] == 1)
