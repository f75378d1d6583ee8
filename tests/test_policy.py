"""Policies: what may be begun, and whether the network keeps it."""

from __future__ import annotations

import json
from dataclasses import replace
from random import Random

import pytest

import archipelago
from archipelago import DocumentError, read_network
from archipelago.addressing.values import parse_address, parse_prefix
from archipelago.design.policy import ways_to_filter
from archipelago.diagnosis.places import plugged_vlan
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import know
from archipelago.knowledge.outside import with_outside
from archipelago.model.filters import Probe, parse_traffic
from archipelago.model.network import with_changes
from archipelago.model.policy import Policy, PolicyRule
from archipelago.proof.placing import entrances
from archipelago.reachability.build import build_arrays
from archipelago.reachability.policy import breaches, probes_of
from archipelago.simulation.reach import reach
from briefs import to_many, with_policy
from makers import filtered, scrambled

BAY = """format: archipelago-network/1
vlans: {guests: 10, crew: 20}
devices:
  landing:
    kind: router
    ports: {p4: {address: 203.0.113.2/30}}
    filters:
      guests-in:
        rules: [{accept: tcp/443, destination: 10.44.2.2}, {drop: any, destination: 10.44.2.0/24}]
        otherwise: accept
        stateful: true
      edge-in: {rules: [], otherwise: drop, stateful: true}
    interfaces:
      p1.10: {parent: p1, tag: guests, address: 10.44.1.1/24, filter-in: guests-in}
      p1.20: {parent: p1, tag: crew, address: 10.44.2.1/24}
    routes: [{destination: 0.0.0.0/0, next-hop: 203.0.113.1}]
  hall:
    kind: switch
    ports: {p24: {trunk: [guests, crew], untagged: none}, p1: {access: guests}, p2: {access: crew}, p3: {access: crew}}
hosts:
  kiosk: {at: hall/p1, address: 10.44.1.2/24, gateway: 10.44.1.1}
  purser: {at: hall/p2, address: 10.44.2.2/24, gateway: 10.44.2.1}
  mess: {at: hall/p3, address: 10.44.2.3/24, gateway: 10.44.2.1}
cables: [landing/p1 ~ hall/p24]
outside: {at: landing/p4}
policy:
  rules:
    - {from: guests, to: purser, may: tcp/443}
    - {from: guests, to: [crew], may-not: any}
    - {from: outside, to: any, may-not: any}
  otherwise: any
"""


def told(text):
    findings = archipelago.audit(read_network(text))
    return [(one.kind, one.at, one.says, one.mend) for one in findings if one.kind.startswith("policy")]


def test_what_the_policy_says_and_the_network_does_is_no_finding():
    text = BAY.replace("address: 203.0.113.2/30", "address: 203.0.113.2/30, filter-in: edge-in")
    assert told(text) == []
    assert read_network(archipelago.network_text(read_network(text))) == read_network(text)


def test_what_is_wrongly_open_is_told_with_an_example_and_its_way():
    ((kind, at, says, mend),) = told(BAY)
    assert (kind, at) == ("policy-open", "landing")
    assert says.startswith(
        "policy, line 3: outside may not any to any; let through all the same: anything over IPv4, 3"
    )
    assert "such as outside to kiosk by icmp, over outside-upstream, landing, hall" in says
    assert mend == "let a filter that the policy makes see what comes in by landing/p4"


def test_what_is_wrongly_closed_is_told_with_the_line_that_ends_it():
    text = BAY.replace("address: 203.0.113.2/30", "address: 203.0.113.2/30, filter-in: edge-in")
    ((kind, at, says, mend),) = told(text.replace("to: purser, may: tcp/443", "to: purser, may: [tcp/443, icmp]"))
    assert (kind, at) == ("policy-closed", "landing")
    assert (
        "icmp over IPv4, 1 pair, such as kiosk to purser by icmp: filter guests-in at landing/p1.10 (in), line 2"
        in says
    )
    assert mend == "write 'guests-in' of landing anew, as the policy says"
    stateless = told(text.replace("        stateful: true\n      edge-in", "      edge-in"))
    assert [(kind, "the answer to" in says) for kind, _, says, _ in stateless] == [("policy-closed", True)]


def test_the_table_of_the_policy(command, tmp_path):
    (tmp_path / "bay.yaml").write_text(BAY)
    shown = command("view", tmp_path / "bay.yaml", "--policy").stdout
    assert shown.startswith("policy of 3 lines; otherwise any")
    rows = {tuple(line.split("  ")[0:1] + line.split()[-1:]): line for line in shown.splitlines()[4:]}
    assert "tcp/443 (some hosts)" in rows["guests", "crew"] and "nothing" in rows["outside", "crew"]
    assert "any" in rows["crew", "outside"]
    (tmp_path / "none.yaml").write_text(BAY[: BAY.index("policy:")])
    none = command("view", tmp_path / "none.yaml", "--policy")
    assert none.returncode == 2 and "the network has no 'policy'" in none.stderr


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ("may: tcp/443", "may: tcp/443, may-not: icmp", "write one of 'may' and 'may-not'"),
        ("may: tcp/443", "reached: yes", "unknown key 'reached'"),
        ("to: purser", "to: pursr", "'pursr' is nothing in this network; did you mean 'purser'"),
        ("otherwise: any", "otherwise: some", "accepted: any, none"),
        ("  otherwise: any\n", "", "lacks the key 'otherwise'"),
    ],
)
def test_what_is_wrong_in_a_policy_is_told(old, new, message):
    with pytest.raises(DocumentError, match=message):
        read_network(BAY.replace(old, new))


def decided(network, vlan_of, source, target, probe, version):
    """The contract, pair by pair: the first line that names both and the kind."""

    def names(end, host):
        if end == "any" or end == host:
            return True
        if end in network.vlans:
            return vlan_of.get(host) == network.vlans[end]
        try:
            block = parse_prefix(end) if "/" in end else parse_address(end)
        except archipelago.AddressError:
            return False
        if block.version != version:
            return False
        held = network.hosts[host].addresses
        return any(block.holds(a) if "/" in end else a.address == block for a in held)

    if vlan_of.get(source) is not None and vlan_of.get(source) == vlan_of.get(target):
        return None
    for number, rule in enumerate(network.policy.rules):
        ends = any(names(end, source) for end in rule.source) and any(names(end, target) for end in rule.target)
        if ends and rule.speaks_of(probe):
            return number, bool(rule.may)
    return None, network.policy.otherwise == "any"


@pytest.mark.parametrize("seed", range(50))
def test_breaches_are_those_of_every_pair_asked_for_itself(seed):
    random = Random(seed)
    network = scrambled(random, small=True)
    if network is None or not any(host.addresses for host in network.hosts.values()):
        pytest.skip("this seed makes nothing to ask about")
    network = filtered(network, random)
    ends = ["any", *network.vlans, *network.hosts]
    ends += sorted({str(a.prefix) for host in network.hosts.values() for a in host.addresses})

    def rule():
        traffic = tuple(map(parse_traffic, random.sample(["any", "icmp", "tcp", "tcp/443", "udp/50-60"], 2)))
        chosen = [tuple(random.sample(ends, random.choice((1, 2)))) for _ in range(2)]
        return PolicyRule(*chosen, **{random.choice(("may", "may_not")): traffic})

    policy = Policy(random.choice(("any", "none")), tuple(rule() for _ in range(random.randint(0, 4))))
    network = with_changes(network, policy=policy)
    index = NetworkIndex(know(network))
    plain = with_changes(network, devices={name: bare(device) for name, device in network.devices.items()}, policy=None)
    free = NetworkIndex(know(plain))
    vlan_of = {host.name: plugged_vlan(index.knowledge, host) for host in network.hosts.values()}
    arrays = build_arrays(index.knowledge)
    said = {}
    for breach in breaches(index, arrays):
        said[breach.line, breach.let_through, breach.version] = set(breach.services)
    wanted = {}
    nodes, unfiltered = index.knowledge.nodes, free.knowledge.nodes
    for version in arrays.families:
        for probe in random.sample(probes_of(network), min(4, len(probes_of(network)))):
            for a in network.hosts:
                for b in network.hosts:
                    answer = decided(network, vlan_of, a, b, probe, version) if a != b else None
                    if answer is None:
                        continue
                    got = reach(index, nodes[a], nodes[b], probes=1, family=version, probe=probe).reached
                    able = got or reach(free, unfiltered[a], unfiltered[b], probes=1, family=version).reached
                    line, may = answer
                    if got != may and able:
                        wanted.setdefault((line, got, version), set()).add(probe)
        asked = {probe for probes in wanted.values() for probe in probes}
    for key, probes in wanted.items():
        assert probes <= said.get(key, set()), key
    for key in said:
        assert key in wanted or not said[key] & asked


def bare(device):
    ports = {name: replace(port, filter_in=None, filter_out=None) for name, port in device.ports.items()}
    interfaces = {
        name: replace(part, filter_in=None, filter_out=None) if hasattr(part, "filter_in") else part
        for name, part in device.interfaces.items()
    }
    return replace(device, ports=ports, interfaces=interfaces, filters={})


def test_what_was_not_asked_is_told():
    lines = "".join(f"    - {{from: guests, to: crew, may-not: tcp/{port}}}\n" for port in range(1000, 1200, 2))
    text = BAY.replace(
        "  rules:\n    - {from: guests, to: purser", f"  rules:\n{lines}    - {{from: guests, to: purser"
    )
    (note,) = [one for one in archipelago.audit(read_network(text)) if one.kind == "policy-in-part"]
    assert note.severity == "note" and note.says.endswith("kinds of traffic apart; 64 of them were asked")


def test_the_outside_is_an_end_with_or_without_its_key():
    network = read_network(BAY.replace("outside: {at: landing/p4}\n", ""))
    wider, outside = with_outside(know(network))
    index = NetworkIndex(know(wider))
    found = list(breaches(index, build_arrays(index.knowledge), outside))
    assert [(breach.line, breach.let_through, breach.pairs) for breach in found] == [(2, True, 3)]
    assert Probe("icmp") in found[0].services


@pytest.mark.parametrize("seed", range(60))
def test_a_policy_designed_is_kept_by_the_network(seed):
    brief = with_policy(seed)
    if brief is None:
        pytest.skip("this seed makes nothing to ask about")
    network = archipelago.design(brief).network
    assert network.policy == brief.policy and read_network(archipelago.network_text(network)) == network
    kinds = {finding.kind for finding in archipelago.audit(network)}
    assert not kinds & {"policy-open", "policy-closed", "line-hidden"}
    for device in network.devices.values():
        for one in device.filters.values():
            assert len(one.rules) <= 2 * len(brief.policy.rules) + 6
            assert one.stateful == (device.kind == "router")


def outward(network):
    """Every filter of what goes out, with the device it is on."""
    parts = ((device, part) for device in network.devices.values() for part in device.interfaces.values())
    return [device.filters[part.filter_out] for device, part in parts if getattr(part, "filter_out", None)]


@pytest.mark.long
@pytest.mark.parametrize("first", range(0, 240, 120))
def test_filters_are_where_packets_go_out_only_where_that_saves_lines(first):
    made = 0
    for seed in range(first, first + 120):
        brief = to_many(seed)
        network = archipelago.design(brief).network if brief is not None else None
        if network is None or not outward(network):
            continue
        assert not {finding.kind for finding in archipelago.audit(network)} & {"policy-open", "policy-closed"}
        places = entrances(NetworkIndex(know(network)))
        if len({place.who for place in places.values()} - {"outside"}) < len(brief.vlans):
            continue  # a VLAN without hosts, which only the brief says where to look for
        made += 1
        at_sources, _ = ways_to_filter(network, network.policy, list(places.values()))
        alone = sum(len(one.filter.rules) + 1 for one in at_sources if one.filter is not None)
        filters = [one for device in network.devices.values() for one in device.filters.values()]
        assert sum(len(one.rules) + 1 for one in filters) < alone
    assert made


MANY = """format: archipelago-brief/1
space: 10.44.0.0/20
vlans:
  tickets: {id: 210, hosts: 20}
  crew: {id: 220, hosts: 20}
  yard: {id: 240, hosts: 20}
  cameras: {id: 230, hosts: 9}
devices: {core: {kind: l3switch}, landing: {kind: router}, quay-1: {kind: switch}}
gateways: [{for: [tickets, crew, yard], at: core}, {for: cameras, at: landing/p1}]
hosts:
  kiosk: {vlan: tickets, at: quay-1/p1}
  purser: {vlan: crew, at: quay-1/p2}
  crane: {vlan: yard, at: quay-1/p3}
  recorder: {vlan: cameras, at: quay-1/p5}
cables: [core/p1 ~ quay-1/p23, landing/p1 ~ quay-1/p24, core/p2 ~ landing/p2]
policy:
  rules: [{from: crew, to: cameras, may: any}, {from: any, to: cameras, may-not: any}]
  otherwise: any
"""


def test_one_line_where_it_goes_out_stands_for_many(command, tmp_path):
    (tmp_path / "brief.yaml").write_text(MANY)
    shown = command("design", tmp_path / "brief.yaml", "-o", tmp_path / "network.yaml", "--all").stdout
    assert "filter cameras-out" in shown and "for what goes out" in shown
    network = read_network(tmp_path / "network.yaml")
    (made,) = outward(network)
    assert len(made.rules) == 2 and [len(device.filters) for device in network.devices.values()] == [0, 1, 0]
    for source, code in (("purser", 0), ("kiosk", 1), ("crane", 1)):
        assert command("reach", tmp_path / "network.yaml", source, "recorder").returncode == code
    bare_network = replace(network, devices={name: bare(device) for name, device in network.devices.items()})
    mended = archipelago.mend(archipelago.network_text(bare_network)).network
    assert [one.rules for one in outward(mended)] == [made.rules]


@pytest.mark.parametrize(
    ("old", "new", "names"),
    [
        # one line for each who sends is no more than one for all
        ("{from: any, to: cameras, may-not: any}", "{from: yard, to: cameras, may-not: any}", {"yard-in"}),
        # what the outside may begin can only be told where it comes in
        ("{from: any, to: cameras, may-not: any}", "{from: [outside, yard], to: cameras, may-not: any}", {"yard-in"}),
        # on a layer 3 switch answers would need too many lines
        (
            "gateways: [{for: [tickets, crew, yard], at: core}, {for: cameras, at: landing/p1}]",
            "gateways: [{for: [tickets, crew, yard, cameras], at: core}]",
            {"tickets-in", "yard-in"},
        ),
    ],
)
def test_filters_stay_where_packets_come_in_where_others_save_nothing(old, new, names):
    assert old in MANY
    text = MANY.replace(old, new)
    if "at: landing" not in new and "gateways" in new:
        text = text.replace("core/p1 ~ quay-1/p23, landing/p1 ~ quay-1/p24", "core/p1 ~ quay-1/p23")
    network = archipelago.design(archipelago.read_brief(text)).network
    assert not outward(network)
    assert {name for device in network.devices.values() for name in device.filters} == names


def test_a_filter_of_what_goes_out_goes_where_the_policy_wants_none_any_more():
    text = archipelago.network_text(archipelago.design(archipelago.read_brief(MANY)).network)
    forbids = "    - {from: any, to: cameras, may-not: any}\n"
    assert forbids in text
    text = text.replace(forbids, "")
    assert "policy-closed" in {finding.kind for finding in archipelago.audit(read_network(text))}
    mended = archipelago.mend(text).network
    assert not outward(mended) and not any(device.filters for device in mended.devices.values())
    assert archipelago.audit(mended) == () and archipelago.reach(mended, "kiosk", "recorder").reached


@pytest.mark.parametrize("seed", range(0, 60, 3))
def test_filters_that_are_missing_are_placed_as_the_design_places_them(seed):
    brief = with_policy(seed)
    network = archipelago.design(brief).network if brief is not None else None
    if network is None or not any(device.filters for device in network.devices.values()):
        pytest.skip("this seed makes nothing to ask about")
    open_ = replace(network, devices={name: bare(device) for name, device in network.devices.items()})
    before = archipelago.audit(open_)
    mended = archipelago.mend(archipelago.network_text(open_))
    if any(finding.kind == "policy-open" for finding in before):
        assert all(finding.edits for finding in before if finding.kind == "policy-open")
        assert mended.made
    after = archipelago.audit(mended.network)
    assert not {finding.kind for finding in after} & {"policy-open", "policy-closed"}
    for name, device in mended.network.devices.items():
        assert {f.rules for f in device.filters.values()} <= {f.rules for f in network.devices[name].filters.values()}


def test_lines_of_a_policy_that_decide_nothing_are_told():
    text = BAY.replace("203.0.113.2/30", "203.0.113.2/30, filter-in: edge-in").replace(
        "  otherwise: any",
        "    - {from: kiosk, to: mess, may: tcp/22}\n"
        "    - {from: kiosk, to: mess, may-not: udp}\n"
        "    - {from: purser, to: mess, may-not: any}\n  otherwise: any",
    )
    hidden, unneeded, within = told(text)
    assert hidden[0] == "policy-line-hidden" and hidden[3] == "move it before line 2, or remove it"
    assert unneeded[0] == "policy-line-unneeded" and "line 2 decides before it" in unneeded[2]
    assert within[0] == "policy-line-unneeded" and "hosts of one VLAN talk within it" in within[2]
    mended = archipelago.mend(text, notes=True)
    assert len(mended.network.policy.rules) == 4
    assert [kind for kind, *_ in told(mended.text)] == ["policy-line-hidden"]


@pytest.mark.long
def test_a_policy_and_the_network_are_told_by_vlan(command, tmp_path):
    (file := tmp_path / "bay.yaml").write_text(BAY)
    found = archipelago.check_policy(read_network(BAY))
    assert not found.holds and found.places == ("guests", "crew", "outside")
    done = command("matrix", file, "--policy", "-o", tmp_path / "policy.svg")
    assert done.returncode == 1 and done.stdout.startswith("the policy is not kept: wrongly open for 2 pairs of VLANs")
    assert "wrongly open" in (tmp_path / "policy.svg").read_text()
    rows = {
        (row["source"], ", ".join(row["targets"])): row
        for row in json.loads(command("matrix", file, "--policy", "--json").stdout)["by_vlan"]
    }
    assert rows["outside", "guests, crew"]["wrongly_open"] == "any"
    assert rows["guests", "crew"] == {
        "source": "guests",
        "may": "tcp/443 (some hosts)",
        "targets": ["crew"],
        "otherwise": False,
        "wrongly_open": "",
        "wrongly_closed": "",
        "open_for_answers": "",
    }
    kept = archipelago.check_policy(archipelago.mend(BAY).network)
    open_to_all = "devices' own addresses are open to all: no line names a device"
    assert kept.holds and kept.headline == f"the policy is kept: every pair, 5 kinds of traffic; {open_to_all}"
    for wrong in (["--csv"], ["--family", "6"]):
        refused = command("matrix", file, "--policy", *wrong)
        assert refused.returncode == 2 and "does not go with --policy" in refused.stderr
    (file := tmp_path / "none.yaml").write_text(BAY[: BAY.index("policy:")])
    assert command("matrix", file, "--policy").returncode == 2


def test_what_the_policy_forbids_is_no_pair_to_mend(command, tmp_path):
    kept = archipelago.mend(BAY).network
    (file := tmp_path / "kept.yaml").write_text(archipelago.network_text(kept))
    assert command("matrix", file).returncode == 0  # guests are cut off, as they should be
    (open_ := tmp_path / "closed.yaml").write_text(BAY.replace("may: tcp/443", "may: [tcp/443, icmp]"))
    assert command("matrix", open_).returncode == 1


def test_a_device_is_managed_by_those_whom_the_policy_names():
    text = BAY.replace("  otherwise: any", "    - {from: crew, to: landing, may: tcp/22}\n  otherwise: any")
    told = [finding for finding in archipelago.audit(archipelago.read_network(text)) if finding.kind == "policy-open"]
    assert any("to landing; let through all the same" in finding.says for finding in told)
    mended = archipelago.mend(text).network
    assert archipelago.reach(mended, "purser", "10.44.2.1", probe="tcp/22").reached
    assert not archipelago.reach(mended, "purser", "10.44.2.1", probe="tcp/23").reached
    assert not archipelago.reach(mended, "kiosk", "10.44.2.1", probe="tcp/22").reached


def test_a_filter_that_does_otherwise_than_the_policy_is_written_anew():
    wrong = BAY.replace("{drop: any, destination: 10.44.2.0/24}", "{drop: any, destination: 10.44.2.3}")
    again = archipelago.mend(wrong)
    assert archipelago.audit(again.network).errors == 0
    assert {made.mend for made in again.made} >= {"write 'guests-in' of landing anew, as the policy says"}


def test_what_the_brief_translates_needs_no_way_back(tern_bay):
    text = (tern_bay / "brief.yaml").read_text()
    text = text[: text.index("expect:")].replace("outside:\n", "outside:\n  source-nat: yes\n")
    design = archipelago.design(archipelago.read_brief(text))
    assert not [request for request in design.requests if "10.44." in request]
    network = design.network
    assert network.outside[0].routes_back != "all" and network.devices["landing"].ports["p4"].source_nat
    assert archipelago.reach(network, "purser", "192.0.2.1").reached
    wrong = text.replace("kind: router", "kind: l3switch").replace("at: landing/p1}", "at: landing}")
    with pytest.raises(archipelago.DocumentError, match="only routers translate"):
        archipelago.read_brief(wrong)


def test_the_demo_s_brief_with_a_policy(command, tern_bay, tmp_path):
    policy = """policy:
  rules:
    - {from: guests, to: kiosk-a, may: [tcp/443, icmp]}
    - {from: guests, to: outside, may: any}
    - {from: crew, to: any, may: any}
    - {from: holm-inn, to: skerry-pier, may: udp/53}
    - {from: crew, to: [quay-1, quay-2], may: any}
  otherwise: none
"""
    text = (tern_bay / "brief.yaml").read_text()
    (tmp_path / "brief.yaml").write_text(text[: text.index("expect:")] + policy)
    done = command("design", tmp_path / "brief.yaml", "-o", tmp_path / "network.yaml", "--all")
    assert done.returncode == 0, done.stderr
    assert "filter guests-in" in done.stdout and "what guests sends is seen first here" in done.stdout
    rows = command("matrix", tmp_path / "network.yaml", "--probe", "icmp,udp/53", "--csv").stdout
    assert {"lounge-1,kiosk-a,yes,icmp", "lounge-1,purser,no,icmp", "innkeeper,skerry-gate,yes,udp/53"} <= set(
        rows.split()
    )
    assert "innkeeper,skerry-gate,no,icmp" in rows and "skerry-gate,innkeeper,no,udp/53" in rows
    network = read_network(tmp_path / "network.yaml")
    assert archipelago.reach(network, "lounge-1", "outside", probe="tcp/80").reached
    assert archipelago.reach(network, "lounge-1", "10.44.0.1").reached  # its gateway is nobody's in particular
    assert not archipelago.reach(network, "lounge-1", "quay-1").reached
    assert archipelago.reach(network, "purser", "quay-1").reached
    holm = network.devices["holm"].filters["holm-inn-in"]
    assert not holm.stateful and any(rule.answering for rule in holm.rules)  # crew may begin with the inn
    broken = text[: text.index("expect:")] + policy.replace("to: kiosk-a", "to: kiosk-q")
    (tmp_path / "brief.yaml").write_text(broken)
    refused = command("design", tmp_path / "brief.yaml")
    assert refused.returncode == 2 and "'kiosk-q' is nothing in this network" in refused.stderr
