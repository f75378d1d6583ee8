"""A VLAN-aware bridge (IEEE 802.1Q clause 8): accept, learn, pass on or flood."""

from __future__ import annotations

from archipelago.knowledge.reasons import Reason
from archipelago.simulation.events import FrameDropped, FrameSwitched, StormStarted
from archipelago.simulation.frames import Frame, Outlet
from archipelago.simulation.world import Storm, Wire, World


class Switch:
    """The switching part of one device. `mac` is the station address that its VLAN interfaces share."""

    __slots__ = ("_flooded", "_outlets", "_world", "mac", "name", "tables")

    def __init__(self, world: World, name: str, mac: int, wires: list[Wire]) -> None:
        self._world = world
        self.name = name
        self.mac = mac
        self._outlets: dict[int, list[Outlet]] = {}
        self._flooded: set[tuple[int, int, Wire]] = set()
        for wire in wires:
            for vlan in wire.vlans:
                self._outlets.setdefault(vlan, []).append(wire)
        self.tables: dict[int, dict[int, Outlet]] = {vlan: {} for vlan in self._outlets}

    def renew(self, wires: list[Wire]) -> None:
        """Other ports forward than before: what was learned behind those that do no longer is forgotten."""
        own = {vlan: [one for one in outlets if not isinstance(one, Wire)] for vlan, outlets in self._outlets.items()}
        self._outlets = {vlan: own.get(vlan, []) for vlan in (*self.tables, *own)}
        for wire in wires:
            for vlan in wire.vlans:
                self._outlets.setdefault(vlan, []).append(wire)
        for vlan, table in self.tables.items():
            there = self._outlets.get(vlan, [])
            self.tables[vlan] = {mac: outlet for mac, outlet in table.items() if outlet in there}
        for vlan in self._outlets:
            self.tables.setdefault(vlan, {})

    def forget(self, kept: str) -> None:
        """A change of the topology: forget what was learned, but behind one port (IEEE 802.1Q 13.16)."""
        for vlan, table in self.tables.items():
            self.tables[vlan] = {
                mac: outlet for mac, outlet in table.items() if not isinstance(outlet, Wire) or outlet.name == kept
            }

    def own(self, vlan: int, interface: Outlet) -> None:
        """Give the device its own interface in a VLAN."""
        self._outlets.setdefault(vlan, []).append(interface)
        self.tables.setdefault(vlan, {})[self.mac] = interface

    def arrive(self, wire: Wire, tag: int | None, frame: Frame) -> None:
        """A frame came in by a wire: find its VLAN (6.9), drop it where the wire does not carry that (8.6.2), learn
        its source (8.7), pass it on (8.6)."""
        vlan = wire.untagged if tag is None else tag
        world = self._world
        if vlan is None or vlan not in wire.vlans:
            world.record((FrameDropped, world.now, self.name, wire.name, tag, frame, Reason.TAG_NOT_ACCEPTED))
            return
        table = self.tables[vlan]
        if frame[0] != self.mac:
            table[frame[0]] = wire
        out = table.get(frame[1])
        if out is None:
            self._flood(wire, tag, vlan, frame)
        elif out is not wire:
            world.record((FrameSwitched, world.now, self.name, wire.name, tag, frame, vlan, (out,)))
            out.transmit(vlan, frame)
        else:
            world.record((FrameDropped, world.now, self.name, wire.name, tag, frame, Reason.SAME_PORT))

    def originate(self, interface: Outlet, vlan: int, frame: Frame) -> None:
        """Send a frame of the device's own interface in a VLAN; by a shared MAC address it speaks itself now."""
        if frame.source != self.mac:
            self.tables[vlan][frame.source] = interface
        out = self.tables[vlan].get(frame.target)
        outs = (out,) if out is not None else tuple(outlet for outlet in self._outlets[vlan] if outlet is not interface)
        for outlet in outs:
            if outlet is not interface:
                outlet.transmit(vlan, frame)

    def _flood(self, wire: Wire, tag: int | None, vlan: int, frame: Frame) -> None:
        world = self._world
        mark = (frame.serial, vlan, wire)
        if mark in self._flooded:
            # The same frame by the same wire for the second time: nothing here will ever stop it.
            world.record((StormStarted, world.now, self.name, wire.name, vlan, frame))
            world.break_off(Storm(self.name, wire.name, vlan))
            return
        self._flooded.add(mark)
        outs = tuple(outlet for outlet in self._outlets[vlan] if outlet is not wire)
        world.record((FrameSwitched, world.now, self.name, wire.name, tag, frame, vlan, outs))
        for out in outs:
            out.transmit(vlan, frame)
