"""The forwarding decision: what it says, and that the arrays say the same at every boundary of every table."""

from __future__ import annotations

from random import Random

import numpy as np
import pytest

from archipelago.addressing.values import Address
from archipelago.files.network import network_from
from archipelago.files.tree import parse
from archipelago.knowledge.forwarding import Delivered, Dropped, Sent, decide
from archipelago.knowledge.header import Header
from archipelago.knowledge.known import know
from archipelago.knowledge.reasons import Reason
from archipelago.reachability.build import build_arrays
from archipelago.reachability.states import OutcomeCodes, by_place, chosen_routes, classes_at
from makers import scrambled

ROUTER = """format: archipelago-network/1
vlans: {tickets: 210, crew: 220}
devices:
  landing:
    kind: router
    ports:
      p1: {}
      p2: {address: 10.44.9.1/31}
      p3: {address: 10.44.0.1/24, vrf: red}
    interfaces:
      p1.210: {parent: p1, tag: tickets, address: 10.44.0.1/24}
      p1.220: {parent: p1, address: 10.44.1.1/24}
    routes:
      - {destination: 10.44.1.128/25, next-hop: 10.44.9.0}
      - {destination: 10.44.7.0/24, next-hop: 10.44.0.7, vrf: red}
  quay-1: {kind: switch, ports: {p1: {trunk: all}}}
cables: [landing/p1 ~ quay-1/p1, landing/p2 ~ quay-1/p2, landing/p3 ~ quay-1/p3]
"""


def address(text: str) -> Address:
    return Address(4, int.from_bytes(bytes(map(int, text.split("."))), "big"))


def decided(target: str, ingress: str | None = "p1.210", vrf: str = "", ttl: int = 64, text: str = ROUTER):
    state = know(network_from(parse(text.encode(), "made"))).state("landing")
    return decide(state, Header(address("10.44.0.9"), address(target), ttl=ttl), ingress, vrf)


def test_what_is_its_own_is_delivered_whichever_interface_it_came_by():
    assert decided("10.44.9.1") == Delivered("p2") and decided("10.44.9.1", None) == Delivered("p2")
    assert decided("10.44.9.1", "p3").reason is Reason.NO_ROUTE  # in the table of another vrf nobody holds it


def test_the_longest_prefix_then_a_smaller_ttl():
    found = decided("10.44.1.130")
    assert isinstance(found, Sent) and (found.interface, str(found.next_hop), found.ttl) == ("p2", "10.44.9.0", 63)
    assert decided("10.44.0.7", None).ttl == 64  # its own packet has passed no router


@pytest.mark.parametrize(
    ("target", "ingress", "ttl", "reason"),
    [
        ("10.44.0.255", "p2", 64, Reason.BROADCAST),
        ("10.44.0.0", "p2", 64, Reason.BROADCAST),
        ("10.50.0.1", "p2", 64, Reason.NO_ROUTE),
        ("10.50.0.1", "p2", 1, Reason.NO_ROUTE),
        ("10.44.0.7", "p2", 1, Reason.TTL_EXPIRED),
        ("10.44.1.7", "p2", 64, Reason.CANNOT_SEND),  # the subinterface has no tag
        ("10.44.7.7", "p2", 64, Reason.NO_ROUTE),
    ],
)
def test_why_a_packet_ends(target, ingress, ttl, reason):
    assert decided(target, ingress, ttl=ttl).reason is reason


def test_each_vrf_has_its_own_ways():
    assert decided("10.44.7.7", "p3").interface == decided("10.44.7.7", None, "red").interface == "p3"


def test_who_does_not_route_drops_what_is_for_others():
    text = ROUTER.replace("kind: router", "kind: router\n    routing: [ipv6]")
    assert decided("10.44.0.7", "p2", text=text).reason is Reason.NOT_ROUTING
    assert isinstance(decided("10.44.0.7", None, text=text), Sent)  # its own packets need no forwarding


@pytest.mark.parametrize("seed", range(60))
def test_the_arrays_decide_alike_at_every_boundary_of_every_table(seed):
    network = scrambled(Random(seed), anything=seed % 2 == 0)
    if network is None:
        pytest.skip("this seed makes nothing to ask about")
    knowledge = know(network)
    arrays = build_arrays(knowledge)
    for version, family in arrays.families.items():
        edges = {value + step for value in family.cuts for step in (-1, 0, 1)}
        values = sorted(value for value in edges if 0 <= value < 2 ** (32 if version == 4 else 128))
        pieces = np.searchsorted(np.array(family.cuts, dtype=object), np.array(values, dtype=object), side="right") - 1
        columns = classes_at(pieces.astype(np.int64))
        codes = OutcomeCodes(len(family.rows), len(values), len(family.rows))
        route = chosen_routes(family.entries, columns, codes.rows, np.dtype(np.int64)).reshape(codes.rows, -1)
        own, dropped = np.zeros_like(route), np.zeros_like(route)
        routing = np.arange(len(family.rows) + len(family.profile)) < codes.rows
        own[by_place(columns, family.own_addresses, routing)] = 1
        dropped[by_place(columns, family.dropped_broadcasts, routing)] = 1
        for (name, vrf), row in family.rows.items():
            state = knowledge.state(name)
            ingress = next(nic.name for nic in state.node.nics.values() if nic.vrf == vrf)
            for column, value in enumerate(values):
                header = Header(Address(version, 0), Address(version, value))
                said = decide(state, header, ingress)
                if own[row, column]:
                    assert isinstance(said, Delivered)
                elif dropped[row, column]:
                    assert said == Dropped(Reason.BROADCAST)
                elif route[row, column] < 0:
                    assert said == Dropped(Reason.NO_ROUTE)
                else:
                    assert said.route is family.entries.written[route[row, column]]
                    sends = family.entries.hop[route[row, column]] != -2
                    assert isinstance(said, Sent) == sends
