"""Every kind of finding, once: its name, how bad it is, what it is, what it breaks, and whether a mend comes with it.

`docs/findings.md` is printed from this list.
"""

from __future__ import annotations

from archipelago.diagnosis.kind import ALWAYS, NEVER, OFTEN, Kind
from archipelago.diagnosis.kinds_of_filters import FILTERS
from archipelago.diagnosis.kinds_of_leases import LEASES
from archipelago.diagnosis.kinds_of_redundancy import REDUNDANCY

_OUTSIDE_OWN = "{name} answers nobody outside its own subnet"
_ALL = (
    # links
    Kind("admin-down", "error", "a port, interface, device, host or cable that is switched off", "{effect}", ALWAYS),
    Kind("not-cabled", "error", "a port that is set up for traffic and has no cable", "nothing crosses it", OFTEN),
    Kind(
        "cable-elsewhere",
        "error",
        "a cable that ends at another port than the one that is set up for it",
        "nothing crosses it",
        ALWAYS,
    ),
    Kind(
        "mtu-mismatch",
        "risk",
        "a port that passes smaller packets than those that come there",
        "small packets arrive, large ones are lost in silence: nobody tells their sender",
        ALWAYS,
    ),
    Kind(
        "packet-too-large",
        "error",
        "an interface that a packet is too large for (asked for by its size)",
        "small packets arrive, ones of that size do not",
        ALWAYS,
    ),
    Kind(
        "no-layer2-path", "error", "no cables over switches join two that share a VLAN", "{vlan} is partitioned", NEVER
    ),
    Kind(
        "switching-loop",
        "error",
        "cables that carry one VLAN in a circle",
        "the first broadcast never ends and takes the VLAN down",
        OFTEN,
    ),
    Kind(
        "members-differ",
        "risk",
        "an aggregate whose members differ in speed or lead to different devices",
        "frames arrive by a member that the far end does not take for the same link",
        OFTEN,
    ),
    Kind("member-dead", "risk", "an aggregate with a dead member", "the next failure takes the whole link down", OFTEN),
    *FILTERS,
    *LEASES,
    *REDUNDANCY,
    Kind(
        "ranges-overlap",
        "note",
        "two ranges of port names that overlap",
        "nothing; it misleads whoever reads the file",
        NEVER,
    ),
    Kind(
        "port-beyond-range",
        "risk",
        "something plugged into a port beyond those that the ranges of its device list",
        "the port exists with its defaults, which nobody chose",
        NEVER,
    ),
    # switching
    Kind(
        "vlan-absent",
        "error",
        "a VLAN that does not exist on a switch that must pass it on",
        "every frame of {vlan} ends at {device}",
        ALWAYS,
    ),
    Kind(
        "vlan-listed-in-vain",
        "note",
        "a trunk that lists a VLAN which its device neither has nor needs",
        "nothing; it misleads whoever reads it",
        ALWAYS,
    ),
    Kind(
        "vlan-not-carried",
        "error",
        "a trunk that lacks a VLAN which must cross it",
        "{vlan} is partitioned there",
        ALWAYS,
    ),
    Kind(
        "trunk-expected", "error", "an access port where the far end needs a trunk", "only one VLAN crosses it", ALWAYS
    ),
    Kind(
        "tag-mismatch",
        "error",
        "a link whose one end speaks for a VLAN with tagged frames, the other with untagged ones",
        "no frame of {vlan} crosses the link",
        OFTEN,
    ),
    Kind(
        "vlans-share-port",
        "error",
        "a routed port with addresses for several VLANs, whose frames are all untagged",
        "at most one of {vlans} has a gateway there",
        OFTEN,
    ),
    Kind(
        "routed-against-switched",
        "error",
        "a routed port that hears nothing of what its switched far end sends",
        "nothing passes between {place} and its far end",
        OFTEN,
    ),
    Kind("untagged-vlan-mismatch", "error", "a link whose two ends have different untagged VLANs", "{effect}", OFTEN),
    Kind(
        "vlan-one",
        "risk",
        "a host in VLAN 1, where every port starts",
        "whatever is plugged in anywhere joins it",
        NEVER,
    ),
    Kind(
        "untagged-default",
        "note",
        "a trunk that carries VLAN 1 because nothing else is written",
        "VLAN 1 spreads to wherever it is not wanted",
        ALWAYS,
    ),
    Kind(
        "untagged-leaks",
        "note",
        "a trunk that sends a VLAN untagged to a router that takes no untagged frames",
        "broadcasts of {vlan} cross the link for nothing",
        ALWAYS,
    ),
    Kind(
        "hosts-untagged",
        "note",
        "a trunk whose untagged VLAN has hosts in it",
        "a port that is wrongly an access port elsewhere joins it unseen",
        OFTEN,
    ),
    Kind(
        "vlan-not-needed-on-trunk",
        "note",
        "a trunk that carries a VLAN which nobody beyond it needs",
        "broadcasts of those VLANs cross the link for nothing",
        ALWAYS,
    ),
    Kind(
        "vlan-unused",
        "note",
        "a VLAN of the catalogue that nothing uses",
        "nothing; it misleads whoever reads the plan",
        ALWAYS,
    ),
    # hosts
    Kind(
        "address-missing",
        "error",
        "a host without an address, of a family or at all",
        "{name} neither sends nor answers",
        OFTEN,
    ),
    Kind(
        "prefix-unadvertised",
        "error",
        "a host that takes its address from routers, where none advertises a prefix",
        "{name} has no IPv6 address",
        NEVER,
    ),
    Kind(
        "no-common-family",
        "error",
        "two ends of a question that share no address family",
        "no packet can be sent",
        NEVER,
    ),
    Kind("gateway-missing", "error", "a host, or a device that does not route, without a gateway", _OUTSIDE_OWN, OFTEN),
    Kind(
        "gateway-wrong",
        "error",
        "a gateway that is out of reach, held by nobody, or does not route",
        _OUTSIDE_OWN,
        OFTEN,
    ),
    Kind("mask-mismatch", "error", "an address whose prefix length is not that of its subnet", "{effect}", ALWAYS),
    Kind(
        "vlan-wrong",
        "error",
        "a host at a port that is not in the VLAN of its subnet",
        "{name} reaches neither its gateway nor its subnet",
        ALWAYS,
    ),
    Kind(
        "addresses-in-two-vlans",
        "error",
        "a host with addresses of several VLANs",
        "it is plugged into one VLAN at most and reaches nobody by the others",
        NEVER,
    ),
    # addresses
    Kind(
        "duplicate-address",
        "error",
        "one address on several interfaces",
        "whoever answers last gets the traffic of all",
        OFTEN,
    ),
    Kind(
        "mac-twice",
        "error",
        "one MAC address at two stations of a VLAN",
        "switches send what is for the one to the other",
        ALWAYS,
    ),
    Kind(
        "address-unusable",
        "error",
        "the broadcast or all-zeros address of a subnet, held or asked for",
        "packets to it are not forwarded (RFC 2644)",
        OFTEN,
    ),
    Kind(
        "held-by-another",
        "error",
        "an address that another holds in the routing table that it was asked for in",
        "{name} is never asked",
        NEVER,
    ),
    Kind(
        "address-astray",
        "error",
        "a host whose address is not of the subnet of its VLAN and its gateway",
        "{name} reaches neither its gateway nor its subnet",
        OFTEN,
    ),
    Kind(
        "gateway-address-wrong",
        "error",
        "a gateway that holds another address than its hosts use",
        "the hosts of {vlan} have no gateway",
        OFTEN,
    ),
    Kind("address-unheld", "error", "an address that nobody holds", "packets to {target} end at {device}", NEVER),
    Kind(
        "subnet-overlap",
        "error",
        "two subnets that share addresses and are not one",
        "the same addresses are routed to two places",
        OFTEN,
    ),
    Kind(
        "insides-overlap",
        "risk",
        "a subnet behind an interface that translates it, which is elsewhere, too",
        "neither side can begin with the other",
        NEVER,
    ),
    Kind(
        "link-mask-mismatch",
        "error",
        "two routing interfaces on one link that disagree on its prefix length",
        "each takes part of the other's subnet for addresses elsewhere",
        ALWAYS,
    ),
    Kind(
        "link-subnets-differ",
        "error",
        "two routing interfaces on one link in different subnets",
        "neither can be the other's next hop",
        NEVER,
    ),
    # interfaces of routing devices
    Kind(
        "no-gateway-in-vlan",
        "error",
        "a subnet with hosts that no routing device has an interface in",
        "{effect}",
        OFTEN,
    ),
    Kind(
        "vlan-interface-down",
        "error",
        "a VLAN interface without a live port that carries its VLAN",
        "the subnet of {interface} is unreachable",
        NEVER,
    ),
    Kind(
        "tag-wrong",
        "error",
        "an interface that stands in another VLAN than the hosts of its subnet",
        "{vlan} has no gateway",
        OFTEN,
    ),
    Kind(
        "address-on-parent",
        "error",
        "an address at a port that its subinterface is to have: the hosts of its subnet are in that VLAN",
        "{vlan} has no gateway",
        OFTEN,
    ),
    Kind("tag-missing", "error", "a subinterface without a tag", "it neither sends nor hears a frame", OFTEN),
    Kind(
        "tag-repeated",
        "error",
        "two subinterfaces of one port with one tag",
        "{interface} never hears an answer",
        OFTEN,
    ),
    Kind(
        "gateway-ignored",
        "risk",
        "a gateway on a device that routes that family itself",
        "the device does not use it",
        ALWAYS,
    ),
    Kind(
        "number-differs",
        "note",
        "a subinterface whose number is another VLAN's than its tag",
        "nothing; it misleads whoever reads the plan",
        NEVER,
    ),
    # routing
    Kind(
        "routing-off",
        "error",
        "a device that is used as a gateway and does not forward",
        "nothing crosses from one of its subnets to another",
        ALWAYS,
    ),
    Kind(
        "upstream-route-missing",
        "error",
        "what is outside has no route back to a subnet of ours",
        "no answer from outside comes back",
        NEVER,
    ),
    Kind(
        "vrf-alone",
        "risk",
        "a gateway that is alone in a routing table (vrf) which leads nowhere",
        "{vlan} is cut off from all other VLANs",
        ALWAYS,
    ),
    Kind(
        "translation-missing",
        "error",
        "a port that leads outside and does not translate what the outside sends nothing back to",
        "no answer from outside comes back to {name}",
        ALWAYS,
    ),
    Kind("route-missing", "error", "a device without a route that the traffic needs", "{effect}", OFTEN),
    Kind(
        "next-hop-unusable", "error", "a static route whose next hop cannot be used", "{device} does not use it", OFTEN
    ),
    Kind(
        "routing-loop",
        "error",
        "devices that send packets for one subnet to each other",
        "such packets go round until their TTL or hop limit runs out",
        ALWAYS,
    ),
    Kind(
        "parent-wrong",
        "error",
        "a subinterface of a port whose link does not lead to its VLAN",
        "nobody in {vlan} hears it",
        ALWAYS,
    ),
    Kind(
        "interface-missing", "error", "no interface on a link that a device's routes need", "{device} uses none", OFTEN
    ),
    Kind("way-too-long", "error", "a way over more routers than a packet may pass", "nothing gets that far", NEVER),
    Kind(
        "route-never-used",
        "note",
        "a static route that another of the same prefix always beats",
        "nothing; it misleads whoever reads it",
        ALWAYS,
    ),
    Kind(
        "more-specific-route",
        "error",
        "a static route that takes part of a connected subnet away",
        "packets for hosts in {prefix} leave {device} again",
        ALWAYS,
    ),
    Kind(
        "pair-differs",
        "risk",
        "two devices that are gateways of the same subnets, but not of all",
        "when {device} fails, {prefix} has no gateway",
        NEVER,
    ),
    # what is expected
    Kind(
        "outside-missing",
        "error",
        "nothing leads outside, and somebody should get there",
        "nothing gets out, and nothing comes in",
        NEVER,
    ),
    Kind(
        "expectation-broken",
        "error",
        "what the network expects does not hold",
        "what the network's own 'expect' promises",
        OFTEN,
    ),
    Kind("expectation-idle", "risk", "an expectation with nobody to check", "nothing is checked", NEVER),
    # limits of what was looked into
    Kind("unexplained", "error", "no rule knows why a packet ends there", "the packet ends there", NEVER),
    Kind("not-asked", "note", "pairs whose cause was not looked for", "too many pairs to ask about each", NEVER),
)
KINDS = {kind.name: kind for kind in _ALL}
"""Every kind by its name."""
