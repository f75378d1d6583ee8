"""Filters and translation as the kernel's own (iptables): a chain for each, entered by the interface that it is at.

`accept` returns from a chain, so that the filter of the egress interface is asked too. What the device itself sends
passes no chain. The kernel calls a conversation confirmed once its first packet has left or was taken in.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple

from archipelago.addressing.values import Prefix
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.filtering import NEIGHBOURS, both_families_named, of_family
from archipelago.model.filters import ICMP, ICMP_V6, TCP, UDP, VRRP, Filter, FilterRule, IcmpType, Ports, Traffic

_TYPES: Mapping[tuple[int, IcmpType], tuple[str, ...]] = {
    (4, "request"): ("8",),
    (4, "reply"): ("0",),
    (4, "error"): ("3", "4", "5", "11", "12"),
    (6, "request"): ("128",),
    (6, "reply"): ("129",),
    (6, "error"): ("1", "2", "3", "4"),
}
_REJECT = {4: "REJECT --reject-with icmp-admin-prohibited", 6: "REJECT --reject-with icmp6-adm-prohibited"}
TRANSLATED = 1 << 16
"""The mark of what is to be translated."""
COMMANDS = {4: "iptables-legacy-restore --noflush", 6: "ip6tables-legacy-restore --noflush"}
"""What takes the lines of each family."""


class Place(NamedTuple):
    """An interface as the kernel calls it; `mark` is for one in a table of its own, which later chains no longer see
    by its name (0: none); `shared` are its links with shared MAC addresses."""

    name: str
    mark: int = 0
    shared: tuple[str, ...] = ()

    @property
    def incoming(self) -> tuple[str, ...]:
        """Every name that what comes in by it can have."""
        return self.name, *self.shared


def chains(node: Node, version: int, places: Mapping[str, Place]) -> Iterator[str]:
    """The lines for the filters of a device in one family; none where it has none.

    Args:
        node: the device.
        version: 4 or 6.
        places: the kernel's interface for each that holds addresses.
    """
    at = [(nic, places[nic.name]) for nic in node.nics.values() if nic.name in places]
    if version == 4:
        yield from _translations(at)
    used = dict.fromkeys(one for nic, _ in at for one in (nic.filter_in, nic.filter_out) if one is not None)
    if not used:
        return
    names = {one.name: f"filter-{number}" for number, one in enumerate(used)}
    marked = [place for nic, place in at if place.mark and nic.filter_in is not None]
    if marked:
        yield "*mangle"
        yield from (f"-A PREROUTING -i {place.name} -j MARK --set-mark {place.mark}" for place in marked)
        yield "COMMIT"
    yield "*filter"
    yield from (f":{chain} - [0:0]" for chain in names.values())
    for nic, place in at:
        if nic.filter_in is not None:
            marked_so = [f"-m mark --mark {place.mark}/{TRANSLATED - 1}"]
            for came in marked_so if place.mark else [f"-i {name}" for name in place.incoming]:
                for hook in ("FORWARD", "INPUT"):
                    yield f"-A {hook} {came} -j {names[nic.filter_in.name]}"
    for nic, place in at:
        if nic.filter_out is not None:
            yield f"-A FORWARD -o {place.name} -j {names[nic.filter_out.name]}"
    for one, chain in zip(used, names.values(), strict=True):
        yield f"# {one.name}"
        yield from (f"-A {chain} {line}" for line in _lines(one, version))
    yield "COMMIT"


def _translations(at: Sequence[tuple[Nic, Place]]) -> Iterator[str]:
    """Sources that are translated: what is forwarded out is marked, and what is marked leaves with another address."""
    pairs = [(nic, place) for nic, place in at if nic.translates_to is not None]
    if not pairs:
        return
    yield "*mangle"
    for nic, place in pairs:
        mark = f"-j MARK --set-xmark {TRANSLATED}/{TRANSLATED}"
        yield from (f"-A FORWARD -o {place.name} -s {prefix} {mark}" for prefix in nic.source_nat)
    yield "COMMIT"
    yield "*nat"
    for nic, place in pairs:
        marked = f"-m mark --mark {TRANSLATED}/{TRANSLATED}"
        yield f"-A POSTROUTING -o {place.name} {marked} -j SNAT --to-source {nic.translates_to}"
    yield "COMMIT"


def _lines(filter_: Filter, version: int) -> Iterator[str]:
    """The lines of one chain."""
    if version == 6:
        yield from (f"-p icmpv6 --icmpv6-type {kind} -j RETURN" for kind in NEIGHBOURS)
    yield f"-p {VRRP} -j RETURN"
    if filter_.stateful:
        yield "-m conntrack --ctstatus CONFIRMED -j RETURN"
    ends = {"accept": "RETURN", "drop": "DROP", "reject": _REJECT[version]}
    for rule in filter_.rules:
        if both_families_named(rule, version):
            yield from (f"{conditions} -j {ends[rule.action]}".lstrip() for conditions in _conditions(rule, version))
    yield f"-j {ends[filter_.otherwise]}"


def _conditions(rule: FilterRule, version: int) -> Iterator[str]:
    """One line for each choice among what a rule lists."""
    sources = _prefixes(rule.source, "-s", version)
    destinations = _prefixes(rule.destination, "-d", version)
    for kind in rule.traffic:
        for protocol in _protocols(kind, rule, version):
            for source in sources:
                for destination in destinations:
                    yield " ".join(part for part in (protocol, source, destination) if part)


def _prefixes(prefixes: tuple[Prefix, ...], option: str, version: int) -> list[str]:
    return [f"{option} {prefix}" for prefix in of_family(prefixes, version)] or [""]


def _protocols(kind: Traffic, rule: FilterRule, version: int) -> Iterator[str]:
    """What of a rule speaks of protocols, ports and types; nothing where it is not of the family."""
    numbers = [number for number in kind.numbers if number != (ICMP_V6 if version == 4 else ICMP)]
    if not kind.numbers:
        yield ""
    for number in numbers:
        name = {TCP: "tcp", UDP: "udp", ICMP: "icmp", ICMP_V6: "icmpv6"}.get(number, str(number))
        if number in (ICMP, ICMP_V6) and rule.icmp_type:
            option = "--icmp-type" if version == 4 else "--icmpv6-type"
            yield from (f"-p {name} {option} {value}" for value in _TYPES[version, rule.icmp_type])
            continue
        flags = " --tcp-flags ACK,RST ACK", " --tcp-flags RST RST"
        for answering in flags if rule.answering else ("",):
            for own in _ports(rule.source_port, "--sport"):
                for other in _ports((kind.ports,) if kind.ports else rule.destination_port, "--dport"):
                    yield f"-p {name}{own}{other}{answering}"


def _ports(ranges: tuple[Ports, ...], option: str) -> list[str]:
    return [f" {option} {ports.first}:{ports.last}" for ports in ranges] or [""]
