"""Filters that carry out a policy: one where each VLAN, and the outside, comes in at its gateway."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from archipelago.addressing.values import WIDTHS, Prefix, parse_prefix
from archipelago.errors import AddressError
from archipelago.model.covering import takes_all
from archipelago.model.expectation import OUTSIDE
from archipelago.model.filters import FIRST_OWN_PORT, LAST_PORT, Filter, FilterRule, Ports, Traffic
from archipelago.model.network import Network, with_changes
from archipelago.model.parts import Device, End, Loopback
from archipelago.model.policy import ANYBODY, Policy, PolicyRule

HIGH_PORTS = Ports(FIRST_OWN_PORT, LAST_PORT)
"""The ports that conversations begin from, so those that answers go to (RFC 6335 6)."""
EVERYTHING = (Traffic("any"),)


@dataclass(frozen=True, slots=True)
class Entrance:
    """Where somebody's packets come in first: whose, at which interface of which device, and their subnets."""

    who: str
    at: End
    subnets: tuple[Prefix, ...]


def carry_out(network: Network, policy: Policy, entrances: Sequence[Entrance]) -> tuple[Network, list[tuple[End, str]]]:
    """The network with a filter at each entrance that needs one.

    Args:
        network: the network.
        policy: who may begin what with whom.
        entrances: where each VLAN, and the outside, comes in.

    Returns:
        The network, and for each filter where it is and what it is for.
    """
    devices = dict(network.devices)
    told: list[tuple[End, str]] = []
    subnets = {entrance.who: entrance.subnets for entrance in entrances}
    carrying = _Carrying(network, policy, subnets)
    for entrance in entrances:
        device = devices[entrance.at.device]
        made = carrying.filter(entrance, device.kind == "router")
        if made is not None:
            devices[device.name] = _placed(device, entrance.at.port, made)
            told.append((entrance.at, entrance.who))
    return with_changes(network, devices=devices, policy=policy), told


def _placed(device: Device, interface: str, filter_: Filter) -> Device:
    """The device with a filter that sees what comes in by an interface."""
    ports, interfaces = dict(device.ports), dict(device.interfaces)
    if interface in interfaces:
        part = interfaces[interface]
        assert not isinstance(part, Loopback)
        interfaces[interface] = replace(part, filter_in=filter_.name)
    else:
        ports[interface] = replace(ports[interface], filter_in=filter_.name)
    return replace(device, ports=ports, interfaces=interfaces, filters={**device.filters, filter_.name: filter_})


class _Ends:
    """Whom the ends of a policy stand for, each found once."""

    def __init__(self, network: Network, subnets: Mapping[str, tuple[Prefix, ...]]) -> None:
        self._network = network
        self._subnets = subnets
        self._names = {str(number): name for name, number in network.vlans.items()}
        self._known: dict[str, tuple[Prefix, ...]] = {}

    def prefixes(self, end: str) -> tuple[Prefix, ...]:
        """The subnets of a VLAN, the addresses of a host, a subnet or an address."""
        if end not in self._known:
            self._known[end] = self._find(end)
        return self._known[end]

    def _find(self, end: str) -> tuple[Prefix, ...]:
        name = self._names.get(end, end)
        if name in self._subnets:
            return self._subnets[name]
        host = self._network.hosts.get(end)
        if host is not None:
            return tuple(Prefix(a.version, a.value, WIDTHS[a.version]) for a in host.addresses)
        try:
            return (parse_prefix(end if "/" in end else f"{end}/{128 if ':' in end else 32}"),)
        except AddressError:
            return ()


class _Carrying:
    """Works out the filter of one entrance."""

    def __init__(self, network: Network, policy: Policy, subnets: Mapping[str, tuple[Prefix, ...]]) -> None:
        self.network = network
        self.policy = policy
        self.ends = _Ends(network, subnets)
        self.subnets = subnets
        self.own = Entrance("", End("", ""), ())
        self.versions: set[int] = set()
        self.inside = tuple(prefix for who, own in subnets.items() if who != OUTSIDE for prefix in own)

    def filter(self, own: Entrance, stateful: bool) -> Filter | None:
        """The filter of an entrance; None where nothing that comes in there is ever ended."""
        self.own, self.versions = own, {prefix.version for prefix in own.subnets}
        lines = _needed([*self._devices(), *self._places()])
        ends = self.policy.otherwise == "none"
        while lines and lines[-1].action == ("reject" if ends else "accept"):
            lines.pop()  # what comes after it is the same
        if not ends and not any(line.reject for line in lines):
            return None
        answers = [] if stateful else list(self._answers())
        name = f"{self.own.who}-in"
        return Filter(name, "reject" if ends else "accept", (*answers, *lines), stateful)

    # Where packets go

    def _devices(self) -> Iterator[FilterRule]:
        """Devices' own addresses: those of devices that a line names are for whom it names, the others for all."""
        named: dict[str, None] = {}
        for rule in self.policy.rules:
            devices = [end for end in rule.target if self._is_device(end)]
            named.update(dict.fromkeys(end.partition("/")[0] for end in devices))
            addresses = tuple(address for end in devices for address in self._of_device(end))
            yield from self._line(rule, addresses) if devices else ()
        yield from self._refusal(tuple(address for name in named for address in self._of_device(name)))
        others = tuple(a for name in self.network.devices if name not in named for a in self._of_device(name))
        others = self._of_own_families(others)
        if others:
            yield FilterRule(accept=EVERYTHING, destination=others)

    def _places(self) -> Iterator[FilterRule]:
        """Hosts, then the outside: where lines speak of it, what is inside is decided before."""
        beyond = [rule for rule in self.policy.rules if OUTSIDE in rule.target and self.own.who != OUTSIDE]
        inside = self._of_own_families(self.inside)
        for rule in self.policy.rules:
            if self._sources(rule) is None:
                continue
            if ANYBODY in rule.target:
                yield from self._line(rule, inside if beyond else None)
                continue
            targets = tuple(
                prefix
                for end in rule.target
                if end != OUTSIDE and not self._is_device(end)
                for prefix in self.ends.prefixes(end)
            )
            yield from self._line(rule, targets) if targets else ()
        if beyond:
            if self.policy.otherwise == "none":
                yield from self._refusal(inside)
            elif inside:
                yield FilterRule(accept=EVERYTHING, destination=inside)
            for rule in self.policy.rules:
                if OUTSIDE in rule.target or ANYBODY in rule.target:
                    yield from self._line(rule, None)

    def _refusal(self, destination: tuple[Prefix, ...]) -> Iterator[FilterRule]:
        there = self._of_own_families(destination)
        if there:
            yield FilterRule(reject=EVERYTHING, destination=there)

    def _line(self, rule: PolicyRule, destination: tuple[Prefix, ...] | None) -> Iterator[FilterRule]:
        """What a line of the policy says of packets that come in here; nothing where it does not speak of them."""
        source = self._sources(rule)
        if source is None:
            return
        there = self._of_own_families(destination or ())
        if destination is not None and not there:
            return
        if source and there:
            both = {prefix.version for prefix in source} & {prefix.version for prefix in there}
            source, there = (tuple(p for p in prefixes if p.version in both) for prefixes in (source, there))
            if not both:
                return
        action = {"accept": rule.may} if rule.may else {"reject": rule.may_not}
        yield FilterRule(**action, source=source, destination=there)  # type: ignore[arg-type]

    def _of_own_families(self, prefixes: Iterable[Prefix]) -> tuple[Prefix, ...]:
        return tuple(dict.fromkeys(prefix for prefix in prefixes if prefix.version in self.versions))

    # Where packets come from

    def _sources(self, rule: PolicyRule) -> tuple[Prefix, ...] | None:
        """Whose packets a line speaks of here: empty for all that come in, None where of none."""
        if ANYBODY in rule.source or self.own.who in rule.source:
            return ()
        parts: list[Prefix] = []
        for end in rule.source if self.own.who != OUTSIDE else ():
            for prefix in self.ends.prefixes(end):
                for subnet in self.own.subnets:
                    if prefix.covers(subnet):
                        parts.append(subnet)
                    elif subnet.covers(prefix):
                        parts.append(prefix)
        whole = set(self.own.subnets) <= set(parts)
        return () if whole else tuple(dict.fromkeys(parts)) or None

    # Who ends are

    def _is_device(self, end: str) -> bool:
        return end.partition("/")[0] in self.network.devices and end not in self.subnets

    def _of_device(self, end: str) -> tuple[Prefix, ...]:
        """The addresses of a device, or of one of its interfaces."""
        name, _, interface = end.partition("/")
        device = self.network.devices[name]
        return tuple(
            Prefix(address.version, address.value, WIDTHS[address.version])
            for part in (*device.ports.values(), *device.interfaces.values())
            if not interface or part.name == interface
            for address in part.addresses
        )

    # Answers, where no table of conversations lets them pass

    def _answers(self) -> Iterator[FilterRule]:
        """Lines for the answers to what others may begin with whoever comes in here, as narrow as lines can be."""
        kinds = [kind for rule in self.policy.rules if rule.may and self._is_target(rule) for kind in rule.may]
        if self.policy.otherwise == "any":
            kinds = [*kinds, *EVERYTHING]
        whole = {kind.protocol for kind in kinds if kind.ports is None}
        if whole & {"any", "icmp"}:
            yield FilterRule(accept=(Traffic("icmp"),), icmp_type="reply")
        for protocol in ("tcp", "udp"):
            ports = tuple(dict.fromkeys(kind.ports for kind in kinds if kind.protocol == protocol and kind.ports))
            if whole & {"any", protocol}:
                ports = ()
            elif not ports:
                continue
            line = FilterRule(accept=(Traffic(protocol),), source_port=ports)
            yield replace(line, answering=True) if protocol == "tcp" else replace(line, destination_port=(HIGH_PORTS,))

    def _is_target(self, rule: PolicyRule) -> bool:
        """Whether a line lets others begin with anybody who comes in here."""
        if ANYBODY in rule.target or self.own.who in rule.target:
            return True
        prefixes = [prefix for end in rule.target for prefix in self.ends.prefixes(end)]
        return any(subnet.covers(prefix) or prefix.covers(subnet) for subnet in self.own.subnets for prefix in prefixes)


def _needed(lines: Iterable[FilterRule]) -> list[FilterRule]:
    """Lines without those that an earlier one leaves nothing to."""
    kept: list[FilterRule] = []
    for line in lines:
        if not any(takes_all(earlier, line) for earlier in kept):
            kept.append(line)
    return kept


def entrances_of(
    network: Network, gateways: Mapping[str, Sequence[tuple[Prefix, object]]], outside: End | None
) -> list[Entrance]:
    """Where each VLAN comes in: at the interface that holds its gateway's address; and the outside, at its port.

    Args:
        network: the network.
        gateways: of each VLAN its subnets, each with the gateway's address.
        outside: the port that leads there, if one does.
    """
    found = []
    for who, subnets in gateways.items():
        held = {(prefix, gateway) for prefix, gateway in subnets}
        for device in network.devices.values() if held else ():
            for part in (*device.ports.values(), *device.interfaces.values()) if device.kind != "switch" else ():
                if any((address.prefix, address.address) in held for address in part.addresses):
                    found.append(Entrance(who, End(device.name, part.name), tuple(prefix for prefix, _ in subnets)))
    if outside is not None:
        port = network.devices[outside.device].ports[outside.port]
        every = tuple(Prefix(version, 0, 0) for version in sorted({a.version for a in port.addresses}))
        found.append(Entrance(OUTSIDE, outside, every))
    return found
