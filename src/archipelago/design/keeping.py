"""What a network in use has that a design says nothing of: it stays, in the order in which it stands there."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import fields, replace
from typing import Any, TypeVar

from archipelago.model.network import Network, with_changes
from archipelago.model.parts import Aggregate, Device, Host, Interface, Port
from archipelago.model.projection import Projection

DECIDED = Projection(
    Device="name kind routing vlans ports interfaces routes gateway filters dhcp_pools",
    Port="name access trunk untagged addresses routed filter_in filter_out source_nat dhcp_relay virtual off",
    Subinterface="name parent tag untagged addresses filter_in filter_out source_nat dhcp_relay virtual off",
    VlanInterface="name vlan addresses filter_in filter_out dhcp_relay virtual off",
    Aggregate="name members off access trunk untagged addresses routed "
    "filter_in filter_out source_nat dhcp_relay virtual",
    Loopback="name addresses off",
    Host="name at addresses gateway auto dhcp dhcp_pools",
)
"""What a design decides; everything else of a part stays as it is, where the design has no word on it."""
Part = TypeVar("Part", bound=Device | Host | Port | Interface)
Entry = TypeVar("Entry")


def with_kept(network: Network, old: Network) -> Network:
    """A designed network with what an old one has beside: settings of the parts that both have, and their order, which
    leases, MAC addresses and the spanning tree go by."""
    devices = {
        name: _device(device, old.devices[name]) if name in old.devices else device
        for name, device in network.devices.items()
    }
    hosts = {
        name: _beside(host, old.hosts[name]) if name in old.hosts else host for name, host in network.hosts.items()
    }
    return with_changes(network, devices=_in_order(devices, old.devices), hosts=_in_order(hosts, old.hosts))


def _device(device: Device, old: Device) -> Device:
    members = {name for one in device.interfaces.values() if isinstance(one, Aggregate) for name in one.members}
    ports = {name: port if name in members else _part(port, old.ports.get(name)) for name, port in device.ports.items()}
    interfaces = {name: _part(one, old.interfaces.get(name)) for name, one in device.interfaces.items()}
    return _beside(replace(device, ports=ports, interfaces=interfaces), old)


def _part(part: Any, old: Any) -> Any:
    """A part beside what it was; as it is where it is used otherwise now."""
    same = type(part) is type(old) and _is_routed(part) == _is_routed(old)
    return _beside(part, old) if same else part


def _is_routed(part: Any) -> bool:
    return bool(part.addresses) or getattr(part, "routed", False)


def _beside(part: Part, old: Part) -> Part:
    """A part with all that is not decided as the old one has it."""
    decided = DECIDED.kinds[type(part).__name__]
    open_ = [spec for spec in fields(part) if spec.name not in decided and getattr(part, spec.name) == spec.default]
    return replace(part, **{spec.name: getattr(old, spec.name) for spec in open_})


def _in_order(entries: Mapping[str, Entry], old: Mapping[str, object]) -> dict[str, Entry]:
    """What is filed by name, what was there before first, as it stood there."""
    names = [*(name for name in old if name in entries), *(name for name in entries if name not in old)]
    return {name: entries[name] for name in names}
