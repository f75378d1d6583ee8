"""Packets of a size: who passes them, who says so when they are too large, what mends it; and how long they take."""

from __future__ import annotations

import json
from itertools import permutations
from random import Random

import pytest

from archipelago import (
    DocumentError,
    QueryError,
    TrafficError,
    audit,
    matrix,
    mend,
    network_text,
    reach,
    read_network,
    traffic,
)
from archipelago.knowledge.index import index_network
from archipelago.model.filters import parse_probe
from archipelago.simulation.events import FrameReceived, PacketSent
from archipelago.simulation.reach import reach as simulate
from makers import filtered, scrambled, with_sizes

SMALL = """format: archipelago-network/1
vlans: {crew: 120, yard: 130}
devices:
  landing:
    kind: router
    ports: {p2: {address: [10.44.9.0/31, "2001:db8:44:9::/127"], mtu: 1400}}
    interfaces:
      p1.120: {parent: p1, tag: crew, address: [10.44.2.1/24, "2001:db8:44:2::1/64"]}
      p1.130: {parent: p1, tag: yard, address: 10.44.3.1/24}
    routes:
      - {destination: 10.44.4.0/24, next-hop: 10.44.9.1}
      - {destination: "2001:db8:44:4::/64", next-hop: "2001:db8:44:9::1"}
  skerry:
    kind: router
    ports:
      p2: {address: [10.44.9.1/31, "2001:db8:44:9::1/127"], mtu: 1400}
      p3: {address: [10.44.4.1/24, "2001:db8:44:4::1/64"]}
    routes: [{destination: 0.0.0.0/0, next-hop: 10.44.9.0}, {destination: "::/0", next-hop: "2001:db8:44:9::"}]
  quay:
    kind: switch
    ports: {up: {trunk: [crew, yard], untagged: none}, p3: {access: crew}, p4: {access: yard, mtu: 1300}}
hosts:
  mess: {at: quay/p3, address: [10.44.2.10/24, "2001:db8:44:2::10/64"], gateway: [10.44.2.1, "2001:db8:44:2::1"]}
  crane: {at: quay/p4, address: 10.44.3.10/24, gateway: 10.44.3.1}
  lamp: {at: skerry/p3, address: [10.44.4.10/24, "2001:db8:44:4::10/64"], gateway: [10.44.4.1, "2001:db8:44:4::1"]}
cables: [landing/p1 ~ quay/up, landing/p2 ~ skerry/p2]
"""


@pytest.fixture(scope="module")
def small():
    return read_network(SMALL)


@pytest.mark.parametrize(
    ("target", "size", "family", "cause"),
    [
        ("lamp", 1372, 4, None),
        ("lamp", 1373, 4, "packet-too-large"),
        ("lamp", 1352, 6, None),
        ("lamp", 1353, 6, "packet-too-large"),
        ("crane", 1272, 4, None),
        ("crane", 1273, 4, "mtu-mismatch"),
    ],
)
def test_small_packets_arrive_where_large_ones_do_not(small, target, size, family, cause):
    answer = reach(small, "mess", target, probe=f"icmp/{size}", family=family)
    assert (answer.reached, answer.cause) == (cause is None, cause)
    assert reach(small, "mess", target, family=family).reached
    if cause is not None:
        mended = mend(SMALL, only=[]).text if cause == "mtu-mismatch" else None
        if mended is not None:
            assert reach(read_network(mended), "mess", target, probe=f"icmp/{size}", family=family).reached


def test_the_router_says_so_to_the_sender_unless_a_filter_drops_it(small):
    said = reach(small, "mess", "lamp", probe="icmp/1472", family=4)
    assert "landing tells its sender (RFC 1191)" in said.says and said.at == "landing"
    assert "RFC 8201" in reach(small, "mess", "lamp", probe="icmp/1452", family=6).says
    deaf = SMALL.replace("tag: crew,", "tag: crew, filter-out: quiet,").replace(
        "    routes:\n      - {destination: 10.44.4.0/24",
        "    filters: {quiet: {rules: [{drop: icmp, icmp-type: error}], otherwise: accept}}\n"
        "    routes:\n      - {destination: 10.44.4.0/24",
    )
    # What a router sends of its own no filter on its way out sees; that of a router beyond it is dropped.
    deaf = (
        deaf.replace(
            'p2: {address: [10.44.9.0/31, "2001:db8:44:9::/127"], mtu: 1400}',
            'p2: {address: [10.44.9.0/31, "2001:db8:44:9::/127"]}',
        )
        .replace('9::1/127"], mtu: 1400}', '9::1/127"]}')
        .replace('4::1/64"]}\n    routes', '4::1/64"], mtu: 1400}\n    routes')
    )
    said = reach(read_network(deaf), "mess", "lamp", probe="icmp/1472", family=4)
    assert said.at == "skerry" and "which never hears it: it ends at landing" in said.says


def test_the_mend_raises_both_ends_of_the_link_and_is_proved(small):
    said = reach(small, "mess", "lamp", probe="icmp/1472", family=4)
    assert {edit.path for edit in said.edits} == {
        ("devices", "landing", "ports", "p2", "mtu"),
        ("devices", "skerry", "ports", "p2", "mtu"),
    }
    assert "let landing/p2 and its link pass 1,500" in said.mend
    usual = reach(small, "mess", "lamp", probe="icmp/1473", family=4)
    assert usual.at == "mess" and usual.edits == () and usual.mend == "send at most 1,500 octets that way"


def test_audit_names_what_drops_in_silence_and_mends_it(small):
    found = [one for one in audit(small) if one.kind == "mtu-mismatch"]
    assert [(one.at, one.severity) for one in found] == [("quay", "risk")]
    assert "quay/p4 passes packets of 1,300 octets, and 1,500 come there" in found[0].says
    assert [one.kind for one in mend(SMALL).left] == []
    usual = audit(read_network(SMALL.replace(", mtu: 1300", "").replace(", mtu: 1400", "")))
    assert list(usual) == []
    jumbo = SMALL.replace("mess: {", "mess: {mtu: 9000, ").replace(
        "p3: {access: crew}", "p3: {access: crew, mtu: 9000}"
    )
    assert {one.says.split()[0] for one in audit(read_network(jumbo)) if one.kind == "mtu-mismatch"} == {
        "quay/up",
        "landing/p1",
        "landing/p1.120",  # its mend goes with that of its parent
        "quay/p4",
    }


BUNDLED = """format: archipelago-network/1
vlans: {crew: 120, yard: 130}
devices:
  hall:
    kind: l3switch
    routing: [ipv4]
    ports: {p3: {access: crew, mtu: 9000}}
    interfaces:
      up: {members: [p1, p2], trunk: [crew, yard], untagged: none, mtu: 9000}
      crew-gw: {vlan: crew, address: 10.44.2.1/24, mtu: 9000}
      yard-gw: {vlan: yard, address: 10.44.3.1/24}
  quay:
    kind: switch
    ports: {p4: {access: yard}, p5: {access: crew}}
    interfaces: {up: {members: [p1, p2], trunk: [crew, yard], untagged: none}}
hosts:
  store: {at: hall/p3, address: 10.44.2.10/24, gateway: 10.44.2.1, mtu: 9000}
  crane: {at: quay/p4, address: 10.44.3.10/24, gateway: 10.44.3.1}
  mess: {at: quay/p5, address: 10.44.2.11/24, gateway: 10.44.2.1}
cables: [hall/p1 ~ quay/p1, hall/p2 ~ quay/p2]
"""


def test_large_packets_end_where_they_meet_a_smaller_interface(command, tmp_path):
    network = read_network(BUNDLED)
    assert reach(network, "store", "hall", probe="icmp/8972").reached
    assert reach(network, "store", "crane", probe="icmp/1472").reached
    lost = reach(network, "store", "crane", probe="icmp/1473")
    assert (lost.at, lost.cause) == ("hall", "packet-too-large") and lost.says.startswith("hall/yard-gw sends")
    assert {one.says.split()[0] for one in audit(network) if one.kind == "mtu-mismatch"} == {
        "quay/up",
        "quay/p5",
        "mess",
    }
    path = tmp_path / "bundled.yaml"
    path.write_text(BUNDLED)
    shown = command("view", path, "hall", "--port", "up").stdout
    assert "packet sizes" in shown and "9000" in shown


@pytest.mark.long
def test_arrays_and_simulation_agree_on_sizes():
    sized = 0
    for seed in range(500, 560):
        random = Random(seed)
        network = scrambled(random, small=True)
        if network is None:
            continue
        network = with_sizes(filtered(network, random) if seed % 3 == 0 else network, random)
        probe, family = parse_probe(random.choice(("icmp/1272", "icmp/1372", "icmp/1472"))), random.choice((4, 6))
        view = index_network(network)
        nodes = view.knowledge.nodes
        whole, plain = (matrix(network, family, probe=kind) for kind in (str(probe), "icmp"))
        for pair in permutations(network.hosts, 2):
            answer = simulate(view, *(nodes[name] for name in pair), probes=1, family=family, probe=probe)
            assert answer.reached == whole[pair], (seed, pair)
            sized += plain[pair] and not whole[pair]
        assert sum(group.pairs for group in whole.groups) == whole.pairs - whole.reached
    assert sized > 15


@pytest.mark.parametrize(
    ("before", "after", "message"),
    [
        ("mtu: 1300", "mtu: 500", "'500' is not a packet size in octets; a whole number from 576 to 65535"),
        ("mtu: 1400}}", "mtu: 1200}}", "1,280 octets at least (RFC 8200 5), not 1200"),
        ("parent: p1, tag: yard,", "parent: p1, tag: yard, mtu: 1600,", "'p1' passes 1,500 octets"),
    ],
)
def test_sizes_that_cannot_be_are_refused(before, after, message):
    with pytest.raises(DocumentError) as error:
        read_network(SMALL.replace(before, after))
    assert message in str(error.value)


@pytest.mark.long
def test_several_sizes_are_decided_side_by_side(command, tmp_path):
    path = tmp_path / "small.yaml"
    path.write_text(SMALL)
    alone = {
        kind: json.loads(command("matrix", path, "--family", "4", "--probe", kind, "--json").stdout)["reached"]
        for kind in ("icmp/1472", "icmp/1272", "icmp")
    }
    for order in (list(alone), list(alone)[::-1]):
        said = json.loads(command("matrix", path, "--family", "4", "--probe", ",".join(order), "--json").stdout)
        told = {one["probe"]: one["reached"] for one in (said, *said["others"])}
        assert list(told) == order and told == alone
    assert len(set(alone.values())) == 2
    demands = "traffic: [{from: mess, to: lamp, rate: 3M, probe: %s}, {from: mess, to: lamp, rate: 5M, probe: %s}]\n"
    for pair, arrived in ((("icmp", "icmp/1472"), 3e6), (("icmp/1472", "icmp"), 5e6)):
        load = traffic(read_network(SMALL + demands % pair))
        assert (load.arrived, load.sent) == (arrived, 8e6)


@pytest.mark.long
def test_a_size_is_a_part_of_a_probe(command, small, tmp_path):
    assert str(parse_probe("icmp/1472")) == "icmp/1472" and parse_probe("icmp/1472").length(6) == 1520
    for wrong in ("icmp/0", "icmp/70000", "icmp/-1", "icmp/"):
        with pytest.raises(TrafficError):
            parse_probe(wrong)
    assert read_network(network_text(small)) == small
    path = tmp_path / "small.yaml"
    for size, broken in ((1352, False), (1353, True), (1373, True)):  # in each family that both have
        path.write_text(SMALL + f"expect: [{{from: mess, to: lamp, reached: yes, probe: icmp/{size}}}]\n")
        assert ("0 of 1 expectation" in command("audit", path).stdout) is broken
    path.write_text(SMALL)
    done = command("matrix", path, "--probe", "icmp/1472", "--family", "4")
    assert done.returncode == 1 and "packet-too-large" in done.stdout and "mtu-mismatch" in done.stdout
    assert command("reach", path, "mess", "lamp", "--probe", "icmp/99999").returncode == 2
    told = command("reach", path, "mess", "crane", "--probe", "icmp/1372", "--steps").stdout
    assert "of 1,400 octets" in told and "dropped: it is too large for the port" in told
    assert (
        "too large (it may not be split), 1,400 octets fit"
        in command("reach", path, "mess", "lamp", "--probe", "icmp/1472", "--family", "4", "--steps").stdout
    )


def test_frames_take_the_time_that_their_octets_take_at_the_speed_of_the_link():
    pair = """format: archipelago-network/1
devices: {quay: {kind: switch, ports: {p1: {speed: SPEED}, p2: {speed: SPEED}}}}
hosts: {a: {at: quay/p1, address: 10.44.0.2/24}, b: {at: quay/p2, address: 10.44.0.3/24}}
"""

    def under_way(speed: str, size: int) -> int:
        events = reach(read_network(pair.replace("SPEED", speed)), "a", "b", probe=f"icmp/{size}").events
        sent = [event for event in events if isinstance(event, PacketSent) and event.node == "a"][-1]
        came = [e for e in events if isinstance(e, FrameReceived) and e.node == "b" and e.frame == sent.frame][-1]
        return came.time - sent.time

    # Two links, 500 ns each; 18 octets of frame, 28 of headers, and 20 between frames, at the speed of the link.
    assert under_way("1G", 1472) == 2 * (500 + (1472 + 28 + 18 + 20) * 8)
    assert under_way("100M", 1472) == 2 * (500 + (1472 + 28 + 18 + 20) * 80)
    assert under_way("1G", 1) == 2 * (500 + (64 + 20) * 8)
    with pytest.raises(QueryError):
        reach(read_network(pair.replace("SPEED", "1G")), "a", "nobody", probe="icmp/100")
