"""Every key of the two documents, declared once: its name, what its value is, what stands for it when it is not
written, who may have it, and a line about it.

The reader, the writer, the checks of what is built in Python, docs/documents.md and the JSON Schema all come from here.
"""

from __future__ import annotations

from fractions import Fraction

from archipelago.addressing.convention import FIRST
from archipelago.answer import NO_PARTS
from archipelago.model.filters import ECHO
from archipelago.model.key import ADDRESSED, FILTERING, INTERFACES, SWITCHED, Holder, Key, Value
from archipelago.model.leases import USUAL_LEASE
from archipelago.model.virtual import USUAL_DECREMENT, USUAL_INTERVAL, USUAL_PRIORITY

_NETWORK, _BRIEF = (Holder.NETWORK,), (Holder.BRIEF,)
_RECIPE, _ONE_VLAN = (Holder.RECIPE,), (Holder.RENUMBERED, Holder.SPLIT, Holder.WITH_IPV6)
_BOTH = (Holder.NETWORK, Holder.BRIEF)
_DEVICE, _HOST = (Holder.DEVICE,), (Holder.HOST,)
_RULE = (Holder.FILTER_RULE,)
_POLICY_RULE = (Holder.POLICY_RULE,)
_DEMAND = (Holder.DEMAND,)
_VIRTUAL = (Holder.VIRTUAL_ROUTER,)
_EVERY_PART = (Holder.DEVICE, *ADDRESSED, Holder.HOST, Holder.CABLE)

KEYS = (
    # a network and a brief
    Key("format", Value.FORMAT, (*_BOTH, Holder.RECIPE), "which document this is, and its version", required=True),
    Key("title", Value.TEXT, _BOTH, "what people call it", default=""),
    Key("domain", Value.DOMAIN, _BOTH, "the domain that its names are in", default=""),
    Key("space", Value.PREFIX, _BRIEF, "what subnets are carved from", many=True, required=True),
    Key("reserved", Value.PREFIX, _BRIEF, "blocks that are not given out", many=True, default=()),
    Key("conventions", Value.SECTION, _BRIEF, "house rules", holds=(Holder.CONVENTIONS,)),
    Key(
        "vlans",
        Value.NAMED,
        _NETWORK,
        "the catalogue: the id of each VLAN by its name",
        default=NO_PARTS,
        holds=(Holder.VLAN,),
    ),
    Key("vlans", Value.NAMED, _BRIEF, "the VLANs by name", default=NO_PARTS, holds=(Holder.VLAN_NEED,)),
    Key("devices", Value.NAMED, _NETWORK, "the devices by name", default=NO_PARTS, holds=_DEVICE),
    Key("devices", Value.NAMED, _BRIEF, "the devices by name", default=NO_PARTS, holds=(Holder.DEVICE_NEED,)),
    Key("gateways", Value.LIST, _BRIEF, "where the gateways of VLANs are", default=(), holds=(Holder.GATEWAY,)),
    Key("hosts", Value.NAMED, _NETWORK, "the hosts by name", default=NO_PARTS, holds=_HOST),
    Key("hosts", Value.NAMED, _BRIEF, "the hosts by name", default=NO_PARTS, holds=(Holder.HOST_NEED,)),
    Key("outside", Value.SECTION, _BRIEF, "where the outside is reached", holds=(Holder.OUTSIDE,)),
    Key("cables", Value.LIST, _BOTH, "the cables; one alone is written as its ends", default=(), holds=(Holder.CABLE,)),
    Key("expect", Value.LIST, _BOTH, "what must hold, and is checked", default=(), holds=(Holder.EXPECTATION,)),
    Key("traffic", Value.LIST, _BOTH, "how much hosts send each other", default=(), holds=(Holder.DEMAND,)),
    # VLANs
    Key("id", Value.VLAN_ID, (Holder.VLAN,), "its id; an id alone is written as itself", required=True),
    Key("suspended", Value.FLAG, (Holder.VLAN,), "it exists, and no switch carries it", default=False),
    # devices
    Key("kind", Value.KIND, (Holder.DEVICE, Holder.DEVICE_NEED), "router, l3switch or switch", required=True),
    Key("routing", Value.FAMILY, _DEVICE, "the families that it forwards; must be written on an l3switch", many=True),
    Key("vlans", Value.VLAN, _DEVICE, "the VLANs that exist on it; all of the catalogue where not written", many=True),
    Key("suspended-vlans", Value.VLAN, _DEVICE, "the VLANs that it has and carries nothing in", many=True, default=()),
    Key("ports", Value.NAMED, _DEVICE, "the physical ports by name", default=NO_PARTS, holds=(Holder.PORT,)),
    Key("interfaces", Value.NAMED, _DEVICE, "its other interfaces by name", default=NO_PARTS, holds=INTERFACES),
    Key("routes", Value.LIST, _DEVICE, "the static routes", default=(), holds=(Holder.ROUTE,)),
    Key("ports", Value.PORTS, (Holder.DEVICE_NEED,), "how many (p1, p2, ...), or their names"),
    Key("manage", Value.VLAN, (Holder.DEVICE_NEED,), "the VLAN that it gets an address in, for itself"),
    Key(
        "description",
        Value.TEXT,
        (Holder.DEVICE, *ADDRESSED, Holder.HOST),
        "what people say of it; nothing that decides reads it",
        default="",
    ),
    # ports and interfaces
    Key("speed", Value.SPEED, (Holder.PORT,), "bits per second, such as 100M, 1G or 10G; 1G where not written"),
    Key("mtu", Value.MTU, (*FILTERING, Holder.HOST), "the largest IP packet in octets; 1500 where not written"),
    Key(
        "parent",
        Value.PORT_NAME,
        (Holder.SUBINTERFACE,),
        "the routed port or aggregate that it is a part of",
        tells=True,
    ),
    Key("tag", Value.VLAN, (Holder.SUBINTERFACE,), "the VLAN whose tagged frames are its own"),
    Key(
        "untagged",
        Value.FLAG,
        (Holder.SUBINTERFACE,),
        "its frames are untagged; `tag` says which VLAN is meant",
        default=False,
    ),
    Key("vlan", Value.VLAN, (Holder.VLAN_INTERFACE,), "the VLAN that it is the device's interface in", tells=True),
    Key("members", Value.PORT_NAME, (Holder.AGGREGATE,), "the ports that act as one", many=True, tells=True),
    Key(
        "shared-with",
        Value.NAME,
        (Holder.AGGREGATE,),
        "the device whose aggregate of the same name acts as one with it (IEEE 802.1AX 9)",
    ),
    Key(
        "loopback",
        Value.FLAG,
        (Holder.LOOPBACK,),
        "an address of the device itself, on no port",
        default=False,
        tells=True,
    ),
    Key(
        "access",
        Value.VLAN,
        SWITCHED,
        "the one VLAN of an access port; VLAN 1 where neither this nor `trunk` is written",
    ),
    Key("trunk", Value.TRUNK, SWITCHED, "the VLANs that it carries: all, or a list of names, ids and ranges of ids"),
    Key("untagged", Value.UNTAGGED, SWITCHED, "the untagged VLAN of a trunk, or none; VLAN 1 where not written"),
    Key("routed", Value.FLAG, SWITCHED, "a routed port that has no address yet", default=False),
    Key("address", Value.INTERFACE_ADDRESS, ADDRESSED, "its addresses", many=True, default=(), field="addresses"),
    Key("vrf", Value.NAME, (*ADDRESSED, Holder.ROUTE), "the routing table that it belongs to"),
    # routes
    Key("destination", Value.PREFIX, (Holder.ROUTE,), "the subnet that it leads to", required=True),
    Key("next-hop", Value.NEXT_HOP, (Holder.ROUTE,), "who to send to; a link-local one with %INTERFACE", required=True),
    Key("metric", Value.METRIC, (Holder.ROUTE,), "of two routes to one subnet the lower is used", default=1),
    # hosts, cables, expectations
    Key(
        "outside",
        Value.LIST,
        _NETWORK,
        "the ports that lead outside; where not written, any that a route leads through",
        holds=(Holder.OUTSIDE_PORT,),
    ),
    Key("at", Value.PORT, (Holder.HOST, Holder.OUTSIDE, Holder.OUTSIDE_PORT), "where it is", required=True),
    Key("routes-back", Value.ROUTES_BACK, (Holder.OUTSIDE_PORT,), "what the upstream sends back here", default="all"),
    Key(
        "address",
        Value.HOST_ADDRESS,
        (Holder.HOST, Holder.HOST_NEED),
        "its addresses; auto takes IPv6 from routers, dhcp leases an IPv4 one",
        many=True,
        default=(),
        field="addresses",
    ),
    Key(
        "gateway",
        Value.NEXT_HOP,
        (Holder.DEVICE, Holder.HOST),
        "for its own traffic, in the families that it does not route",
        many=True,
        default=(),
    ),
    Key(
        "unresolved",
        Value.UNRESOLVED,
        (Holder.DEVICE, Holder.HOST),
        "what happens to an IPv4 packet while its next hop is asked for",
    ),
    Key(
        "mac",
        Value.MAC,
        (Holder.DEVICE, Holder.HOST),
        "where it is not to be the one that follows its place in the file",
    ),
    # leases
    Key(
        "dhcp-pools",
        Value.NAMED,
        (*_DEVICE, *_HOST),
        "the addresses that it leases",
        default=NO_PARTS,
        holds=(Holder.POOL,),
    ),
    Key(
        "dhcp-relay", Value.ADDRESS, FILTERING, "the servers that it sends what hosts ask on to", many=True, default=()
    ),
    Key("subnet", Value.PREFIX, (Holder.POOL,), "the subnet of those who ask", required=True),
    Key(
        "range",
        Value.ADDRESS_RANGE,
        (Holder.POOL,),
        "the addresses given, in this order",
        many=True,
        default=(),
        field="ranges",
    ),
    Key("gateway", Value.ADDRESS, (Holder.POOL,), "the gateway given; none where not written"),
    Key("dns-server", Value.ADDRESS, (Holder.POOL,), "the name servers given", many=True, default=()),
    Key("lease-time", Value.DURATION, (Holder.POOL,), "how long a lease is", default=USUAL_LEASE),
    Key("reservations", Value.NAMED, (Holder.POOL,), "the address kept for a host, by its name", default=NO_PARTS),
    # spanning tree
    Key("spanning-tree", Value.ON_OFF, _DEVICE, "whether it takes part in the spanning tree", default=True),
    Key("bridge-priority", Value.BRIDGE_PRIORITY, _DEVICE, "the lowest is the tree's root; 32768 where not written"),
    Key("path-cost", Value.PATH_COST, SWITCHED, "what the way by it costs; by its speed where not written"),
    Key("edge", Value.FLAG, SWITCHED, "no bridge is behind it: it forwards at once", default=False),
    # shared gateways
    Key(
        "virtual",
        Value.LIST,
        FILTERING,
        "the virtual routers that it is a member of (VRRP, RFC 9568); one alone is written as itself",
        default=(),
        holds=(Holder.VIRTUAL_ROUTER,),
    ),
    Key("vrid", Value.VRID, _VIRTUAL, "the virtual router's number", required=True),
    Key(
        "address",
        Value.ADDRESS,
        _VIRTUAL,
        "what the active member answers for, of one family",
        many=True,
        required=True,
        field="addresses",
    ),
    Key("priority", Value.PRIORITY, _VIRTUAL, "the highest is active", default=USUAL_PRIORITY),
    Key("preempt", Value.FLAG, _VIRTUAL, "whether it takes over from a lower one that is active", default=True),
    Key("hold-time", Value.DURATION, _VIRTUAL, "how long it is up before it takes over", default=0),
    Key("advertise-interval", Value.DURATION, _VIRTUAL, "between two advertisements", default=USUAL_INTERVAL),
    Key("track", Value.LIST, _VIRTUAL, "what lessens its priority while down", default=(), holds=(Holder.TRACK,)),
    Key("interface", Value.PORT_NAME, (Holder.TRACK,), "a port, aggregate or interface that must be up"),
    Key("network", Value.PREFIX, (Holder.TRACK,), "a network that there must be a route to, exactly"),
    Key("priority-decrement", Value.DECREMENT, (Holder.TRACK,), "by how much", default=USUAL_DECREMENT),
    # filters
    Key("console", Value.FLAG, _DEVICE, "it has a way in of its own, not over this network", default=False),
    Key("filters", Value.NAMED, _DEVICE, "its filters by name", default=NO_PARTS, holds=(Holder.FILTER,)),
    Key("filter-in", Value.NAME, FILTERING, "the filter that sees what comes in"),
    Key("filter-out", Value.NAME, FILTERING, "the filter that sees what is forwarded out"),
    Key(
        "source-nat",
        Value.ADDRESSES,
        (Holder.PORT, Holder.SUBINTERFACE, Holder.AGGREGATE),
        "whose packets leave with the interface's own address (RFC 3022)",
        many=True,
        default=(),
    ),
    Key("rules", Value.LIST, (Holder.FILTER,), "its lines; the first that matches decides", default=(), holds=_RULE),
    Key("otherwise", Value.ACTION, (Holder.FILTER,), "what becomes of what no line matches", required=True),
    Key("stateful", Value.FLAG, (Holder.FILTER,), "what belongs to a known conversation passes", default=False),
    Key("accept", Value.TRAFFIC, _RULE, "what goes on", many=True, default=()),
    Key("drop", Value.TRAFFIC, _RULE, "what ends in silence", many=True, default=()),
    Key("reject", Value.TRAFFIC, _RULE, "what ends, its sender told", many=True, default=()),
    Key("source", Value.ADDRESSES, _RULE, "where it comes from", many=True, default=()),
    Key("destination", Value.ADDRESSES, _RULE, "where it goes", many=True, default=()),
    Key("destination-port", Value.PORT_RANGE, _RULE, "tcp's or udp's", many=True, default=()),
    Key("source-port", Value.PORT_RANGE, _RULE, "tcp's or udp's", many=True, default=()),
    Key("icmp-type", Value.ICMP_TYPE, _RULE, "echo's request or reply, or an error"),
    Key("answering", Value.FLAG, _RULE, "tcp with ACK or RST set only", default=False),
    Key("ends", Value.ENDS, (Holder.CABLE,), "the two ports that it joins", required=True),
    Key("off", Value.FLAG, _EVERY_PART, "administratively off", default=False),
    Key("from", Value.PARTY, (Holder.EXPECTATION,), "who begins", required=True, field="source"),
    Key(
        "to",
        Value.PARTY,
        (Holder.EXPECTATION,),
        "who is to be reached, or not; also gateway, each source's own",
        required=True,
        field="target",
    ),
    Key("reached", Value.FLAG, (Holder.EXPECTATION,), "whether they must be reached, or must not be", required=True),
    # policy
    Key("policy", Value.SECTION, _BOTH, "who may begin which conversations with whom", holds=(Holder.POLICY,)),
    Key("rules", Value.LIST, (Holder.POLICY,), "its lines; the first decides", default=(), holds=_POLICY_RULE),
    Key("otherwise", Value.ANY_OR_NONE, (Holder.POLICY,), "what may be begun where no line says", required=True),
    Key("from", Value.PARTY, _POLICY_RULE, "who begins; any for all", many=True, required=True, field="source"),
    Key("to", Value.PARTY, _POLICY_RULE, "with whom; any for all", many=True, required=True, field="target"),
    Key("may", Value.TRAFFIC, _POLICY_RULE, "what may be begun", many=True, default=()),
    Key("may-not", Value.TRAFFIC, _POLICY_RULE, "what may not be begun", many=True, default=()),
    Key("probe", Value.PROBE, (Holder.EXPECTATION,), "what is sent; icmp where not written", many=True, default=()),
    # how much is sent
    Key("from", Value.PARTY, _DEMAND, "whose hosts send; any for all", required=True, field="source"),
    Key("to", Value.PARTY, _DEMAND, "whose hosts they send to; any for all", required=True, field="target"),
    Key("rate", Value.SPEED, _DEMAND, "bits per second of all of them together, such as 40M", required=True),
    Key("answers", Value.SHARE, _DEMAND, "how much comes back, as a share of it", default=Fraction(0)),
    Key("probe", Value.PROBE, _DEMAND, "by what, where filters decide; icmp where not written", default=ECHO),
    # what a brief needs
    Key(
        "gateway",
        Value.GATEWAY_CONVENTION,
        (Holder.CONVENTIONS,),
        "where in its subnet: first, last, +N or -N",
        default=FIRST,
    ),
    Key("headroom", Value.SHARE, (Holder.CONVENTIONS,), "free room kept in each subnet", default=Fraction(1, 4)),
    Key(
        "leases",
        Value.SHARE,
        (Holder.CONVENTIONS,),
        "the upper share of a subnet kept for DHCP",
        default=Fraction(1, 2),
    ),
    Key("growth", Value.SHARE, (Holder.CONVENTIONS,), "how many more hosts there are each year", default=Fraction(0)),
    Key("years", Value.YEARS, (Holder.CONVENTIONS,), "for how many years room is made", default=3),
    Key("server", Value.NAME, (Holder.CONVENTIONS,), "who leases addresses: gateway, or a host or device"),
    Key("dns-server", Value.PARTY, (Holder.CONVENTIONS,), "name servers, hosts or addresses", many=True, default=()),
    Key("subnets", Value.SUBNETS, (Holder.CONVENTIONS,), "how they are laid out", default="by-size"),
    Key("subinterface", Value.SUBINTERFACE, (Holder.CONVENTIONS,), "how they are numbered", default="by-vlan-id"),
    Key("transit", Value.TRANSIT, (Holder.CONVENTIONS,), "the size of links between routing devices", default=31),
    Key("loopbacks", Value.FLAG, (Holder.CONVENTIONS,), "a loopback address on every routing device", default=False),
    Key("untagged", Value.UNTAGGED, (Holder.CONVENTIONS,), "the untagged VLAN of trunks, or none", default="none"),
    Key("id", Value.VLAN_ID, (Holder.VLAN_NEED,), "its VLAN id", required=True),
    Key("hosts", Value.COUNT, (Holder.VLAN_NEED,), "how many to make room for", default=0),
    Key(
        "later",
        Value.COUNT,
        (Holder.VLAN_NEED,),
        "how many there will be once the years planned for are over",
        default=0,
    ),
    Key("subnet", Value.PREFIX, (Holder.VLAN_NEED,), "its subnet, where it is decided", many=True, default=()),
    Key(
        "gateway",
        Value.ADDRESS,
        (Holder.VLAN_NEED,),
        "its gateway's address, where it is decided",
        many=True,
        default=(),
    ),
    Key("at", Value.PLACE, (Holder.VLAN_NEED,), "switches, or free ports, that must have it", many=True, default=()),
    Key(
        "families", Value.FAMILY, (Holder.VLAN_NEED,), "the families that it gets subnets of", many=True, default=(4, 6)
    ),
    Key(
        "for",
        Value.VLAN,
        (Holder.GATEWAY,),
        "the VLANs whose gateways they are",
        many=True,
        required=True,
        field="vlans",
    ),
    Key(
        "at",
        Value.PLACE,
        (Holder.GATEWAY,),
        "a router's port, or an l3switch; several l3switches that share them",
        many=True,
        required=True,
        field="places",
    ),
    Key("shared", Value.FLAG, (Holder.GATEWAY,), "several l3switches share them (VRRP)", default=False),
    Key("spread", Value.FLAG, (Holder.GATEWAY,), "the active roles are shared out, too", default=False),
    Key("untagged", Value.FLAG, (Holder.GATEWAY,), "the whole router port is for one VLAN", default=False),
    Key("vlan", Value.VLAN, (Holder.HOST_NEED,), "its VLAN", required=True),
    Key(
        "at",
        Value.PLACE,
        (Holder.HOST_NEED,),
        "a port, or a switch, which then chooses one",
        required=True,
        field="place",
    ),
    Key(
        "address",
        Value.INTERFACE_ADDRESS,
        (Holder.OUTSIDE,),
        "this side's addresses",
        many=True,
        required=True,
        field="addresses",
    ),
    Key("next-hop", Value.NEXT_HOP, (Holder.OUTSIDE,), "the far side's addresses", many=True, required=True),
    Key("source-nat", Value.FLAG, (Holder.OUTSIDE,), "leave with the port's own IPv4 address", default=False),
    # what a recipe does
    Key("replace", Value.LIST, _RECIPE, "devices that others take the place of", default=(), holds=(Holder.REPLACED,)),
    Key("split", Value.LIST, _RECIPE, "VLANs that a new one takes hosts from", default=(), holds=(Holder.SPLIT,)),
    Key("renumber", Value.LIST, _RECIPE, "VLANs that get another subnet", default=(), holds=(Holder.RENUMBERED,)),
    Key("add-ipv6", Value.LIST, _RECIPE, "VLANs that get IPv6, too", default=(), holds=(Holder.WITH_IPV6,)),
    Key(
        "move-gateways",
        Value.LIST,
        _RECIPE,
        "gateways that other devices take over",
        default=(),
        holds=(Holder.MOVED_GATEWAYS,),
    ),
    Key("device", Value.NAME, (Holder.REPLACED,), "the device that goes", required=True),
    Key("by", Value.NAME, (Holder.REPLACED,), "what the one is called that comes, set up the same", required=True),
    Key("vlans", Value.VLAN, (Holder.MOVED_GATEWAYS,), "whose gateways", many=True, required=True),
    Key(
        "to", Value.NAME, (Holder.MOVED_GATEWAYS,), "a layer 3 switch, or two that share them", many=True, required=True
    ),
    Key("transit", Value.PREFIX, (Holder.MOVED_GATEWAYS,), "the subnet to the old place", many=True, default=()),
    Key("vlan", Value.VLAN, _ONE_VLAN, "which", required=True),
    Key("subnet", Value.PREFIX, _ONE_VLAN, "the new subnet, of each family", many=True, required=True),
    Key("new", Value.NAME, (Holder.SPLIT,), "what the new VLAN is called", required=True),
    Key("id", Value.VLAN_ID, (Holder.SPLIT,), "its VLAN id", required=True),
    Key("hosts", Value.NAME, (Holder.SPLIT,), "the hosts that it takes", many=True, required=True),
)
"""All keys, in the order in which they are documented and written."""


def _by_holder() -> dict[Holder, tuple[Key, ...]]:
    return {holder: tuple(key for key in KEYS if holder in key.of) for holder in Holder}


_OF = _by_holder()


def keys_of(holder: Holder) -> tuple[Key, ...]:
    """The keys that a holder may have."""
    return _OF[holder]


def telling_key(holder: Holder) -> Key:
    """The key that tells an interface of that kind."""
    return next(key for key in _OF[holder] if key.tells)
