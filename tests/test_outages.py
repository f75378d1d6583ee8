"""What every failure does: beside fresh runs of the document with the part written off, additions in the document, and
the same answer in pieces, over processes, and after a stop."""

from __future__ import annotations

import json
import re
from itertools import combinations

import pytest

import archipelago
from archipelago import DocumentError, QueryError, amend, network_text, outages, read_network
from archipelago.api.kept_work import KeptWork
from archipelago.failures.double import rows_of, work_of
from archipelago.failures.few import with_few_hosts
from archipelago.knowledge.known import know
from archipelago.knowledge.parts import switched_off
from outages_referee import judged
from test_breaking import PAIR, pair

ONE_GATEWAY = """format: archipelago-network/1
vlans: {crew: 120, yard: 130}
devices:
  core-1:
    kind: l3switch
    routing: [ipv4]
    ports: {"p{1..4}": {trunk: all}}
    interfaces:
      crew-gw: {vlan: crew, address: 10.44.2.1/24}
      yard-gw: {vlan: yard, address: 10.44.3.1/24}
  core-2:
    kind: l3switch
    routing: [ipv4]
    ports: {"p{1..4}": {trunk: all}}
  quay: {kind: switch, ports: {p1: {trunk: all}, p2: {trunk: all}, p3: {access: crew}, p4: {access: yard}}}
  slip: {kind: switch, ports: {up: {trunk: all}, p3: {access: crew}}}
hosts:
  mess: {at: quay/p3, address: 10.44.2.10/24, gateway: 10.44.2.1}
  crane: {at: quay/p4, address: 10.44.3.10/24, gateway: 10.44.3.1}
  winch: {at: slip/p3, address: 10.44.2.11/24, gateway: 10.44.2.1}
cables: [core-1/p1 ~ quay/p1, core-2/p1 ~ quay/p2, core-1/p2 ~ core-2/p2, core-2/p3 ~ slip/up]
expect:
  - {from: crew, to: yard, reached: yes}
"""


@pytest.mark.long
def test_every_failure_is_a_fresh_run_with_the_part_written_off():
    figures, different = judged(0, 16)
    assert different == []
    assert figures["cuts off"] > 30 and figures["taken over"] > 20 and figures["additions"] > 2


def test_of_a_pair_nothing_is_missed_and_it_is_said_what_takes_over():
    found = outages(pair())
    # Without its interface in a VLAN a core that is active in another has no way there: nothing tells its partner.
    assert [one.name for one in found.single_points] == ["core-1/crew-gw", "core-1/yard-gw"]
    assert found["quay"].outcome == "cuts off its own hosts"
    assert found["core-1"].outcome == "taken over" and found["quay"].lost == 2 and found["quay"].elsewhere == 0
    over = list(map(str, found["core-1"].takeovers))
    assert over == ["core-2 is active on crew-gw, yard-gw", "quay forwards on p2"]
    assert list(map(str, found["core-1/crew-gw"].takeovers)) == ["core-2 is active on crew-gw"]
    assert found["core-2"].outcome == "not missed" and found["core-2"].harmless
    assert found.headline.startswith(
        "none of 6 parts cuts anybody off elsewhere when it breaks; "
        "2 of 4 interfaces cut somebody off when they are switched off; 3 taken over"
    )
    assert "interfaces that cut somebody off when they are switched off" in str(found)
    assert "single points of failure" not in str(found)


def test_the_smallest_addition_is_named_and_serves_in_the_document():
    network = read_network(ONE_GATEWAY)
    found = outages(network)
    device, cable = found["core-1"], found["core-2/p3 ~ slip/up"]
    assert device.expectations == ("crew must reach yard",) and device.elsewhere == 4
    assert device.addition.says == "core-2 as a second gateway of crew, yard, sharing the address"
    assert cable.addition.says == "a cable core-1/p3 ~ slip/up1, with trunk all (slip/up1: not in the file yet)"
    for outage in (device, cable):
        added = read_network(amend(network_text(network), outage.addition.edits))
        assert outages(added, additions=False)[outage.name].elsewhere == 0
        assert _errors(added) <= _errors(network)
    assert found["core-2"].addition is not None and "slip" in found["core-2"].addition.says


def _errors(network):
    return {(one.kind, one.at) for one in archipelago.audit(network, quick=True) if one.severity == "error"}


def test_where_nothing_single_helps_that_is_said():
    text = ONE_GATEWAY.replace("  core-2:\n    kind: l3switch\n    routing: [ipv4]", "  core-2:\n    kind: switch")
    found = outages(read_network(text))
    assert found["core-1"].addition is None and "no cable or second gateway to try" in found["core-1"].without
    quick = outages(read_network(text), additions=False)
    assert quick["core-1"].without == "" and quick["core-1"].lost == found["core-1"].lost


@pytest.mark.long
def test_promises_are_those_of_the_document_with_the_part_written_off(tern_bay):
    network = read_network(tern_bay / "network.yaml")
    before = {str(one.expectation) for one in archipelago.expectations(network) if one.broken}
    found = outages(network, additions=False)
    for outage in [one for one in found if one.name in ("landing", "landing/p4", "holm", "quay-1", "landing/p1.220")]:
        left = read_network(network_text(switched_off(know(network), [outage.name])))
        broken = {str(one.expectation) for one in archipelago.expectations(left) if one.broken} - before
        assert set(outage.expectations) == broken, outage.name
    assert found["landing/p4"].outcome == "not missed" and not found["landing/p4"].harmless
    assert found["holm"].outcome == "taken over" and found["holm"].harmless


def test_a_way_past_the_filter_breaks_the_policy():
    text = """format: archipelago-network/1
vlans: {crew: 120, yard: 130}
policy: {otherwise: any, rules: [{from: crew, may-not: any, to: yard}]}
devices:
  core-1:
    kind: l3switch
    routing: [ipv4]
    ports: {p1: {trunk: all}, p2: {trunk: all}}
    interfaces:
      crew-gw: {vlan: 120, address: 10.44.2.2/24, filter-in: shut, virtual: {vrid: 2, address: 10.44.2.1, priority: 9}}
      yard-gw: {vlan: 130, address: 10.44.3.2/24, filter-in: shut, virtual: {vrid: 3, address: 10.44.3.1, priority: 9}}
    filters: {shut: {otherwise: drop}}
  core-2:
    kind: l3switch
    routing: [ipv4]
    ports: {p1: {trunk: all}, p2: {trunk: all}}
    interfaces:
      crew-gw: {vlan: crew, address: 10.44.2.3/24, virtual: {vrid: 2, address: 10.44.2.1, priority: 8}}
      yard-gw: {vlan: yard, address: 10.44.3.3/24, virtual: {vrid: 3, address: 10.44.3.1, priority: 8}}
  quay: {kind: switch, ports: {p1: {trunk: all}, p2: {trunk: all}, p3: {access: crew}, p4: {access: yard}}}
hosts:
  mess: {at: quay/p3, address: 10.44.2.10/24, gateway: 10.44.2.1}
  crane: {at: quay/p4, address: 10.44.3.10/24, gateway: 10.44.3.1}
cables: [core-1/p1 ~ quay/p1, core-2/p1 ~ quay/p2, core-1/p2 ~ core-2/p2]
"""
    found = outages(read_network(text))
    assert found["core-1"].policy == ("policy, line 1, crew may not any to yard: mess gets through to crane by icmp",)
    assert found["core-1"].gained == 2 and not found["core-1"].harmless and found["core-2"].harmless


def test_few_hosts_stand_for_many_but_where_leases_hang_on_each_other(tern_bay):
    ports = "".join(f", s{number}: {{access: crew}}" for number in range(90))
    hosts = "".join(f"  s{n}: {{at: slip/s{n}, address: 10.44.2.{n + 20}/24, gateway: 10.44.2.1}}\n" for n in range(90))
    many = ONE_GATEWAY.replace("up: {trunk: all}", "up: {trunk: all}" + ports).replace("cables:", hosts + "cables:")
    few = with_few_hosts(read_network(many))
    assert len(few.network.hosts) == 4 and sum(few.stands_for.values()) + 2 + 1 == 93
    found = outages(read_network(many), additions=False)
    assert found.pairs == 93 * 92 and found["core-2"].elsewhere == 2 * 91 * 2
    leasing = read_network(tern_bay / "network.yaml")
    assert with_few_hosts(leasing).network is leasing


@pytest.mark.long
def test_every_two_are_fresh_runs_too_in_one_process_and_in_two(tmp_path):
    network = read_network(ONE_GATEWAY)
    found = outages(network, double=True)
    names = [one.name for one in outages(network, additions=False)]
    assert {frozenset(one.parts) for one in found} == set(map(frozenset, combinations(names, 2)))
    reached = {(a, b) for a, b, yes in archipelago.matrix(network).rows() if yes}
    for outage in found.outages[::7]:
        left = archipelago.matrix(switched_off(know(network), outage.parts))
        assert outage.lost == len(reached - {(a, b) for a, b, yes in left.rows() if yes}), outage.name
    assert found["core-1 and core-2"] == found["core-2 and core-1"]
    assert outages(network, double=True, workers=2, resume=tmp_path / "kept") == found
    assert outages(network, double=True, resume=tmp_path / "kept") == found


def test_what_was_stopped_goes_on_where_it_was(tmp_path):
    network = read_network(ONE_GATEWAY)
    found, file = outages(network, double=True, resume=tmp_path / "kept"), tmp_path / "kept"
    whole = file.read_text()
    lines = whole.splitlines(keepends=True)
    file.write_text("".join(lines[:4]) + lines[4][:9])  # it was stopped while it wrote
    work = work_of(network)
    assert [piece.first for piece in KeptWork(file, work).done] == [0, 1, 2]
    assert outages(network, double=True, resume=file) == found and file.read_text() == whole
    assert [row[:2] for row in rows_of(work, work.pieces()[0])] == [(0, n) for n in range(1, len(work.parts))]
    with pytest.raises(DocumentError, match="begun for another network"):
        outages(pair(), double=True, resume=file)
    for text in ("x", "[]\n", lines[0] + "{}\n", lines[0] + '{"piece": "0:1-9"}\n', "\xff\n"):
        file.write_text(text, encoding="latin-1")
        with pytest.raises(DocumentError, match="kept"):
            outages(network, double=True, resume=file)
    with pytest.raises(DocumentError, match="written"):
        outages(network, double=True, resume=tmp_path / "nowhere" / "kept")


@pytest.mark.long
def test_the_command_says_it_in_words_in_json_and_in_a_picture(command, tmp_path):
    (tmp_path / "bay.yaml").write_text(ONE_GATEWAY)
    done = command("outages", tmp_path / "bay.yaml", "-o", tmp_path / "hanging.svg")
    found = outages(read_network(ONE_GATEWAY))
    assert done.returncode == 1 and done.stdout.splitlines()[0] == found.headline == str(found).splitlines()[0]
    assert re.search(r"^core-1 +4 \(67%\) .* crew must reach yard +core-2 as a second gateway", done.stdout, re.M)
    drawn = (tmp_path / "hanging.svg").read_text()
    assert "cuts off 4 pairs" in drawn and "the darker, the more hangs on it" in drawn
    told = json.loads(command("outages", tmp_path / "bay.yaml", "--json").stdout)
    first = told["outages"][0]
    assert first["parts"] == list(found.outages[0].parts) and first["pairs_elsewhere"] == found.outages[0].elsewhere
    added = [archipelago.Edit(tuple(edit["path"]), edit["value"]) for edit in first["edits"]]
    assert tuple(added) == found.outages[0].addition.edits
    (tmp_path / "pair.yaml").write_text(PAIR.format(first="priority: 200", second="priority: 100"))
    text = "format: archipelago-network/1\ndevices: {quay: {kind: switch}}\nhosts:\n"
    text += "  a: {at: quay/p1, address: 10.44.0.2/24}\n  b: {at: quay/p2, address: 10.44.0.3/24}\n"
    (tmp_path / "one.yaml").write_text(text)
    harmless = command("outages", tmp_path / "one.yaml", "--quick")
    assert harmless.returncode == 0 and harmless.stdout.startswith("none of 1 part cuts anybody off elsewhere")
    double = command("outages", tmp_path / "pair.yaml", "--double", "--workers", "1", "--resume", tmp_path / "kept")
    assert (
        double.returncode == 1
        and "of 39 double failures cut somebody off elsewhere; 4 of 6 pairs of interfaces"
        in double.stdout.splitlines()[0]
    )
    rows = archipelago.to_table(found)
    assert list(rows["breaks"])[:1] == [found.outages[0].name] and rows["pairs_elsewhere"].sum() > 0


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["--from", "mess"], "--break"),
        (["--break", "quay"], "--from and --to"),
        (["--double", "-o", "x.svg"], "does not go with --double"),
        (["--workers", "2"], "goes with --double"),
        (["--double", "--workers", "0"], "1 to 1,024"),
        pytest.param(
            ["--double", "--scheduler", "tcp://127.0.0.1:1"], "there is no scheduler at", marks=pytest.mark.long
        ),
        (["-o", "x.gif"], "neither .svg nor .png"),
        (["--double", "--resume", "pair.yaml"], "none of a file of double failures"),
        (["--double", "--break", "quay", "--from", "mess", "--to", "crane"], "does not go with --break"),
    ],
)
def test_a_wrong_call_is_one_message(command, tmp_path, words, told):
    (tmp_path / "pair.yaml").write_text(PAIR.format(first="priority: 200", second="priority: 100"))
    words = [tmp_path / word if word == "pair.yaml" else word for word in words]
    done = command("outages", tmp_path / "pair.yaml", *words)
    assert done.returncode == 2 and told in done.stderr and not done.stdout and "Traceback" not in done.stderr
    assert sorted(file.name for file in tmp_path.iterdir()) == ["pair.yaml"]


def test_python_refuses_what_the_command_refuses():
    with pytest.raises(QueryError, match="double failures"):
        outages(pair(), workers=2)
    with pytest.raises(QueryError, match="no outage of 'nobody'"):
        outages(pair(), additions=False)["nobody"]
