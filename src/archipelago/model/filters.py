"""Filters: what an interface lets pass; and the kinds of traffic that a filter, a policy or a probe speaks of.

The words are those of RFC 8519 where it has one.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Literal, NamedTuple

from archipelago.addressing.values import Prefix
from archipelago.answer import OneLine
from archipelago.errors import TrafficError, quoted

Action = Literal["accept", "drop", "reject"]
"""What becomes of a packet: it goes on; it ends in silence; it ends, and its sender is told."""
IcmpType = Literal["request", "reply", "error"]
"""Echo's two types, or any ICMP error (types 3, 4, 5, 11 and 12, in ICMPv6 those below 128)."""
ICMP, TCP, UDP, ICMP_V6, VRRP = 1, 6, 17, 58, 112
"""Protocol numbers (IANA; RFC 792, RFC 9293, RFC 768, RFC 4443, RFC 9568)."""
NUMBERS = {"tcp": (TCP,), "udp": (UDP,), "icmp": (ICMP, ICMP_V6)}
"""The protocols that have names of their own."""
WITH_PORTS = frozenset({TCP, UDP})
FIRST_OWN_PORT, LAST_PORT = 49_152, 65_535
"""The ports that conversations begin from (RFC 6335 6); the second is the last of all."""
_RANGE = re.compile(r"(\d{1,5})(?:-(\d{1,5}))?", re.ASCII)


class Ports(NamedTuple):
    """A range of ports, both ends included."""

    first: int
    last: int

    def __str__(self) -> str:
        return str(self.first) if self.first == self.last else f"{self.first}-{self.last}"


class Traffic(NamedTuple):
    """A kind of traffic: a protocol (`any`, `icmp`, `tcp`, `udp` or a number), for a service with its destination
    ports."""

    protocol: str
    ports: Ports | None = None

    def __str__(self) -> str:
        return self.protocol if self.ports is None else f"{self.protocol}/{self.ports}"

    @property
    def numbers(self) -> tuple[int, ...]:
        """Its protocol numbers; none for `any`."""
        return NUMBERS.get(self.protocol) or (() if self.protocol == "any" else (int(self.protocol),))


_ECHO_HEADERS = {4: 28, 6: 48}
"""The octets of the headers of an echo request, ICMP's and IP's (RFC 791, RFC 792, RFC 4443, RFC 8200)."""
MOST_DATA = 65_507
"""The most octets of data in an echo request (RFC 791 3.1)."""


class Probe(NamedTuple):
    """What is sent to see whether it arrives: an echo request, or the first packet to a port. A request of a `size`
    carries so many octets of data, and nobody on its way may split it."""

    protocol: Literal["icmp", "tcp", "udp"]
    port: int = 0
    size: int = 0

    def __str__(self) -> str:
        return f"{self.protocol}/{self.port or self.size}" if self.port or self.size else self.protocol

    def length(self, version: int) -> int:
        """The octets of its IP packet in a family, where its size is written; 0 where it is not."""
        return self.size + _ECHO_HEADERS[version] if self.size else 0


ECHO = Probe("icmp")
"""The probe that is sent where none is named."""


@dataclass(frozen=True, slots=True, repr=False)
class FilterRule(OneLine):
    """A line of a filter. Exactly one of `accept`, `drop` and `reject` is not empty and says what it speaks of; all
    other conditions that are written must hold too."""

    accept: tuple[Traffic, ...] = ()
    drop: tuple[Traffic, ...] = ()
    reject: tuple[Traffic, ...] = ()
    source: tuple[Prefix, ...] = ()
    destination: tuple[Prefix, ...] = ()
    destination_port: tuple[Ports, ...] = ()
    source_port: tuple[Ports, ...] = ()
    icmp_type: IcmpType | None = None
    answering: bool = False

    @property
    def action(self) -> Action:
        """What it does with what matches."""
        return "accept" if self.accept else "drop" if self.drop else "reject"

    @property
    def traffic(self) -> tuple[Traffic, ...]:
        """What it speaks of."""
        return self.accept or self.drop or self.reject

    def text(self, most: int | None = None) -> str:
        """The rule as one line, of each list of addresses and ports no more than `most`; by default all."""
        parts = [f"{self.action} {' '.join(map(str, self.traffic))}"]
        named = (
            ("from", self.source),
            ("from port", self.source_port),
            ("to", self.destination),
            ("to port", self.destination_port),
        )
        for word, values in named:
            more = f" and {len(values) - most:,} more" if most is not None and len(values) > most else ""
            parts += [f"{word} {' '.join(map(_short, values[:most]))}{more}"] if values else []
        parts += [f"icmp-type {self.icmp_type}"] if self.icmp_type else []
        parts += ["answering"] if self.answering else []
        return ", ".join(parts)

    def __str__(self) -> str:
        return self.text()


def _short(value: Prefix | Ports) -> str:
    return str(value) if isinstance(value, Ports) else prefix_text(value)


def prefix_text(prefix: Prefix) -> str:
    """A prefix as a rule writes it: a single address without its length."""
    return str(prefix.first) if prefix.size == 1 else str(prefix)


@dataclass(frozen=True, slots=True, repr=False)
class Filter(OneLine):
    """Lines in order: the first that matches decides, after the last `otherwise`. One that is `stateful` lets pass
    whatever belongs to a conversation that the device knows."""

    name: str
    otherwise: Action
    rules: tuple[FilterRule, ...] = ()
    stateful: bool = False


def parse_ports(text: str) -> Ports:
    """A port, or a range of them: `443`, `8000-8010`.

    Raises:
        TrafficError: it is neither.
    """
    match = _RANGE.fullmatch(text)
    if match is not None:
        first, last = int(match[1]), int(match[2] or match[1])
        if first <= last <= LAST_PORT:
            return Ports(first, last)
    raise TrafficError(f"{quoted(text)} is no port; write a number up to {LAST_PORT}, or a range such as 8000-8010")


def parse_traffic(text: str) -> Traffic:
    """A kind of traffic: `any`, `icmp`, `tcp`, `udp`, a protocol number, or a service such as `tcp/443`.

    Raises:
        TrafficError: it is none.
    """
    protocol, slash, ports = text.partition("/")
    if slash and protocol in ("tcp", "udp"):
        return Traffic(protocol, parse_ports(ports))
    if not slash and (protocol in NUMBERS or protocol == "any"):
        return Traffic(protocol)
    if not slash and re.fullmatch(r"[1-9]\d{0,2}", protocol, re.ASCII) and int(protocol) <= 255:
        number = int(protocol)
        return Traffic({TCP: "tcp", UDP: "udp"}.get(number, str(number)))
    raise TrafficError(
        f"{quoted(text)} is no kind of traffic; write any, icmp, tcp, udp, a protocol number from 1 to 255, or a "
        "service such as tcp/443"
    )


def parse_probe(text: str) -> Probe:
    """What to send: `icmp`, `icmp/1472` (with so many octets of data), `tcp/443`, `udp/53`.

    Raises:
        TrafficError: it is none of these.
    """
    if text == "icmp":
        return ECHO
    protocol, slash, port = text.partition("/")
    if slash and protocol == "icmp" and re.fullmatch(r"\d{1,5}", port, re.ASCII) and 0 < int(port) <= MOST_DATA:
        return Probe("icmp", size=int(port))
    if slash and protocol in ("tcp", "udp") and re.fullmatch(r"\d{1,5}", port, re.ASCII) and 0 < int(port) <= LAST_PORT:
        return Probe("tcp" if protocol == "tcp" else "udp", int(port))
    raise TrafficError(
        f"{quoted(text)} is no probe; write icmp, or a protocol and one port: tcp/443, udp/53; icmp/1472 has so many "
        "octets of data"
    )
