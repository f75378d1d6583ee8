"""What is kept apart on purpose is told so by all pairs and by a question; what is one mistake is one finding."""

from __future__ import annotations

import json
from random import Random

import pytest

import archipelago
from archipelago import amend, network_text, read_network
from archipelago.model.finding import REMOVE, Edit
from briefs import with_policy

PIER = """format: archipelago-network/1
vlans: {crew: 120, guests: 130}
devices:
  landing:
    kind: router
    ports: {p1: {}}
    interfaces:
      p1.120: {parent: p1, tag: crew, address: [10.44.1.1/24, 2001:db8:44:1::1/64]}
      p1.130: {parent: p1, tag: guests, address: [10.44.2.1/24, 2001:db8:44:2::1/64], filter-in: guests-in}
    filters:
      guests-in:
        rules: [{reject: any, destination: [10.44.1.0/24, 2001:db8:44:1::/64]}]
        otherwise: accept
        stateful: yes
  quay:
    kind: switch
    ports: {p1: {access: crew}, p2: {access: guests}, p3: {access: crew}, up: {trunk: [crew, guests]}}
hosts:
  mess: {at: quay/p1, address: [10.44.1.10/24, 2001:db8:44:1::10/64], gateway: [10.44.1.1, "2001:db8:44:1::1"]}
  bosun: {at: quay/p3, address: [10.44.1.11/24, 2001:db8:44:1::11/64], gateway: [10.44.1.1, "2001:db8:44:1::1"]}
  lounge: {at: quay/p2, address: [10.44.2.10/24, 2001:db8:44:2::10/64], gateway: [10.44.2.1, "2001:db8:44:2::1"]}
cables: [landing/p1 ~ quay/up]
"""
POLICY = PIER + "policy: {rules: [{from: guests, to: crew, may-not: any}], otherwise: any}\n"


@pytest.fixture
def pier(tmp_path):
    (tmp_path / "pier.yaml").write_text(POLICY)
    return tmp_path / "pier.yaml"


def test_all_pairs_say_what_the_policy_keeps_apart(command, pier):
    done = command("matrix", pier)
    assert done.returncode == 0 and done.stdout.startswith("4 of 6 pairs reached; 2 kept apart by the policy")
    assert "apart" in done.stdout and "filtered" not in done.stdout and "mend" not in done.stdout
    told = json.loads(command("matrix", pier, "--json").stdout)
    assert (told["kept_apart"], told["causes"], len(told["unreached"])) == (2, [], 2)
    pier.write_text(PIER)  # no policy says that it is meant
    done = command("matrix", pier)
    assert done.returncode == 1 and "2 pairs cut off" in done.stdout.splitlines()[0] and "filtered" in done.stdout
    pier.write_text(PIER + "expect: [{from: guests, to: crew, reached: no}]\n")
    done = command("matrix", pier)
    assert done.returncode == 0 and "2 kept apart by what is expected" in done.stdout


def test_a_question_says_what_keeps_its_ends_apart_and_mends_nothing(command, pier):
    done = command("reach", pier, "lounge", "mess")
    assert done.returncode == 1 and done.stdout.startswith("KEPT APART: lounge does not reach mess")
    assert "meant: by the policy, line 1: guests may not any to crew" in done.stdout and "mend:" not in done.stdout
    assert "error: from landing: administratively prohibited" in done.stdout
    told = json.loads(command("reach", pier, "lounge", "mess", "--json").stdout)
    assert (told["reached"], told["mend"], told["edits"], told["error_from"]) == (False, None, [], "landing")
    pier.write_text(POLICY.replace("reject: any", "drop: any"))
    assert "error: none reaches lounge" in command("reach", pier, "lounge", "mess").stdout


def test_checks_in_order_go_on_past_what_is_kept_apart(command, pier):
    closed = POLICY.replace("rules: [{reject: any, ", "rules: [{drop: any, destination: 10.44.2.1}, {reject: any, ")
    pier.write_text(closed.replace("may-not: any}]", "may-not: any}, {from: crew, to: landing, may: any}]"))
    done = command("reach", pier, "lounge", "--in-order")
    assert done.returncode == 0 and "KEPT APART   its gateway" in done.stdout and "a host of crew" in done.stdout


def test_a_part_that_was_switched_off_for_the_question_is_told_as_asked_for(command, pier):
    told = command("matrix", pier, "--without", "landing").stdout
    assert "switched off for this question (--without landing)" in told and "switch landing on" not in told


@pytest.mark.parametrize("seed", range(10))
def test_matrix_and_reach_keep_the_same_apart(seed):
    brief = with_policy(seed)
    if brief is None:
        pytest.skip("no brief of this seed")
    network = archipelago.design(brief).network
    answer = archipelago.matrix(network)
    kept = answer.beside.apart
    assert kept.pairs + answer.reached + kept.unforeseen <= answer.pairs
    rows = [row for row in answer.rows() if not row[2] and "outside" not in row[:2]]
    for source, target, _ in Random(seed).sample(rows, min(len(rows), 5)):
        said = archipelago.reach(network, source, target)
        kinds = (answer.kind[answer.hosts.index(name)] for name in (source, target))
        assert bool(said.kept_apart) == bool(kept.kinds[tuple(kinds)]), (source, target)


def test_the_two_families_of_one_mistake_are_one_finding_with_one_mend(tern_bay):
    network = read_network(tern_bay / "network.yaml")
    forgotten = read_network(amend(network_text(network), [Edit(("devices", "skerry", "routes"), REMOVE)]))
    near, default = (one for one in archipelago.audit(forgotten) if one.kind == "route-missing")  # by two next hops
    assert "0.0.0.0/0 and ::/0" in default.says and len(default.edits) == 2 and len(near.edits) == 8
    mended = archipelago.mend(network_text(forgotten))
    assert len(mended.made) == 2 and not mended.left.errors
    off = read_network(amend(network_text(network), [Edit(("devices", "landing", "routing"), [])]))
    (still,) = (one for one in archipelago.audit(off) if one.is_error)
    assert "IPv4 and IPv6" in still.says and still.edits[0].value == ["ipv4", "ipv6"]


def test_two_lines_of_the_policy_that_one_filter_breaks_are_one_finding(broken_bay_findings):
    opened = [one for one in broken_bay_findings if one.kind == "policy-open"]
    assert len(opened) == 1 and "line 3" in opened[0].says and "line 6" in opened[0].says


@pytest.fixture
def broken_bay_findings(tern_bay):
    return archipelago.audit(read_network(tern_bay / "broken.yaml"))


TRANSLATED = """format: archipelago-network/1
vlans: {crew: 120}
devices:
  landing:
    kind: router
    ports: {p1: {address: 10.44.0.1/24}, p4: {address: 203.0.113.2/30, source-nat: 10.44.0.0/16}}
    routes: [{destination: 0.0.0.0/0, next-hop: 203.0.113.1}]
hosts: {mess: {at: landing/p1, address: 10.44.0.2/24, gateway: 10.44.0.1}}
outside: {at: landing/p4, routes-back: none}
"""


def test_nobody_outside_begins_through_a_translation(command, tmp_path):
    network = archipelago.read_network(TRANSLATED)
    found = archipelago.matrix(network)
    assert found and found.headline == "1 of 2 pairs reached; 1 kept apart by translation"
    asked = archipelago.reach(network, "outside", "mess")
    assert asked.kept_apart and asked.cause == "begun-outside" and asked.mend is None
    (tmp_path / "landing.yaml").write_text(TRANSLATED)
    assert command("matrix", tmp_path / "landing.yaml").returncode == 0
    assert command("reach", tmp_path / "landing.yaml", "outside", "mess").stdout.startswith("KEPT APART")


def test_what_does_not_get_out_is_cut_off_in_both_directions():
    network = archipelago.read_network(TRANSLATED.replace("source-nat: 10.44.0.0/16", "source-nat: 10.44.9.0/24"))
    assert not archipelago.matrix(network)
    for ends in (("outside", "mess"), ("mess", "outside")):
        asked = archipelago.reach(network, *ends)
        assert (asked.kept_apart, asked.cause) == (None, "translation-missing")
        assert "then" not in asked.mend
