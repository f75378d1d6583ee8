"""Two states of a network side by side: what is otherwise, in the words of the work, and what it does."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from archipelago.answer import Answer
from archipelago.changes.differences import Difference, differences
from archipelago.changes.pairs import Between, Cut, by_family
from archipelago.changes.renamed import Renamed, renamed
from archipelago.changes.ways import otherwise
from archipelago.failures.single import single_outages
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import know
from archipelago.knowledge.outside import widened
from archipelago.model.network import Network
from archipelago.model.parts import Host
from archipelago.reachability.arrays import NetworkArrays
from archipelago.reachability.build import build_arrays
from archipelago.reachability.devices import device_pairs
from archipelago.reachability.promises import Promises


class Event(NamedTuple):
    """Something that a person would say of the whole: of what, and what has become of it."""

    subject: str
    what: str

    def __str__(self) -> str:
        return f"{self.subject} {self.what}"


class DevicesBeside(NamedTuple):
    """How many pairs with an address of a device at an end the old and the new network answer, in any family, and those
    that only the new, or the old, one does."""

    before: int
    after: int
    gained: Cut
    lost: Cut


class Failures(NamedTuple):
    """How many parts were broken in turn, and which of them then cut somebody off elsewhere."""

    parts: int
    single_points: tuple[str, ...]


@dataclass(frozen=True, slots=True, repr=False)
class Comparison(Answer):
    """What is otherwise in a new state of a network, and what it does.

    Args:
        old, new: the two, the old one by the new names.
        called: what is called otherwise.
        events: what was moved, renumbered, renamed.
        differences: every difference, in the order of the document.
        before, after: how many ordered pairs of hosts the old and the new network answer, in any family. The pairs are
            those of both networks together, and a host that a network lacks is not reached in it: `before`, less those
            `lost`, with those `gained`, is `after`.
        gained, lost: pairs that only the new, or the old, network answers.
        lost_with_an_end: how many of those lost have an end that the new network lacks.
        left_in_one_family: pairs that both answer, the new network in one family only.
        family: the one family that was asked for; None for any.
        another_way: pairs that both answer, by way of other devices; None where they were too many to follow.
        broken_before, broken_after: what the old and the new network expect, or their policies say, and is not kept.
        failures: of the old and the new network; None where nobody asked.
        devices: the pairs with an address of a device at an end; None where nobody asked.
    """

    SHOWN = "comparison.COMPARE"

    old: Network
    new: Network
    called: Renamed
    events: tuple[Event, ...]
    differences: tuple[Difference, ...]
    before: int
    after: int
    gained: Cut
    lost: Cut
    lost_with_an_end: int
    left_in_one_family: Cut
    another_way: Cut | None
    broken_before: tuple[str, ...]
    broken_after: tuple[str, ...]
    failures: tuple[Failures, Failures] | None
    family: int | None = None
    devices: DevicesBeside | None = None

    @property
    def promises_lost(self) -> tuple[str, ...]:
        """What the new network expects or says and does not keep, and the old one did, or did not say."""
        return tuple(one for one in self.broken_after if one not in self.broken_before)

    @property
    def promises_mended(self) -> tuple[str, ...]:
        """What the old network did not keep, and the new one does."""
        return tuple(one for one in self.broken_before if one not in self.broken_after)

    @property
    def new_single_points(self) -> tuple[str, ...]:
        """The parts whose failure cuts somebody off elsewhere now, and did not."""
        if self.failures is None:
            return ()
        before, after = self.failures
        return tuple(part for part in after.single_points if part not in before.single_points)

    @property
    def loses(self) -> bool:
        """Whether pairs or promises are lost."""
        return bool(self.lost.pairs or self.left_in_one_family.pairs or self.promises_lost)

    @property
    def headline(self) -> str:
        """The answer in one line."""
        if not self.differences and not self.called:
            return "nothing is otherwise"
        count = len(self.differences)
        gone = f" ({self.lost_with_an_end:,} of them with a host that is gone)" if self.lost_with_an_end else ""
        told = [f"{count:,} difference{'s' * (count != 1)}", f"{self.lost} lost{gone}", f"{self.gained} gained"]
        if self.left_in_one_family.pairs:
            told.append(f"{self.left_in_one_family} left in one family only")
        if self.another_way is not None and self.another_way.pairs:
            told.append(f"{self.another_way} the same, but by another way")
        if self.promises_lost:
            told.append(f"{len(self.promises_lost)} promise{'s' * (len(self.promises_lost) != 1)} lost")
        return "; ".join(told)

    def __bool__(self) -> bool:
        return not self.loses


def compare_networks(
    old: Network, new: Network, *, failures: bool = True, family: int | None = None, devices: bool = False
) -> Comparison:
    """What a new network has otherwise than an old one, and what that does.

    Args:
        old, new: the two.
        family: 4 or 6: count the pairs of this family only.
        devices: also count the pairs of devices' addresses.
        failures: also break every part of each in turn.
    """
    called = renamed(old, new)
    before = called.applied(old)
    knowledge = know(before), know(new)
    arrays = [build_arrays(widened(one)) for one in knowledge]
    between = Between(*(by_family(one, family) for one in arrays))
    reached = between.reached
    found = differences(before, new)
    return Comparison(
        old=before,
        new=new,
        called=called,
        events=tuple(_events(called, NetworkIndex(knowledge[0]), NetworkIndex(knowledge[1]))),
        differences=tuple(found),
        before=reached[0],
        after=reached[1],
        gained=between.gained,
        lost=between.lost,
        lost_with_an_end=between.lost_with_an_end,
        left_in_one_family=between.left_in_one_family,
        another_way=otherwise(between, arrays[0].knowledge, arrays[1].knowledge) if found else Cut(0),
        broken_before=Promises(knowledge[0], arrays[0]).broken,
        broken_after=Promises(knowledge[1], arrays[1]).broken,
        failures=(_failures(before), _failures(new)) if failures and found else None,
        family=family,
        devices=_devices(arrays, family) if devices else None,
    )


def _devices(arrays: Sequence[NetworkArrays], family: int | None) -> DevicesBeside:
    between = Between(*(device_pairs(one, family=family).by_family for one in arrays))
    return DevicesBeside(*between.reached, between.gained, between.lost)


def _failures(network: Network) -> Failures:
    found = single_outages(network, additions=False)
    return Failures(len(found), tuple(outage.name for outage in found.single_points))


def _events(called: Renamed, old: NetworkIndex, new: NetworkIndex) -> Iterator[Event]:
    yield from (Event(*told) for told in called.told())
    yield from _vlans(old, new)
    yield from _gateways(old, new)
    yield from _hosts(old, new)


def _vlans(old: NetworkIndex, new: NetworkIndex) -> Iterator[Event]:
    was, now = old.network.vlans, new.network.vlans
    for name, number in now.items():
        if name in was and was[name] != number:
            yield Event(f"VLAN {name}", f"has the id {number} instead of {was[name]}")
        elif name not in was and number not in was.values():
            yield Event(f"VLAN {name}", f"is new, with the id {number}")
    for name, number in was.items():
        if name not in now and number not in now.values():
            yield Event(f"VLAN {name}", "is gone")


def _gateways(old: NetworkIndex, new: NetworkIndex) -> Iterator[Event]:
    """Where the gateways of each VLAN are, and what their addresses are."""
    was, now = _places(old), _places(new)
    names = {number: name for name, number in {**old.network.vlans, **new.network.vlans}.items()}
    for vlan, name in names.items():
        before, after = was.get(vlan, {}), now.get(vlan, {})
        devices = list(before), list(after)
        if devices[0] != devices[1] and devices[0] and devices[1]:
            yield Event(f"gateway of {name}", f"moved from {' and '.join(devices[0])} to {' and '.join(devices[1])}")
        elif devices[0] != devices[1]:
            where = f"is new, on {' and '.join(devices[1])}" if devices[1] else f"is gone from {devices[0][0]}"
            yield Event(f"gateway of {name}", where)
        addresses = [sorted({text for held in one.values() for text in held}) for one in (before, after)]
        if addresses[0] != addresses[1] and addresses[0] and addresses[1]:
            texts = [", ".join(one) for one in addresses]
            yield Event(f"gateway of {name}", f"renumbered: {texts[1]} instead of {texts[0]}")


def _places(index: NetworkIndex) -> dict[int, dict[str, list[str]]]:
    """For each VLAN the devices that have an address in it and forward, and the addresses."""
    found: dict[int, dict[str, list[str]]] = {}
    for node in index.knowledge.devices.values():
        for nic in node.nics.values():
            vlan = nic.vlan if node.forwards else None
            texts = [str(address) for address in nic.addresses]
            if vlan is not None and texts:
                found.setdefault(vlan, {}).setdefault(node.name, []).extend(texts)
    return found


def _hosts(old: NetworkIndex, new: NetworkIndex) -> Iterator[Event]:
    was, now = old.network.hosts, new.network.hosts
    for name, host in now.items():
        if name not in was:
            yield Event(f"host {name}", f"is new, at {host.at}")
        else:
            yield from (Event(f"host {name}", what) for what in _host(was[name], host))
    yield from (Event(f"host {name}", "is gone") for name in was if name not in now)


def _host(was: Host, now: Host) -> Iterator[str]:
    if was.at != now.at:
        yield f"moved from {was.at} to {now.at}"
    if was.addresses != now.addresses or was.dhcp != now.dhcp:
        texts = [", ".join(["dhcp"] * one.dhcp + [*map(str, one.addresses)]) or "no address" for one in (was, now)]
        yield f"renumbered from {texts[0]} to {texts[1]}"


def by_owner(found: tuple[Difference, ...]) -> Mapping[str, list[Difference]]:
    """Differences device by device, in their order."""
    owners: dict[str, list[Difference]] = {}
    for difference in found:
        owners.setdefault(difference.at, []).append(difference)
    return owners
