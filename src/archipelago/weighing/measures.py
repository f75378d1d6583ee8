"""What a design is weighed by: where packets go, what links carry, what survives, what it takes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, NamedTuple

from archipelago.changes.plan import plan_change
from archipelago.failures.surviving import Surviving, surviving
from archipelago.files.write import document_of
from archipelago.knowledge.known import know
from archipelago.knowledge.links import time_across
from archipelago.knowledge.outside import widened
from archipelago.load.loading import ByPair, Loading
from archipelago.load.result import LinkLoad
from archipelago.model.network import Network
from archipelago.reachability.build import build_arrays
from archipelago.reachability.devices import device_pairs

LARGE = 1518
"""The octets of a large frame: what delay is told for."""


NOBODY = "no host is placed: nothing is carried, and no pair is broken"
"""What stands for loads and failures where a brief places no hosts."""


@dataclass(frozen=True, slots=True)
class Cost:
    """What a design takes: ports that something is plugged into, cables, addresses on devices, lines to configure (each
    setting of a device is one), layer 3 switches to be bought."""

    ports: int
    cables: int
    addresses: int
    lines: int
    bought: int = 0


@dataclass(frozen=True, slots=True)
class Steps:
    """What it takes to get there from the network of today: steps, and how many pairs are cut off at the most while
    they are made; `locked_out` where whoever makes them is, at some step."""

    steps: int
    cut: int
    locked_out: bool


class DevicesReached(NamedTuple):
    """How many of the ordered pairs with an address of a device at an end are reached."""

    reached: int
    pairs: int


@dataclass(frozen=True, slots=True)
class Measures:
    """The figures of one design: how many routers packets between VLANs pass, on average over pairs; how long a large
    frame is under way between them (nanoseconds, on the wire alone); the link that fills first and the share of it that
    is in use; what survives; what it costs; what getting there takes; what of devices' addresses is reached."""

    hops: float
    delay: float
    fullest: str
    share: float
    assumed: str
    surviving: Surviving
    cost: Cost
    steps: Steps | None
    devices: DevicesReached | None = None

    @property
    def survival(self) -> float:
        """The share of the pairs reached that survives any one failure."""
        return self.surviving.survive / self.surviving.reached if self.surviving.reached else 1.0


def measure(network: Network, bought: int, devices: bool = False) -> Measures:
    """Measure a design.

    Args:
        network: the designed network.
        bought: how many of its devices are only supposed to be layer 3 switches.
        devices: also count the pairs of devices' addresses.
    """
    cost = _cost(network, bought)
    if not network.hosts:
        return Measures(0.0, 0.0, "", 0.0, NOBODY, Surviving(0, 0, "", 0), cost=cost, steps=None)
    loading = Loading(network)
    load = loading.load()
    fullest = _fullest(load.links) or load.fullest
    hops, delay = _ways(loading.between_vlans())
    return Measures(
        hops=hops,
        delay=delay,
        fullest=fullest.name if fullest is not None else "",
        share=fullest.share if fullest is not None else 0.0,
        assumed=load.assumed,
        surviving=surviving(network),
        cost=cost,
        steps=None,
        devices=_devices(network) if devices else None,
    )


def _devices(network: Network) -> DevicesReached:
    found = device_pairs(build_arrays(widened(know(network))))
    return DevicesReached(found.reached, found.counted)


def _fullest(links: tuple[LinkLoad, ...]) -> LinkLoad | None:
    return links[0] if links and links[0].busiest else None


def _ways(carried: ByPair) -> tuple[float, float]:
    """Routers passed and time on the wire, on average over the pairs of hosts in different VLANs that reach each
    other."""
    if not carried.pairs:
        return 0.0, 0.0
    time = sum(rate * time_across(LARGE, speed) for rate, speed in carried.crossed)
    return carried.routed / carried.pairs, time / carried.pairs


def _cost(network: Network, bought: int) -> Cost:
    devices = network.devices.values()
    parts = [part for device in devices for part in (*device.ports.values(), *device.interfaces.values())]
    return Cost(
        ports=2 * len(network.cables) + len(network.hosts) + len(network.outside or ()),
        cables=len(network.cables),
        addresses=sum(len(part.addresses) for part in parts),
        lines=_lines(document_of(network).get("devices", {})),
        bought=bought,
    )


def _lines(value: Any) -> int:
    if isinstance(value, Mapping):
        return sum(map(_lines, value.values()))
    if isinstance(value, list) and any(isinstance(one, Mapping) for one in value):
        return len(value)
    return 1


def steps_from(today: Network, network: Network, host: str) -> Steps:
    """What it takes to get to a design from the network that runs.

    Args:
        today: the network that runs.
        network: the design.
        host: where the person sits who makes the changes.
    """
    change = plan_change(today, network, host)
    return Steps(len(change.steps), max((step.cut.pairs for step in change.steps), default=0), bool(change.locked_out))
