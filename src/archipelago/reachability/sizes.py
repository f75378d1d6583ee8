"""Packets of a size in arrays: which pass every link and interface on their ways, whole."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from archipelago.knowledge.header import FIRST_TTL
from archipelago.model.network import written_sizes
from archipelago.model.parts import USUAL_MTU
from archipelago.reachability.arrays import NO_ENDPOINT, Bools, Entries, Ints, NetworkArrays
from archipelago.reachability.components import components
from archipelago.reachability.states import Ways


@dataclass(frozen=True, slots=True)
class Passing:
    """What passes packets of so many octets. Of endpoints `part` numbers those that are joined by links which do, and
    `sends` says whether an interface does; of host classes `speaks` says whether a host and its port do."""

    length: int
    part: Ints
    sends: Bools
    speaks: Bools


def passing(arrays: NetworkArrays, lengths: Iterable[int]) -> tuple[Passing, ...]:
    """What passes packets of some lengths, of those for which something does not."""
    wanted = sorted(set(lengths) - {0})
    least = min([USUAL_MTU, *written_sizes(arrays.knowledge.network)]) if wanted else 0  # what everything passes
    return tuple(_passing(arrays, length) for length in wanted if length > least)


def _passing(arrays: NetworkArrays, length: int) -> Passing:
    knowledge, joints = arrays.knowledge, arrays.adjacencies
    small = np.zeros(len(arrays.links) + 1, dtype=np.bool_)
    for (device, name), number in arrays.links.items():
        attachment = knowledge.devices[device].attachments.get(name)
        small[number] = attachment is not None and attachment.mtu < length
    # A link is as good as the worse of its ends, each of which is a sender of one of its two joints.
    size = len(arrays.endpoints)
    key = np.minimum(joints.endpoint, joints.target) * size + np.maximum(joints.endpoint, joints.target)
    lost = np.unique(key[small[joints.link] & (joints.sender != joints.receiver)])
    kept = joints.first & ~np.isin(key, lost)
    _, part = components(joints.endpoint[kept], joints.target[kept], size)
    sends = np.ones(size + 1, dtype=np.bool_)  # the last is for no endpoint
    for (device, part_name), number in arrays.endpoints.items():
        nic = knowledge.devices[device].nics.get(part_name) if isinstance(part_name, str) else None
        sends[number] = nic is None or nic.mtu >= length
    hosts = [knowledge.network.hosts[name] for name in arrays.examples]
    speaks = [(host.mtu or USUAL_MTU) >= length and knowledge.attachment_at(host.at).mtu >= length for host in hosts]
    return Passing(length, part.astype(np.int64), sends, np.array(speaks, dtype=np.bool_))


@dataclass(frozen=True, slots=True)
class Places:
    """Where classes are, for one length: the part that the hosts of each are in, and whether they pass it."""

    part: Ints
    speaks: Bools


@dataclass(frozen=True, slots=True)
class Sizes:
    """What is too small for which lengths, and where classes are in it."""

    every: Mapping[int, tuple[Passing, Places]]

    def fit(self, length: int, ways: Ways, entries: Entries, source: Ints, column: Ints) -> Bools:
        """Which packets that arrive pass everything on their ways.

        Args:
            length: the octets of each.
            ways: where packets go.
            entries: the routes.
            source: the class that sends each.
            column: what it is sent to.
        """
        passes, places = self.every[length]
        table, codes = ways.table, ways.table.codes
        owner = ways.columns.owner[column]
        well: Bools = places.speaks[source] & places.speaks[owner]
        apart = ways.start.is_apart(source * codes.columns + column)
        well[apart] &= (places.part[source] == places.part[owner])[apart]
        moving = np.flatnonzero(~apart)
        row = codes.rows + ways.start.row[source[moving]].astype(np.int64)
        well[moving] &= places.part[source[moving]] == passes.part[ways.start.ingress[source[moving]]]
        for _ in range(FIRST_TTL):
            state = row * codes.columns + column[moving]
            route, onward = ways.table.route[state].astype(np.int64), table.next[state].astype(np.int64)
            egress = entries.endpoint[route]
            well[moving] &= passes.sends[egress]
            arrives = onward == codes.arrived
            last = moving[arrives]
            well[last] &= passes.part[egress[arrives]] == places.part[owner[last]]
            on = onward < codes.states
            moving, route, egress, row = moving[on], route[on], egress[on], onward[on] // codes.columns
            if not len(moving):
                break
            well[moving] &= passes.part[egress] == passes.part[ways.hops.ingress[route]]
        return well


def shapes(arrays: NetworkArrays, passes: Sequence[Passing]) -> Ints:
    """A number for each host class, the same for those that no length tells apart."""
    rows = [np.zeros(len(arrays.examples), dtype=np.int64)]
    for one in passes:
        rows += [_part_of(arrays, one), one.speaks.astype(np.int64)]
    _, shape = np.unique(np.stack(rows), axis=1, return_inverse=True)
    return shape.reshape(-1).astype(np.int64)


def sizes_of(arrays: NetworkArrays, passes: Sequence[Passing], example: Ints) -> Sizes | None:
    """Where classes are in what passes some lengths; None where everything passes them.

    Args:
        arrays: the network.
        passes: what passes each length.
        example: a host class of each class.
    """
    if not passes:
        return None
    return Sizes({one.length: (one, Places(_part_of(arrays, one)[example], one.speaks[example])) for one in passes})


def _part_of(arrays: NetworkArrays, passes: Passing) -> Ints:
    part: Ints = np.where(arrays.endpoint == NO_ENDPOINT, -1, passes.part[arrays.endpoint])
    return part
