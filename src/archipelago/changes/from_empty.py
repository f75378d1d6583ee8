"""What there is to do where there is nothing but empty devices."""

from __future__ import annotations

from collections.abc import ItemsView, Iterator, Mapping
from dataclasses import dataclass

from archipelago.answer import Answer
from archipelago.changes.entering import PERMANENT, entered
from archipelago.model.network import Network, with_changes
from archipelago.model.parts import Device


@dataclass(frozen=True, slots=True, repr=False)
class SettingUp(Answer):
    """What there is to enter at each device, in words and in order, each ending with making it permanent; what each
    host is set to; and the cables to plug in."""

    SHOWN = "change.SETTING_UP"

    devices: Mapping[str, tuple[str, ...]]
    hosts: Mapping[str, tuple[str, ...]]
    cables: tuple[str, ...]

    @property
    def headline(self) -> str:
        """How much there is to do."""
        count = sum(map(len, self.devices.values()))
        hosts, cables = len(self.hosts), len(self.cables)
        return (
            f"from empty devices: {count:,} thing{'s' * (count != 1)} to enter at {len(self.devices):,} "
            f"device{'s' * (len(self.devices) != 1)}, {hosts:,} host{'s' * (hosts != 1)}, "
            f"{cables:,} cable{'s' * (cables != 1)}"
        )

    def __getitem__(self, name: str) -> tuple[str, ...]:
        return self.devices[name] if name in self.devices else self.hosts[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self.devices)

    def __len__(self) -> int:
        return len(self.devices)

    def items(self) -> ItemsView[str, tuple[str, ...]]:
        """The devices, each with what to enter there."""
        return self.devices.items()


def from_empty(network: Network) -> SettingUp:
    """What to enter at each device, in the order of the network, and at each host, and the cables to plug in."""
    empty = with_changes(
        network,
        vlans={},
        devices={name: _empty(device) for name, device in network.devices.items()},
        hosts={},
        cables=(),
        expect=(),
        outside=None,
        policy=None,
        marks={},
    )
    told = entered(empty, network)
    devices = {name: (*lines, PERMANENT) for name, lines in told.devices.items()}
    return SettingUp(devices, told.hosts, told.cables)


def _empty(device: Device) -> Device:
    """A device as it is delivered: a switch that knows VLAN 1, a router that forwards."""
    routing = () if device.kind == "l3switch" else None
    return Device(device.name, device.kind, routing=routing, vlans=(), mac=device.mac)
