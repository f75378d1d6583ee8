"""Filters: what the contract says of each packet, in both engines; documents, probes, commands."""

from __future__ import annotations

from dataclasses import replace
from random import Random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import archipelago
from archipelago import DocumentError, read_network
from archipelago.addressing.values import parse_address
from archipelago.knowledge.filtering import judge
from archipelago.knowledge.header import Header, error_header, probe_header
from archipelago.knowledge.index import index_network
from archipelago.knowledge.known import know
from archipelago.model.filters import Filter, parse_probe, parse_traffic
from archipelago.proof.gate import kinds_of_probe
from archipelago.reachability.build import build_arrays
from archipelago.reachability.matrix import by_probe, matrix
from archipelago.simulation.reach import reach
from every_field import full_of_everything
from makers import filtered, scrambled

BAY = """format: archipelago-network/1
vlans: {guests: 10, crew: 20}
devices:
  landing:
    kind: router
    filters:
%s
    interfaces:
      p1.10: {parent: p1, tag: guests, address: [10.44.1.1/24, 2001:db8:1::1/64]%s}
      p1.20: {parent: p1, tag: crew, address: [10.44.2.1/24, 2001:db8:2::1/64]%s}
  hall:
    kind: switch
    ports: {p24: {trunk: [guests, crew], untagged: none}, p1: {access: guests}, p2: {access: crew}}
hosts:
  kiosk: {at: hall/p1, address: [10.44.1.2/24, 2001:db8:1::2/64], gateway: [10.44.1.1, "2001:db8:1::1"]}
  purser: {at: hall/p2, address: [10.44.2.2/24, 2001:db8:2::2/64], gateway: [10.44.2.1, "2001:db8:2::1"]}
cables: [landing/p1 ~ hall/p24]
"""


def bay(rules, guests="", crew="", otherwise="drop", stateful=False):
    listed = "".join(f"          - {{{rule}}}\n" for rule in rules)
    text = f"      f:\n        rules:\n{listed}" if rules else "      f:\n"
    text += f"        otherwise: {otherwise}\n        stateful: {str(stateful).lower()}"
    places = [f", {where}" if where else "" for where in (guests, crew)]
    return BAY % (text, *places)


def reached(network, probe="icmp", family=4):
    """Who reaches whom of both hosts, the engines in agreement; and that."""
    network = read_network(network) if isinstance(network, str) else network
    said = tuple(
        archipelago.reach(network, a, b, probe=probe, family=family).reached
        for a, b in (("kiosk", "purser"), ("purser", "kiosk"))
    )
    found = archipelago.matrix(network, family, probe=probe)
    assert said == (found["kiosk", "purser"], found["purser", "kiosk"])
    return said


@pytest.mark.parametrize(
    ("rules", "probe", "both"),
    [
        (["accept: icmp"], "icmp", (True, True)),
        (["accept: icmp, icmp-type: request"], "icmp", (True, False)),  # the answer of the guests is a reply
        (["accept: icmp, icmp-type: reply"], "icmp", (False, True)),
        (["accept: tcp/443"], "tcp/443", (True, False)),
        (["accept: tcp, answering: true"], "tcp/443", (False, True)),
        (["accept: tcp, source-port: 443"], "tcp/443", (False, True)),
        (["accept: tcp, destination-port: [80, 440-450]"], "tcp/443", (True, False)),
        (["accept: udp, destination-port: 49152-65535"], "udp/53", (False, True)),
        (["accept: any, source: 10.44.1.2"], "udp/53", (True, True)),
        (["accept: any, source: 2001:db8:1::/64"], "udp/53", (False, False)),
        (["accept: any, destination: [10.44.9.0/24, 10.44.2.2]"], "tcp/1", (True, True)),
        (["reject: any, destination: 10.44.2.0/24", "accept: any"], "icmp", (False, False)),
        (["accept: [tcp/443, icmp]"], "icmp", (True, True)),
        (["accept: 1"], "icmp", (True, True)),
        (["accept: 58"], "icmp", (False, False)),
        (["accept: 6"], "tcp/9", (True, True)),
        ([], "icmp", (False, False)),
    ],
)
def test_the_filter_of_an_ingress_interface_sees_what_comes_in(rules, probe, both):
    assert reached(bay(rules, "filter-in: f"), probe) == both


def test_what_is_forwarded_out_is_seen_and_what_the_device_sends_is_not():
    text = bay(["drop: icmp, icmp-type: reply"], "filter-out: f", otherwise="accept")
    assert reached(text) == (False, True)  # the answer to the guests goes out by their interface
    network = read_network(text)
    assert archipelago.reach(network, "kiosk", "landing").reached  # its own answer passes
    closed = read_network(bay([], "filter-out: f"))
    assert archipelago.reach(closed, "landing", "kiosk").reached
    assert not archipelago.reach(read_network(bay([], "filter-in: f")), "landing", "kiosk").reached


def test_a_conversation_passes_the_stateful_filters_of_its_device():
    asks = bay(["accept: tcp/443"], "filter-in: f, filter-out: f", stateful=True)
    assert reached(asks, "tcp/443") == (True, True)  # out by the guests' interface the same line lets it pass
    crew_only = bay([], "filter-in: f", stateful=True)
    assert reached(crew_only, "tcp/443") == (False, True)  # what crew begins, the guests may answer
    assert reached(crew_only.replace("stateful: true", "stateful: false"), "tcp/443") == (False, False)
    view = archipelago.view(read_network(crew_only), devices=["landing"], after=("purser", "kiosk"))
    assert "10.44.1.2 and 10.44.2.2" in str(view)


def test_neighbours_find_each_other_whatever_is_filtered():
    network = read_network(bay(["accept: icmp, icmp-type: [request]".replace("[request]", "request")], "filter-in: f"))
    assert archipelago.reach(network, "kiosk", "purser", family=6).reached  # neighbour discovery is ICMPv6 too
    for kind in range(133, 138):
        header = Header(parse_address("fe80::1"), parse_address("ff02::1"), 58, icmp_type=kind)
        assert judge(Filter("f", "drop"), header).passes
    assert judge(Filter("f", "drop"), Header(parse_address("10.0.0.1"), parse_address("224.0.0.18"), 112)).passes


def test_a_rejected_packet_is_told_of_and_a_dropped_one_is_not():
    for otherwise, told in (("reject", True), ("drop", False)):
        network = read_network(bay([], "filter-in: f", otherwise=otherwise))
        answer = archipelago.reach(network, "kiosk", "purser")
        errors = [event for event in answer.events if type(event).__name__ == "ErrorReported"]
        assert bool(errors) is told and answer.cause == "filtered" and answer.at == "landing"
        assert all(event.packet.source == parse_address("10.44.1.1") for event in errors)
        own = archipelago.reach(network, "kiosk", "10.44.2.1")
        sources = {event.packet.source for event in own.events if type(event).__name__ == "ErrorReported"}
        assert sources == ({parse_address("10.44.2.1")} if told else set())  # from the address that was asked


def test_errors_are_a_type_of_icmp_of_their_own():
    ends = [parse_address("10.44.1.2"), parse_address("10.44.2.2")]
    lines = read_network(bay(["accept: icmp, icmp-type: error"], "filter-in: f")).devices["landing"].filters["f"]
    assert judge(lines, error_header(*ends)).passes and not judge(lines, probe_header(*ends)).passes


@pytest.mark.parametrize("seed", range(100))
def test_both_engines_say_the_same_of_networks_with_filters(seed):
    random = Random(seed)
    network = scrambled(random, small=True, anything=seed % 2 == 0)
    if network is None or not any(host.addresses for host in network.hosts.values()):
        pytest.skip("this seed makes nothing to ask about")
    network = filtered(network, random)
    family, probe = (None, 4, 6)[seed % 3], parse_probe(random.choice(("icmp", "tcp/443", "udp/53", "tcp/80")))
    found = matrix(network, family, probe=probe)
    index = index_network(network)
    nodes, causes = index.knowledge.nodes, {}
    for source, target, yes in found.rows():
        answer = reach(index, nodes[source], nodes[target], probes=1, family=family, probe=probe)
        assert answer.reached == yes, (source, target)
        if not yes:
            causes[answer.cause, answer.at] = causes.get((answer.cause, answer.at), 0) + 1
    theirs = {}
    for group in found.groups:
        key = group.finding.kind, group.finding.at
        theirs[key] = theirs.get(key, 0) + group.pairs
    assert causes == theirs


@given(random=st.randoms(use_true_random=False))
@settings(max_examples=25)
def test_a_network_with_filters_is_written_and_read_back_equal(random):
    network = scrambled(random, small=True, anything=True)
    if network is not None and any(host.addresses for host in network.hosts.values()):
        network = filtered(network, random)
        assert read_network(archipelago.network_text(network)) == replace(network, source="", marks={})


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        ("accept: icmp", "accept: icmpx", "^the text:9:22: 'icmpx' is no kind of traffic; write any, icmp[^\n]*$"),
        ("accept: icmp", "accept: tcp/70000", "is no port; write a number up to 65535"),
        ("accept: icmp", "accept: icmp, drop: tcp", "a rule does one thing: this one has accept and drop"),
        ("accept: icmp", "source: 10.0.0.1", "has none of accept, drop and reject"),
        ("accept: icmp", "accept: icmp, destination-port: 5", "'destination-port' goes with tcp and udp only"),
        ("accept: icmp", "accept: tcp/443, destination-port: 5", "a service names its destination ports itself"),
        ("accept: icmp", "accept: tcp, icmp-type: reply", "'icmp-type' goes with icmp only"),
        ("accept: icmp", "accept: udp, answering: true", "'answering' goes with tcp only"),
        ("accept: icmp", "accept: any, source: 10.0.0.1, destination: '2001:db8::1'", "name different families"),
        ("otherwise: drop", "otherwise: maybe", "accepted: accept, drop, reject"),
        ("        otherwise: drop\n", "", "'f' lacks the key 'otherwise'"),
        ("filter-in: f", "filter-in: g", "there is no filter 'g'; there are: f"),
        ("kind: router", "kind: l3switch\n    routing: [ipv4]\n    ports: {p1: {routed: yes}}", "only a router keeps"),
        ("p1: {access: guests}", "p1: {access: guests, filter-in: f}", "carries no IP address"),
    ],
)
def test_what_is_wrong_is_told_with_its_place(old, new, told):
    text = bay(["accept: icmp"], "filter-in: f", stateful=True)
    assert old in text
    with pytest.raises(DocumentError, match=told):
        read_network(text.replace(old, new, 1))


def test_kinds_of_traffic_and_probes_are_read_and_written():
    for text in ("any", "icmp", "tcp", "udp", "47", "tcp/443", "udp/8000-8010"):
        assert str(parse_traffic(text)) == text
    assert str(parse_traffic("6")) == "tcp" and str(parse_probe("udp/53")) == "udp/53"
    for wrong in ("tcp/", "tcp/5-3", "0", "256", "icmp/8", "TCP"):
        with pytest.raises(archipelago.TrafficError):
            parse_traffic(wrong)
    for wrong in ("tcp", "udp/1-2", "any", "tcp/0", ""):
        with pytest.raises(archipelago.TrafficError):
            parse_probe(wrong)


def test_expectations_name_what_is_sent(command, tmp_path):
    expect = """expect:
  - {from: kiosk, to: purser, reached: yes, probe: tcp/443}
  - {from: kiosk, to: purser, reached: no, probe: [icmp, udp/53]}
  - {from: purser, to: kiosk, reached: yes, probe: [icmp, tcp/443]}
"""
    text = bay(["accept: tcp/443"], "filter-in: f", stateful=True) + expect
    (tmp_path / "bay.yaml").write_text(text)
    said = archipelago.expectations(read_network(text))
    assert [verdict.holds for verdict in said] == [True, True, True]
    assert command("audit", tmp_path / "bay.yaml").returncode == 0
    (tmp_path / "bay.yaml").write_text(text.replace("accept: tcp/443", "accept: tcp/80"))
    done = command("audit", tmp_path / "bay.yaml")
    assert done.returncode == 1 and "drops tcp/443 from 10.44.1.2 to 10.44.2.2" in done.stdout
    mended = command("mend", tmp_path / "bay.yaml", "-o", tmp_path / "mended.yaml")
    assert mended.returncode in (0, 1)


def test_the_commands_know_kinds_of_probes(command, tmp_path):
    (tmp_path / "bay.yaml").write_text(bay(["accept: tcp/443"], "filter-in: f", stateful=True))
    done = command("reach", tmp_path / "bay.yaml", "kiosk", "purser", "--probe", "tcp/443", "--family", "4")
    assert done.returncode == 0 and done.stdout.startswith("REACHED: kiosk reaches purser (10.44.2.2) by tcp/443")
    done = command("reach", tmp_path / "bay.yaml", "kiosk", "purser", "--steps", "--probe", "udp/53")
    assert done.returncode == 1 and "filter f at p1.10 (in), otherwise: drop" in done.stdout
    rows = command("matrix", tmp_path / "bay.yaml", "--probe", "icmp,tcp/443", "--csv").stdout.splitlines()
    assert rows[0] == "source,destination,reached,probe" and "kiosk,purser,yes,tcp/443" in rows
    assert "kiosk,purser,no,icmp" in rows and "purser,kiosk,yes,icmp" in rows
    shown = command("view", tmp_path / "bay.yaml", "landing").stdout
    assert "f, stateful" in shown and "p1.10 (in)" in shown and "otherwise" in shown
    command("draw", tmp_path / "bay.yaml", "-o", tmp_path / "bay.svg")
    assert ">filter</text>" in (tmp_path / "bay.svg").read_text()
    wrong = command("reach", tmp_path / "bay.yaml", "kiosk", "purser", "--probe", "tcp")
    assert wrong.returncode == 2 and "write icmp, or a protocol and one port" in wrong.stderr


def found(text, *kinds, **asked):
    audited = archipelago.audit(read_network(text), **asked)
    return [(f.kind, f.severity, f.says, f.mend) for f in audited if f.kind in kinds]


def test_a_filter_that_no_interface_names_is_told():
    assert found(bay(["accept: icmp"]), "filter-unnamed") == [
        (
            "filter-unnamed",
            "note",
            "no interface of landing names the filter f",
            "write filter-in or filter-out: f at an interface of landing, or remove it",
        )
    ]


@pytest.mark.parametrize(
    ("first", "second", "hidden"),
    [
        ("drop: any", "accept: icmp", "line-hidden"),
        ("accept: any", "accept: icmp", "line-unneeded"),
        ("drop: tcp", "accept: tcp/443", "line-hidden"),
        ("drop: tcp/440-450", "accept: tcp/443", "line-hidden"),
        ("drop: tcp/443", "accept: tcp", ""),
        ("drop: any, source: 10.44.0.0/16", "accept: icmp, source: [10.44.1.2, 10.44.2.0/24]", "line-hidden"),
        ("drop: any, source: 10.44.0.0/16", "accept: icmp", ""),
        ("drop: tcp, answering: true", "accept: tcp", ""),
        ("drop: icmp", "accept: icmp, icmp-type: reply", "line-hidden"),
        ("drop: icmp, icmp-type: request", "accept: icmp, icmp-type: reply", ""),
        ("drop: tcp, destination-port: 1-500", "accept: tcp/443", "line-hidden"),
        ("drop: 1", "accept: icmp", ""),
    ],
)
def test_a_line_that_an_earlier_one_leaves_nothing_to_is_told(first, second, hidden):
    text = bay([first, second], "filter-in: f")
    told = [kind for kind, *_ in found(text, "line-hidden", "line-unneeded")]
    assert told == ([hidden] if hidden else [])
    if hidden == "line-unneeded":
        mended = archipelago.mend(text, notes=True)
        assert len(mended.network.devices["landing"].filters["f"].rules) == 1


MOVED = """format: archipelago-network/1
vlans: {guests: 10, crew: 20}
devices:
  landing:
    kind: router
    filters: {f: {rules: [{drop: tcp/25}], otherwise: accept}}
    interfaces:
      p1.10: {parent: p1, tag: guests, address: 10.44.1.1/24, filter-in: f}
      p1.20: {parent: p1, tag: crew, address: 10.44.2.1/24}
  hall:
    kind: l3switch
    routing: [ipv4]
    ports: {p24: {trunk: [guests, crew], untagged: none}, p1: {access: guests}, p2: {access: crew}}
    interfaces:
      guests-gw: {vlan: guests, address: 10.44.1.254/24}
      crew-gw: {vlan: crew, address: 10.44.2.254/24}
hosts:
  kiosk: {at: hall/p1, address: 10.44.1.2/24, gateway: 10.44.1.1}
  purser: {at: hall/p2, address: 10.44.2.2/24, gateway: 10.44.2.1}
cables: [landing/p1 ~ hall/p24]
"""


def test_a_filter_that_the_traffic_no_longer_passes_is_told_where_it_does():
    assert found(MOVED, "filter-idle") == []
    moved = MOVED.replace("gateway: 10.44.1.1", "gateway: 10.44.1.254").replace(
        "gateway: 10.44.2.1", "gateway: 10.44.2.254"
    )
    ((_, severity, says, mend),) = found(moved, "filter-idle")
    assert severity == "risk" and says == "nothing that hosts send comes to filter f at landing/p1.10 (in)"
    assert mend.startswith("decide by hand (move it to hall/guests-gw: it loses 1 pair of hosts in IPv4 by tcp/25")
    ((_, _, _, mend),) = found(moved, "filter-idle", accept_losses=True)
    assert mend == "move it to hall/guests-gw"
    stateful = moved.replace("otherwise: accept", "otherwise: accept, stateful: true")
    for text, lines in ((moved, 1), (stateful, 4)):  # a layer 3 switch lets answers pass by lines
        mended = archipelago.mend(text, accept_losses=True).network
        hall = mended.devices["hall"]
        assert found(archipelago.network_text(mended), "filter-idle") == [] and not mended.devices["landing"].filters
        assert hall.interfaces["guests-gw"].filter_in == "f" and len(hall.filters["f"].rules) == lines
        assert not archipelago.matrix(mended, probe="tcp/25")["kiosk", "purser"]
        assert archipelago.matrix(mended).reached == 2


def test_a_filter_does_not_move_onto_another():
    moved = MOVED.replace("gateway: 10.44.1.1", "gateway: 10.44.1.254").replace(
        "gateway: 10.44.2.1", "gateway: 10.44.2.254"
    )
    taken = moved.replace("    routing: [ipv4]", "    routing: [ipv4]\n    filters: {g: {otherwise: accept}}").replace(
        "address: 10.44.1.254/24}", "address: 10.44.1.254/24, filter-in: g}"
    )
    ((_, _, _, mend),) = found(taken, "filter-idle")
    assert mend == "put it where the traffic passes, at hall/guests-gw, or remove it"
    assert not archipelago.mend(taken).made


def test_a_filter_waits_for_who_is_not_there_yet():
    kiosk = "  kiosk: {at: hall/p1, address: 10.44.1.2/24, gateway: 10.44.1.1}\n"
    purser = "  purser: {at: hall/p2, address: 10.44.2.2/24, gateway: 10.44.2.1}\n"
    assert found(MOVED, "filter-idle") == []
    for gone in (kiosk, purser):  # nobody in its VLAN, or nobody to talk to
        assert gone in MOVED and found(MOVED.replace(gone, ""), "filter-idle") == []
    none = MOVED.replace(kiosk, "").replace(purser, "").replace("hosts:\n", "hosts: {}\n")
    assert found(none, "filter-idle") == []


def test_filters_that_leave_no_way_to_manage_a_device_are_a_risk():
    shut = bay(["accept: icmp", "accept: tcp/80"], "filter-in: f", "filter-in: f")
    told = [one for one in archipelago.audit(read_network(shut)) if one.kind == "management-filtered"]
    assert [(one.at, one.severity) for one in told] == [("landing", "risk")] and "f at its interfaces" in told[0].says
    for open_ in (
        bay(["accept: icmp", "accept: tcp/22"], "filter-in: f", "filter-in: f"),  # whoever it is
        bay(["accept: icmp", "accept: tcp/80"], "filter-in: f"),  # by the other interface
        shut + "policy: {rules: [], otherwise: none}\n",  # the policy says who may
    ):
        assert all(one.kind != "management-filtered" for one in archipelago.audit(read_network(open_)))


@pytest.mark.parametrize("seed", range(800, 815))
def test_what_is_sent_together_fares_as_what_is_sent_alone(seed):
    """Where several hold an address the simulation is asked once for all that the filters on the way treat alike."""
    network = read_network(archipelago.network_text(full_of_everything(Random(seed))))
    kinds = kinds_of_probe(network)[:12]
    arrays = build_arrays(know(network))
    for version in arrays.families:
        for together in by_probe(arrays, kinds, version, causes=False):
            alone = matrix(build_arrays(know(network)), version, probe=together.probe, causes=False)
            assert list(together.rows()) == list(alone.rows()), (version, str(together.probe))
