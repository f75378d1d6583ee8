"""The rapid spanning tree on the clock (IEEE 802.1Q-2022, clause 13): what bridges say to each other when something has
changed, proposals and agreements, and what they forget."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import NamedTuple

from archipelago.knowledge.known import Knowledge
from archipelago.knowledge.links import time_across
from archipelago.knowledge.tree import BridgeId, Claim, Role, Wired, Wiring, path_cost
from archipelago.simulation.world import World

LEAST_FRAME = 64
"""The octets of the smallest frame, as which what bridges tell each other travels (IEEE 802.3 3.2.8)."""

SECOND = 10**9
MIGRATE_TIME = 3 * SECOND
"""A port that no bridge is heard at is taken for an edge after that long (IEEE 802.1Q 13.26, table 13-5)."""
AGEING = 6 * SECOND
"""What is no longer said is believed for three hellos of 2 s (IEEE 802.1Q 13.19, table 13-5)."""
HELLO_TIME = 2 * SECOND
HELLOS = 20
"""So often a bridge repeats what it claims after something has changed; in the steady state nothing comes of it."""
SETTLED = AGEING + HELLO_TIME
"""After that long without a change none is to come, but for ports that wait."""
FORWARD_DELAY = 30 * SECOND
"""A port that nobody has agreed to forwards after listening and learning (twice 15 s, IEEE 802.1Q table 13-5)."""
MOST_HOPS = 20
"""What has come further is not believed (Max Age, IEEE 802.1Q table 13-5)."""


class Said(NamedTuple):
    """A message between bridges (IEEE 802.1Q 14): a claim and how many bridges it has come by; whether it proposes to
    forward, agrees to that, and tells of a change by its number (0: none)."""

    claim: Claim
    hops: int
    proposes: bool = False
    agrees: bool = False
    change: int = 0


class TreePort:
    """A port of a bridge: its part in the tree, whether it forwards, and what it has heard."""

    __slots__ = ("agreed", "at", "cost", "edge", "forwards", "heard", "hears", "hops", "number", "role", "since")

    def __init__(self, number: int, cost: int, edge: bool) -> None:
        self.number = number
        self.cost = cost
        self.edge = edge
        self.role = Role.DESIGNATED
        self.forwards = False
        self.heard: Claim | None = None
        self.agreed: Claim | None = None
        """What was agreed to, as the root port."""
        self.hops = 0
        self.at = 0
        self.since = 0
        self.hears: tuple[tuple[str, str], ...] = ()
        """The ports of bridges that hear what it says."""


class TreeBridge:
    """A bridge: what it claims, and its ports."""

    __slots__ = ("cost", "hops", "id", "ports", "root", "root_port", "told")

    def __init__(self, own: BridgeId) -> None:
        self.id = own
        self.root = own
        self.cost = 0
        self.hops = 0
        self.root_port = ""
        self.ports: dict[str, TreePort] = {}
        self.told: set[int] = set()


class Bridges:
    """All bridges of a network in operation.

    Args:
        world: the clock.
        knowledge: the network in its steady state.
        changed: called with a device whose ports' states have changed.
        forget: called with a device and the port that it keeps the addresses behind (IEEE 802.1Q 13.16).
    """

    def __init__(
        self,
        world: World,
        knowledge: Knowledge,
        changed: Callable[[str, str, str], None],
        forget: Callable[[str, str], None],
    ) -> None:
        self._world = world
        self._tell = changed
        self._changed_at = -SETTLED
        self._forget = forget
        self._serial = 0
        self._speeds: dict[tuple[str, str], int] = {}
        self.bridges: dict[str, TreeBridge] = {}
        tree = knowledge.devices.tree
        for name, found in tree.bridges.items():
            bridge = self.bridges[name] = TreeBridge(found.id)
            bridge.root, bridge.cost, bridge.root_port = found.root, found.cost, found.root_port or ""
        self._rewire(knowledge)
        for name, found in tree.bridges.items():
            for port, own in self.bridges[name].ports.items():
                settled = found.ports.get(port)
                own.role = settled.role if settled is not None else Role.DESIGNATED
                own.heard = settled.heard if settled is not None else None
                own.forwards = own.role.forwards

    @property
    def blocked(self) -> Mapping[str, frozenset[str]]:
        """The ports that do not forward now, device by device."""
        silent = {
            name: frozenset(port for port, own in bridge.ports.items() if not own.forwards)
            for name, bridge in self.bridges.items()
        }
        return {name: ports for name, ports in silent.items() if ports}

    @property
    def at_rest(self) -> bool:
        """Whether every port that is to forward does, and nothing has changed for as long as it takes to believe no
        longer what is not repeated."""
        ports = (own for bridge in self.bridges.values() for own in bridge.ports.values())
        waiting = any(own.role.forwards and not own.forwards for own in ports)
        return not waiting and self._world.now - self._changed_at >= SETTLED

    def _changed(self, name: str, port: str, what: str) -> None:
        self._changed_at = self._world.now
        self._tell(name, port, what)

    def rewired(self, knowledge: Knowledge) -> None:
        """Links have lost or got carrier: both ends notice at once."""
        tree = knowledge.devices.tree
        before = {name: set(bridge.ports) for name, bridge in self.bridges.items()}
        for name, found in tree.bridges.items():
            if name not in self.bridges:
                self.bridges[name] = TreeBridge(found.id)
        for name in [name for name in self.bridges if name not in tree.bridges]:
            del self.bridges[name]
        self._rewire(knowledge)
        for name, bridge in self.bridges.items():
            lost = before.get(name, set()) - bridge.ports.keys()
            new = [port for port in bridge.ports if port not in before.get(name, ())]
            new.sort(key=lambda port: bridge.ports[port].number)
            for port in new:
                self._begin(name, port)
            if lost or new:
                self._settle(name)
            for port in new:
                self._say(name, port)
        for number in range(1, HELLOS + 1):
            self._world.after(number * HELLO_TIME, self._hello)
        for bridge in self.bridges.values():
            for own in bridge.ports.values():
                own.at = self._world.now

    def _hello(self, *_: object) -> None:
        """Every bridge says what it claims, and believes no longer what was not repeated (IEEE 802.1Q 13.19)."""
        for name, bridge in self.bridges.items():
            old = [own for own in bridge.ports.values() if own.heard and own.at <= self._world.now - AGEING]
            for own in old:
                own.heard = None
            if old:
                self._settle(name)
        for name, bridge in self.bridges.items():
            for port, own in bridge.ports.items():
                if own.role is Role.DESIGNATED and own.hears:
                    self._say(name, port)

    def _rewire(self, knowledge: Knowledge) -> None:
        """Which ports there are, and who hears whom."""
        devices = knowledge.devices
        wiring = Wiring(devices.network, devices.ports, devices.plugs, devices.links)
        for name, bridge in self.bridges.items():
            node = devices[name]
            there = {one.name: one for one in node.attachments.values() if one.switched and one.carrier}
            bridge.ports = {port: own for port, own in bridge.ports.items() if port in there}
            for port, attachment in there.items():
                wired = Wired(name, port)
                if port not in bridge.ports:
                    part = attachment.written
                    cost = path_cost(part, devices.ports[name])
                    bridge.ports[port] = TreePort(wiring.number(wired), cost, part.edge)
                own = bridge.ports[port]
                own.hears = tuple((far.device, far.name) for far in wiring.heard_from(wired) if far != wired)
                self._speeds[name, port] = devices.links[attachment.members[0]].speed

    def _begin(self, name: str, port: str) -> None:
        """A port has come up: an edge forwards at once, others when the far end agrees, or nobody is there."""
        own = self.bridges[name].ports[port]
        if own.edge:
            own.forwards = True
            self._changed(name, port, "forwards, as an edge port")
        else:
            self._world.after(MIGRATE_TIME, self._take_for_edge, (name, port))
            self._wait(name, port)

    def _take_for_edge(self, place: tuple[str, str], *_: object) -> None:
        own = self._port(*place)
        if own is not None and not own.forwards and own.role is Role.DESIGNATED and not own.hears:
            self._forward(*place)

    def _port(self, name: str, port: str) -> TreePort | None:
        bridge = self.bridges.get(name)
        return bridge.ports.get(port) if bridge is not None else None

    # What a bridge makes of what it knows

    def _settle(self, name: str) -> None:
        """Work the root and the part of each port out anew (IEEE 802.1Q 13.29, updtRolesTree), and tell."""
        bridge = self.bridges[name]
        best = (bridge.id, 0, bridge.id, 0, 0, "", 0)
        for port, own in bridge.ports.items():
            heard = own.heard
            if heard is not None and heard.bridge != bridge.id and own.hops < MOST_HOPS:
                way = (heard.root, heard.cost + own.cost, heard.bridge, heard.port, own.number, port, own.hops + 1)
                best = min(best, way)
        before = bridge.root, bridge.cost
        bridge.root, bridge.cost, _, _, _, bridge.root_port, bridge.hops = best
        roots: list[str] = []
        late: list[str] = []
        for port, own in sorted(bridge.ports.items(), key=lambda item: item[1].number):
            if port == bridge.root_port:
                own.role = Role.ROOT
                if not own.forwards:
                    roots.append(port)
                continue
            own.agreed = None
            if own.heard is not None and own.heard < self._claim(bridge, own) and own.hops < MOST_HOPS:
                own.role = Role.BACKUP if own.heard.bridge == bridge.id else Role.ALTERNATE
                if own.forwards:
                    self._stop(name, port, f"is blocked, as {own.role}")
            elif own.role is not Role.DESIGNATED:
                own.role = Role.DESIGNATED
                if not own.forwards:
                    self._wait(name, port)
                    late.append(port)
        for port in roots:  # once no other is: a new root port forwards at once
            self._forward(name, port)
        anew = (bridge.root, bridge.cost) != before
        for port, own in bridge.ports.items():
            if own.role is Role.DESIGNATED and (anew or port in late):
                self._say(name, port)

    def _stop(self, name: str, port: str, told: str) -> None:
        """A port forwards no longer."""
        self.bridges[name].ports[port].forwards = False
        self._changed(name, port, told)
        self._wait(name, port)

    def _wait(self, name: str, port: str) -> None:
        """A port that would serve its link waits for the far end to agree, or for the delay to pass."""
        own = self.bridges[name].ports[port]
        own.since = self._world.now
        self._world.after(FORWARD_DELAY, self._waited, (name, port, own.since))

    def _waited(self, what: tuple[str, str, int], *_: object) -> None:
        name, port, since = what
        own = self._port(name, port)
        if own is not None and own.role is Role.DESIGNATED and not own.forwards and own.since == since:
            self._forward(name, port)

    def _claim(self, bridge: TreeBridge, port: TreePort) -> Claim:
        return Claim(bridge.root, bridge.cost, bridge.id, port.number)

    def _forward(self, name: str, port: str) -> None:
        """A port forwards from now on: a change of the topology, unless it is an edge."""
        bridge = self.bridges[name]
        own = bridge.ports[port]
        own.forwards = True
        self._changed(name, port, f"forwards, as {own.role} port")
        if own.hears or own.heard is not None:
            self._serial += 1
            self._tell_change(name, port, self._serial)

    def _tell_change(self, name: str, port: str, change: int) -> None:
        """Forget what was learned behind other ports, and tell all others, each once."""
        bridge = self.bridges[name]
        if change in bridge.told:
            return
        bridge.told.add(change)
        self._forget(name, port)
        for other, own in bridge.ports.items():
            if own.forwards and own.hears:
                self._say(name, other, change=change)

    # What is said

    def _say(self, name: str, port: str, agrees: bool = False, change: int = 0) -> None:
        bridge = self.bridges[name]
        own = bridge.ports[port]
        proposes = own.role is Role.DESIGNATED and not own.forwards
        said = Said(self._claim(bridge, own), bridge.hops, proposes, agrees, change)
        for far in own.hears:
            delay = time_across(LEAST_FRAME, self._speeds[name, port])
            self._world.after(delay, self._hear, far, said)

    def _hear(self, place: tuple[str, str], said: Said, *_: object) -> None:
        name, port = place
        own = self._port(name, port)
        if own is None:
            return
        bridge = self.bridges[name]
        if said.change:
            self._tell_change(name, port, said.change)
        mine = self._claim(bridge, own)
        if said.agrees:
            if own.role is Role.DESIGNATED and not own.forwards and len(own.hears) == 1:
                self._forward(name, port)  # on a link of more than two, one does not speak for all
            return
        heard = own.heard
        again = heard is not None and (heard.bridge, heard.port) == (said.claim.bridge, said.claim.port)
        if (heard is None or said.claim < heard or again) and (said.claim < mine or again):
            own.heard, own.hops, own.at = said.claim, said.hops, self._world.now
            self._settle(name)
        if own.role is Role.DESIGNATED:
            if said.claim > self._claim(bridge, own) and not said.change:
                self._say(name, port)  # it does not know yet
            return
        if said.proposes and own.heard == said.claim:
            self._agree(name, port)

    def _agree(self, name: str, port: str) -> None:
        """Agree to a proposal once no other port could close a circle (IEEE 802.1Q 13.31, sync); to the same again as
        it is."""
        bridge = self.bridges[name]
        own = bridge.ports[port]
        if own.role is Role.ROOT and own.agreed != own.heard:
            own.agreed = own.heard
            for other, at in bridge.ports.items():
                if other != port and at.role is Role.DESIGNATED and at.forwards and at.hears:
                    self._stop(name, other, "waits until the far end agrees")
                    self._say(name, other)
        self._say(name, port, agrees=True)
