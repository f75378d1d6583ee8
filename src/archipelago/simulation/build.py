"""A simulation from what the devices know: wires joined, switches and stations set up, tables cold."""

from __future__ import annotations

from collections.abc import Callable

from archipelago.knowledge.devices import Knowledge, Node, host_node
from archipelago.knowledge.links import HOST_PORT
from archipelago.model.network import End
from archipelago.simulation.frames import Frame
from archipelago.simulation.station import Station
from archipelago.simulation.switch import Switch
from archipelago.simulation.world import Outlet, Wire, World


class Simulation:
    """One run from cold tables. `world` holds the clock and the record. A host that is `cold` has not heard its
    routers yet (the others have, long before)."""

    __slots__ = ("stations", "switches", "wires", "world")

    def __init__(self, knowledge: Knowledge, cold: str = "") -> None:
        self.world = World()
        self.wires: dict[tuple[str, str], Wire] = {}
        self.stations: dict[str, Station] = {}
        self.switches: dict[str, Switch] = {}
        for node in knowledge.nodes.values():
            self._wires_of(node)
        for node in knowledge.nodes.values():
            self._set_up(_before_hearing(knowledge, node) if node.name == cold else node)
        for node in knowledge.nodes.values():
            for attachment in node.attachments.values():
                self._join(knowledge, self.wires[node.name, attachment.name], attachment.members)

    def _wires_of(self, node: Node) -> None:
        for one in node.attachments.values():
            self.wires[node.name, one.name] = Wire(self.world, node.name, one.name, one.vlans, one.untagged)

    def _join(self, knowledge: Knowledge, wire: Wire, members: tuple[End, ...]) -> None:
        """An aggregate sends on its first live member and receives on any (IEEE 802.1AX)."""
        for end in members:
            link = knowledge.links[end]
            if link.carrier and link.peer is not None:
                far = knowledge.attachment_at(link.peer)
                wire.peer = self.wires[link.peer.device, far.name]
                wire.delay = link.delay
                return

    def _set_up(self, node: Node) -> None:
        station = self.stations[node.name] = Station(self.world, node)
        switch = None
        if node.kind in ("switch", "l3switch"):
            wires = [
                self.wires[node.name, one.name] for one in node.attachments.values() if one.switched and one.carrier
            ]
            switch = self.switches[node.name] = Switch(self.world, node.name, node.mac, wires)
            for wire in wires:
                wire.arrive = switch.arrive
        for nic in node.nics.values():
            if not nic.up:
                continue
            if nic.kind == "vlan" and nic.vlan is not None and switch is not None:
                interface = station.add(nic, None)
                interface.put = _through(switch, interface, nic.vlan)
                switch.own(nic.vlan, interface)
            elif nic.attachment is not None:
                wire = self.wires[node.name, nic.attachment]
                wire.arrive = station.arrive
                station.add(nic, _onto(wire, nic.tag) if nic.speaks else None)
            else:
                station.add(nic, None)


def _before_hearing(knowledge: Knowledge, node: Node) -> Node:
    """A host with what is written of it alone."""
    nic = node.nics[HOST_PORT]
    return host_node(knowledge.written.hosts[node.name], nic.down, nic.mac)


def _through(switch: Switch, interface: Outlet, vlan: int) -> Callable[[Frame], None]:
    return lambda frame: switch.originate(interface, vlan, frame)


def _onto(wire: Wire, tag: int | None) -> Callable[[Frame], None]:
    return lambda frame: wire.put(tag, frame)
