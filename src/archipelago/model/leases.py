"""Pools of addresses that servers lease (DHCP for IPv4, RFC 2131), and lengths of time."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

from archipelago.addressing.values import Address, Prefix, parse_address
from archipelago.answer import OneLine, Parts, name_parts
from archipelago.errors import AddressError, DurationError, quoted

_DURATION = re.compile(r"(\d{1,9})(?:\.(\d{1,3}))?(ms|s|m|h|d)", re.ASCII)
_UNITS = {"ms": 1, "s": 1_000, "m": 60_000, "h": 3_600_000, "d": 86_400_000}
LONGEST = 0xFFFFFFFF * 1_000
"""The longest lease, in milliseconds: 32 bits of seconds (RFC 2131 3.3)."""
USUAL_LEASE = 12 * _UNITS["h"]
"""How long a lease is where the pool does not say, in milliseconds."""


class AddressRange(NamedTuple):
    """Addresses from the first to the last, both among them."""

    first: Address
    last: Address

    def __str__(self) -> str:
        return str(self.first) if self.first == self.last else f"{self.first}-{self.last}"

    def without(self, addresses: Iterable[Address]) -> list[AddressRange]:
        """What is left of the range without some addresses: its parts, the lowest first."""
        parts: list[AddressRange] = []
        first = self.first.value
        for address in sorted(set(filter(self.holds, addresses))):
            if address.value > first:
                parts.append(AddressRange(Address(4, first), Address(4, address.value - 1)))
            first = address.value + 1
        if first <= self.last.value:
            parts.append(AddressRange(Address(4, first), self.last))
        return parts

    def holds(self, address: Address) -> bool:
        """Whether an address is one of them."""
        return address.version == self.first.version and self.first.value <= address.value <= self.last.value

    @property
    def size(self) -> int:
        """How many addresses there are."""
        return self.last.value - self.first.value + 1


@dataclass(frozen=True, slots=True, repr=False)
class Pool(OneLine):
    """What a server gives hosts of a subnet: addresses of its ranges, in their order, or the one that is reserved for a
    host; a gateway (None: none), name servers; for how long, in milliseconds."""

    name: str
    subnet: Prefix
    ranges: tuple[AddressRange, ...] = ()
    gateway: Address | None = None
    dns_server: tuple[Address, ...] = ()
    lease_time: int = USUAL_LEASE
    reservations: Mapping[str, Address] = field(default_factory=Parts)

    def __post_init__(self) -> None:
        name_parts(self)


def parse_address_range(text: str) -> AddressRange:
    """A range of addresses from its text, such as `10.44.2.100-10.44.2.199`, or one address.

    Raises:
        AddressError: it is none.
    """
    first_text, dash, last_text = text.partition("-")
    first = parse_address(first_text)
    last = parse_address(last_text) if dash else first
    if first.version != last.version or first.value > last.value:
        raise AddressError(f"{quoted(text)} is not a range of addresses; write it like 10.44.2.100-10.44.2.199")
    return AddressRange(first, last)


def parse_duration(text: str) -> int:
    """A length of time from its text, such as `8h`, `10s`, `0.5s` or `100ms`, in milliseconds.

    Raises:
        DurationError: it is none.
    """
    match = _DURATION.fullmatch(text)
    if match is not None:
        whole, part, unit = match.groups()
        thousandths = int(whole) * 1_000 + int((part or "").ljust(3, "0") or 0)
        length = thousandths * _UNITS[unit]
        if length % 1_000 == 0:
            return length // 1_000
    raise DurationError(f"{quoted(text)} is not a length of time; write one like 8h, 30m, 10s or 100ms")


def duration_text(length: int) -> str:
    """A length of time in milliseconds, in the largest unit that divides it."""
    unit = next(unit for unit in ("d", "h", "m", "s", "ms") if length % _UNITS[unit] == 0 and (length or unit == "s"))
    return f"{length // _UNITS[unit]}{unit}"
