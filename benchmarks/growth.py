"""What each verb costs as networks grow, against reading the same file: `python benchmarks/growth.py [CASE ...]`.

Every case is a document of one kind in two sizes. Printed are the seconds of reading, the verb's as a multiple of them,
and how much more the verb takes where the size is doubled (2 is linear).
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from io import BytesIO
from typing import Any

from measure import timed

from archipelago import audit, matrix, read_network, view
from archipelago.exchange.linux import script
from archipelago.knowledge.index import index_network
from archipelago.views.draw import picture_of

Lines = Iterator[str]


def link(number: int, end: int) -> str:
    """One end of the /31 of a link between two routers."""
    value = 2 * number + end
    return f"10.{64 + (value >> 16)}.{value >> 8 & 255}.{value & 255}"


def subnet(number: int, last: int) -> str:
    return f"10.{number >> 8}.{number & 255}.{last}"


def routers(count: int, links: list[tuple[int, int]], towards: Callable[[int, int], int]) -> Lines:
    """Routers with a subnet and a host each, and routes from each to every subnet by the neighbour `towards` it."""
    ends = {pair: (link(number, 0), link(number, 1)) for number, pair in enumerate(links)}
    near: dict[int, dict[int, tuple[str, str]]] = {number: {} for number in range(count)}
    for (a, b), (here, there) in ends.items():
        near[a][b], near[b][a] = (here, there), (there, here)
    yield "devices:"
    for number in range(count):
        yield f"  r{number}: "
        yield "    kind: router"
        yield "    ports:"
        yield f"      lan: {{address: {subnet(number, 1)}/24}}"
        for other, (own, _) in near[number].items():
            yield f"      to-{other}: {{address: {own}/31}}"
        yield "    routes:"
        for other in range(count):
            if other != number:
                hop = near[number][towards(number, other)][1]
                yield f"      - {{destination: {subnet(other, 0)}/24, next-hop: {hop}}}"
    yield "hosts:"
    for number in range(count):
        yield f"  h{number}: {{at: r{number}/lan, address: {subnet(number, 2)}/24, gateway: {subnet(number, 1)}}}"
    yield "cables:"
    yield from (f"  - r{a}/to-{b} ~ r{b}/to-{a}" for a, b in links)


def mesh(count: int) -> Lines:
    return routers(count, [(a, b) for a in range(count) for b in range(a + 1, count)], lambda here, there: there)


def line(count: int) -> Lines:
    return routers(
        count, [(a, a + 1) for a in range(count - 1)], lambda here, there: here + (1 if there > here else -1)
    )


def routes(count: int) -> Lines:
    yield "devices:"
    yield "  r:"
    yield "    kind: router"
    yield f"    ports: {{p1: {{address: {link(0, 0)}/31}}, lan: {{address: {subnet(1, 1)}/24}}}}"
    yield "    routes:"
    for number in range(count):
        destination = f"10.{100 + (number >> 16)}.{number >> 8 & 255}.{number & 255}/32"
        yield f"      - {{destination: {destination}, next-hop: {link(0, 1)}}}"
    yield "  s:"
    yield "    kind: router"
    yield f"    ports: {{p1: {{address: {link(0, 1)}/31}}}}"
    yield f"    routes: [{{destination: 0.0.0.0/0, next-hop: {link(0, 0)}}}]"
    yield f"hosts: {{a: {{at: r/lan, address: {subnet(1, 2)}/24, gateway: {subnet(1, 1)}}}}}"
    yield "cables: [r/p1 ~ s/p1]"


def campus(count: int, bulk: bool = False) -> Lines:
    """Hosts, 200 in each VLAN on a switch of its own, behind one layer 3 switch."""
    vlans = range(count // 200)
    yield "vlans: {" + ", ".join(f"v{vlan}: {110 + vlan}" for vlan in vlans) + "}"
    yield "devices:"
    yield "  core:"
    yield "    kind: l3switch"
    yield "    routing: [ipv4]"
    yield "    ports:"
    yield from (f"      p{vlan}: {{trunk: [v{vlan}], untagged: none}}" for vlan in vlans)
    yield "    interfaces:"
    yield from (f"      gw{vlan}: {{vlan: v{vlan}, address: {subnet(vlan, 1)}/24}}" for vlan in vlans)
    for vlan in vlans:
        yield f"  s{vlan}:"
        yield "    kind: switch"
        yield "    ports:"
        yield f"      up: {{trunk: [v{vlan}], untagged: none}}"
        ports = ['"p{1..200}"'] if bulk else [f"p{port}" for port in range(1, 201)]
        yield from (f"      {port}: {{access: v{vlan}}}" for port in ports)
    yield "hosts:"
    for vlan in vlans:
        gateway = f"gateway: {subnet(vlan, 1)}"
        if bulk:
            yield f'  "h{vlan}-{{1..200}}": {{at: "s{vlan}/p{{1..200}}", address: {subnet(vlan, 2)}/24, {gateway}}}'
        for port in range(1, 201) if not bulk else ():
            yield f"  h{vlan}-{port}: {{at: s{vlan}/p{port}, address: {subnet(vlan, port + 1)}/24, {gateway}}}"
    yield "cables:"
    yield from (f"  - core/p{vlan} ~ s{vlan}/up" for vlan in vlans)


def switch(count: int) -> Lines:
    """All hosts on one switch, in bulk."""
    yield "vlans: {crew: 120}"
    yield "devices:"
    yield "  r: {kind: router, interfaces: {p1.120: {parent: p1, tag: crew, address: 10.44.0.1/16}}}"
    yield "  s:"
    yield "    kind: switch"
    yield "    ports:"
    yield "      up: {trunk: [crew], untagged: none}"
    for first in range(1, count, 4000):
        yield f'      "p{{{first}..{min(count, first + 3999)}}}": {{access: crew}}'
    yield f'hosts: {{"h{{1..{count}}}": {{at: "s/p{{1..{count}}}", address: 10.44.0.2/16, gateway: 10.44.0.1}}}}'
    yield "cables: [r/p1 ~ s/up]"


def vlans(count: int) -> Lines:
    """So many VLANs on one router behind one trunk, a host in each."""
    ids = range(2, count + 2)
    yield "vlans:"
    yield from (f"  v{vlan}: {vlan}" for vlan in ids)
    yield "devices:"
    yield "  r:"
    yield "    kind: router"
    yield "    interfaces:"
    yield from (f"      p1.{vlan}: {{parent: p1, tag: v{vlan}, address: {subnet(vlan, 1)}/24}}" for vlan in ids)
    yield "  s:"
    yield "    kind: switch"
    yield "    ports:"
    yield "      up: {trunk: all, untagged: none}"
    yield from (f"      p{vlan}: {{access: v{vlan}}}" for vlan in ids)
    yield "hosts:"
    for vlan in ids:
        yield f"  h{vlan}: {{at: s/p{vlan}, address: {subnet(vlan, 2)}/24, gateway: {subnet(vlan, 1)}}}"
    yield "cables: [r/p1 ~ s/up]"


def draw(network: Any) -> bytes:
    return picture_of(index_network(network), "diagram.svg")


CASES: dict[str, tuple[Callable[[int], Lines], tuple[int, int], tuple[Callable[[Any], Any], ...]]] = {
    "mesh of routers": (mesh, (30, 60), (audit,)),
    "routers in a line": (line, (150, 300), (audit,)),
    "routes on one router": (routes, (6_000, 12_000), (audit,)),
    "hosts": (campus, (20_000, 40_000), (audit,)),
    "hosts in bulk": (lambda count: campus(count, bulk=True), (50_000, 100_000), (audit,)),
    "hosts on one switch": (switch, (10_000, 20_000), (audit,)),
    "VLANs on one router": (vlans, (2_046, 4_092), (audit, matrix, view, draw, script)),
}


def main(names: list[str]) -> None:
    print(f"{'case':<22} {'verb':<8} {'size':>8} {'reading':>10} {'verb / reading':>15} {'doubled':>8}")
    for name, (make, sizes, verbs) in CASES.items():
        if names and not any(word in name for word in names):
            continue
        before: dict[str, float] = {}
        for size in sizes:
            text = "\n".join(["format: archipelago-network/1", *make(size)]) + "\n"
            reading, network = timed(lambda content: read_network(BytesIO(content.encode())), text)
            for verb in verbs:
                took, _ = timed(verb, network)
                doubled = f"{took / before[verb.__name__]:.1f}" if verb.__name__ in before else ""
                before[verb.__name__] = took
                print(
                    f"{name:<22} {verb.__name__:<8} {size:>8,} {reading:>8.2f} s {took / reading:>15.2f} {doubled:>8}"
                )


if __name__ == "__main__":
    main(sys.argv[1:])
