"""A simulation from what the devices know: tables cold, and each device set up when a frame first gets to it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from archipelago.knowledge.devices import Attachment, Node
from archipelago.knowledge.forwarding import ForwardingState
from archipelago.knowledge.hosts import host_node
from archipelago.knowledge.known import Knowledge
from archipelago.knowledge.links import HOST_PORT
from archipelago.knowledge.routes import routes_of
from archipelago.simulation.frames import Frame, Outlet
from archipelago.simulation.shared import SharedGateway
from archipelago.simulation.station import Station
from archipelago.simulation.switch import Switch
from archipelago.simulation.world import Wire, World, nowhere


class Simulation:
    """One run from cold tables. `world` holds the clock and the record. A host that is `cold` has not heard its
    routers yet (the others have, long before)."""

    __slots__ = ("_cold", "_first", "_knowledge", "_stations", "_switches", "_wires", "world")

    def __init__(self, knowledge: Knowledge, cold: str = "") -> None:
        self.world = World()
        self._knowledge = knowledge
        self._cold = cold
        self._first: dict[str, Node] = {}
        self._wires: dict[tuple[str, str], Wire] = {}
        self._stations: dict[str, Station] = {}
        self._switches: dict[str, Switch] = {}

    def station(self, name: str) -> Station:
        """The IP part of a device or host."""
        if name not in self._stations:
            self._set_up(name)
        return self._stations[name]

    def switch(self, name: str) -> Switch | None:
        """The switching part of a device; None where it has none."""
        self.station(name)
        return self._switches.get(name)

    def wire(self, name: str, attachment: str) -> Wire:
        """A port or aggregate of a device or host in operation."""
        self.station(name)
        return self._wires[name, attachment]

    def renew(self, knowledge: Knowledge) -> None:
        """Go on with other links, ports and interfaces, as far as they have changed; tables stay."""
        self._knowledge = knowledge
        for wire in self._wires.values():
            wire.plug(None)
        for name, station in self._stations.items():
            node = knowledge.nodes[name]
            switch = self._switches.get(name)
            for attachment in node.attachments.values():
                wire = self._wires[name, attachment.name]
                wire.plug(self._peer_of(attachment) if attachment.passes else None)
                if attachment.switched and switch is not None:
                    wire.arrive = switch.arrive if attachment.passes else nowhere
            if switch is not None:
                live = [one for one in node.attachments.values() if one.switched and one.passes]
                switch.renew([self._wires[name, one.name] for one in live])
            if node.kind == "host":  # it keeps what it has leased and heard
                nic = replace(self._first[name].nics[HOST_PORT], down=node.nics[HOST_PORT].down)
                node = replace(self._first[name], nics={HOST_PORT: nic})
                state = ForwardingState(node, routes_of(node, node.written))
            else:
                state = knowledge.state(name)
            self._bring_up(node, station, switch)
            station.renew(state)

    def hosts_anew(self, knowledge: Knowledge) -> None:
        """Let hosts have what they would lease and hear if they were switched on now."""
        self._first = {name: knowledge.nodes[name] for name in self._first}
        self.renew(knowledge)

    def _set_up(self, name: str) -> None:
        state = self._knowledge.state(name)
        if name == self._cold:
            state = _before_hearing(self._knowledge, state.node)
        node = state.node
        for attachment in node.attachments.values():
            place = (name, attachment.name)
            wire = Wire(self.world, place, attachment.vlans, attachment.untagged, self._peer_of(attachment))
            wire.mtu = attachment.mtu
            self._wires[place] = wire
        station = self._stations[name] = Station(self.world, state)
        self._first[name] = node
        switch = self._switching(node) if node.kind in ("switch", "l3switch") else None
        self._bring_up(node, station, switch)
        if any(interface.shared for interface in station.interfaces.values()):
            station.state = replace(state, answers=station.shared_holder)

    def _bring_up(self, node: Node, station: Station, switch: Switch | None) -> None:
        """Bring every interface into operation that is up and was not yet."""
        name = node.name
        elected = self._knowledge.elected
        shared: dict[str, list[SharedGateway]] = {}
        for member in elected.members(name):
            shared.setdefault(member.interface, []).append(SharedGateway(member, elected))
        for nic in node.nics.values():
            if not nic.up or nic.name in station.interfaces:
                continue
            own = shared.get(nic.name, ())
            if nic.kind == "vlan" and nic.vlan is not None and switch is not None:
                interface = station.add(nic, None, own)
                interface.put = interface.wired = _through(switch, interface, nic.vlan)
                switch.own(nic.vlan, interface)
            elif nic.attachment is not None:
                wire = self._wires[name, nic.attachment]
                wire.arrive = station.arrive
                station.add(nic, _onto(wire, nic.tag) if nic.speaks else None, own)
            else:
                station.add(nic, None, own)

    def _switching(self, node: Node) -> Switch:
        live = [attachment for attachment in node.attachments.values() if attachment.switched and attachment.passes]
        wires = [self._wires[node.name, member.name] for member in live]
        switch = self._switches[node.name] = Switch(self.world, node.name, node.mac, wires)
        for wire in wires:
            wire.arrive = switch.arrive
        return switch

    def _peer_of(self, attachment: Attachment) -> Callable[[Wire], tuple[Wire, int] | None]:
        """An aggregate sends on its first live member and receives on any (IEEE 802.1AX)."""

        def found(wire: Wire) -> tuple[Wire, int] | None:
            for end in attachment.members:
                link = self._knowledge.links[end]
                if link.carrier and link.peer is not None:
                    far = self._knowledge.attachment_at(link.peer)
                    return self.wire(link.peer.device, far.name), link.speed
            return None

        return found


def _before_hearing(knowledge: Knowledge, node: Node) -> ForwardingState:
    """A host with what is written of it alone."""
    nic = node.nics[HOST_PORT]
    host = knowledge.written.hosts[node.name]
    written = host_node(host, nic.down, nic.mac)
    return ForwardingState(written, routes_of(written, host))


def _through(switch: Switch, interface: Outlet, vlan: int) -> Callable[[Frame], None]:
    return lambda frame: switch.originate(interface, vlan, frame)


def _onto(wire: Wire, tag: int | None) -> Callable[[Frame], None]:
    return lambda frame: wire.put(tag, frame)
