"""The kinds of finding about leases."""

from __future__ import annotations

from archipelago.diagnosis.kind import NEVER, OFTEN, Kind

LEASES = (
    Kind("pool-used-up", "error", "a pool with fewer addresses than hosts that ask", "{name} gets no address", OFTEN),
    Kind("pool-missing", "error", "hosts ask in a VLAN that no pool is for", "{name} gets no address", OFTEN),
    Kind("relay-missing", "error", "hosts ask where no relay hears them", "{name} gets no address", OFTEN),
    Kind("relay-nowhere", "error", "a relay to an address that nobody serves at", "{name} gets no address", OFTEN),
    Kind("lease-unheard", "error", "a host that nobody hears who leases", "{name} gets no address", NEVER),
    Kind("lease-filtered", "error", "a filter in the way of a lease", "{name} gets no address", OFTEN),
    Kind("renewal-filtered", "risk", "a filter lets the first lease pass and not its renewal", "{effect}", OFTEN),
    Kind("lease-of-server", "error", "a host that serves leases and asks for one", "{name} has no address", NEVER),
    Kind(
        "pool-gateway-wrong",
        "error",
        "a pool that gives a gateway which is none in the VLAN",
        "{name} answers nobody outside its own subnet",
        OFTEN,
    ),
    Kind(
        "pool-gateway-missing",
        "error",
        "a pool that gives no gateway although the VLAN has one",
        "{name} answers nobody outside its own subnet",
        OFTEN,
    ),
    Kind(
        "pool-subnet-wrong",
        "error",
        "a pool whose subnet is not that of the VLAN",
        "{name} takes near for far, or far for near",
        OFTEN,
    ),
    Kind(
        "pool-over-address",
        "error",
        "a pool that gives an address which somebody has",
        "two share {address} once it is given",
        OFTEN,
    ),
    Kind(
        "servers-differ",
        "risk",
        "two servers that answer one VLAN differently",
        "hosts get one or the other's answer, by chance",
        OFTEN,
    ),
    Kind(
        "servers-overlap",
        "risk",
        "two servers of one VLAN that can give the same address",
        "two hosts can be given one address",
        OFTEN,
    ),
    Kind(
        "server-stranger",
        "risk",
        "a host that leases addresses in a VLAN which another server is for",
        "who plugs in gets its answers, whatever they are",
        OFTEN,
    ),
    Kind(
        "lease-elsewhere",
        "risk",
        "a host that leases in another VLAN than the one it is known in",
        "{name} works, with an address of the wrong subnet",
        OFTEN,
    ),
    Kind(
        "lease-apart",
        "risk",
        "a host that leases in another VLAN than the one called like it, where others of its name do",
        "{name} works, perhaps with an address of the wrong subnet",
        OFTEN,
    ),
    Kind("reservation-idle", "note", "an address kept for who never asks there", "nothing; it stays kept", OFTEN),
)
