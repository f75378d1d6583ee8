"""What the value of each kind of key may be in Python, whatever it was read from."""

from __future__ import annotations

import re
from collections.abc import Callable, Container, Mapping
from fractions import Fraction
from itertools import chain, count

from archipelago.addressing.convention import GatewayConvention
from archipelago.addressing.values import WIDTHS, Address, InterfaceAddress, Prefix
from archipelago.model.key import Key, Value
from archipelago.model.leases import LONGEST

NAME = re.compile(r"(?=[^A-Za-z]*[A-Za-z])[A-Za-z0-9][A-Za-z0-9._-]{0,62}")
"""A letter or a digit first, then letters, digits, hyphens, underscores and dots; a letter is among them, so that no
name reads as a number or an address."""
PORT_NAME = re.compile(r"(?=.{1,63}\Z)[A-Za-z0-9][A-Za-z0-9._-]*(/[A-Za-z0-9][A-Za-z0-9._-]*)*")
"""What ports and interfaces are called on devices: `24`, `1/0/24` too."""
VLAN_IDS = range(1, 4095)
"""The VLAN ids that frames can carry (IEEE 802.1Q 9.6)."""
METRICS = range(2**32)
MACS = range(1, 1 << 48)
FASTEST = 10**15
"""The highest speed that is accepted, in bits per second."""
MOST_SHARE = 100
"""The largest share that is accepted: 10,000 %."""
BRIDGE_PRIORITIES = range(0, 61441, 4096)
"""Four bits of a bridge's identifier (IEEE 802.1Q 14.2.5)."""
PATH_COSTS = range(1, 200_000_001)
"""IEEE 802.1Q 13.18, table 13-4."""
VRIDS = range(1, 256)
PRIORITIES = range(1, 255)
"""Of a virtual router's members that do not own its address (RFC 9568 5.2.4)."""
DECREMENTS = range(1, 255)
YEARS = range(1, 51)
MTUS = range(576, 65_536)
"""Octets of an IP packet: what every host takes in (RFC 791 3.1), and the most that there can be."""
MOST_HOSTS = 2**24
"""The most hosts that a VLAN is asked to make room for."""


def _whole(accepted: range) -> Callable[[object], bool]:
    return lambda value: isinstance(value, int) and not isinstance(value, bool) and value in accepted


DOMAIN = re.compile(r"(?=.{1,200}$)[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?(\.[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?)*")
"""A domain name in lower case, without its last dot (RFC 1035 2.3.1)."""


def _one_of(*accepted: object) -> Callable[[object], bool]:
    return lambda value: value in accepted


def _name(value: object) -> bool:
    return isinstance(value, str) and NAME.fullmatch(value) is not None


def _port_name(value: object) -> bool:
    return isinstance(value, str) and PORT_NAME.fullmatch(value) is not None


def _address(value: object) -> bool:
    return isinstance(value, Address) and value.version in WIDTHS and 0 <= value.value < 1 << WIDTHS[value.version]


def _interface_address(value: object) -> bool:
    return (
        isinstance(value, InterfaceAddress) and _address(value.address) and 0 <= value.length <= WIDTHS[value.version]
    )


def _prefix(value: object) -> bool:
    if not isinstance(value, Prefix) or value.version not in WIDTHS or not 0 <= value.length <= WIDTHS[value.version]:
        return False
    return _address(value.first) and value.supernet(value.length) == value


def _next_hop(value: object) -> bool:
    return (
        isinstance(value, tuple)
        and len(value) == 2
        and _address(value[0])
        and (value[1] is None or _port_name(value[1]))
    )


def _end(value: object) -> bool:
    return isinstance(value, tuple) and len(value) == 2 and _name(value[0]) and _port_name(value[1])


def _place(value: object) -> bool:
    return _end(value) or (isinstance(value, tuple) and len(value) == 2 and _name(value[0]) and value[1] is None)


def _trunk(value: object) -> bool:
    return value == "all" or (isinstance(value, tuple) and all(map(_VLAN, value)))


_VLAN = _whole(VLAN_IDS)
_CHECKS: Mapping[Value, Callable[[object], bool]] = {
    Value.TEXT: lambda value: isinstance(value, str),
    Value.NAME: _name,
    Value.DOMAIN: lambda value: isinstance(value, str) and (value == "" or DOMAIN.fullmatch(value) is not None),
    Value.FLAG: lambda value: isinstance(value, bool),
    Value.SPEED: _whole(range(1, FASTEST + 1)),
    Value.MTU: _whole(MTUS),
    Value.YEARS: _whole(YEARS),
    Value.VLAN_ID: _VLAN,
    Value.VLAN: _VLAN,
    Value.TRUNK: _trunk,
    Value.UNTAGGED: lambda value: value == "none" or _VLAN(value),
    Value.PORT_NAME: _port_name,
    Value.ADDRESS: _address,
    Value.ADDRESS_RANGE: lambda value: isinstance(value, tuple) and len(value) == 2 and all(map(_address, value)),
    Value.DURATION: _whole(range(LONGEST + 1)),
    Value.INTERFACE_ADDRESS: _interface_address,
    Value.HOST_ADDRESS: _interface_address,
    Value.PREFIX: _prefix,
    Value.NEXT_HOP: _next_hop,
    Value.MAC: _whole(MACS),
    Value.PORT: _end,
    Value.PLACE: _place,
    Value.ENDS: lambda value: isinstance(value, tuple) and len(value) == 2 and all(map(_end, value)),
    Value.METRIC: _whole(METRICS),
    Value.COUNT: _whole(range(MOST_HOSTS + 1)),
    Value.PORTS: lambda value: isinstance(value, tuple) and all(map(_port_name, value)),
    Value.FAMILY: _one_of(4, 6),
    Value.KIND: _one_of("router", "l3switch", "switch"),
    Value.UNRESOLVED: _one_of("hold", "drop"),
    Value.PARTY: lambda value: isinstance(value, str),
    Value.SHARE: lambda value: isinstance(value, (Fraction, int, float)) and 0 <= value <= MOST_SHARE,
    Value.GATEWAY_CONVENTION: lambda value: isinstance(value, GatewayConvention),
    Value.SUBNETS: _one_of("by-size", "by-vlan-id"),
    Value.SUBINTERFACE: _one_of("by-vlan-id", "counted"),
    Value.TRANSIT: _one_of(30, 31),
    Value.ON_OFF: lambda value: isinstance(value, bool),
    Value.BRIDGE_PRIORITY: _whole(BRIDGE_PRIORITIES),
    Value.PATH_COST: _whole(PATH_COSTS),
    Value.VRID: _whole(VRIDS),
    Value.PRIORITY: _whole(PRIORITIES),
    Value.DECREMENT: _whole(DECREMENTS),
}


def free_name(wanted: str, taken: Container[str]) -> str:
    """A name as it is wanted, or the first of NAME-2, NAME-3 and so on that is not taken."""
    return next(name for name in chain([wanted], (f"{wanted}-{number}" for number in count(2))) if name not in taken)


def fits(key: Key, value: object) -> bool:
    """Whether a field of the model holds what its key may have."""
    check = _CHECKS.get(key.value)
    if check is None or (value is None and not key.required) or (value == key.default and value is not None):
        return True
    if key.many:
        return isinstance(value, tuple) and all(map(check, value))
    return check(value)
