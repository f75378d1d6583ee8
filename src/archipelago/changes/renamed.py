"""Things that are called otherwise in another state of a network, recognised by what they are."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace

from archipelago.model.leases import Pool
from archipelago.model.network import Network, with_changes
from archipelago.model.parts import Aggregate, Cable, Device, End, Host, OutsidePort, Port
from archipelago.model.policy import PolicyRule

ALIKE = 0.6
"""From this share of common facts on two devices are one."""


@dataclass(frozen=True, slots=True)
class Renamed:
    """New names by old ones."""

    devices: Mapping[str, str] = field(default_factory=dict)
    hosts: Mapping[str, str] = field(default_factory=dict)
    vlans: Mapping[str, str] = field(default_factory=dict)

    def __bool__(self) -> bool:
        return bool(self.devices or self.hosts or self.vlans)

    def told(self) -> Iterator[tuple[str, str]]:
        """Each in words: what, and how it is called now."""
        for noun, names in (("VLAN", self.vlans), ("device", self.devices), ("host", self.hosts)):
            yield from ((f"{noun} {old}", f"is called {new} now") for old, new in names.items())

    def applied(self, network: Network) -> Network:
        """The network by the new names."""
        if not self:
            return network
        outside = network.outside
        return with_changes(
            network,
            vlans={self.vlans.get(name, name): number for name, number in network.vlans.items()},
            devices={self.devices.get(name, name): self._device(device) for name, device in network.devices.items()},
            hosts={self.hosts.get(name, name): self._host(host) for name, host in network.hosts.items()},
            cables=tuple(Cable(self._end(one.a), self._end(one.b), one.off) for one in network.cables),
            outside=tuple(OutsidePort(self._end(one.at), one.routes_back) for one in outside) if outside else outside,
            expect=tuple(
                replace(one, source=self._party(one.source), target=self._party(one.target)) for one in network.expect
            ),
            traffic=tuple(
                replace(one, source=self._party(one.source), target=self._party(one.target)) for one in network.traffic
            ),
            policy=replace(network.policy, rules=tuple(map(self._rule, network.policy.rules)))
            if network.policy
            else None,
            marks={},
        )

    def _device(self, device: Device) -> Device:
        interfaces = {
            name: replace(one, shared_with=self.devices.get(one.shared_with, one.shared_with))
            if isinstance(one, Aggregate) and one.shared_with
            else one
            for name, one in device.interfaces.items()
        }
        name = self.devices.get(device.name, device.name)
        return replace(device, name=name, interfaces=interfaces, dhcp_pools=self._pools(device))

    def _host(self, host: Host) -> Host:
        name = self.hosts.get(host.name, host.name)
        return replace(host, name=name, at=self._end(host.at), dhcp_pools=self._pools(host))

    def _pools(self, server: Device | Host) -> Mapping[str, Pool]:
        return {
            name: replace(
                pool, reservations={self.hosts.get(host, host): kept for host, kept in pool.reservations.items()}
            )
            for name, pool in server.dhcp_pools.items()
        }

    def _end(self, end: End) -> End:
        return End(self.devices.get(end.device, end.device), end.port)

    def _rule(self, rule: PolicyRule) -> PolicyRule:
        ends = (tuple(map(self._party, rule.source)), tuple(map(self._party, rule.target)))
        return replace(rule, source=ends[0], target=ends[1])

    def _party(self, end: str) -> str:
        name, slash, inside = end.partition("/")
        if slash and name in self.devices:
            return f"{self.devices[name]}/{inside}"
        for names in (self.vlans, self.hosts, self.devices):
            if end in names:
                return names[end]
        return end


def renamed(old: Network, new: Network) -> Renamed:
    """What is there in both and called otherwise: VLANs by their id, devices by what is set up on them and by who is
    plugged in there, hosts by address and port."""
    now = {number: name for name, number in new.vlans.items()}
    vlans = {
        name: now[number]
        for name, number in old.vlans.items()
        if number in now and now[number] != name and name not in new.vlans and now[number] not in old.vlans
    }
    devices = _devices(old, new)
    gone = [host for name, host in old.hosts.items() if name not in new.hosts]
    come = {(host.at, host.addresses, host.dhcp): name for name, host in new.hosts.items() if name not in old.hosts}
    hosts: dict[str, str] = {}
    for host in gone:
        at = End(devices.get(host.at.device, host.at.device), host.at.port)
        name = come.get((at, host.addresses, host.dhcp))
        if name is not None and name not in hosts.values():
            hosts[host.name] = name
    return Renamed(devices, hosts, vlans)


def _devices(old: Network, new: Network) -> dict[str, str]:
    gone = [device for name, device in old.devices.items() if name not in new.devices]
    come = [device for name, device in new.devices.items() if name not in old.devices]
    names: dict[str, str] = {}
    for device in gone:
        mine = set(_facts(old, device))
        ranked = sorted(((_share(mine, set(_facts(new, other))), other.name) for other in come), reverse=True)
        if ranked and ranked[0][0] >= ALIKE and ranked[0][1] not in names.values():
            names[device.name] = ranked[0][1]
    return names


def _share(one: set[object], other: set[object]) -> float:
    return len(one & other) / max(len(one | other), 1)


def _facts(network: Network, device: Device) -> Iterator[object]:
    """What a device is known by, whatever it is called."""
    yield "kind", device.kind
    yield "routing", device.routing
    parts: Iterable[Port | object] = (*device.ports.values(), *device.interfaces.values())
    for part in parts:
        yield part if not isinstance(part, Port) else ("port", replace(part, speed=None))
    yield from device.routes
    for cable in network.cables:
        for near, far in (cable.ends, cable.ends[::-1]):
            if near.device == device.name:
                yield "cable", near.port, far
    yield from (("host", host.at.port, host.name) for host in network.hosts.values() if host.at.device == device.name)
