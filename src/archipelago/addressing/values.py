"""Addresses, prefixes and interface addresses as small tuples of integers.

The standard library's `ipaddress` parses and prints; its objects are not kept, because a plan can hold a million
hosts and each step of a packet compares addresses: a tuple of integers is a tenth of the memory and of the time,
and serves both families with one code path.
"""

from __future__ import annotations

import ipaddress
from functools import lru_cache
from typing import NamedTuple

from archipelago.errors import AddressError, quoted

WIDTHS = {4: 32, 6: 128}
"""Bits in an address of each family."""
LONGEST_RESERVING = 30
"""The longest IPv4 prefix whose first and last address are not for hosts (RFC 1122 3.2.1.3, RFC 3021)."""


class Address(NamedTuple):
    """One address: IP version (4 or 6) and the address as an integer."""

    version: int
    value: int

    def __str__(self) -> str:
        return _text(self.version, self.value)

    def __repr__(self) -> str:
        return f"Address('{self}')"


class Prefix(NamedTuple):
    """A block of addresses: IP version, first address as an integer, prefix length in bits."""

    version: int
    value: int
    length: int

    def __str__(self) -> str:
        return f"{_text(self.version, self.value)}/{self.length}"

    def __repr__(self) -> str:
        return f"Prefix('{self}')"

    @property
    def size(self) -> int:
        """How many addresses the block holds."""
        return 1 << (WIDTHS[self.version] - self.length)

    @property
    def first(self) -> Address:
        """The block's first address."""
        return Address(self.version, self.value)

    @property
    def last(self) -> int:
        """The block's last address, as an integer."""
        return self.value + self.size - 1

    def holds(self, address: Address | InterfaceAddress) -> bool:
        """Whether the address is one of the block's."""
        return address.version == self.version and self.value <= address.value <= self.last

    def covers(self, other: Prefix) -> bool:
        """Whether every address of `other` is in this block."""
        if self.version != other.version or other.length < self.length:
            return False
        beyond = WIDTHS[self.version] - self.length
        return other.value >> beyond == self.value >> beyond

    def overlaps(self, other: Prefix) -> bool:
        """Whether the two blocks share an address."""
        return self.version == other.version and self.value <= other.last and other.value <= self.last

    def reserved_ends(self) -> bool:
        """Whether the first and the last address are not for hosts."""
        return self.version == 4 and self.length <= LONGEST_RESERVING

    def usable(self) -> tuple[int, int]:
        """First and last address that an interface may hold, as integers.

        IPv4 keeps out all-zeros and all-ones (RFC 1122), but not in a /31 (RFC 3021) or a /32. IPv6 keeps out the
        subnet-router anycast address (RFC 4291 2.6.1) and, in subnets of /64 and wider, the 128 highest
        (RFC 2526), but nothing in a /127 (RFC 6164) or a /128.
        """
        if self.version == 4:
            return (self.value + 1, self.last - 1) if self.length <= 30 else (self.value, self.last)
        if self.length >= 127:
            return self.value, self.last
        return self.value + 1, self.last - (128 if self.length <= 64 else 0)

    def supernet(self, length: int) -> Prefix:
        """The block of that shorter prefix length which holds this one."""
        shift = WIDTHS[self.version] - length
        return Prefix(self.version, self.value >> shift << shift, length)


class InterfaceAddress(NamedTuple):
    """An address together with the prefix length of its subnet, as an interface holds it."""

    version: int
    value: int
    length: int

    def __str__(self) -> str:
        return f"{_text(self.version, self.value)}/{self.length}"

    def __repr__(self) -> str:
        return f"InterfaceAddress('{self}')"

    @property
    def address(self) -> Address:
        return Address(self.version, self.value)

    @property
    def prefix(self) -> Prefix:
        """The subnet that the address lies in."""
        return prefix_of(self)

    def at_reserved_end(self) -> bool:
        """Whether it is the first or the last address of its subnet, where those are not for hosts."""
        if self.version != 4 or self.length > LONGEST_RESERVING:
            return False
        mask = (1 << (32 - self.length)) - 1
        return self.value & mask in (0, mask)


@lru_cache(maxsize=1 << 16)
def prefix_of(address: InterfaceAddress) -> Prefix:
    shift = WIDTHS[address.version] - address.length
    return Prefix(address.version, address.value >> shift << shift, address.length)


@lru_cache(maxsize=1 << 16)
def _text(version: int, value: int) -> str:
    return str(ipaddress.IPv4Address(value) if version == 4 else ipaddress.IPv6Address(value))


def _ipv4(text: str) -> int | None:
    """The value of an IPv4 address as nearly all are written, four times as fast as the library; None for the rest."""
    parts = text.split(".") if isinstance(text, str) and text.isascii() else ()
    if len(parts) != 4:
        return None
    value = 0
    for part in parts:
        if not part.isdigit() or len(part) > 3 or (part[0] == "0" and part != "0"):
            return None
        value = value << 8 | int(part)
        if value & 0xFF != int(part):
            return None
    return value


def parse_address(text: str) -> Address:
    """An address from its text.

    Args:
        text: such as `10.44.0.1` or `2001:db8::1`.

    Returns:
        The address.

    Raises:
        AddressError: the text is not an address.

    Example:
        >>> str(parse_address("2001:db8:0::1"))
        '2001:db8::1'
    """
    value = _ipv4(text)
    if value is not None:
        return Address(4, value)
    try:
        parsed = ipaddress.ip_address(text)
    except ValueError:
        raise AddressError(f"{quoted(text)} is not an address; write one like 10.44.0.1 or 2001:db8:44::1") from None
    if getattr(parsed, "scope_id", None):
        raise AddressError(f"{quoted(text)} names an interface after '%', which has no meaning here")
    return Address(parsed.version, int(parsed))


def parse_interface_address(text: str) -> InterfaceAddress:
    """An address with its prefix length, from its text.

    Args:
        text: such as `10.44.0.1/26`.

    Returns:
        The address of an interface.

    Raises:
        AddressError: the text is not that, or lacks its prefix length.

    Example:
        >>> str(parse_interface_address("10.44.0.1/26").prefix)
        '10.44.0.0/26'
    """
    body, slash, length = text.partition("/")
    if not slash:
        address = parse_address(body)
        raise AddressError(
            f"{quoted(text)} lacks its prefix length; write it like {address}/{24 if ':' not in body else 64}"
        )
    address = parse_address(body)
    return InterfaceAddress(address.version, address.value, _length(text, length, address.version))


def parse_prefix(text: str) -> Prefix:
    """A block of addresses, from its text.

    Args:
        text: such as `10.44.0.0/20`.

    Returns:
        The block.

    Raises:
        AddressError: the text is not that, or has bits set beyond its prefix length.

    Example:
        >>> parse_prefix("10.44.0.0/20").holds(parse_address("10.44.3.7"))
        True
    """
    body, slash, length = text.partition("/")
    address = parse_address(body)
    if not slash:
        raise AddressError(f"{quoted(text)} lacks its prefix length; write it like {address}/{WIDTHS[address.version]}")
    exact = Prefix(address.version, address.value, _length(text, length, address.version))
    rounded = exact.supernet(exact.length)
    if rounded != exact:
        raise AddressError(f"{quoted(text)} has bits set beyond its prefix length; the block it lies in is {rounded}")
    return exact


def mask_length(mask: str) -> int | None:
    """The prefix length of a dotted IPv4 mask, such as 24 of `255.255.255.0`; None where the text is none."""
    value = _ipv4(mask)
    bits = f"{value:032b}" if value is not None else "01"
    return bits.count("1") if "01" not in bits else None


def _length(text: str, length: str, version: int) -> int:
    dotted = mask_length(length) if version == 4 else None
    if dotted is not None:
        raise AddressError(f"{quoted(text)} has a mask after the slash; write {text.partition('/')[0]}/{dotted}")
    if not (length.isascii() and length.isdigit() and len(length) <= 3 and int(length) <= WIDTHS[version]):
        raise AddressError(f"{quoted(text)} has no valid prefix length; after the slash goes 0 to {WIDTHS[version]}")
    return int(length)


_PRIVATE = ((10 << 24, 8), (172 << 24 | 16 << 16, 12), (192 << 24 | 168 << 16, 16))


def is_private(prefix: Prefix) -> bool:
    """Whether all of a subnet is of the IPv4 addresses that nobody outside has a way to (RFC 1918 3)."""
    return prefix.version == 4 and any(Prefix(4, value, length).covers(prefix) for value, length in _PRIVATE)


def is_link_local(address: Address | InterfaceAddress) -> bool:
    """Whether an IPv6 address is valid on its own link only (fe80::/10, RFC 4291 2.5.6)."""
    return address.version == 6 and address.value >> 118 == 0xFE80 >> 6


def mask_text(prefix: Prefix) -> str:
    """The IPv4 mask in dotted form, such as `255.255.255.192`; the prefix length for IPv6."""
    if prefix.version == 6:
        return f"/{prefix.length}"
    return _text(4, (1 << 32) - prefix.size)


def inverse_mask_text(prefix: Prefix) -> str:
    """The IPv4 inverse mask in dotted form, such as `0.0.0.63`; empty for IPv6."""
    return _text(4, prefix.size - 1) if prefix.version == 4 else ""


def source_for(addresses: tuple[InterfaceAddress, ...], target: Address) -> InterfaceAddress | None:
    """The address that an interface speaks from: the first written of the family, unless the target lies in the
    prefix of another one (RFC 1122 3.3.4.3)."""
    own = [address for address in addresses if address.version == target.version]
    inside = [own_address for own_address in own if own_address.prefix.holds(target)]
    first = [own_address for own_address in own if not is_link_local(own_address)] or own
    nearest = inside or first
    return nearest[0] if nearest else None
