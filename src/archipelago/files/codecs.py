"""What each kind of value in a document looks like as text, what it becomes, and how it is written again.

Every scalar arrives as text and is converted by its key's own type, so nothing is guessed from how it looks.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from fractions import Fraction
from functools import lru_cache
from typing import Any

from archipelago.addressing.convention import gateway_convention
from archipelago.addressing.values import WIDTHS, Prefix, parse_address, parse_interface_address, parse_prefix
from archipelago.errors import AddressError, CarveError, DurationError, TrafficError, quoted
from archipelago.files.ranges import Wrong, count_of, shown, texts
from archipelago.model.filters import parse_ports, parse_probe, parse_traffic, prefix_text
from archipelago.model.key import Value
from archipelago.model.leases import duration_text, parse_address_range, parse_duration
from archipelago.model.parts import AUTO, DEFAULT_VLAN, DHCP, SPEED_UNITS, End, NextHop, speed_text
from archipelago.model.problems import Names, listed
from archipelago.model.values import (
    BRIDGE_PRIORITIES,
    DECREMENTS,
    DOMAIN,
    FASTEST,
    MACS,
    METRICS,
    MOST_HOSTS,
    MTUS,
    NAME,
    PATH_COSTS,
    PORT_NAME,
    PRIORITIES,
    VLAN_IDS,
    VRIDS,
    YEARS,
)

LEARNED = (AUTO, DHCP)
MOST_PORTS = 4096
"""The most ports that one entry declares."""
_SPEED = re.compile(r"(\d{1,6}(?:\.\d{1,6})?)([MGT])")
_SPAN = re.compile(r"(\d{1,4})-(\d{1,4})")
_MAC = re.compile(r"[0-9A-Fa-f]{2}(?:-[0-9A-Fa-f]{2}){5}")


@dataclass(slots=True)
class Context:
    """What a value can depend on: the catalogue of VLANs by name, and names that were written and not understood."""

    vlans: Mapping[str, int] = field(default_factory=dict)
    names: Names = field(default_factory=Names)
    formats: tuple[str, ...] = ()

    def vlan(self, word: str) -> int:
        """The id of a VLAN given by name or id; 0 where its name was not understood where it was declared."""
        if word in self.vlans:
            return self.vlans[word]
        if self.names.suppressed(word):
            return 0
        if word.isascii() and word.isdigit():
            number = int(word) if len(word) <= 9 else 10**9
            if number == DEFAULT_VLAN or number in self.vlans.values():
                return number
            if number not in VLAN_IDS:
                raise Wrong(f"{shown(word)} is not a VLAN id; ids go from 1 to 4094 (IEEE 802.1Q)")
        hint = self.names.hint(word, self.vlans)
        raise Wrong(f"there is no VLAN {shown(word)} in the catalogue{hint}; 'vlans' holds: {listed(self.vlans)}")

    def vlan_key(self, number: int) -> str:
        """A VLAN as a document writes it: its name, or its id where it has none."""
        return next((name for name, vlan in self.vlans.items() if vlan == number), str(number))


def text(value: Any, context: Context | None = None) -> str:
    """A text as it stands."""
    if not isinstance(value, str):
        raise Wrong(f"{shown(value)} stands where a text is expected")
    return value


def name(value: Any, context: Context | None = None) -> str:
    """The name of a part."""
    if not isinstance(value, str) or not NAME.fullmatch(value):
        raise Wrong(
            f"{shown(value)} is not a name; a name starts with a letter or a digit and goes on with letters, digits, "
            "'-', '_' and '.', at most 63 in all, a letter among them"
        )
    return value


def port_name(value: Any, context: Context | None = None) -> str:
    """The name of a port or an interface."""
    if not isinstance(value, str) or not PORT_NAME.fullmatch(value):
        raise Wrong(
            f"{shown(value)} is not the name of a port or an interface; it is of letters, digits, '-', '_', '.' and "
            "'/', such as p1, 24 or 1/0/24, at most 63 in all"
        )
    return value


def _flag(value: Any, context: Context) -> bool:
    if value in ("true", "yes"):
        return True
    if value in ("false", "no"):
        return False
    raise Wrong(f"{shown(value)} is neither true nor false")


def _whole(accepted: range, what: str) -> Callable[[Any, Context], int]:
    digits = len(str(accepted[-1]))

    def convert(value: Any, context: Context) -> int:
        if isinstance(value, str) and value.isascii() and value.isdigit() and len(value.lstrip("0")) <= digits:
            number = int(value.lstrip("0") or "0")
            if number in accepted:
                return number
        least, most = accepted[0], accepted[-1]
        step = f" in steps of {accepted.step}" if accepted.step > 1 else ""
        raise Wrong(f"{shown(value)} is not {what}; a whole number from {least} to {most}{step} is expected")

    return convert


def _traffic(parse: Callable[[str], Any]) -> Callable[[Any, Context], Any]:
    def convert(value: Any, context: Context) -> Any:
        try:
            return parse(text(value))
        except TrafficError as error:
            raise Wrong(str(error)) from None

    return convert


def _addresses(written_text: str) -> Prefix:
    """A subnet, or a single address as one of that size."""
    if "/" in written_text:
        return parse_prefix(written_text)
    address = parse_address(written_text)
    return Prefix(address.version, address.value, WIDTHS[address.version])


def _speed(value: Any, context: Context) -> int:
    match = _SPEED.fullmatch(value) if isinstance(value, str) else None
    bits = int(Fraction(match[1]) * SPEED_UNITS[match[2]]) if match else 0
    if not 0 < bits <= FASTEST:
        raise Wrong(f"{shown(value)} is not a speed; write it like 100M, 1G or 10G (bits per second)")
    return bits


def _share(value: Any, context: Context) -> Fraction:
    if isinstance(value, str) and re.fullmatch(r"\d{1,4}(\.\d{1,2})?%", value, re.ASCII):
        return Fraction(value[:-1]) / 100
    raise Wrong(f"{shown(value)} is not a share; write it like 25%")


def _gateway_convention(value: Any, context: Context) -> Any:
    try:
        return gateway_convention(text(value))
    except CarveError as error:
        raise Wrong(str(error)) from None


def _transit(value: Any, context: Context) -> int:
    if value in ("/30", "/31"):
        return int(value[1:])
    raise Wrong(f"{shown(value)} is not a size for links between routers; accepted: /31, /30")


def _addressed(parse: Callable[[str], Any]) -> Callable[[Any, Context], Any]:
    remembered = lru_cache(maxsize=4096)(parse)  # next hops and destinations repeat

    def convert(value: Any, context: Context) -> Any:
        if not isinstance(value, str):
            raise Wrong(f"{shown(value)} stands where an address is expected")
        if len(value) > 200:
            raise Wrong(f"{shown(value)} is not an address")
        try:
            return remembered(value)
        except AddressError as error:
            raise Wrong(str(error)) from None

    return convert


def parse_next_hop(value: str) -> NextHop:
    """Where to send what is not on a connected subnet, from its text.

    Args:
        value: an address, with the interface after `%` where it is link-local (RFC 4007 11.2).

    Returns:
        The next hop.

    Raises:
        AddressError: it is not that.

    Example:
        >>> parse_next_hop("fe80::1%p2").interface
        'p2'
    """
    body, percent, interface = value.partition("%")
    address = parse_address(body)
    if percent and not PORT_NAME.fullmatch(interface):
        raise AddressError(f"{quoted(value)}: after '%' goes the name of an interface")
    return NextHop(address, interface or None)


def _end(value: Any, context: Context | None = None) -> End:
    device, slash, port = value.partition("/") if isinstance(value, str) else ("", "", "")
    if not slash or not NAME.fullmatch(device) or not PORT_NAME.fullmatch(port):
        raise Wrong(f"{shown(value)} is not a place; write DEVICE/PORT, such as quay-1/p1 or quay-1/1/0/24")
    return End(device, port)


def _place(value: Any, context: Context) -> tuple[str, str | None]:
    """A device, or a port of it."""
    if isinstance(value, str) and NAME.fullmatch(value):
        return value, None
    return _end(value)


def _ends(value: Any, context: Context) -> tuple[End, End]:
    halves = value.split("~") if isinstance(value, str) else []
    if len(halves) != 2:
        raise Wrong(f"{shown(value)} is not a cable; write DEVICE/PORT ~ DEVICE/PORT")
    return _end(halves[0].strip()), _end(halves[1].strip())


def _choice(*accepted: str) -> Callable[[Any, Context], str]:
    def convert(value: Any, context: Context) -> str:
        if value in accepted:
            return str(value)
        raise Wrong(f"{shown(value)} is not accepted here; accepted: {', '.join(accepted)}")

    return convert


def trunk_vlans(value: Any, context: Context) -> tuple[int, ...]:
    """One entry of a trunk's list: a VLAN by name or id, or a range of ids, which is those of the catalogue in it."""
    if isinstance(value, str) and "," in value:
        raise Wrong(
            f"{shown(value)} is one text; write a list: [{', '.join(part.strip() for part in value.split(','))}]"
        )
    span = _SPAN.fullmatch(value) if isinstance(value, str) and value not in context.vlans else None
    if span is None:
        return (context.vlan(text(value)),)
    low, high = int(span[1]), int(span[2])
    if low > high or high not in VLAN_IDS or low not in VLAN_IDS:
        raise Wrong(f"{shown(value)} is not a range of VLAN ids; write it like 110-130, from 1 to 4094")
    within = tuple(sorted(number for number in context.vlans.values() if low <= number <= high))
    if not within:
        raise Wrong(f"no VLAN of the catalogue has an id in {shown(value)}; 'vlans' holds: {listed(context.vlans)}")
    return within


def _format(value: Any, context: Context) -> str:
    if value not in context.formats:
        raise Wrong(f"{shown(value)} is not the format read here; accepted: {', '.join(context.formats)}")
    return str(value)


def _family(value: Any, context: Context) -> int:
    if value in ("ipv4", "ipv6"):
        return int(value[-1])
    raise Wrong(f"{shown(value)} is not an address family; accepted: ipv4, ipv6")


def _mac(value: Any, context: Context) -> int:
    number = int(value.replace("-", ""), 16) if isinstance(value, str) and _MAC.fullmatch(value) else 0
    if number not in MACS or number >> 40 & 1:
        raise Wrong(f"{shown(value)} is not the MAC address of a station; write it like 02-00-00-00-10-01")
    return number


def _ports(value: Any, context: Context) -> tuple[str, ...]:
    """A count, or a list of names and ranges of names."""
    if isinstance(value, list):
        if sum(count_of(text(entry)) for entry in value) > MOST_PORTS:
            raise Wrong(f"these are more than {MOST_PORTS:,} ports")
        return tuple(port_name(port) for entry in value for port in texts(text(entry)))
    return tuple(
        f"p{number}" for number in range(1, _whole(range(MOST_PORTS + 1), "a count of ports")(value, context) + 1)
    )


def _domain(value: Any, context: Context) -> str:
    if not isinstance(value, str) or DOMAIN.fullmatch(value) is None:
        raise Wrong(f"{shown(value)} is not a domain name; write one in lower case, like ferry.example")
    return value


def _duration(value: Any, context: Context) -> int:
    try:
        return parse_duration(text(value))
    except DurationError as error:
        raise Wrong(str(error)) from None


def _on_off(value: Any, context: Context) -> bool:
    """`on` or `off`; JSON's and YAML's own words for them too."""
    if value in ("on", "off"):
        return bool(value == "on")
    try:
        return _flag(value, context)
    except Wrong:
        raise Wrong(f"{shown(value)} is neither on nor off") from None


_INTERFACE_ADDRESS = _addressed(parse_interface_address)
READ: Mapping[Value, Callable[[Any, Context], Any]] = {
    Value.TEXT: text,
    Value.NAME: name,
    Value.DOMAIN: _domain,
    Value.FLAG: _flag,
    Value.FORMAT: _format,
    Value.SPEED: _speed,
    Value.MTU: _whole(MTUS, "a packet size in octets"),
    Value.VLAN_ID: _whole(VLAN_IDS, "a VLAN id"),
    Value.VLAN: lambda value, context: context.vlan(text(value)),
    Value.UNTAGGED: lambda value, context: value if value == "none" else context.vlan(text(value)),
    Value.PORT_NAME: port_name,
    Value.ADDRESS: _addressed(parse_address),
    Value.ADDRESS_RANGE: _addressed(parse_address_range),
    Value.DURATION: _duration,
    Value.INTERFACE_ADDRESS: _INTERFACE_ADDRESS,
    Value.HOST_ADDRESS: lambda value, context: value if value in LEARNED else _INTERFACE_ADDRESS(value, context),
    Value.PREFIX: _addressed(parse_prefix),
    Value.NEXT_HOP: _addressed(parse_next_hop),
    Value.MAC: _mac,
    Value.PORT: _end,
    Value.PLACE: _place,
    Value.ENDS: _ends,
    Value.METRIC: _whole(METRICS, "a metric"),
    Value.COUNT: _whole(range(MOST_HOSTS + 1), "a count"),
    Value.YEARS: _whole(YEARS, "a number of years"),
    Value.PORTS: _ports,
    Value.FAMILY: _family,
    Value.KIND: _choice("router", "l3switch", "switch"),
    Value.UNRESOLVED: _choice("hold", "drop"),
    Value.PARTY: text,
    Value.SHARE: _share,
    Value.GATEWAY_CONVENTION: _gateway_convention,
    Value.SUBNETS: _choice("by-size", "by-vlan-id"),
    Value.SUBINTERFACE: _choice("by-vlan-id", "counted"),
    Value.TRANSIT: _transit,
    Value.ACTION: _choice("accept", "drop", "reject"),
    Value.ICMP_TYPE: _choice("request", "reply", "error"),
    Value.TRAFFIC: _traffic(parse_traffic),
    Value.PORT_RANGE: _traffic(parse_ports),
    Value.PROBE: _traffic(parse_probe),
    Value.ADDRESSES: _addressed(_addresses),
    Value.ROUTES_BACK: _addressed(parse_prefix),
    Value.ANY_OR_NONE: _choice("any", "none"),
    Value.ON_OFF: _on_off,
    Value.BRIDGE_PRIORITY: _whole(BRIDGE_PRIORITIES, "a bridge priority"),
    Value.PATH_COST: _whole(PATH_COSTS, "a path cost"),
    Value.VRID: _whole(VRIDS, "a VRID"),
    Value.PRIORITY: _whole(PRIORITIES, "a priority"),
    Value.DECREMENT: _whole(DECREMENTS, "a decrement"),
}
"""How the text of each kind of value is read; each raises Wrong."""


def _percent(share: Any) -> str:
    return f"{float(share) * 100:g}%"


_WRITTEN: Mapping[Value, Callable[[Any], str]] = {
    Value.SPEED: speed_text,
    Value.FAMILY: lambda version: f"ipv{version}",
    Value.MAC: lambda mac: "-".join(f"{mac >> shift & 0xFF:02x}" for shift in range(40, -1, -8)),
    Value.PLACE: lambda place: "/".join(part for part in place if part),
    Value.ENDS: lambda ends: " ~ ".join(map(str, ends)),
    Value.SHARE: _percent,
    Value.GATEWAY_CONVENTION: lambda convention: str(convention.text),
    Value.TRANSIT: lambda length: f"/{length}",
    Value.ADDRESSES: prefix_text,
    Value.DURATION: duration_text,
}


def written(kind: Value, value: Any, context: Context) -> str:
    """A value as its document writes it."""
    if kind is Value.ON_OFF:
        return "on" if value else "off"
    if isinstance(value, bool):
        return "true" if value else "false"
    if kind in (Value.VLAN, Value.UNTAGGED, Value.TRUNK) and isinstance(value, int):
        return context.vlan_key(value)
    return _WRITTEN.get(kind, str)(value)
