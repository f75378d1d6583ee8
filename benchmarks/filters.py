"""All pairs with filters, against the same network without. Run: python benchmarks/filters.py

100,000 hosts in 1,000 VLANs on 100 routing devices; 10,000 lines of filters at the gateways, of subnets and 200 single
hosts; five kinds of probe. At most 5 times what the network without filters costs, under 2 GiB.
"""

from __future__ import annotations

import resource
from collections.abc import Mapping
from dataclasses import replace
from random import Random

from estate import estate
from measure import seconds

from archipelago.addressing.values import WIDTHS, Prefix
from archipelago.knowledge.known import know
from archipelago.model.filters import Filter, FilterRule, parse_probe, parse_traffic
from archipelago.model.network import Network
from archipelago.model.parts import Interface, Loopback
from archipelago.reachability.build import build_arrays
from archipelago.reachability.matrix import by_probe

PROBES = [parse_probe(text) for text in ("icmp", "tcp/443", "tcp/22", "udp/53", "udp/161")]
LINES = 10


def with_filters(network: Network) -> Network:
    """A filter of ten lines where each VLAN comes in."""
    random = Random(15)
    hosts = list(network.hosts.values())
    subnets = sorted({host.addresses[0].prefix for host in hosts})
    singles = [Prefix(4, host.addresses[0].value, WIDTHS[4]) for host in random.sample(hosts, 200)]
    words = [(parse_traffic(word),) for word in ("any", "icmp", "tcp", "tcp/443", "udp/53", "udp", "tcp/20-25")]

    def rule() -> FilterRule:
        ends = tuple(random.sample(singles if random.random() < 0.1 else subnets, random.choice((1, 1, 2))))
        traffic = random.choice(words)
        return FilterRule(**{random.choice(("accept", "drop")): traffic, "destination": ends})

    devices = dict(network.devices)
    for name, device in network.devices.items():
        filters: dict[str, Filter] = {}
        interfaces: dict[str, Interface] = {}
        for label, part in device.interfaces.items():
            if part.addresses and not isinstance(part, Loopback) and device.kind != "switch":
                made = Filter(f"in-{label}", "accept", tuple(rule() for _ in range(LINES)), device.kind == "router")
                filters[made.name] = made
                part = replace(part, filter_in=made.name)
            interfaces[label] = part
        devices[name] = replace(device, interfaces=interfaces, filters=filters)
    return replace(network, devices=devices)


def lines_of(devices: Mapping[str, object]) -> int:
    return sum(len(one.rules) for device in devices.values() for one in device.filters.values())  # type: ignore[attr-defined]


def main() -> None:
    plain = estate(100, 1000, 100_000)
    guarded = with_filters(plain)

    def every(network: Network) -> None:
        for _ in by_probe(build_arrays(know(network)), PROBES if network is guarded else PROBES[:1], causes=False):
            pass

    every(plain)
    ours, theirs = seconds(lambda: every(guarded)), seconds(lambda: every(plain))
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20
    print(f"{len(plain.hosts):,} hosts, {lines_of(guarded.devices):,} lines, {len(PROBES)} kinds of probe")
    print(f"  with filters {ours:.2f} s, without {theirs:.2f} s, ratio {ours / theirs:.1f}, at most 5")
    print(f"  memory {memory:.2f} GiB, at most 2")


if __name__ == "__main__":
    main()
