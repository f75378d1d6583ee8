"""Filters of what comes in where hosts are: at the gateway of each VLAN, and where the outside is."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace

from archipelago.addressing.values import WIDTHS, InterfaceAddress, Prefix
from archipelago.design.entrances import Entrance
from archipelago.design.filter_lines import (
    ANY_ANSWER,
    EVERYTHING,
    FOR_ANSWERS,
    Line,
    Wanted,
    ending,
    needed,
    of_families,
    spoken,
    trimmed,
)
from archipelago.design.policy_ends import Ends
from archipelago.model.ends import ANYBODY, OUTSIDE
from archipelago.model.filters import Filter, FilterRule, Ports, Traffic
from archipelago.model.parts import End
from archipelago.model.policy import PolicyRule

LET_ON = "what their own gateways judge"


class Incoming:
    """Works out the filter of what comes in at one entrance after the other.

    Args:
        ends: whom the policy speaks of.
        guarded: whose own gateway judges what is for them: nothing is said of them here.
    """

    def __init__(self, ends: Ends, guarded: frozenset[str]) -> None:
        self.ends = ends
        self.network, self.policy, self.inside = ends.network, ends.policy, ends.inside
        self.own = Entrance("", End("", ""), ())
        self.versions: set[int] = set()
        self.guarded = guarded
        naming = {n: [end for end in r.target if ends.is_device(end)] for n, r in ends.numbered()}
        self._managing = {n: ends.of_devices(named) for n, named in naming.items() if named}
        named = dict.fromkeys(end.partition("/")[0] for some in naming.values() for end in some)
        self._managed = ends.of_devices(named)
        others = ends.of_devices(name for name in self.network.devices if name not in named)
        self._others = {  # by family, one list for all filters
            frozenset(some): of_families(others, some) for some in ({4}, {6}, {4, 6}, set[int]())
        }

    def wanted(self, own: Entrance, stateful: bool) -> Wanted:
        """The filter of an entrance."""
        self.own, self.versions = own, {prefix.version for prefix in own.subnets}
        near = list(self._devices())
        lines = trimmed(needed([*near, *self._let_on(), *self._places()]), self.policy)
        lines = [line for number, line in enumerate(lines) if not self._idle(line, lines[number + 1 :])]
        why = f"what {own.who} sends is seen first here"
        if ending(self.policy) == "accept" and not lines:
            return Wanted(own, True, None, (), why)
        # Where another device leads there past this one, it has not seen what is answered.
        known = stateful and (len(self._leading()) < 2 or bool(self.ends.part(own).virtual))
        answers = [] if known else [Line(rule, FOR_ANSWERS) for rule in self._answers()]
        # A line for UDP's answers lets others begin too: not with devices that are kept to some.
        wide = [line for line in answers if line.rule.accept[0].protocol == "udp"]
        narrow = [line for line in answers if line not in wide]
        of_devices = set(map(id, near))
        managed = sum(id(line) in of_devices for line in lines)
        first = [*narrow, *(() if known else self._managed_here()), *self._leasing(), *self._passed_on()]
        lines = [*first, *lines[:managed], *wide, *lines[managed:]]
        rules = tuple(line.rule for line in lines)
        made = Filter(f"{own.who}-in", ending(self.policy), rules, stateful)
        return Wanted(own, True, made, tuple(line.serves for line in lines), why)

    def _passed_on(self) -> Iterator[Line]:
        """What other routing devices there pass on to each other's own addresses, for hosts elsewhere: it was judged
        where it came in."""
        leading = self._leading()
        if len(leading) < 2:
            return
        addresses = [address for held in leading.values() for address in held]
        own = tuple(Prefix(a.version, a.value, WIDTHS[a.version]) for a in addresses)
        others = self._own(prefix for prefix in self.inside if prefix not in self.own.subnets)
        if others:
            rule = FilterRule(accept=EVERYTHING, source=others, destination=own)
            yield Line(rule, "devices here: what another of them passes on")

    def _managed_here(self) -> Iterator[Line]:
        """What devices answer that are managed here: a policy speaks of nothing that they send."""
        held = self.ends.managed_in(self.own.subnets) if self.own.who != OUTSIDE else {}
        here = self._own(address for own in held.values() for address in own)
        if held.keys() - {self.own.at.device} and ending(self.policy) == "reject":
            yield Line(FilterRule(accept=EVERYTHING, source=here), "devices here: what they send")

    def _leading(self) -> Mapping[str, list[InterfaceAddress]]:
        """The routing devices that have addresses there, and which."""
        held: dict[str, list[InterfaceAddress]] = {}
        for device, address in self.ends.leading_to(self.own.subnets):
            held.setdefault(device, []).append(address)
        return held

    def _leasing(self) -> Iterator[Line]:
        """What leases need: hosts ask their server, or the relay; what a server here sends back (RFC 2131 4.1)."""
        device, serving = self.network.devices[self.own.at.device], self.ends.serving(self.own)
        pools = (*device.dhcp_pools.values(), *(pool for host in serving for pool in host.dhcp_pools.values()))
        if getattr(self.ends.part(self.own), "dhcp_relay", ()) or any(
            pool.subnet in self.own.subnets for pool in pools
        ):
            asks = FilterRule(accept=(Traffic("udp"),), source_port=(Ports(68, 68),), destination_port=(Ports(67, 67),))
            yield Line(asks, "leases: what hosts ask")
        servers = tuple(own for host in serving for own in self.ends.prefixes(host.name) if own.version == 4)
        if servers:
            line = FilterRule(
                accept=(Traffic("udp"),),
                source=servers,
                source_port=(Ports(67, 67),),
                destination_port=(Ports(67, 68),),
            )
            yield Line(line, "leases: what servers answer")

    # Where packets go

    def _devices(self) -> Iterator[Line]:
        """Devices' own addresses: those of devices that a line names are for whom it names, the others for all."""
        for number, addresses in self._managing.items():
            yield from self._line(number, self.policy.rules[number - 1], addresses)
        yield from self._refusal(self._managed, "devices that lines name: nobody else may")
        others = self._others[frozenset(self.versions)]
        if others:
            yield Line(FilterRule(accept=EVERYTHING, destination=others), "devices that no line names: all may")

    def _let_on(self) -> Iterator[Line]:
        """What goes to those whose own gateway judges it."""
        there = self._own(p for who in self.guarded if who != OUTSIDE for p in self.ends.subnets[who])
        if there:
            yield Line(FilterRule(accept=EVERYTHING, destination=there), LET_ON)

    def _idle(self, line: Line, later: list[Line]) -> bool:
        """Whether what goes to others' own gateways would be let on without a line, too."""
        if line.serves != LET_ON or ending(self.policy) == "reject":
            return False
        speaking = [other.rule.destination for other in later if other.rule.reject]
        return not any(
            not there or any(a.covers(b) or b.covers(a) for a in there for b in line.rule.destination)
            for there in speaking
        )

    def _places(self) -> Iterator[Line]:
        """Hosts, then the outside: where lines speak of it, what is inside is decided before."""
        beyond = self.ends.speaks_of_outside and self.own.who != OUTSIDE and OUTSIDE not in self.guarded
        inside = self._own(self.inside)
        for number, rule in self.ends.heard(self.own.who):
            if ANYBODY in rule.target:
                yield from self._line(number, rule, inside if beyond else None)
                continue
            ends = (end for end in rule.target if self._is_place(end))
            # Within a VLAN all may, whatever the policy says.
            targets = tuple(p for end in ends for p in self.ends.prefixes(end) if not self._is_own(p))
            yield from self._line(number, rule, targets) if targets else ()
        if beyond:
            serves = f"otherwise {self.policy.otherwise}, for what is inside"
            if self.policy.otherwise == "none":
                yield from self._refusal(inside, serves)
            elif inside:
                yield Line(FilterRule(accept=EVERYTHING, destination=inside), serves)
            for number, rule in self.ends.heard(self.own.who):
                if OUTSIDE in rule.target or ANYBODY in rule.target:
                    yield from self._line(number, rule, None)

    def _is_own(self, prefix: Prefix) -> bool:
        """Whether a prefix is of those who come in here themselves."""
        return self.own.who != OUTSIDE and any(subnet.covers(prefix) for subnet in self.own.subnets)

    def _is_place(self, end: str) -> bool:
        """Whether an end is of hosts that are judged here."""
        if end == OUTSIDE or self.ends.is_device(end):
            return False
        homes = {who for who, _ in self.ends.homes(end)} if self.guarded else ()
        return not homes or not self.guarded.issuperset(homes)

    def _refusal(self, destination: tuple[Prefix, ...], serves: str) -> Iterator[Line]:
        there = self._own(destination)
        if there:
            yield Line(FilterRule(reject=EVERYTHING, destination=there), serves)

    def _line(self, number: int, rule: PolicyRule, destination: tuple[Prefix, ...] | None) -> Iterator[Line]:
        """What a line of the policy says of packets that come in here; nothing where it does not speak of them."""
        source = self._sources(number)
        if source is None:
            return
        there = self._own(destination or ())
        if destination is not None and not there:
            return
        for made in spoken(rule.may, rule.may_not, source, there):
            yield Line(made, f"line {number}: {rule}")

    def _own(self, prefixes: Iterable[Prefix]) -> tuple[Prefix, ...]:
        return of_families(prefixes, self.versions)

    # Where packets come from

    def _sources(self, number: int) -> tuple[Prefix, ...] | None:
        """Whose packets a line (by its number, from 1) speaks of here: empty for all, None where of none."""
        if ANYBODY in self.policy.rules[number - 1].source:
            return ()
        return self.ends.speaking.get(self.own.who, {}).get(number)

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
        there = self._own(who or ())
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
