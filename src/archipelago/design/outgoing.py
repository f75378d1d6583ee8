"""Filters of what goes out to those whom it is for: where a line there stands for one at each of those who send."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence

from archipelago.addressing.values import Prefix
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
from archipelago.model.policy import PolicyRule

MOST_LOOKED_AT = 50
"""So many sets of targets are looked at, those that most are kept from or let to first."""

_ERRORS = Line(FilterRule(accept=(Traffic("icmp"),), icmp_type="error"), "errors about what may be begun")
"""Devices on the way send them, too (RFC 1812 4.3.2), which filters of what comes in do not see."""


def worth_guarding(ends: Ends, entrances: Sequence[Entrance]) -> frozenset[str]:
    """Those for whom filters of what goes out to them seem to save lines, to be counted once they are made.

    Only who has one gateway is looked at, which keeps a table of conversations or passes what no line speaks of; and
    of whom no line says what the outside, which has no addresses to be named by, may begin.
    """
    return _Choice(ends, entrances).made()


class _Choice:
    """Adds what saves most lines, set of targets by set of targets, while any does."""

    def __init__(self, ends: Ends, entrances: Sequence[Entrance]) -> None:
        self._ends = ends
        self._all = len(entrances)
        self._rules = dict(ends.numbered())
        self._targets = {number: _targets(ends, rule) for number, rule in self._rules.items()}
        counted = Counter(number for lines in ends.speaking.values() for number in lines)
        self._speaking = {
            number: self._all if ANYBODY in rule.source else counted[number] for number, rule in self._rules.items()
        }
        self._of_any = [number for number, rule in self._rules.items() if ANYBODY in rule.target]
        self._ends_any = any(self._rules[number].may_not for number in self._of_any)
        self._by_target: dict[str, list[int]] = {}
        for number, targets in self._targets.items():
            for who in targets or ():
                self._by_target.setdefault(who, []).append(number)
        self._alone = _alone(ends, entrances)

    def made(self) -> frozenset[str]:
        """The targets that are worth it."""
        sets = dict.fromkeys(
            targets
            for number in sorted(self._rules, key=lambda number: -self._speaking[number])
            if (targets := self._targets[number]) and self._speaking[number] > len(targets)
        )
        able = [targets for targets in list(sets)[:MOST_LOOKED_AT] if all(map(self._is_able, targets))]
        chosen: frozenset[str] = frozenset()
        best = 0
        while able:
            gain, targets = max(((self._gain(chosen | some), some) for some in able), key=lambda pair: pair[0])
            if gain <= best:
                break
            chosen, best = chosen | targets, gain
            able = [some for some in able if not some <= chosen]
        return chosen

    def _is_able(self, who: str) -> bool:
        place = self._alone.get(who)
        if place is None:
            return False
        if who == OUTSIDE:
            return ending(self._ends.policy) == "accept" and not self._ends_any
        lines = (*self._by_target.get(who, ()), *self._of_any)
        if any(OUTSIDE in self._rules[number].source for number in lines):
            return False
        return self._is_stateful(place) or ending(self._ends.policy) == "accept"

    def _is_stateful(self, place: Entrance) -> bool:
        return self._ends.network.devices[place.at.device].kind == "router"

    def _gain(self, chosen: frozenset[str]) -> int:
        """How many lines are saved where those for some targets are at their own gateways."""
        numbers = {number for who in chosen for number in self._by_target.get(who, ())}
        saved = sum(self._speaking[number] for number in numbers if (self._targets[number] or chosen) <= chosen)
        let_on = self._all if ending(self._ends.policy) == "reject" or self._ends_any else 0
        spent = 0
        for who in chosen:
            spent += len(self._by_target.get(who, ())) + len(self._of_any)
            spent += 0 if self._is_stateful(self._alone[who]) else len(ANY_ANSWER) + 1
        return saved - spent - let_on


def _targets(ends: Ends, rule: PolicyRule) -> frozenset[str] | None:
    """Behind whose gateways all are whom a line lets others begin with, or not; None where not all are behind any."""
    found: set[str] = set()
    for end in rule.target:
        if end == ANYBODY or ends.is_device(end):
            return None
        homes = {who for who, _ in ends.homes(end)}
        if not homes:
            return None
        found |= homes
    return frozenset(found)


def _alone(ends: Ends, entrances: Sequence[Entrance]) -> Mapping[str, Entrance]:
    """The only entrance of each who has but one, where no other routing interface leads to its subnets."""
    places: dict[str, list[Entrance]] = {}
    for entrance in entrances:
        places.setdefault(entrance.who, []).append(entrance)
    alone = {who: own[0] for who, own in places.items() if len(own) == 1 and not ends.part(own[0]).virtual}
    return {who: one for who, one in alone.items() if len(ends.leading_to(one.subnets)) <= len(one.subnets)}


class Outgoing:
    """Works out the filter of what goes out to somebody, one after the other."""

    def __init__(self, ends: Ends) -> None:
        self._ends = ends

    def wanted(self, own: Entrance, stateful: bool) -> Wanted:
        """The filter of what goes out where somebody comes in."""
        versions = {prefix.version for prefix in own.subnets}
        lines = trimmed(needed(self._lines(own, versions)), self._ends.policy)
        why = f"a line here stands for one at each of those who send to {own.who}"
        if not lines and ending(self._ends.policy) == "accept":
            return Wanted(own, False, None, (), why)
        answers = [] if stateful else [*(Line(rule, FOR_ANSWERS) for rule in ANY_ANSWER), _ERRORS]
        lines = [*answers, *self._leasing(own), *self._to_devices(own, versions), *lines]
        rules = tuple(line.rule for line in lines)
        made = Filter(f"{own.who}-out", ending(self._ends.policy), rules, stateful)
        return Wanted(own, False, made, tuple(line.serves for line in lines), why)

    def _lines(self, own: Entrance, versions: set[int]) -> Iterator[Line]:
        """What the lines of the policy say of what goes there, in their order."""
        for number, rule in self._ends.numbered():
            there = self._destination(own, rule)
            source = self._source(own, rule)
            if there is None or source is None:
                continue
            source, there = of_families(source, versions), of_families(there, versions)
            for made in spoken(rule.may, rule.may_not, source, there):
                yield Line(made, f"line {number}: {rule}")

    def _destination(self, own: Entrance, rule: PolicyRule) -> tuple[Prefix, ...] | None:
        """Whom of those there a line speaks of: empty for all, None for none."""
        if ANYBODY in rule.target:
            return ()
        ends = (end for end in rule.target if not self._ends.is_device(end))
        found = {prefix for end in ends for who, prefix in self._ends.homes(end) if who == own.who}
        if found.issuperset(own.subnets):
            return ()
        return tuple(sorted(found)) or None

    def _source(self, own: Entrance, rule: PolicyRule) -> tuple[Prefix, ...] | None:
        """Whose packets a line speaks of: empty for all's, None where it is only of those there, who are among
        themselves."""
        if ANYBODY in rule.source:
            return ()
        return tuple(p for end in rule.source for p in self._ends.prefixes(end) if p not in own.subnets) or None

    def _leasing(self, own: Entrance) -> Iterator[Line]:
        """What leases need: what relays and hosts elsewhere ask a server there, and what servers elsewhere answer the
        hosts there (RFC 2131 4.1)."""
        asked = tuple(p for host in self._ends.serving(own) for p in self._ends.prefixes(host.name) if p.version == 4)
        udp, asking, serving = (Traffic("udp"),), Ports(67, 68), Ports(67, 67)
        if asked:
            rule = FilterRule(accept=udp, source_port=(asking,), destination=asked, destination_port=(serving,))
            yield Line(rule, "leases: what is asked of servers")
        servers = tuple(Prefix(4, address.value, 32) for address in getattr(self._ends.part(own), "dhcp_relay", ()))
        if servers:
            rule = FilterRule(accept=udp, source=servers, source_port=(serving,), destination_port=(Ports(68, 68),))
            yield Line(rule, "leases: what servers answer")

    def _to_devices(self, own: Entrance, versions: set[int]) -> Iterator[Line]:
        """What goes to devices that are managed there: it was judged where it came in."""
        held = self._ends.managed_in(own.subnets) if own.who != OUTSIDE else {}
        others = (address for name, some in held.items() if name != own.at.device for address in some)
        there = of_families(others, versions)
        if there:
            yield Line(FilterRule(accept=EVERYTHING, destination=there), "devices: judged where it comes in")
