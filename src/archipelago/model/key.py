"""What a key of the two documents is, what its value can be, and who can have it."""

from __future__ import annotations

from dataclasses import dataclass
from dataclasses import field as dataclass_field
from enum import StrEnum

from archipelago.answer import OneLine


class Value(StrEnum):
    """What one value of a key is."""

    TEXT = "text"
    NAME = "name"
    DOMAIN = "domain name"
    FLAG = "flag"
    FORMAT = "format"
    SPEED = "speed"
    MTU = "octets"
    VLAN_ID = "VLAN id"
    VLAN = "VLAN"
    TRUNK = "VLANs of a trunk"
    UNTAGGED = "VLAN or none"
    PORT_NAME = "port or aggregate"
    ADDRESS = "address"
    ADDRESS_RANGE = "address or range of addresses"
    DURATION = "length of time"
    INTERFACE_ADDRESS = "address with prefix length"
    HOST_ADDRESS = "address with prefix length, auto or dhcp"
    PREFIX = "subnet"
    NEXT_HOP = "next hop"
    MAC = "MAC address"
    PORT = "DEVICE/PORT"
    PLACE = "DEVICE or DEVICE/PORT"
    ENDS = "DEVICE/PORT ~ DEVICE/PORT"
    METRIC = "metric"
    COUNT = "count"
    YEARS = "years"
    PORTS = "count of ports, or their names"
    FAMILY = "ipv4 or ipv6"
    KIND = "kind of device"
    UNRESOLVED = "hold or drop"
    PARTY = "VLAN, host, subnet, address, device, DEVICE/INTERFACE or outside"
    SHARE = "share"
    GATEWAY_CONVENTION = "place of a gateway"
    SUBNETS = "by-size or by-vlan-id"
    SUBINTERFACE = "by-vlan-id or counted"
    TRANSIT = "/31 or /30"
    ACTION = "accept, drop or reject"
    TRAFFIC = "kind of traffic"
    PORT_RANGE = "port or range of ports"
    ICMP_TYPE = "request, reply or error"
    ADDRESSES = "address or subnet"
    ANY_OR_NONE = "any or none"
    ROUTES_BACK = "all, none or subnets"
    PROBE = "probe"
    ON_OFF = "on or off"
    BRIDGE_PRIORITY = "bridge priority"
    PATH_COST = "path cost"
    VRID = "VRID"
    PRIORITY = "priority"
    DECREMENT = "priority decrement"
    SECTION = "section"
    NAMED = "sections by name"
    LIST = "list of sections"


class Holder(StrEnum):
    """What can have keys."""

    NETWORK = "network"
    VLAN = "VLAN"
    DEVICE = "device"
    PORT = "port"
    SUBINTERFACE = "subinterface"
    VLAN_INTERFACE = "VLAN interface"
    AGGREGATE = "link aggregate"
    LOOPBACK = "loopback"
    ROUTE = "route"
    FILTER = "filter"
    FILTER_RULE = "rule of a filter"
    POOL = "pool of leases"
    OUTSIDE_PORT = "port to the outside"
    VIRTUAL_ROUTER = "virtual router"
    TRACK = "what is tracked"
    POLICY = "policy"
    POLICY_RULE = "rule of a policy"
    HOST = "host"
    CABLE = "cable"
    EXPECTATION = "expectation"
    DEMAND = "demand"
    BRIEF = "brief"
    CONVENTIONS = "conventions"
    VLAN_NEED = "VLAN of a brief"
    DEVICE_NEED = "device of a brief"
    GATEWAY = "gateway of a brief"
    HOST_NEED = "host of a brief"
    OUTSIDE = "outside of a brief"
    RECIPE = "recipe"
    MOVED_GATEWAYS = "gateways that move"
    RENUMBERED = "VLAN that is renumbered"
    SPLIT = "VLAN that is split"
    REPLACED = "device that is replaced"
    WITH_IPV6 = "VLAN that gets IPv6"


INTERFACES = (Holder.SUBINTERFACE, Holder.VLAN_INTERFACE, Holder.AGGREGATE, Holder.LOOPBACK)
"""The kinds of interface that a device can have beside its ports."""
ADDRESSED = (Holder.PORT, *INTERFACES)
"""What carries IP addresses on a device."""
FILTERING = (Holder.PORT, Holder.SUBINTERFACE, Holder.VLAN_INTERFACE, Holder.AGGREGATE)
"""What can have filters."""
SWITCHED = (Holder.PORT, Holder.AGGREGATE)
"""What can be an access port or a trunk."""


@dataclass(frozen=True, slots=True, repr=False)
class Key(OneLine):
    """One key.

    Args:
        name: as a document writes it.
        value: what its value is.
        of: who may have it.
        about: a line of documentation.
        many: one value or a list of them.
        default: what stands for it where it is not written.
        required: it must be written.
        field: the field of the model that holds it; the name itself, hyphens as underscores, where not given.
        holds: of sections, who they are.
        tells: of an interface, that this key tells which kind it is.

    `attribute` is the field of the model that holds the value.
    """

    name: str
    value: Value
    of: tuple[Holder, ...]
    about: str
    many: bool = False
    default: object = None
    required: bool = False
    field: str = ""
    holds: tuple[Holder, ...] = ()
    tells: bool = False
    attribute: str = dataclass_field(init=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "attribute", self.field or self.name.replace("-", "_"))
