"""Values that no key of a document could hold, in networks and briefs built in Python; a reader converts its own."""

from __future__ import annotations

from typing import TYPE_CHECKING

from archipelago.errors import ModelProblem
from archipelago.model.device_rules import HOLDERS
from archipelago.model.key import Holder
from archipelago.model.keys import keys_of
from archipelago.model.parts import Path
from archipelago.model.problems import Problems
from archipelago.model.values import fits

if TYPE_CHECKING:
    from archipelago.model.brief import Brief
    from archipelago.model.network import Network


def network_values(network: Network) -> Problems:
    """Every value of a network that its key may not have."""
    for name, device in network.devices.items():
        path: Path = ("devices", name)
        yield from _wrong_values(Holder.DEVICE, device, path)
        for label, port in device.ports.items():
            yield from _wrong_values(Holder.PORT, port, (*path, "ports", label))
        for label, interface in device.interfaces.items():
            yield from _wrong_values(HOLDERS[type(interface)], interface, (*path, "interfaces", label))
        for number, route in enumerate(device.routes):
            yield from _wrong_values(Holder.ROUTE, route, (*path, "routes", number))
    for name, host in network.hosts.items():
        yield from _wrong_values(Holder.HOST, host, ("hosts", name))
    for number, cable in enumerate(network.cables):
        yield from _wrong_values(Holder.CABLE, cable, ("cables", number))
    for number, demand in enumerate(network.traffic):
        yield from _wrong_values(Holder.DEMAND, demand, ("traffic", number))


def brief_values(brief: Brief) -> Problems:
    """Every value of a brief that its key may not have."""
    yield from _wrong_values(Holder.BRIEF, brief, ())
    yield from _wrong_values(Holder.CONVENTIONS, brief.conventions, ("conventions",))
    for name, vlan in brief.vlans.items():
        yield from _wrong_values(Holder.VLAN_NEED, vlan, ("vlans", name))
    for name, device in brief.devices.items():
        yield from _wrong_values(Holder.DEVICE_NEED, device, ("devices", name))
    for number, gateway in enumerate(brief.gateways):
        yield from _wrong_values(Holder.GATEWAY, gateway, gateway.path or ("gateways", number))
    for name, host in brief.hosts.items():
        yield from _wrong_values(Holder.HOST_NEED, host, ("hosts", name))
    for number, demand in enumerate(brief.traffic):
        yield from _wrong_values(Holder.DEMAND, demand, ("traffic", number))
    if brief.outside is not None:
        yield from _wrong_values(Holder.OUTSIDE, brief.outside, ("outside",))


def _wrong_values(holder: Holder, thing: object, path: Path) -> Problems:
    for key in keys_of(holder):
        if hasattr(thing, key.attribute):
            value = getattr(thing, key.attribute)
            if not fits(key, value):
                what = f"{'a list of ' if key.many else 'a '}{key.value}"
                yield ModelProblem((*path, key.name), f"{value!r} is not {what}")
