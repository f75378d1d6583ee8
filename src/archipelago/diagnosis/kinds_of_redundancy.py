"""The kinds of finding about the spanning tree and about gateways that several devices share."""

from __future__ import annotations

from archipelago.diagnosis.kind import ALWAYS, NEVER, OFTEN, Kind

REDUNDANCY = (
    # spanning tree
    Kind(
        "root-by-accident",
        "risk",
        "nobody wrote a bridge priority, and a plain switch is the tree's root",
        "traffic between the others takes its way by {root}",
        OFTEN,
    ),
    Kind(
        "root-elsewhere",
        "note",
        "the tree's root and the active gateway are different devices",
        "frames to the gateway can take a detour by {root}",
        OFTEN,
    ),
    Kind(
        "edge-to-bridge",
        "risk",
        "an edge port that leads to another bridge",
        "it forwards before the tree has settled, which can close a circle for a while",
        ALWAYS,
    ),
    Kind(
        "spare-lacks-vlan",
        "risk",
        "a link that the tree keeps in reserve carries less than the one in use",
        "{vlans} is cut once the tree falls back on it",
        ALWAYS,
    ),
    Kind(
        "circle-by-wire",
        "risk",
        "a circle that is closed by a device which takes no part in the spanning tree",
        "a real device may not pass the tree's frames on, and the circle becomes a storm",
        ALWAYS,
    ),
    # shared gateways
    Kind(
        "shared-addresses-differ",
        "error",
        "members of a virtual router with other addresses than the active one",
        "once it is active it answers for other addresses than hosts use",
        ALWAYS,
    ),
    Kind(
        "shared-intervals-differ",
        "risk",
        "members of a virtual router that advertise at other intervals",
        "how long a takeover lasts hangs on who was active",
        ALWAYS,
    ),
    Kind(
        "vrids-differ",
        "error",
        "one address in two virtual routers of a broadcast domain",
        "two answer for {address}, and who is believed is chance",
        ALWAYS,
    ),
    Kind(
        "active-twice",
        "error",
        "members of a virtual router that do not hear each other, both active",
        "each part of the VLAN has a gateway of its own, and answers go to the wrong part",
        OFTEN,
    ),
    Kind(
        "active-not-routing",
        "error",
        "the active member of a virtual router does not route",
        "nobody gets beyond {address}",
        OFTEN,
    ),
    Kind(
        "member-missing",
        "risk",
        "a gateway shared in some VLANs and in others held by one of the pair alone",
        "{vlan} has no gateway once {device} is gone",
        OFTEN,
    ),
    Kind(
        "members-route-differently",
        "risk",
        "a route that one member of a pair has and the other lacks",
        "{destination} is out of reach {when}",
        OFTEN,
    ),
    Kind(
        "members-filter-differently",
        "risk",
        "a filter that one member of a virtual router has and the other lacks",
        "what may pass changes with who is active",
        ALWAYS,
    ),
    Kind(
        "members-relay-differently",
        "risk",
        "a relay that one member of a virtual router has and the other lacks",
        "nobody in {vlan} gets a lease once {device} is gone",
        ALWAYS,
    ),
    Kind(
        "members-lease-differently",
        "risk",
        "leases that one member of a virtual router gives and the other does not",
        "nobody in {vlan} gets a lease once {device} is gone",
        NEVER,
    ),
    Kind(
        "preempts-at-once",
        "risk",
        "a member that takes over as soon as its interface is up, before what it routes by is",
        "packets vanish at {device} from its return until its routes work",
        ALWAYS,
    ),
    Kind(
        "uplink-untracked",
        "risk",
        "an active gateway that stays active without its way on",
        "packets end at {device} once {uplink} is down, though another gateway has a way",
        ALWAYS,
    ),
    Kind(
        "next-hop-of-one",
        "risk",
        "a route by one member's own address behind a switch, which outlives it",
        "the route stays once {device} is gone, and packets vanish",
        OFTEN,
    ),
    Kind(
        "gateway-of-one",
        "risk",
        "a host, or a pool of leases, whose gateway is one member's own address",
        "{who} answers nobody outside its own subnet once {device} is gone",
        ALWAYS,
    ),
    Kind(
        "answers-elsewhere",
        "risk",
        "question and answer pass different members, of which one knows conversations",
        "answers between {vlans} are dropped where the question did not pass",
        OFTEN,
    ),
    Kind(
        "gateway-claimable",
        "risk",
        "a virtual router below priority 255 in a VLAN that has access ports (RFC 9568 9: nobody proves who it is)",
        "who plugs in there can bid higher and be everybody's gateway",
        NEVER,
    ),
)
