"""Filters that carry out a policy: one where each VLAN, and the outside, comes in at its gateway."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

from archipelago.addressing.values import WIDTHS, Prefix, parse_prefix
from archipelago.design.entrances import Entrance
from archipelago.errors import AddressError
from archipelago.model.covering import takes_all
from archipelago.model.expectation import OUTSIDE
from archipelago.model.filters import FIRST_OWN_PORT, LAST_PORT, Filter, FilterRule, Ports, Traffic
from archipelago.model.network import Network, pools_in, with_changes
from archipelago.model.parts import Device, End, Host, Loopback
from archipelago.model.policy import ANYBODY, Policy, PolicyRule

HIGH_PORTS = Ports(FIRST_OWN_PORT, LAST_PORT)
"""The ports that conversations begin from, so those that answers go to (RFC 6335 6)."""
EVERYTHING = (Traffic("any"),)

ANY_ANSWER = (
    FilterRule(accept=(Traffic("icmp"),), icmp_type="reply"),
    FilterRule(accept=(Traffic("tcp"),), answering=True),
    FilterRule(accept=(Traffic("udp"),), destination_port=(HIGH_PORTS,)),
)
"""What lets answers pass that no table of conversations knows."""


@dataclass(frozen=True, slots=True)
class Wanted:
    """What a policy wants at an entrance: a filter (None where nothing that comes in there is ever ended), and for each
    of its lines which line of the policy it serves."""

    entrance: Entrance
    filter: Filter | None
    serves: tuple[str, ...]


class _Line(NamedTuple):
    rule: FilterRule
    serves: str


def filters_for(network: Network, policy: Policy, entrances: Sequence[Entrance]) -> list[Wanted]:
    """What a policy wants at each entrance of a network.

    Args:
        network: the network.
        policy: who may begin what with whom.
        entrances: where each VLAN, and the outside, comes in.
    """
    subnets: dict[str, tuple[Prefix, ...]] = {}
    for entrance in entrances:
        subnets[entrance.who] = (*subnets.get(entrance.who, ()), *entrance.subnets)
    carrying = _Carrying(network, policy, {who: tuple(dict.fromkeys(own)) for who, own in subnets.items()})
    return [carrying.wanted(entrance, network.devices[entrance.at.device].kind == "router") for entrance in entrances]


def with_filters(network: Network, wanted: Iterable[Wanted]) -> Network:
    """The network with filters at its entrances."""
    devices = dict(network.devices)
    for one in wanted:
        if one.filter is not None:
            at = one.entrance.at
            devices[at.device] = _placed(devices[at.device], at.port, one.filter)
    return with_changes(network, devices=devices)


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
        self._pools = list(pools_in(network))

    def prefixes(self, end: str) -> tuple[Prefix, ...]:
        """The subnets of a VLAN, the addresses of a host, a subnet or an address."""
        if end not in self._known:
            self._known[end] = self._find(end)
        return self._known[end]

    def vlan(self, end: str) -> str:
        """A VLAN's name, where an end is its number; else the end."""
        return self._names.get(end, end)

    def _find(self, end: str) -> tuple[Prefix, ...]:
        name = self.vlan(end)
        if name == OUTSIDE:
            return ()
        if name in self._subnets:
            return self._subnets[name]
        host = self._network.hosts.get(end)
        if host is not None:
            kept = [address for pool in self._pools for name, address in pool.reservations.items() if name == end]
            known = (*host.addresses, *(kept[:1] if host.dhcp and not _has_ipv4(host) else ()))
            return tuple(Prefix(a.version, a.value, WIDTHS[a.version]) for a in known)
        try:
            return (parse_prefix(end if "/" in end else f"{end}/{128 if ':' in end else 32}"),)
        except AddressError:
            return ()


def _has_ipv4(host: Host) -> bool:
    return any(address.version == 4 for address in host.addresses)


class _Carrying:
    """Works out the filter of one entrance."""

    def __init__(self, network: Network, policy: Policy, subnets: Mapping[str, tuple[Prefix, ...]]) -> None:
        self.network = network
        self.policy = policy
        self.ends = _Ends(network, subnets)
        self.subnets = subnets
        self.own = Entrance("", End("", ""), ())
        self.versions: set[int] = set()
        self._speaking = self._speakers()
        naming = {n: [end for end in r.target if self._is_device(end)] for n, r in enumerate(policy.rules, 1)}
        self._managing = {n: self._of_devices(ends) for n, ends in naming.items() if ends}
        named = dict.fromkeys(end.partition("/")[0] for ends in naming.values() for end in ends)
        self._of_all = [n for n, rule in enumerate(policy.rules, 1) if ANYBODY in rule.source]
        self._managed = self._of_devices(named)
        self._others = self._of_devices(name for name in network.devices if name not in named)
        self.inside = tuple(prefix for who, own in subnets.items() if who != OUTSIDE for prefix in own)

    def wanted(self, own: Entrance, stateful: bool) -> Wanted:
        """The filter of an entrance."""
        self.own, self.versions = own, {prefix.version for prefix in own.subnets}
        near = _needed(self._devices())
        lines = _needed([*near, *self._places()])
        ends = self.policy.otherwise == "none"
        while lines and lines[-1].rule.action == ("reject" if ends else "accept"):
            lines.pop()  # what comes after it is the same
        if not ends and not any(line.rule.reject for line in lines):
            return Wanted(own, None, ())
        answers = [] if stateful else [_Line(rule, "answers to what may be begun") for rule in self._answers()]
        # A line for UDP's answers lets others begin too: not with devices that are kept to some.
        wide = [line for line in answers if line.rule.accept[0].protocol == "udp"]
        narrow = [line for line in answers if line not in wide]
        managed = min(len(near), len(lines))
        first = [*narrow, *self._leasing(), *self._passed_on()]
        lines = [*first, *lines[:managed], *wide, *lines[managed:]]
        rules = tuple(line.rule for line in lines)
        made = Filter(f"{own.who}-in", "reject" if ends else "accept", rules, stateful)
        return Wanted(own, made, tuple(line.serves for line in lines))

    def _passed_on(self) -> Iterator[_Line]:
        """What those that share the gateway send to each other's own addresses for hosts elsewhere: it was judged where
        it came in."""
        sharing = [
            part
            for device in self.network.devices.values()
            for part in device.interfaces.values()
            if not isinstance(part, Loopback) and part.virtual
        ]
        addresses = [own for part in sharing for own in part.addresses if own.prefix in self.own.subnets]
        own = tuple(Prefix(a.version, a.value, WIDTHS[a.version]) for a in addresses)
        others = self._of_own_families(prefix for prefix in self.inside if prefix not in self.own.subnets)
        if own and others:
            rule = FilterRule(accept=EVERYTHING, source=others, destination=own)
            yield _Line(rule, "shared gateways: what another of them passes on")

    def _leasing(self) -> Iterator[_Line]:
        """What leases need: hosts ask their server, or the relay; what a server here sends back (RFC 2131 4.1)."""
        device = self.network.devices[self.own.at.device]
        part = device.interfaces.get(self.own.at.port) or device.ports[self.own.at.port]
        pools = (*device.dhcp_pools.values(), *(pool for host in self._serving() for pool in host.dhcp_pools.values()))
        if getattr(part, "dhcp_relay", ()) or any(pool.subnet in self.own.subnets for pool in pools):
            asks = FilterRule(accept=(Traffic("udp"),), source_port=(Ports(68, 68),), destination_port=(Ports(67, 67),))
            yield _Line(asks, "leases: what hosts ask")
        servers = tuple(own for host in self._serving() for own in self.ends.prefixes(host.name) if own.version == 4)
        if servers:
            line = FilterRule(
                accept=(Traffic("udp"),),
                source=servers,
                source_port=(Ports(67, 67),),
                destination_port=(Ports(67, 68),),
            )
            yield _Line(line, "leases: what servers answer")

    def _serving(self) -> list[Host]:
        """The hosts that lease addresses and come in here."""
        subnets = self.own.subnets if self.own.who != OUTSIDE else ()
        return [
            host
            for host in self.network.hosts.values()
            if host.dhcp_pools and any(subnet.holds(own) for subnet in subnets for own in host.addresses)
        ]

    # Where packets go

    def _devices(self) -> Iterator[_Line]:
        """Devices' own addresses: those of devices that a line names are for whom it names, the others for all."""
        for number, addresses in self._managing.items():
            yield from self._line(number, self.policy.rules[number - 1], addresses)
        yield from self._refusal(self._managed, "devices that lines name: nobody else may")
        others = self._of_own_families(self._others)
        if others:
            yield _Line(FilterRule(accept=EVERYTHING, destination=others), "devices that no line names: all may")

    def _places(self) -> Iterator[_Line]:
        """Hosts, then the outside: where lines speak of it, what is inside is decided before."""
        beyond = [rule for rule in self.policy.rules if OUTSIDE in rule.target and self.own.who != OUTSIDE]
        inside = self._of_own_families(self.inside)
        for number, rule in self._heard():
            if ANYBODY in rule.target:
                yield from self._line(number, rule, inside if beyond else None)
                continue
            targets = tuple(
                prefix
                for end in rule.target
                if end != OUTSIDE and not self._is_device(end)
                for prefix in self.ends.prefixes(end)
            )
            yield from self._line(number, rule, targets) if targets else ()
        if beyond:
            serves = f"otherwise {self.policy.otherwise}, for what is inside"
            if self.policy.otherwise == "none":
                yield from self._refusal(inside, serves)
            elif inside:
                yield _Line(FilterRule(accept=EVERYTHING, destination=inside), serves)
            for number, rule in self._heard():
                if OUTSIDE in rule.target or ANYBODY in rule.target:
                    yield from self._line(number, rule, None)

    def _refusal(self, destination: tuple[Prefix, ...], serves: str) -> Iterator[_Line]:
        there = self._of_own_families(destination)
        if there:
            yield _Line(FilterRule(reject=EVERYTHING, destination=there), serves)

    def _line(self, number: int, rule: PolicyRule, destination: tuple[Prefix, ...] | None) -> Iterator[_Line]:
        """What a line of the policy says of packets that come in here; nothing where it does not speak of them."""
        source = self._sources(number)
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
        made = FilterRule(**action, source=source, destination=there)  # type: ignore[arg-type]
        yield _Line(made, f"line {number}: {rule}")

    def _of_own_families(self, prefixes: Iterable[Prefix]) -> tuple[Prefix, ...]:
        return tuple(dict.fromkeys(prefix for prefix in prefixes if prefix.version in self.versions))

    # Where packets come from

    def _sources(self, number: int) -> tuple[Prefix, ...] | None:
        """Whose packets a line (by its number, from 1) speaks of here: empty for all, None where of none."""
        if ANYBODY in self.policy.rules[number - 1].source:
            return ()
        return self._speaking.get(self.own.who, {}).get(number)

    def _heard(self) -> list[tuple[int, PolicyRule]]:
        """The lines that speak of something that comes in here, in their order, with their numbers."""
        own = {*self._speaking.get(self.own.who, ()), *self._of_all}
        return [(number, self.policy.rules[number - 1]) for number in sorted(own)]

    def _speakers(self) -> dict[str, dict[int, tuple[Prefix, ...]]]:
        """For each entrance the lines that speak of some of what comes in there, and of whose packets."""
        found: dict[str, dict[int, tuple[Prefix, ...]]] = {}
        for number, rule in enumerate(self.policy.rules, 1):
            parts: dict[str, list[Prefix]] = {}
            for end in rule.source:
                if self.ends.vlan(end) in self.subnets:
                    who = self.ends.vlan(end)
                    parts.setdefault(who, []).extend(self.subnets[who])
                    continue
                for who, prefix in self._homes(end):
                    parts.setdefault(who, []).append(prefix)
            for who, prefixes in parts.items():
                whole = set(self.subnets[who]) <= set(prefixes)
                found.setdefault(who, {})[number] = () if whole else tuple(dict.fromkeys(prefixes))
        return found

    def _homes(self, end: str) -> Iterator[tuple[str, Prefix]]:
        """Where the addresses of an end come in, and which of them."""
        for prefix in self.ends.prefixes(end):
            for who, subnets in self.subnets.items():
                for subnet in subnets if who != OUTSIDE else ():
                    if prefix.covers(subnet):
                        yield who, subnet
                    elif subnet.covers(prefix):
                        yield who, prefix

    # Who ends are

    def _is_device(self, end: str) -> bool:
        return end.partition("/")[0] in self.network.devices and end not in self.subnets

    def _of_devices(self, ends: Iterable[str]) -> tuple[Prefix, ...]:
        return tuple(address for end in ends for address in self._of_device(end))

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
        """Lines for the answers to what others may begin with whoever comes in here, as narrow as lines can be: to
        those who may begin, from the ports that they may begin with."""
        begun: dict[Traffic, tuple[Prefix, ...] | None] = {}
        for rule in self.policy.rules if self.policy.otherwise == "none" else ():
            if rule.may and self._is_target(rule):
                who = self._askers(rule)
                for kind in rule.may:
                    known = begun.get(kind, ())
                    begun[kind] = None if who is None or known is None else tuple(dict.fromkeys((*known, *who)))
        if self.policy.otherwise == "any":
            begun = {EVERYTHING[0]: None}
        for protocol in ("icmp", "tcp", "udp"):
            whole = [who for kind, who in begun.items() if kind.ports is None and kind.protocol in ("any", protocol)]
            lines: dict[tuple[Ports, ...], tuple[Prefix, ...] | None] = {(): _union(whole)} if whole else {}
            for kind, who in begun.items():
                if kind.protocol == protocol and kind.ports is not None and lines.get((), ()) is not None:
                    lines[(kind.ports,)] = who
            for ports, who in lines.items():
                yield from self._answer_line(protocol, ports, who)

    def _answer_line(
        self, protocol: str, ports: tuple[Ports, ...], who: tuple[Prefix, ...] | None
    ) -> Iterator[FilterRule]:
        there = self._of_own_families(who or ())
        if who is not None and not there:
            return
        line = next(line for line in ANY_ANSWER if line.accept[0].protocol == protocol)
        yield replace(line, source_port=ports, destination=there)

    def _askers(self, rule: PolicyRule) -> tuple[Prefix, ...] | None:
        """The addresses of those whom a line lets begin; None where these are not to be listed."""
        if {ANYBODY, OUTSIDE} & set(rule.source):
            return None
        return tuple(prefix for end in rule.source for prefix in self.ends.prefixes(end))

    def _is_target(self, rule: PolicyRule) -> bool:
        """Whether a line lets others begin with anybody who comes in here."""
        if ANYBODY in rule.target or self.own.who in rule.target:
            return True
        prefixes = [prefix for end in rule.target for prefix in self.ends.prefixes(end)]
        return any(subnet.covers(prefix) or prefix.covers(subnet) for subnet in self.own.subnets for prefix in prefixes)


def _union(parts: Iterable[tuple[Prefix, ...] | None]) -> tuple[Prefix, ...] | None:
    """All prefixes of several lists; None where one is of everybody."""
    every = list(parts)
    if any(part is None for part in every):
        return None
    return tuple(dict.fromkeys(prefix for part in every if part is not None for prefix in part))


def _needed(lines: Iterable[_Line]) -> list[_Line]:
    """Lines without those that an earlier one leaves nothing to."""
    kept: list[_Line] = []
    for line in lines:
        if not any(takes_all(earlier.rule, line.rule) for earlier in kept):
            kept.append(line)
    return kept
