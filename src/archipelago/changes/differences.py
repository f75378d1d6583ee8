"""What is otherwise in another state of a network: one difference for each thing that a person changes at once."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, fields, replace
from enum import IntEnum
from typing import Any

from archipelago.answer import OneLine
from archipelago.changes.replacement import ABSENT, Place, Replacement, merged_order
from archipelago.changes.words import called, in_full, route_text, set_to, vlan_text
from archipelago.files.write import part_text
from archipelago.model.filters import Filter
from archipelago.model.leases import Pool
from archipelago.model.network import Network
from archipelago.model.parts import Device, Host, Route
from archipelago.model.policy import Policy

PLAN = "the plan"
"""What a difference belongs to that stands on no device: the catalogue, what must hold, the policy."""


class Stage(IntEnum):
    """What a difference does to what is in use: it adds to it, changes it, or takes from it."""

    ADDS = 0
    CHANGES = 1
    TAKES = 2


@dataclass(frozen=True, slots=True, repr=False)
class Difference(OneLine):
    """One thing that is otherwise: whose it is (a device, a host, or the plan), what is done about it and what takes
    that back, in words. Hosts that ask for their leases again are `renewing`: nothing is written otherwise then.
    `lines` are what a filter has, or a pool, in full."""

    at: str
    what: str
    undo: str
    stage: Stage
    replacements: tuple[Replacement, ...]
    renewing: tuple[str, ...] = ()
    lines: tuple[str, ...] = ()

    @property
    def place(self) -> Place:
        """Where the first of the things stands."""
        return self.replacements[0].place if self.replacements else ()

    @property
    def by_hand(self) -> bool:
        """Whether somebody stands there for it: a cable, a host, a device put in place or taken away."""
        return self.place[:1] != ("devices",) or len(self.place) == 2

    def __str__(self) -> str:
        return f"{self.at}: {self.what}"


MODE = ("access", "trunk", "untagged", "routed", "vrf", "members", "parent", "tag", "vlan")
"""What says how a port or an interface is used: what of it changes does so at once."""


def differences(old: Network, new: Network) -> list[Difference]:
    """What a network has otherwise than another, in the order of the documents. Applied all of them, in any order that
    lets each be applied, they make the one of the other."""
    return [*_Differences(old, new).all()]


class _Differences:
    def __init__(self, old: Network, new: Network) -> None:
        self._old, self._new = old, new
        self._vlans = _both_catalogues(old.vlans, new.vlans)

    def all(self) -> Iterator[Difference]:
        yield from self._catalogue()
        yield from self._suspended()
        yield from self._filed(("devices",), "device", self._device)
        yield from self._filed(("hosts",), "host", self._host)
        yield from self._cables()
        yield from self._plan()

    # The plan

    def _catalogue(self) -> Iterator[Difference]:
        if self._vlans != self._old.vlans:
            new = ", ".join(name for name in self._vlans if name not in self._old.vlans)
            swap = Replacement(("vlans",), self._old.vlans, self._vlans)
            yield Difference(PLAN, f"new VLANs: {new}", f"without VLANs {new}", Stage.ADDS, (swap,))

    def _suspended(self) -> Iterator[Difference]:
        was, now = self._old.suspended, self._new.suspended
        if was != now:
            does, undoes = (
                f"VLANs suspended everywhere: {', '.join(map(self._vlan, vlans)) or 'none'}" for vlans in (now, was)
            )
            yield Difference(PLAN, does, undoes, Stage.CHANGES, (Replacement(("suspended",), was, now),))

    def _plan(self) -> Iterator[Difference]:
        swaps = []
        if self._vlans != self._new.vlans:
            swaps.append(Replacement(("vlans",), self._vlans, self._new.vlans))
        apart = ("vlans", "suspended", "devices", "hosts", "cables", "outside")
        goes = []
        for name in [spec.name for spec in fields(Network) if spec.compare and spec.name not in apart]:
            was, now = getattr(self._old, name), getattr(self._new, name)
            left = self._without_gone(was) if was != now else was
            if left != was:
                goes.append(Replacement((name,), was, left))
            if left != now:
                swaps.append(Replacement((name,), left, now))
        if goes:  # before those go whom they name
            told = "lines that name what is taken away"
            yield Difference(PLAN, f"without {told}", f"with {told}", Stage.ADDS, tuple(goes))
        yield from self._outside()
        if swaps:
            told = ", ".join({"vlans": "VLANs", "expect": "what must hold"}.get(s.place[0], s.place[0]) for s in swaps)
            yield Difference(PLAN, f"as the new plan has them: {told}", f"as before: {told}", Stage.TAKES, tuple(swaps))

    def _without_gone(self, value: Any) -> Any:
        """What is expected, sent or wanted, without the lines that name what the new network has not."""
        if isinstance(value, Policy):
            rules = []
            for rule in value.rules:
                ends = [tuple(end for end in each if not self._is_gone(end)) for each in (rule.source, rule.target)]
                if all(ends):
                    same = ends == [rule.source, rule.target]
                    rules.append(rule if same else replace(rule, source=ends[0], target=ends[1]))
            return replace(value, rules=tuple(rules))
        if isinstance(value, tuple):
            return tuple(one for one in value if not self._is_gone(one.source) and not self._is_gone(one.target))
        return value

    def _is_gone(self, end: str) -> bool:
        name = end.partition("/")[0]
        return any(
            (end in old or name in old) and end not in new and name not in new
            for old, new in ((self._old.hosts, self._new.hosts), (self._old.devices, self._new.devices))
        )

    def _outside(self) -> Iterator[Difference]:
        was, now = self._old.outside, self._new.outside
        if was == now:
            return
        order = merged_order(was, now) if was is not None and now is not None else None
        if order is None:
            swap = Replacement(("outside",), was, now)
            yield Difference(PLAN, "where the outside begins", "where it began", Stage.CHANGES, (swap,))
            return
        for entry in order:
            gone, come = entry in (was or ()), entry in (now or ())
            if gone != come:
                swap = Replacement(("outside",), (entry,) if gone else (), (entry,) if come else (), order)
                words = f"the outside begins at {entry.at}", f"the outside begins no more at {entry.at}"
                yield Difference(PLAN, words[gone], words[come], Stage.TAKES if gone else Stage.ADDS, (swap,))

    # What is filed by name

    def _filed(self, place: Place, noun: str, inside: Any) -> Iterator[Difference]:
        was, now = getattr(self._old, place[0]), getattr(self._new, place[0])
        for name in _both(was, now):
            if name not in now:
                swap = (Replacement((*place, name), was[name], ABSENT),)
                yield Difference(name, f"take {noun} {name} away", f"put {noun} {name} back", Stage.TAKES, swap)
            elif name not in was:
                swap = (Replacement((*place, name), ABSENT, now[name]),)
                yield Difference(name, f"put {noun} {name} in place", f"take {noun} {name} away", Stage.ADDS, swap)
            elif was[name] != now[name]:
                yield from inside(was[name], now[name])

    def _host(self, was: Host, now: Host) -> Iterator[Difference]:
        place = ("hosts", was.name)
        yield from self._entries(was.name, place, "dhcp_pools", was, now)
        moved = was.at != now.at
        if moved:
            swap = Replacement((*place, "at"), was.at, now.at)
            words = f"plug it into {now.at} instead of {was.at}", f"plug it into {was.at} again"
            yield Difference(was.name, *words, Stage.CHANGES, (swap,))
        names = [spec.name for spec in fields(Host) if spec.name not in ("name", "at", "dhcp_pools")]
        yield from self._at_once(was.name, place, names, was, now)

    def _device(self, was: Device, now: Device) -> Iterator[Difference]:
        name, place = was.name, ("devices", was.name)
        if was.kind != now.kind:
            swap = (Replacement(place, was, now),)
            words = f"put {_a(now.kind)} in its place, set up as the new plan has it", f"put {_a(was.kind)} back"
            yield Difference(name, *words, Stage.CHANGES, swap)
            return
        yield from self._entries(name, place, "filters", was, now)
        yield from self._vlans_of(was, now)
        yield from self._parts(name, (*place, "ports"), was.ports, now.ports)
        yield from self._parts(name, (*place, "interfaces"), was.interfaces, now.interfaces)
        yield from self._entries(name, place, "dhcp_pools", was, now)
        yield from self._routes(was, now)
        apart = ("name", "kind", "filters", "vlans", "ports", "interfaces", "dhcp_pools", "routes")
        for one in [spec.name for spec in fields(Device) if spec.name not in apart]:
            yield from self._at_once(name, place, [one], was, now)

    def _vlans_of(self, was: Device, now: Device) -> Iterator[Difference]:
        place = ("devices", was.name, "vlans")
        if was.vlans is None or now.vlans is None:
            yield from self._at_once(was.name, place[:2], ["vlans"], was, now)
            return
        yield from self._listed(was.name, place, was.vlans, now.vlans, lambda vlan: f"VLAN {self._vlan(vlan)}")

    def _routes(self, was: Device, now: Device) -> Iterator[Difference]:
        place = ("devices", was.name, "routes")
        order = merged_order(was.routes, now.routes)
        if order is None:
            swap = (Replacement(place, was.routes, now.routes),)
            yield Difference(
                was.name, "its routes as the new plan has them", "its routes as before", Stage.CHANGES, swap
            )
            return
        gone = [route for route in was.routes if route not in now.routes]
        come = [route for route in now.routes if route not in was.routes]
        for route in come:
            instead = next((old for old in gone if _same_way(old, route)), None)
            if instead is not None:
                gone.remove(instead)
                words = f"{route_text(route)} instead of {instead.next_hop}", f"{route_text(instead)} again"
                yield Difference(was.name, *words, Stage.CHANGES, (Replacement(place, (instead,), (route,), order),))
            else:
                words = f"add {route_text(route)}", f"take {route_text(route)} away"
                yield Difference(was.name, *words, Stage.ADDS, (Replacement(place, (), (route,), order),))
        for route in gone:
            words = f"take {route_text(route)} away", f"add {route_text(route)} again"
            yield Difference(was.name, *words, Stage.TAKES, (Replacement(place, (route,), (), order),))

    # Parts and their keys

    def _parts(self, at: str, place: Place, was: Mapping[str, Any], now: Mapping[str, Any]) -> Iterator[Difference]:
        for name in _both(was, now):
            old, new, here = was.get(name), now.get(name), (*place, name)
            if old is None:
                words = f"add {in_full(new, self._vlans)}", f"take {called(new)} away"
                yield Difference(at, *words, Stage.ADDS, (Replacement(here, ABSENT, new),))
            elif new is None:
                words = f"take {called(old)} away", f"add {in_full(old, self._vlans)} again"
                yield Difference(at, *words, Stage.TAKES, (Replacement(here, old, ABSENT),))
            elif type(old) is not type(new):
                words = f"{in_full(new, self._vlans)} instead of {called(old)}", f"{in_full(old, self._vlans)} again"
                yield Difference(at, *words, Stage.CHANGES, (Replacement(here, old, new),))
            elif old != new:
                yield from self._part(at, here, old, new)

    def _part(self, at: str, place: Place, was: Any, now: Any) -> Iterator[Difference]:
        names = [spec.name for spec in fields(was) if getattr(was, spec.name) != getattr(now, spec.name)]
        told = called(was)
        mode = [name for name in names if name in MODE]
        if mode == ["trunk"] and isinstance(was.trunk, tuple) and isinstance(now.trunk, tuple):
            kind = f"on {told}"
            yield from self._listed(at, (*place, "trunk"), was.trunk, now.trunk, self._vlan, kind, carry=True)
            mode = []
        if "addresses" in names and not mode and was.addresses and now.addresses:
            apart = not {one.address for one in was.addresses} & {one.address for one in now.addresses}
            if apart:
                kind = f"on {told}"
                yield from self._listed(at, (*place, "addresses"), was.addresses, now.addresses, str, kind)
                names.remove("addresses")
        at_once = [name for name in names if name in mode or (mode and name == "addresses")]
        yield from self._at_once(at, place, at_once, was, now, told)
        for name in names:
            if name not in MODE and name not in at_once:
                yield from self._at_once(at, place, [name], was, now, told)

    def _at_once(
        self, at: str, place: Place, names: list[str], was: Any, now: Any, told: str = ""
    ) -> Iterator[Difference]:
        """Keys of one part that change together."""
        changed = [name for name in names if getattr(was, name, None) != getattr(now, name, None)]
        if not changed:
            return
        swaps = tuple(Replacement((*place, name), getattr(was, name), getattr(now, name)) for name in changed)
        lead = f"{told}: " if told else ""
        words = [lead + ", ".join(self._key(part, name) for name in changed) for part in (now, was)]
        empty = all(not getattr(was, name) for name in changed)
        yield Difference(at, words[0], words[1], Stage.ADDS if empty and "off" not in changed else Stage.CHANGES, swaps)

    def _key(self, part: Any, name: str) -> str:
        if name in ("dhcp", "auto"):
            return f"{'with' if getattr(part, name) else 'without'} an address by {name}"
        if name == "off":
            return "switched off" if part.off else "switched on"
        return set_to(part, name, self._vlans)

    def _entries(self, at: str, place: Place, name: str, was: Any, now: Any) -> Iterator[Difference]:
        """Filters and pools: each is added, changed or taken away whole."""
        noun = {"filters": "filter", "dhcp_pools": "pool"}[name]
        old, new = getattr(was, name), getattr(now, name)
        for one in _both(old, new):
            if old.get(one) == new.get(one):
                continue
            swap = (Replacement((*place, name, one), old.get(one, ABSENT), new.get(one, ABSENT)),)
            if one not in old:
                words = f"add {noun} {one}", f"take {noun} {one} away"
                yield Difference(at, *words, Stage.ADDS, swap, lines=self._in_full(new[one]))
            elif one not in new:
                yield Difference(at, f"take {noun} {one} away", f"add {noun} {one} again", Stage.TAKES, swap)
            else:
                keys = "; ".join(self._lines(old[one], new[one]))
                words = f"{noun} {one}: {keys}", f"{noun} {one} as before"
                yield Difference(at, *words, Stage.CHANGES, swap, lines=self._in_full(new[one]))

    def _in_full(self, part: Filter | Pool) -> tuple[str, ...]:
        """What a filter or a pool has, line by line."""
        if isinstance(part, Pool):
            return (part_text(part, self._vlans),)
        rules = [f"{number}. {part_text(rule, self._vlans)}" for number, rule in enumerate(part.rules, 1)]
        stateful = ", stateful" if part.stateful else ""
        return (*rules, f"otherwise: {part.otherwise}{stateful}")

    def _lines(self, was: Any, now: Any) -> Iterator[str]:
        """What is otherwise in a filter or a pool: of a filter's lines only how many."""
        for key in (spec.name for spec in fields(was)):
            old, new = getattr(was, key), getattr(now, key)
            if old != new and key == "rules":
                come, gone = (sum(line not in other for line in lines) for lines, other in ((new, old), (old, new)))
                yield f"{come} line{'s' * (come != 1)} in, {gone} out"
            elif old != new:
                yield set_to(now, key, self._vlans)

    def _listed(
        self,
        at: str,
        place: Place,
        was: tuple[Any, ...],
        now: tuple[Any, ...],
        told: Any,
        on: str = "",
        carry: bool = False,
    ) -> Iterator[Difference]:
        """A list that grows first, then shrinks."""
        order = merged_order(was, now)
        if order is None:
            swap = (Replacement(place, was, now),)
            states = [f"{on or 'its list'}: {', '.join(map(told, entries))}" for entries in (now, was)]
            yield Difference(at, states[0], states[1], Stage.CHANGES, swap)
            return
        come = tuple(entry for entry in order if entry not in was)
        gone = tuple(entry for entry in order if entry not in now)
        verb = "carry" if carry else "add"
        if come:
            text = f"{', '.join(map(told, come))}{' ' if on else ''}{on}"
            words = (
                f"{verb} {text}",
                f"take {text} off" if not on else f"take {', '.join(map(told, come))} off {on[3:]}",
            )
            yield Difference(at, *words, Stage.ADDS, (Replacement(place, (), come, order),))
        if gone:
            off = f" off {on[3:]}" if on else " away"
            text = ", ".join(map(told, gone))
            words = f"take {text}{off}", f"{verb} {text}{' ' if on else ''}{on} again"
            yield Difference(at, *words, Stage.TAKES, (Replacement(place, gone, (), order),))

    def _cables(self) -> Iterator[Difference]:
        was, now = self._old.cables, self._new.cables
        if was == now:
            return
        order = merged_order(was, now)
        if order is None:
            swap = (Replacement(("cables",), was, now),)
            yield Difference(PLAN, "the cables as the new plan has them", "the cables as before", Stage.CHANGES, swap)
            return
        old, new = {str(cable): cable for cable in was}, {str(cable): cable for cable in now}
        for name in _both(old, new):
            before, after = old.get(name), new.get(name)
            if before == after:
                continue
            end = (after or before).a  # type: ignore[union-attr]
            swap = (Replacement(("cables",), (before,) if before else (), (after,) if after else (), order),)
            if before and after:
                states = [f"cable {name} {'off' if cable.off else 'on'}" for cable in (after, before)]
                yield Difference(end.device, states[0], states[1], Stage.CHANGES, swap)
            else:
                words = f"plug in cable {name}", f"unplug cable {name}"
                stage = Stage.ADDS if after else Stage.TAKES
                yield Difference(end.device, words[before is not None], words[after is not None], stage, swap)

    def _vlan(self, vlan: int) -> str:
        return vlan_text(vlan, self._vlans)


def _both_catalogues(was: Mapping[str, int], now: Mapping[str, int]) -> Mapping[str, int]:
    """The VLANs of both; one whose name is in use for another goes by its name and id."""
    both = dict(was)
    for name, number in now.items():
        if number not in both.values():
            both[name if name not in both else f"{name}-{number}"] = number
    return both


def _both(was: Mapping[str, Any], now: Mapping[str, Any]) -> dict[str, Any]:
    """What is filed in either, by name; of what both have the earlier."""
    return {**was, **{name: value for name, value in now.items() if name not in was}}


def _same_way(one: Route, other: Route) -> bool:
    return replace(one, next_hop=other.next_hop) == other


def _a(noun: str) -> str:
    return f"an {noun}" if noun.startswith("l3") else f"a {noun}"
