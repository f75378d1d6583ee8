"""The parts of a network that can break."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal, NamedTuple

from archipelago.knowledge.known import Knowledge
from archipelago.knowledge.outside import ways_outside

Kind = Literal["device", "cable", "port", "interface"]


class Part(NamedTuple):
    """Something that can break: a device, a cable (which either of its ports takes with it), a port that leads outside,
    a routed interface; by the name that people give it."""

    name: str
    kind: Kind


def breakable(knowledge: Knowledge) -> list[Part]:
    """Every part that works and can break: all devices, then cables, then ports that lead outside, then routed
    interfaces that no cable or port stands for."""
    return [*whole_parts(knowledge), *_interfaces(knowledge)]


def whole_parts(knowledge: Knowledge) -> list[Part]:
    """What of these can be touched: devices, cables and ports that lead outside."""
    return [*_devices(knowledge), *_cables(knowledge), *_ports(knowledge)]


def _devices(knowledge: Knowledge) -> Iterator[Part]:
    yield from (Part(name, "device") for name, node in knowledge.devices.items() if not node.off)


def _cables(knowledge: Knowledge) -> Iterator[Part]:
    yield from (Part(str(cable), "cable") for cable in knowledge.written.cables if knowledge.links[cable.a].carrier)


def _ports(knowledge: Knowledge) -> Iterator[Part]:
    ports = dict.fromkeys(f"{node.name}/{nic.name}" for node, nic, _ in ways_outside(knowledge))
    yield from (Part(name, "port") for name in ports)


def _interfaces(knowledge: Knowledge) -> Iterator[Part]:
    for node in knowledge.devices.values():
        for nic in node.nics.values():
            if nic.kind in ("vlan", "subinterface", "aggregate") and nic.addresses and nic.up:
                yield Part(f"{node.name}/{nic.name}", "interface")
