"""What there is to do where there is nothing but empty devices."""

from __future__ import annotations

from collections.abc import ItemsView, Iterator, Mapping
from dataclasses import dataclass

from archipelago.answer import Answer
from archipelago.changes.differences import PLAN, differences
from archipelago.model.network import Network, with_changes
from archipelago.model.parts import Device

CABLES = "cables"


@dataclass(frozen=True, slots=True, repr=False)
class SettingUp(Answer):
    """What there is to do at each device, in words, and last the cables to plug in."""

    SHOWN = "change.SETTING_UP"

    devices: Mapping[str, tuple[str, ...]]

    @property
    def headline(self) -> str:
        """How much there is to do."""
        count = sum(map(len, self.devices.values()))
        return f"from empty devices: {count:,} thing{'s' * (count != 1)} to do, device by device"

    def __getitem__(self, name: str) -> tuple[str, ...]:
        return self.devices[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self.devices)

    def __len__(self) -> int:
        return len(self.devices)

    def items(self) -> ItemsView[str, tuple[str, ...]]:
        """The devices, each with what to do there."""
        return self.devices.items()


def from_empty(network: Network) -> SettingUp:
    """What to do at each device, in the order of the network, and last the cables and hosts to plug in."""
    empty = with_changes(
        network,
        devices={name: _empty(device) for name, device in network.devices.items()},
        cables=(),
        expect=(),
        outside=None,
        policy=None,
        marks={},
    )
    lists: dict[str, list[str]] = {name: [] for name in network.devices}
    cables = []
    for difference in differences(empty, network):
        if difference.place == ("cables",) or difference.what.startswith("plug in"):
            cables.append(difference.what)
        elif difference.at != PLAN:
            lists[difference.at].append("\n       ".join([difference.what, *difference.lines]))
    cables += [f"plug host {host.name} into {host.at}" for host in network.hosts.values()]
    return SettingUp({**{name: tuple(said) for name, said in lists.items()}, CABLES: tuple(cables)})


def _empty(device: Device) -> Device:
    return Device(device.name, device.kind, routing=() if device.kind == "l3switch" else None, mac=device.mac)
