"""A network as the document that would describe it: what is written is what reads back equal."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from archipelago.files.network import FORMAT
from archipelago.model.network import (
    Aggregate,
    Device,
    Interface,
    Network,
    Port,
    Subinterface,
    VlanInterface,
    speed_text,
)


def document_of(network: Network) -> dict[str, Any]:
    """The network as the document's mappings, lists and texts, in the order it is written."""
    names = {number: name for name, number in network.vlans.items()}

    def vlan(number: int) -> str:
        return names.get(number, str(number))

    return _filled(
        format=FORMAT,
        title=network.title,
        vlans={name: str(number) for name, number in network.vlans.items()},
        devices={name: _device_document(device, vlan) for name, device in network.devices.items()},
        hosts={
            name: _filled(
                at=str(host.at),
                address=_values((*host.addresses, *(["auto"] if host.auto else []))),
                gateway=_values(host.gateway),
                off=host.off,
                unresolved=host.unresolved,
            )
            for name, host in network.hosts.items()
        },
        cables=[{"ends": str(cable), "off": "true"} if cable.off else str(cable) for cable in network.cables],
        expect=[
            {"from": one.source, "to": one.target, "reached": "yes" if one.reached else "no"} for one in network.expect
        ],
    )


def _device_document(device: Device, vlan: Any) -> dict[str, Any]:
    document = _filled(kind=device.kind, off=device.off, unresolved=device.unresolved)
    if device.routing is not None:
        document["routing"] = [f"ipv{version}" for version in device.routing]
    if device.vlans is not None:
        document["vlans"] = [vlan(number) for number in device.vlans]
    ports = {
        name: _filled(speed=speed_text(port.speed) if port.speed else None)
        | _switching_document(port, vlan)
        | _filled(address=_values(port.addresses), vrf=port.vrf, off=port.off)
        for name, port in device.ports.items()
    }
    interfaces = {name: _interface_document(interface, vlan) for name, interface in device.interfaces.items()}
    routes = [
        _filled(
            destination=str(route.destination),
            next_hop=str(route.next_hop),
            metric=str(route.metric) if route.metric != 1 else None,
            vrf=route.vrf,
        )
        for route in device.routes
    ]
    return document | _filled(ports=ports, interfaces=interfaces, routes=routes, gateway=_values(device.gateway))


def _interface_document(interface: Interface, vlan: Any) -> dict[str, Any]:
    own: dict[str, Any]
    if isinstance(interface, Subinterface):
        own = _filled(
            parent=interface.parent,
            tag=vlan(interface.tag) if interface.tag is not None else None,
            untagged=interface.untagged,
        )
    elif isinstance(interface, VlanInterface):
        own = {"vlan": vlan(interface.vlan)}
    elif isinstance(interface, Aggregate):
        own = {"members": list(interface.members)} | _switching_document(interface, vlan)
    else:
        own = {"loopback": "true"}
    return own | _filled(address=_values(interface.addresses), vrf=interface.vrf, off=interface.off)


def _switching_document(one: Port | Aggregate, vlan: Any) -> dict[str, Any]:
    document = _filled(access=vlan(one.access) if one.access is not None else None, routed=one.routed)
    if one.trunk is not None:
        document["trunk"] = "all" if one.trunk == "all" else [vlan(number) for number in one.trunk]
    if one.untagged is not None:
        document["untagged"] = "none" if one.untagged == "none" else vlan(one.untagged)
    return document


def _values(values: Iterable[Any]) -> Any:
    texts = [str(value) for value in values]
    return texts[0] if len(texts) == 1 else texts


def _filled(**entries: Any) -> dict[str, Any]:
    """The entries that say something, flags as text; `next_hop` stands for the key `next-hop`."""
    return {
        key.replace("_", "-"): "true" if value is True else value
        for key, value in entries.items()
        if value is not None and value is not False and value not in ("", [], {})
    }
