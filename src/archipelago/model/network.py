"""A network: what every device holds, mistakes included. Nothing here is derived; what is not written is not there."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, fields
from typing import Any

from archipelago.answer import Parts, name_parts
from archipelago.errors import ModelError
from archipelago.model.demand import Demand
from archipelago.model.expectation import Expectation
from archipelago.model.leases import Pool
from archipelago.model.parts import DEFAULT_VLAN, Cable, Device, Host, Loopback, Mark, OutsidePort, Path
from archipelago.model.policy import Policy
from archipelago.model.rules import network_problems
from archipelago.model.value_rules import network_values


@dataclass(frozen=True, slots=True)
class Network:
    """Every device, host and cable. `vlans` is the catalogue, name to VLAN id; `expect` what must hold; `traffic` how
    much hosts send each other; `outside` the ports that lead outside (None: not written, so any that a route leads
    through); `policy` who may talk to whom; `domain` the domain that names are in;
    `suspended` the ids of VLANs that exist and that no switch carries.
    `source` and `marks` say where it was read from and where each thing stands there; they do not count when two
    networks are compared.

    Raises:
        ModelError: it is one that no document could describe, with everything that is wrong.
    """

    title: str = ""
    vlans: Mapping[str, int] = field(default_factory=Parts)
    devices: Mapping[str, Device] = field(default_factory=Parts)
    hosts: Mapping[str, Host] = field(default_factory=Parts)
    cables: tuple[Cable, ...] = ()
    expect: tuple[Expectation, ...] = ()
    traffic: tuple[Demand, ...] = ()
    outside: tuple[OutsidePort, ...] | None = None
    policy: Policy | None = None
    domain: str = ""
    suspended: tuple[int, ...] = ()
    source: str = field(default="", compare=False)
    marks: Mapping[Path, Mark] = field(default_factory=dict, compare=False, repr=False)

    def __post_init__(self) -> None:
        problems = [*network_values(self), *network_problems(self)]
        if problems:
            raise ModelError(problems)
        name_parts(self)

    def __repr__(self) -> str:
        counts = ((len(self.devices), "device"), (len(self.vlans), "VLAN"), (len(self.hosts), "host"))
        told = ", ".join(f"{count:,} {noun}{'s' * (count != 1)}" for count, noun in counts)
        return f"<Network {self.title!r}: {told}, {len(self.cables):,} cables>"

    def vlan_called(self, word: str) -> int | None:
        """The id of the VLAN of that name or id: one of the catalogue, or VLAN 1; None where there is none such."""
        number = self.vlans.get(word) or (int(word) if word.isascii() and word.isdigit() else 0)
        return number if number == DEFAULT_VLAN or number in self.vlans.values() else None

    def line(self, path: Path) -> int:
        """The line of the file where the thing at `path`, or the nearest thing around it, stands; 0 if unknown."""
        for length in range(len(path), 0, -1):
            mark = self.marks.get(path[:length])
            if mark is not None:
                return mark.key_line
        return 0


def written_sizes(network: Network) -> Iterator[int]:
    """Every packet size (`mtu`) that is written in a network, in octets."""
    for device in network.devices.values():
        for part in (*device.ports.values(), *device.interfaces.values()):
            if not isinstance(part, Loopback) and part.mtu is not None:
                yield part.mtu
    yield from (host.mtu for host in network.hosts.values() if host.mtu is not None)


def unchecked(**values: Any) -> Network:
    """A network whose parts are known to be right, or whose problems are told elsewhere: nothing is checked."""
    network = object.__new__(Network)
    for spec in fields(Network):
        given = values.get(spec.name)
        default = spec.default_factory() if callable(spec.default_factory) else spec.default
        object.__setattr__(network, spec.name, default if given is None else given)
    name_parts(network)
    return network


def with_changes(network: Network, **changes: Any) -> Network:
    """The network with some of its fields otherwise, where what takes their place is known to be right."""
    return unchecked(**{spec.name: getattr(network, spec.name) for spec in fields(Network)} | changes)


def pools_in(network: Network) -> Iterator[Pool]:
    """Every pool of a network, those of devices first."""
    for device in network.devices.values():
        yield from device.dhcp_pools.values()
    for host in network.hosts.values():
        yield from host.dhcp_pools.values()
