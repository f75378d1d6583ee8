"""The smallest thing to add that makes a failure harmless: one cable between two ports, or one second gateway. Each is
put to the engines before it is said."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from functools import cached_property
from itertools import chain, count, islice
from typing import Any

from archipelago.addressing.values import is_link_local
from archipelago.audit.registry import run
from archipelago.diagnosis.faults.words import free_address, texts
from archipelago.errors import DocumentError, EditError
from archipelago.failures.breaking import Breaker
from archipelago.failures.parts import Part
from archipelago.failures.result import Outage
from archipelago.files.amended import Amendable
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.parts import joined_by_cables
from archipelago.model.finding import Edit, Mend
from archipelago.model.network import Network
from archipelago.model.parts import Cable, Device, End
from archipelago.model.values import VRIDS, free_name
from archipelago.proof.gate import Standing, kinds_of_probe, losses

MOST_CABLES = 9
MOST_GATEWAYS = 4
"""So many of each are tried for a failure."""
WORK = 200_000
"""How many hosts, ports and interfaces all trials of one call look at, about."""
_ITS_OWN = ("off", "speed", "path-cost", "edge", "members", "shared-with")
"""What of a port's settings, as a document writes them, a port beside it need not share."""


class Additions:
    """What could be added to a network, tried where somebody asks.

    Args:
        index: the network, all its hosts in it.
        breaker: the same network, with few hosts for many.
    """

    def __init__(self, index: NetworkIndex, breaker: Breaker) -> None:
        self._index = index
        self._network: Network = index.knowledge.written
        self._breaker = breaker
        self._amendable = Amendable(breaker.plain.written)
        network = breaker.plain.written
        parts = sum(len(device.ports) + len(device.interfaces) for device in network.devices.values())
        self._left = WORK // (len(network.hosts) + parts + 1)

    def of(self, part: Part, outage: Outage) -> tuple[Mend | None, str]:
        """The smallest addition with which the failure of a part cuts nobody off elsewhere; or why there is none."""
        tried = 0
        for addition in chain(self._cables(part), self._gateways(part)):
            if self._left <= 0:
                return None, "not looked for: worse failures took all the time there is for that"
            tried += 1
            self._left -= 1
            if self._serves(addition, part):
                return addition, ""
        if part.kind == "port":
            return None, "nothing to try: it leads outside"
        return None, f"none of {tried:,} tried is enough" if tried else "no cable or second gateway to try"

    @cached_property
    def _before(self) -> Standing:
        plain = self._breaker.plain
        return Standing(plain, kinds_of_probe(plain.written), run)

    def _serves(self, addition: Mend, part: Part) -> bool:
        """Whether an addition makes the failure harmless elsewhere, and passes the gate."""
        try:
            network = self._amendable.with_edits(addition.edits)
        except (EditError, DocumentError):
            return False
        breaker = Breaker(network, self._breaker.stands_for)
        if breaker.outage([part], over=False, expected=False, policy=False).outcome == "cuts off":
            return False
        after = Standing(breaker.plain, self._before.probes, run)
        return next(losses(self._before, after), None) is None

    # Cables

    def _cables(self, part: Part) -> Iterator[Mend]:
        """Cables between switches that the failure separates, those next to it first."""
        sides = self._sides(part)
        pairs = dict.fromkeys(tuple(sorted((a, b))) for a, ours in sides for b, theirs in sides if ours != theirs)
        straight = set(self._ends(part))
        ranked = sorted(pairs, key=lambda pair: set(pair) == straight)  # one beside what broke is the last choice
        for a, b in islice(ranked, MOST_CABLES):
            ends, edits, new = [], [], []
            for name in (a, b):
                port, settings = self._free_port(name, part)
                ends.append(End(name, port))
                edits += [Edit(("devices", name, "ports", port), settings)] if settings else []
                new += [str(ends[-1])] if port not in self._index.knowledge.ports[name] else []
            says = f"a cable {ends[0]} ~ {ends[1]}"
            like = {key: value for edit in edits for key, value in edit.value.items()}
            says += f", with {', '.join(f'{key} {_words(value)}' for key, value in like.items())}" if like else ""
            says += f" ({' and '.join(new)}: not in the file yet)" if new else ""
            yield Mend(says, (*edits, Edit(("cables", "+"), str(Cable(ends[0], ends[1])))))

    def _ends(self, part: Part) -> list[str]:
        """The devices at a cable's ends, or next to a device."""
        if part.kind == "cable":
            return [end.strip().partition("/")[0] for end in part.name.split("~")]
        if part.kind != "device":
            return []
        cables = [cable for cable in self._network.cables if part.name in (cable.a.device, cable.b.device)]
        near = (end.device for cable in cables for end in cable.ends if end.device != part.name)
        return list(dict.fromkeys(near))

    def _sides(self, part: Part) -> list[tuple[str, str]]:
        """The switches that a cable could go to, each with the name of the side that it is on once the part is broken:
        those next to what breaks, then other layer 3 switches of these sides, then any."""
        side = joined_by_cables(self._index.knowledge, without=part.name, over_routers=False)
        near = [name for name in self._ends(part) if name in side]
        sides = {side[name] for name in near}
        if len(sides) < 2:
            return []
        devices = self._network.devices
        others = [name for name in side if side[name] in sides and name not in near]
        others.sort(key=lambda name: devices[name].kind != "l3switch")
        chosen: list[tuple[str, str]] = []
        for one in sides:
            chosen += [(name, one) for name in (*near, *others) if side[name] == one][:3]
        return chosen

    def _free_port(self, device: str, part: Part) -> tuple[str, dict[str, Any]]:
        """A free port of a switch, and what must be set there so that it carries what its ports to others do."""
        written = self._amendable.document["devices"][device].get("ports") or {}
        facing = self._facing(device, part)
        attachment = self._index.knowledge.devices.attachment_at(End(device, facing)) if facing else None
        like = {}
        if attachment is not None:
            entry = self._written(device, attachment.name)
            like = _shared(entry)
        free = [name for name in self._index.knowledge.ports[device] if self._is_free(device, name)]
        alike = [name for name in free if _shared(written.get(name) or {}) == like]
        for name in alike:
            return name, {}
        plain = [name for name in free if not written.get(name)]
        return (plain[0] if plain else self._next_name(device, facing)), like

    def _written(self, device: str, name: str) -> dict[str, Any]:
        document = self._amendable.document["devices"][device]
        return {**document.get("ports", {}), **document.get("interfaces", {})}.get(name) or {}

    def _facing(self, device: str, part: Part) -> str:
        """The port of a device towards what breaks, else any by which it is cabled to a switch."""
        knowledge = self._index.knowledge
        ends = [(end, knowledge.links[end].peer) for end in (End(device, name) for name in knowledge.ports[device])]
        cabled = [(end, peer) for end, peer in ends if peer is not None and peer.device in self._network.devices]
        switched = [(end, peer) for end, peer in cabled if knowledge.devices.attachment_at(end).switched]
        first = [end for end, peer in switched if part.name == peer.device or str(end) in part.name.split(" ~ ")]
        return next((end.port for end in (*first, *(end for end, _ in switched))), "")

    def _is_free(self, device: str, name: str) -> bool:
        """Whether nothing is plugged into a port, and it switches."""
        end = End(device, name)
        attachment = self._index.knowledge.devices.attachment_at(end)
        outside = {entry.at for entry in self._network.outside or ()}
        alone = attachment.switched and attachment.name == name and not attachment.written.off
        return alone and self._index.knowledge.links[end].peer is None and end not in outside

    def _next_name(self, device: str, like: str) -> str:
        """A name for a port that nothing is written of, after the manner of another."""
        taken = self._index.knowledge.ports[device]
        stem = re.sub(r"\d+$", "", like) if like else "p"
        numbers = [int(found[1]) for name in taken if (found := re.fullmatch(re.escape(stem) + r"(\d+)", name))]
        return next(name for number in count(max(numbers, default=0) + 1) if (name := f"{stem}{number}") not in taken)

    # Gateways

    def _gateways(self, part: Part) -> Iterator[Mend]:
        """A second gateway for each VLAN whose gateway breaks, all on one other device; nothing where they are shared
        already."""
        first = self._gateways_at(part)
        if not first:
            return
        others = [node for node in self._index.knowledge.devices.values() if node.name != first[0][0].name]
        others = [node for node in others if node.forwards and not node.off]
        others.sort(key=lambda node: node.kind != "l3switch")
        for node in islice(others, MOST_GATEWAYS):
            edits: list[Edit] = []
            vrid = self._free_vrid()
            for number, (owner, nic) in enumerate(first):
                made = self._second(owner, nic, node, vrid + number) if vrid + number in VRIDS else None
                if made is None:
                    break
                edits += made
            else:
                vlans = ", ".join(self._vlan(nic) for _, nic in first)
                yield Mend(f"{node.name} as a second gateway of {vlans}, sharing the address", tuple(edits))

    def _gateways_at(self, part: Part) -> list[tuple[Node, Nic]]:
        """The interfaces that break, or that nothing gets to by a cable that breaks, and that hosts send to; none of
        them shared."""
        named = {hop.address for host in self._network.hosts.values() for hop in host.gateway}
        found = [
            (node, nic)
            for node, nic in self._interfaces_of(part)
            if any(address.address in named for address in nic.addresses)
        ]
        elected = self._index.knowledge.elected
        shared = any(member.interface == nic.name for node, nic in found for member in elected.members(node.name))
        one = len({node.name for node, _ in found}) == 1
        return found if one and not shared and all(nic.vlan for _, nic in found) else []

    def _interfaces_of(self, part: Part) -> Iterator[tuple[Node, Nic]]:
        devices = self._index.knowledge.devices
        if part.kind == "device":
            yield from ((devices[part.name], nic) for nic in devices[part.name].nics.values())
        for end in part.name.split(" ~ ") if part.kind != "device" else ():
            name, _, inner = end.partition("/")
            node = devices[name]
            if part.kind == "interface":
                yield node, node.nics[inner]
            elif inner in node.attachments:
                yield from ((node, nic) for nic in node.nics_on(inner))

    def _second(self, owner: Node, nic: Nic, node: Node, vrid: int) -> list[Edit] | None:
        """The edits that make another device share an interface's addresses; None where it cannot be in the VLAN."""
        addresses = [address for address in nic.addresses if not is_link_local(address)]
        shared = _one_or_all({"vrid": str(vrid), "address": str(address.address)} for address in addresses)
        device = self._network.devices[node.name]
        free = [free_address(self._index, address.prefix) for address in addresses]
        place = self._place(device, nic)
        if place is None or None in free:
            return None
        there = next((own for own in node.nics.values() if own.vlan == nic.vlan), None)
        if there is not None:
            return None  # it is in the VLAN with addresses of its own: what is meant there only a person knows
        taken = {*device.interfaces, *device.ports}
        name = free_name(f"{self._vlan(nic)}-gw", taken) if nic.name in taken else nic.name
        value = {**place, "address": texts(free), "virtual": shared}
        path = ("devices", owner.name, "interfaces", nic.name, "virtual")
        return [Edit(path, shared), Edit(("devices", node.name, "interfaces", name), value)]

    def _place(self, device: Device, nic: Nic) -> dict[str, Any] | None:
        """Where on another device an interface in the same VLAN would be."""
        node = self._index.knowledge.devices[device.name]
        if device.kind == "l3switch":
            return {"vlan": self._vlan(nic)} if nic.vlan in node.vlans else None
        parents = (own.attachment for own in node.nics.values() if own.kind == "subinterface" and own.up)
        parent = next(parents, None)
        return {"parent": parent, "tag": self._vlan(nic)} if parent is not None else None

    def _vlan(self, nic: Nic) -> str:
        return self._index.vlan_key(nic.vlan or 0)

    def _free_vrid(self) -> int:
        taken = {member.written.vrid for member in self._index.knowledge.elected.every()}
        return max(taken, default=0) + 1


def _shared(entry: Mapping[str, Any]) -> dict[str, Any]:
    """What of a port's settings a port beside it must share."""
    return {key: value for key, value in entry.items() if key not in _ITS_OWN}


def _one_or_all(sections: Iterable[dict[str, str]]) -> Any:
    """One section by itself, several as a list."""
    listed = list(sections)
    return listed[0] if len(listed) == 1 else listed


def _words(value: Any) -> str:
    return ", ".join(map(str, value)) if isinstance(value, list) else str(value)
