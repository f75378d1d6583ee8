"""The ports that lead outside, where a network names them: what the upstream sends back, and what it does not."""

from __future__ import annotations

from random import Random

import pytest

import archipelago
from archipelago import DocumentError, read_network
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import know
from archipelago.knowledge.outside import widened
from archipelago.model.filters import parse_probe
from archipelago.reachability import settling
from archipelago.reachability.matrix import matrix
from archipelago.simulation.reach import reach
from makers import filtered, scrambled, translated

BAY = """format: archipelago-network/1
vlans: {guests: 10, crew: 20}
devices:
  landing:
    kind: router
    ports: {p4: {address: [203.0.113.2/30, "2001:db8:ffff::2/64"]}}
    interfaces:
      p1.10: {parent: p1, tag: guests, address: [10.44.1.1/24, "2001:db8:1::1/64"]}
      p1.20: {parent: p1, tag: crew, address: 10.44.2.1/24}
    routes:
      - {destination: 0.0.0.0/0, next-hop: 203.0.113.1}
      - {destination: "::/0", next-hop: "2001:db8:ffff::1"}
  hall:
    kind: switch
    ports: {p24: {trunk: [guests, crew], untagged: none}, p1: {access: guests}, p2: {access: crew}}
hosts:
  kiosk: {at: hall/p1, address: [10.44.1.2/24, "2001:db8:1::2/64"], gateway: [10.44.1.1, "2001:db8:1::1"]}
  purser: {at: hall/p2, address: 10.44.2.2/24, gateway: 10.44.2.1}
cables: [landing/p1 ~ hall/p24]
outside: %s
"""


def answers(network, family=4):
    """Who reaches whom with the outside among them, the engines in agreement."""
    found = archipelago.matrix(network, family)
    for source, target, yes in found.rows():
        assert archipelago.reach(network, source, target, family=family).reached == yes, (source, target)
    return {(source, target) for source, target, yes in found.rows() if yes}


@pytest.mark.parametrize(
    ("outside", "who"),
    [
        ("{at: landing/p4}", {"kiosk", "purser"}),
        ("[{at: landing/p4, routes-back: all}]", {"kiosk", "purser"}),
        ("[{at: landing/p4, routes-back: [10.44.1.0/24]}]", {"kiosk"}),
        ("[{at: landing/p4, routes-back: 10.44.0.0/16}]", {"kiosk", "purser"}),
        ("[{at: landing/p4, routes-back: none}]", set()),
        ("[]", set()),
    ],
)
def test_the_upstream_sends_back_what_it_is_said_to(outside, who):
    network = read_network(BAY % outside)
    assert read_network(archipelago.network_text(network)) == network
    if outside == "[]":
        assert "outside" not in archipelago.matrix(network).hosts
        with pytest.raises(archipelago.QueryError, match="no port leads outside"):
            archipelago.reach(network, "kiosk", "outside")
        return
    reached = answers(network)
    assert {name for name in ("kiosk", "purser") if (name, "outside") in reached} == who
    assert {name for name in ("kiosk", "purser") if ("outside", name) in reached} == who
    assert {("kiosk", "purser"), ("purser", "kiosk")} <= reached


def test_both_families_and_addresses_out_there():
    network = read_network(BAY % "{at: landing/p4, routes-back: [2001:db8:1::/48]}")
    assert answers(network, 6) == {("kiosk", "outside"), ("outside", "kiosk")}
    assert archipelago.reach(network, "kiosk", "2001:db8:5::7").reached
    assert not archipelago.reach(network, "kiosk", "198.51.100.7").reached  # nothing comes back in IPv4
    assert archipelago.reach(network, "kiosk", "203.0.113.1").reached is False
    assert archipelago.reach(network, "landing", "outside", family=4).reached  # the subnet of the link is known there


def test_what_does_not_come_back_is_for_the_owner_of_the_upstream(command, tmp_path):
    text = BAY % "{at: landing/p4, routes-back: [10.44.1.0/24]}"
    answer = archipelago.reach(read_network(text), "purser", "outside")
    assert (answer.cause, answer.at, answer.direction) == ("upstream-route-missing", "landing", "back")
    told = "ask the owner of the upstream for a route to 10.44.2.0/24 via 203.0.113.2"
    assert answer.mend == f"{told}, or translate: source-nat: 10.44.2.0/24 at landing/p4"
    (tmp_path / "bay.yaml").write_text(text + "expect:\n  - {from: crew, to: outside, reached: yes}\n")
    done = command("audit", tmp_path / "bay.yaml")
    assert done.returncode == 1 and "ask the owner of the upstream for a route to 10.44.2.0/24" in done.stdout
    rows = command("matrix", tmp_path / "bay.yaml", "--csv").stdout
    assert "kiosk,outside,yes" in rows and "outside,purser,no" in rows


def test_several_ports_are_one_place_that_sends_back_by_the_longest_prefix():
    text = BAY % "[{at: landing/p4, routes-back: none}, {at: landing/p5, routes-back: [10.44.0.0/16]}]"
    text = text.replace("ports: {p4:", "ports: {p5: {address: 192.0.2.130/31}, p4:")
    reached = answers(read_network(text))
    assert ("kiosk", "outside") in reached and ("outside", "purser") in reached
    answer = archipelago.reach(read_network(text), "kiosk", "outside")
    assert [step.ingress for step in answer.back if step.device == "landing"] == ["p5"]


def test_a_port_that_is_not_named_has_no_carrier():
    text = (BAY % "[{at: landing/p5}]").replace("ports: {p4:", "ports: {p5: {address: 192.0.2.130/31}, p4:")
    network = read_network(text)
    answer = archipelago.reach(network, "kiosk", "outside", family=4)
    assert not answer.reached and "203.0.113.1" in archipelago.view(network, ["landing"]).__str__()
    assert "down: landing/p4 is not cabled" in str(archipelago.view(network, ["landing"]))


@pytest.mark.parametrize(
    ("outside", "told"),
    [
        ("{at: landing/p9}", "landing/p9 is no routed port with an address"),
        ("{at: pier/p1}", "there is no device 'pier'"),
        ("[{at: landing/p4}, {at: landing/p4}]", "landing/p4 is named twice"),
        ("{routes-back: all}", "lacks the key 'at'"),
        ("{at: landing/p4, routes-back: some}", "'some' is not"),
    ],
)
def test_what_is_wrong_is_told(outside, told):
    with pytest.raises(DocumentError, match=told):
        read_network(BAY % outside)
    with pytest.raises(DocumentError, match="'outside' is a word of the documents"):
        read_network((BAY % "{at: landing/p4}").replace("  purser:", "  outside:"))


def translating(prefixes, outside="{at: landing/p4, routes-back: none}"):
    return (BAY % outside).replace('"2001:db8:ffff::2/64"]}', f'"2001:db8:ffff::2/64"], source-nat: {prefixes}}}')


def test_what_is_translated_needs_no_way_back():
    network = read_network(translating("10.44.2.0/24"))
    assert read_network(archipelago.network_text(network)) == network
    reached = answers(network)
    assert ("purser", "outside") in reached and ("kiosk", "outside") not in reached
    assert ("outside", "purser") not in reached  # nobody outside knows it by its own address
    answer = archipelago.reach(network, "purser", "outside")
    out, back = (" ".join(step.did for step in way) for way in (answer.out, answer.back))
    assert "its source 10.44.2.2 translated to 203.0.113.2" in out
    assert "its destination 203.0.113.2 turned back to 10.44.2.2" in back
    for probe in ("tcp/443", "udp/53"):
        assert archipelago.reach(network, "purser", "outside", probe=probe).reached
        assert archipelago.matrix(network, probe=probe)["purser", "outside"]


def test_answers_to_what_began_outside_leave_as_they_are():
    network = read_network(translating("10.44.0.0/16", "{at: landing/p4, routes-back: all}"))
    assert ("outside", "purser") in answers(network)
    answer = archipelago.reach(network, "outside", "purser")
    assert not any("translated" in step.did for step in (*answer.out, *answer.back))


def test_filters_see_the_addresses_inside():
    text = translating("10.44.2.0/24").replace(
        "    interfaces:\n      p1.10",
        """    filters:
      edge: {rules: [{accept: icmp, source: 10.44.2.0/24, destination: 192.0.2.0/24}], otherwise: drop}
      answers: {rules: [{accept: icmp, destination: 10.44.2.2, icmp-type: reply}], otherwise: drop}
    interfaces:
      p1.10""",
    )
    text = text.replace("source-nat:", "filter-out: edge, filter-in: answers, source-nat:")
    assert ("purser", "outside") in answers(read_network(text))


def test_the_routers_that_report_are_heard_behind_a_translation():
    text = translating("10.44.2.0/24").replace("routes-back: none", "routes-back: [10.44.1.0/24]")
    trace = archipelago.trace(read_network(text), "purser", "outside")
    assert [hop.device for hop in trace.trace] == ["landing", "outside-upstream", "outside"]


@pytest.mark.parametrize(
    ("prefixes", "old", "new", "told"),
    [
        ("10.44.2.0/24", "kind: router", "kind: l3switch\n    routing: [ipv4]", "only a router translates"),
        ("'2001:db8:1::/64'", "", "", "translation is for IPv4"),
        ("10.44.2.0/24", "203.0.113.2/30, ", "", "'p4' has no IPv4 address to translate to"),
    ],
)
def test_translations_that_cannot_be_are_refused(prefixes, old, new, told):
    with pytest.raises(DocumentError, match=told):
        read_network(translating(prefixes).replace(old, new, 1))


def test_however_many_are_translated_each_is_decided(monkeypatch):
    monkeypatch.setattr(settling, "MOST_ASKED", 0)  # the simulation is not asked at all
    answer = matrix(NetworkIndex(widened(know(read_network(translating("10.44.2.0/24"))))), 4, causes=False)
    reached = {(source, target) for source, target, yes in answer.rows() if yes}
    assert ("purser", "outside") in reached and ("kiosk", "outside") not in reached


def test_a_policy_that_a_filter_does_not_keep_is_told_where_sources_are_translated():
    text = (
        translating("10.44.2.0/24")
        .replace("source-nat:", "filter-out: edge, source-nat:")
        .replace(
            "    interfaces:", "    filters: {edge: {rules: [{drop: tcp/443}], otherwise: accept}}\n    interfaces:", 1
        )
        + "policy: {rules: [{from: crew, to: outside, may: tcp/443}], otherwise: any}\n"
    )
    (told,) = [one for one in archipelago.audit(read_network(text)) if one.kind == "policy-closed"]
    assert "tcp/443" in told.says and "such as purser to outside" in told.says


TWO_INSIDES = """format: archipelago-network/1
devices:
  edge:
    kind: router
    ports:
      p1: {address: 10.44.15.0/31}
      p2: {address: 10.44.15.2/31}
      p9: {address: 10.44.9.1/24}
      p4: {address: 203.0.113.2/30, source-nat: [10.44.15.0/24, 10.44.9.0/24]}
    routes: [{destination: 0.0.0.0/0, next-hop: 203.0.113.1}]
  pier:
    kind: router
    ports: {p1: {address: 10.44.15.1/31, source-nat: 10.44.0.0/24}, p2: {address: 10.44.0.1/24}}
    routes: [{destination: 0.0.0.0/0, next-hop: 10.44.15.0}]
  inn:
    kind: router
    ports: {p1: {address: 10.44.15.3/31, source-nat: 10.44.0.0/24}, p2: {address: 10.44.0.1/24}}
    routes: [{destination: 0.0.0.0/0, next-hop: 10.44.15.2}]
hosts:
  ops: {at: edge/p9, address: 10.44.9.2/24, gateway: 10.44.9.1}
  kiosk: {at: pier/p2, address: 10.44.0.2/24, gateway: 10.44.0.1}
  desk: {at: inn/p2, address: 10.44.0.3/24, gateway: 10.44.0.1}
cables: [edge/p1 ~ pier/p1, edge/p2 ~ inn/p1]
outside: {at: edge/p4, routes-back: none}
"""


def test_insides_that_overlap_are_named_and_are_no_mistake_where_they_are_translated():
    network = read_network(TWO_INSIDES)
    (told,) = archipelago.audit(network)
    assert (
        told.kind == "insides-overlap" and told.severity == "risk" and "pier/p2" in told.says and "inn/p1" in told.says
    )
    for source, target in (("kiosk", "outside"), ("desk", "outside"), ("desk", "ops")):
        assert archipelago.reach(network, source, target).reached
    for source, target in (("kiosk", "desk"), ("ops", "kiosk"), ("ops", "desk")):
        assert archipelago.reach(network, source, target).cause == "insides-overlap"
    bare = read_network(TWO_INSIDES.replace(", source-nat: 10.44.0.0/24", ""))
    assert {"duplicate-address", "route-missing"} <= {one.kind for one in archipelago.audit(bare)}


@pytest.mark.parametrize("seed", range(60))
def test_both_engines_say_the_same_where_sources_are_translated(seed):
    random = Random(seed)
    network = scrambled(random, small=True, anything=seed % 2 == 0)
    if network is None or not any(host.addresses for host in network.hosts.values()):
        pytest.skip("this seed makes nothing to ask about")
    network = filtered(network, random) if random.random() < 0.5 else network
    index = NetworkIndex(widened(know(translated(network, random))))
    probe = parse_probe(random.choice(("icmp", "tcp/443", "udp/53")))
    found, nodes = matrix(index, probe=probe), index.knowledge.nodes
    for source, target, yes in found.rows():
        assert reach(index, nodes[source], nodes[target], probes=1, probe=probe).reached == yes, (source, target)
