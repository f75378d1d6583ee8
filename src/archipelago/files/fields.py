"""What each kind of value in a document looks like as text, and what it becomes.

Every scalar arrives as text and is converted by its field's own type, so nothing is guessed from how it looks.
"""

from __future__ import annotations

import re
from fractions import Fraction
from typing import Any

from archipelago.addressing.convention import GatewayConvention
from archipelago.addressing.convention import gateway_convention as _gateway_convention
from archipelago.addressing.values import parse_address
from archipelago.addressing.values import parse_interface_address as _interface_address
from archipelago.addressing.values import parse_prefix as _prefix
from archipelago.errors import AddressError, CarveError
from archipelago.files.shape import Each, Field, Section, Wrong, shown
from archipelago.model.network import SPEED_UNITS, Cable, End, NextHop

NAME = re.compile(r"[A-Za-z][A-Za-z0-9._-]{0,62}")
_SPEED = re.compile(r"(\d+(?:\.\d+)?)([MGT])")


def text(value: Any) -> str:
    if not isinstance(value, str):
        raise Wrong(f"{shown(value)} stands where a text is expected")
    return value


def name(value: Any) -> str:
    if not isinstance(value, str) or not NAME.fullmatch(value):
        raise Wrong(
            f"{shown(value)} is not a name; a name starts with a letter and goes on with letters, digits, '-', '_' "
            "and '.', at most 63 in all"
        )
    return value


def flag(value: Any) -> bool:
    if value in ("true", "yes"):
        return True
    if value in ("false", "no"):
        return False
    raise Wrong(f"{shown(value)} is neither true nor false")


def whole(least: int, most: int, what: str) -> Any:
    def convert(value: Any) -> int:
        if isinstance(value, str) and value.isascii() and value.isdigit() and least <= int(value[:12]) <= most:
            return int(value)
        raise Wrong(f"{shown(value)} is not {what}; a whole number from {least} to {most} is expected")

    return convert


def speed(value: Any) -> int:
    found = _SPEED.fullmatch(value) if isinstance(value, str) else None
    if not found or not float(found[1]):
        raise Wrong(f"{shown(value)} is not a speed; write it like 100M, 1G or 10G (bits per second)")
    return int(float(found[1]) * SPEED_UNITS[found[2]])


def share(value: Any) -> Fraction:
    if isinstance(value, str) and re.fullmatch(r"\d{1,4}(\.\d{1,2})?%", value):
        return Fraction(value[:-1]) / 100
    raise Wrong(f"{shown(value)} is not a share; write it like 25%")


def gateway_convention(value: Any) -> GatewayConvention:
    try:
        return _gateway_convention(text(value))
    except CarveError as error:
        raise Wrong(str(error)) from None


def transit(value: Any) -> int:
    if value in ("/30", "/31"):
        return int(value[1:])
    raise Wrong(f"{shown(value)} is not a size for links between routers; accepted: /31, /30")


def _addressed(parse: Any) -> Any:
    def convert(value: Any) -> Any:
        if not isinstance(value, str):
            raise Wrong(f"{shown(value)} stands where an address is expected")
        try:
            return parse(value)
        except AddressError as error:
            raise Wrong(str(error)) from None

    return convert


def parse_next_hop(value: str) -> NextHop:
    """An address, with the interface after `%` where it is link-local (RFC 4007 11.2)."""
    body, percent, interface = value.partition("%")
    address = parse_address(body)
    if percent and not NAME.fullmatch(interface):
        raise AddressError(f"'{value}': after '%' goes the name of an interface")
    return NextHop(address, interface or None)


def end(value: Any) -> End:
    device, slash, port = value.partition("/") if isinstance(value, str) else ("", "", "")
    if not slash or not NAME.fullmatch(device) or not NAME.fullmatch(port):
        raise Wrong(f"{shown(value)} is not a place; write DEVICE/PORT, such as quay-1/p1")
    return End(device, port)


def place(value: Any) -> tuple[str, str | None]:
    """A device, or a port of it."""
    if isinstance(value, str) and NAME.fullmatch(value):
        return value, None
    return end(value)


def ends(value: Any) -> tuple[End, End]:
    halves = value.split("~") if isinstance(value, str) else []
    if len(halves) != 2:
        raise Wrong(f"{shown(value)} is not a cable; write DEVICE/PORT ~ DEVICE/PORT")
    return end(halves[0].strip()), end(halves[1].strip())


def choice(*accepted: str) -> Any:
    def convert(value: Any) -> str:
        if value in accepted:
            return str(value)
        raise Wrong(f"{shown(value)} is not accepted here; accepted: {', '.join(accepted)}")

    return convert


def trunk(value: Any) -> Any:
    """`all`, or VLANs by name or id."""
    if value == "all":
        return value
    return tuple(text(one) for one in value) if isinstance(value, list) else () if value is None else (text(value),)


def format_is(accepted: str) -> Any:
    def convert(value: Any) -> str:
        if value != accepted:
            raise Wrong(f"{shown(value)} is not the format read here; accepted: {accepted}")
        return accepted

    return convert


def family(value: Any) -> int:
    if value in ("ipv4", "ipv6"):
        return int(value[-1])
    raise Wrong(f"{shown(value)} is not an address family; accepted: ipv4, ipv6")


an_address = _addressed(parse_address)
an_interface_address = _addressed(_interface_address)
a_prefix = _addressed(_prefix)
AUTO = "auto"
"""In place of an address: take it from what routers advertise."""


def a_host_address(value: Any) -> Any:
    """An address with its prefix length, or `auto`."""
    return AUTO if value == AUTO else an_interface_address(value)


def held(values: Any) -> tuple[Any, ...]:
    """The addresses among a host's."""
    return tuple(one for one in values if one != AUTO)


a_next_hop = _addressed(parse_next_hop)
vlan_id = whole(1, 4094, "a VLAN id")
count = whole(0, 2**24, "a count")
metric = whole(0, 2**32 - 1, "a metric")
unresolved = choice("hold", "drop")
kinds = choice("router", "l3switch", "switch")

CABLE = Section({"ends": Field(ends, required=True), "off": Field(flag, False)})
CABLES = Field(Each(CABLE, lift=lambda value: {"ends": value} if isinstance(value, str) else value), ())


EXPECT = Field(
    Each(
        Section(
            {
                "from": Field(text, required=True),
                "to": Field(text, required=True),
                "reached": Field(flag, required=True),
            }
        )
    ),
    (),
)


def cable_of(section: Any) -> Cable:
    """A cable from its section."""
    return Cable(section.ends[0], section.ends[1], section.off)
