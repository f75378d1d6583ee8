"""Whom the ends of a policy stand for: addresses, and where they come in."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import cached_property

from archipelago.addressing.values import WIDTHS, InterfaceAddress, Prefix
from archipelago.design.entrances import Entrance
from archipelago.model.ends import ANYBODY, OUTSIDE, Kind, NamedEnd, find
from archipelago.model.network import Network, pools_in
from archipelago.model.parts import DEFAULT_VLAN, Aggregate, Host, Loopback, Port, Subinterface, VlanInterface
from archipelago.model.policy import Policy, PolicyRule


class Ends:
    """The ends of a network's policy, each found once.

    Args:
        network: the network.
        policy: who may begin what with whom.
        entrances: where each VLAN, and the outside, comes in.
    """

    def __init__(self, network: Network, policy: Policy, entrances: Sequence[Entrance]) -> None:
        self.network = network
        self.policy = policy
        self.subnets = _subnets(entrances)
        self.inside = tuple(prefix for who, own in self.subnets.items() if who != OUTSIDE for prefix in own)
        self._names = {DEFAULT_VLAN: str(DEFAULT_VLAN)} | {number: name for name, number in network.vlans.items()}
        self._ends: dict[str, NamedEnd | None] = {}
        self._known: dict[str, tuple[Prefix, ...]] = {}
        self._pools = list(pools_in(network))
        self.speaking = self._speakers()

    def end(self, word: str) -> NamedEnd | None:
        """What a word stands for."""
        if word not in self._ends:
            self._ends[word] = find(word, self.network)
        return self._ends[word]

    def prefixes(self, word: str) -> tuple[Prefix, ...]:
        """The subnets of a VLAN, the addresses of a host, a subnet or an address."""
        if word not in self._known:
            self._known[word] = self._prefixes(self.end(word))
        return self._known[word]

    def _prefixes(self, end: NamedEnd | None) -> tuple[Prefix, ...]:
        if end is None or end.kind in (Kind.OUTSIDE, Kind.ANYBODY, Kind.DEVICE, Kind.PART):
            return ()
        if end.kind is Kind.VLAN:
            return self.subnets.get(self._names[end.vlan], ())
        if end.kind is not Kind.HOST:
            return (end.block,)
        host = self.network.hosts[end.name]
        kept = [address for pool in self._pools for name, address in pool.reservations.items() if name == end.name]
        known = (*host.addresses, *(kept[:1] if host.dhcp and not _has_ipv4(host) else ()))
        return tuple(Prefix(a.version, a.value, WIDTHS[a.version]) for a in known)

    def homes(self, word: str) -> Iterator[tuple[str, Prefix]]:
        """Where the addresses of an end come in, and which of them."""
        end = self.end(word)
        if end is not None and end.kind in (Kind.VLAN, Kind.OUTSIDE):
            who = OUTSIDE if end.kind is Kind.OUTSIDE else self._names[end.vlan]
            yield from ((who, prefix) for prefix in self.subnets.get(who, ()))
            return
        for prefix in self.prefixes(word):
            for other, subnets in self.subnets.items():
                for subnet in subnets if other != OUTSIDE else ():
                    if prefix.covers(subnet):
                        yield other, subnet
                    elif subnet.covers(prefix):
                        yield other, prefix

    def heard(self, who: str) -> list[tuple[int, PolicyRule]]:
        """The lines that speak of something that comes in from somebody, in their order, with their numbers from 1."""
        own = {*self.speaking.get(who, ()), *self._of_anybody}
        return [(number, self.policy.rules[number - 1]) for number in sorted(own)]

    @cached_property
    def _of_anybody(self) -> list[int]:
        return [number for number, rule in self.numbered() if ANYBODY in rule.source]

    @cached_property
    def speaks_of_outside(self) -> bool:
        """Whether any line says what may be begun with the outside."""
        return any(OUTSIDE in rule.target for rule in self.policy.rules)

    def numbered(self) -> list[tuple[int, PolicyRule]]:
        """The lines of the policy with their numbers, from 1."""
        return list(enumerate(self.policy.rules, 1))

    def _speakers(self) -> dict[str, dict[int, tuple[Prefix, ...]]]:
        """For each entrance the lines that speak of what comes in there, and of whose packets: empty for all."""
        found: dict[str, dict[int, tuple[Prefix, ...]]] = {}
        for number, rule in self.numbered():
            parts: dict[str, list[Prefix]] = {}
            for end in rule.source:
                for who, prefix in self.homes(end):
                    parts.setdefault(who, []).append(prefix)
            for who, prefixes in parts.items():
                whole = set(self.subnets[who]) <= set(prefixes)
                found.setdefault(who, {})[number] = () if whole else tuple(dict.fromkeys(prefixes))
        return found

    # Devices

    @cached_property
    def every_device(self) -> Mapping[str, tuple[Prefix, ...]]:
        """The addresses of each device."""
        return {name: self._of_device(name) for name in self.network.devices}

    def managed_in(self, subnets: Sequence[Prefix]) -> Mapping[str, tuple[Prefix, ...]]:
        """The addresses in some subnets of each device that has any there."""
        found: dict[str, tuple[Prefix, ...]] = {}
        for subnet in subnets:
            for name, address in self._inside.get(subnet, ()):
                found[name] = (*found.get(name, ()), address)
        return found

    @cached_property
    def _inside(self) -> Mapping[Prefix, list[tuple[str, Prefix]]]:
        """The addresses of devices in each subnet of the policy's."""
        lengths: dict[tuple[int, int], set[int]] = {}
        for subnet in self.inside:
            shift = WIDTHS[subnet.version] - subnet.length
            lengths.setdefault((subnet.version, shift), set()).add(subnet.value >> shift)
        found: dict[Prefix, list[tuple[str, Prefix]]] = {}
        for name, addresses in self.every_device.items():
            for address in addresses:
                for (version, shift), values in lengths.items():
                    if version == address.version and address.value >> shift in values:
                        subnet = Prefix(version, address.value >> shift << shift, WIDTHS[version] - shift)
                        found.setdefault(subnet, []).append((name, address))
        return found

    def is_device(self, word: str) -> bool:
        """Whether an end is a device or one of its interfaces."""
        end = self.end(word)
        return end is not None and end.kind in (Kind.DEVICE, Kind.PART)

    def of_devices(self, ends: Iterable[str]) -> tuple[Prefix, ...]:
        """The addresses of devices, or of interfaces of them."""
        every = self.every_device
        return tuple(address for end in ends for address in every.get(end) or self._of_device(end))

    def _of_device(self, end: str) -> tuple[Prefix, ...]:
        name, _, interface = end.partition("/")
        device = self.network.devices[name]
        return tuple(
            Prefix(address.version, address.value, WIDTHS[address.version])
            for part in (*device.ports.values(), *device.interfaces.values())
            if not interface or part.name == interface
            for address in part.addresses
        )

    # Places

    def part(self, own: Entrance) -> Port | Subinterface | VlanInterface | Aggregate:
        """What an entrance is."""
        device = self.network.devices[own.at.device]
        part = device.interfaces.get(own.at.port) or device.ports[own.at.port]
        assert not isinstance(part, Loopback)
        return part

    def leading_to(self, subnets: Sequence[Prefix]) -> list[tuple[str, InterfaceAddress]]:
        """The addresses in some subnets that routing devices hold, with the device's name."""
        return [place for subnet in subnets for place in self._leading.get(subnet, ())]

    @cached_property
    def _leading(self) -> Mapping[Prefix, list[tuple[str, InterfaceAddress]]]:
        found: dict[Prefix, list[tuple[str, InterfaceAddress]]] = {}
        for device in self.network.devices.values():
            for part in (*device.ports.values(), *device.interfaces.values()) if device.kind != "switch" else ():
                for own in part.addresses:
                    found.setdefault(own.prefix, []).append((device.name, own))
        return found

    def serving(self, own: Entrance) -> list[Host]:
        """The hosts that lease addresses and come in at an entrance."""
        subnets = own.subnets if own.who != OUTSIDE else ()
        return [
            host
            for host in self.network.hosts.values()
            if host.dhcp_pools and any(subnet.holds(one) for subnet in subnets for one in host.addresses)
        ]


def _subnets(entrances: Sequence[Entrance]) -> Mapping[str, tuple[Prefix, ...]]:
    subnets: dict[str, tuple[Prefix, ...]] = {}
    for entrance in entrances:
        subnets[entrance.who] = tuple(dict.fromkeys((*subnets.get(entrance.who, ()), *entrance.subnets)))
    return subnets


def _has_ipv4(host: Host) -> bool:
    return any(address.version == 4 for address in host.addresses)
