"""What must hold: between VLANs, hosts, subnets and the outside, in both families, checked by every way in."""

from __future__ import annotations

import json
from pathlib import Path
from random import Random

import pytest
from hypothesis import given, reject, settings
from hypothesis import strategies as st

import archipelago
from archipelago import amend, read_network
from archipelago.files.network import network_from
from archipelago.files.tree import parse
from archipelago.model.expectation import Expectation
from archipelago.model.finding import Edit
from makers import scrambled

SLIPWAY = Path(__file__).parent.parent / "examples" / "slipway-network.yaml"


@pytest.fixture(scope="session")
def sound(plain_bay):
    return read_network(plain_bay / "network.yaml")


@pytest.fixture(scope="session")
def broken(plain_bay):
    return read_network(plain_bay / "broken.yaml")


@pytest.mark.parametrize(
    ("source", "target", "reached", "pairs", "wrong"),
    [
        ("tickets", "crew", True, 9, 0),
        ("210", "kiosk-a", True, 2, 0),  # kiosk-a is one of its own VLAN
        ("10.44.2.0/24", "2001:db8:44:2::/64", True, 9, 0),
        ("cameras", "outside", True, 3, 0),
        ("cameras", "outside", False, 3, 3),
        ("outside", "lamp", True, 1, 0),
        ("lamp", "lamp", True, 0, 0),
        ("10.44.2.3", "yard", False, 3, 3),
    ],
)
def test_ends_and_counts(sound, source, target, reached, pairs, wrong):
    (verdict,) = archipelago.expectations(sound, [(source, target, reached)])
    assert (verdict.pairs, verdict.broken) == (pairs, wrong)
    assert bool(verdict) == verdict.holds == (pairs > 0 and wrong == 0)


@pytest.mark.parametrize(
    ("source", "target", "reached", "pairs", "wrong"),
    [
        ("lamp", "holm", True, 1, 0),  # a device, at its first address
        ("landing", "crew", True, 3, 0),
        ("tickets", "landing/p1.220", True, 3, 0),
        ("landing/p1.220", "lamp", True, 1, 0),
        ("crew", "10.44.3.129", True, 3, 0),  # an address of a device
        ("10.44.3.129", "kiosk-a", True, 1, 0),
        ("crew", "landing", False, 3, 3),
        ("landing", "outside", True, 1, 0),
        ("outside", "landing", True, 1, 0),
        ("tickets", "gateway", True, 3, 0),
        ("tickets", "gateway", False, 3, 3),
        ("lamp", "198.51.100.7", True, 1, 0),  # outside, by its own address
        ("lamp", "10.44.3.130", True, 1, 0),
        ("198.51.100.7", "lamp", True, 1, 0),
        ("landing", "landing", True, 0, 0),
    ],
)
def test_devices_interfaces_addresses_and_gateways_are_ends(sound, source, target, reached, pairs, wrong):
    (verdict,) = archipelago.expectations(sound, [(source, target, reached)])
    assert (verdict.pairs, verdict.broken) == (pairs, wrong), str(verdict)
    assert (verdict.holds, verdict.idle) == (pairs > 0 and wrong == 0, pairs == 0)


def test_a_gateway_that_is_missing_breaks_what_is_expected_of_it(broken):
    (verdict,) = archipelago.expectations(broken, [("tickets", "gateway", True)])
    assert ("kiosk-a", "gateway") in verdict.such_as and verdict.finding.kind == "gateway-missing"
    unheld = archipelago.expectations(broken, [("crew", "10.44.2.99", True)])[0]
    assert unheld.broken == unheld.pairs > 0


def test_an_expectation_names_every_mend_that_it_takes(broken):
    found = archipelago.audit(broken)
    mends = [one.mend for one in found if any("tickets must reach crew" in promise for promise in one.promises)]
    assert any("set the gateway of kiosk-a" in mend for mend in mends)
    assert any("make quay-1/p2 an access port of crew" in mend for mend in mends)
    assert not any(one.kind == "expectation-broken" for one in found)  # each is told with what breaks it
    assert found.headline.startswith(f"{found.errors} errors")


def test_nobody_to_check_is_a_risk_and_no_break(command, tmp_path):
    text = f"{SLIPWAY.read_text()}expect: [{{from: winch, to: winch, reached: yes}}]\n"
    (file := tmp_path / "idle.yaml").write_text(text)
    (risk,) = (finding for finding in archipelago.audit(read_network(text)) if finding.severity == "risk")
    assert risk.kind == "expectation-idle"
    done = command("matrix", file)
    assert done.returncode == 0 and "1 with nobody to check" in done.stdout
    assert command("audit", file).returncode == 0


def test_ends_that_are_not_there_are_told(sound):
    for end, told in (
        ("landing/p9", "no interface"),
        ("landing/p1.2200", "no interface"),
        ("harbour", "is nothing in this network"),
    ):
        text = f"{SLIPWAY.read_text()}expect: [{{from: winch, to: {end}, reached: yes}}]\n"
        with pytest.raises(archipelago.DocumentError, match=told):
            read_network(text)


def test_what_must_be_reached_must_be_in_both_families(broken):
    assert archipelago.reach(broken, "purser", "innkeeper").reached  # in IPv4
    (verdict,) = archipelago.expectations(broken, [("purser", "innkeeper", True)])
    assert not verdict and verdict.finding.kind == "routing-off" and verdict.finding.at == "holm"
    assert archipelago.expectations(broken, [("purser", "innkeeper", True)], family=4)[0]
    (never,) = archipelago.expectations(broken, [("purser", "innkeeper", False)])
    assert never.broken == 1  # IPv4 is enough to break a promise of separation


def test_a_team_keeps_its_network_under_test(sound, broken):
    archipelago.assert_expected(sound)
    archipelago.assert_expected(sound, [Expectation("tickets", "outside"), ("lamp", "10.44.0.0/20", True)])
    with pytest.raises(AssertionError) as raised:
        archipelago.assert_expected(broken)
    assert "set the gateway of kiosk-a" in str(raised.value) and "camera-s to recorder" in str(raised.value)


def test_the_outside_is_asked_by_reach_too(sound, command, plain_bay):
    answer = archipelago.reach(sound, "lamp", "outside")
    assert answer.reached and answer.other_family.reached and [step.device for step in answer.out][-1] == "outside"
    assert archipelago.reach(sound, "outside", "lamp").reached
    text = amend((plain_bay / "network.yaml").read_text(), [Edit(("devices", "landing", "ports", "p4", "off"), "true")])
    shut = network_from(parse(text.encode(), "shut"))
    assert archipelago.reach(shut, "lamp", "outside").cause == "admin-down"
    text = amend((plain_bay / "network.yaml").read_text(), [Edit(("devices", "landing", "ports", "p4"), {})])
    inner = plain_bay / "inner.yaml"
    inner.write_text(text)
    asked = command("reach", inner, "lamp", "outside")
    assert asked.returncode == 2 and "no port leads outside" in asked.stderr
    for verb in ("matrix", "audit"):
        done = command(verb, inner)
        assert done.returncode == 1 and "no port leads outside" in done.stdout
    (never,) = archipelago.expectations(read_network(inner), [("cameras", "outside", False)])
    assert never.holds and never.pairs == 3


def test_matrix_and_audit_check_and_exit(command, plain_bay, tmp_path):
    text = (plain_bay / "network.yaml").read_text()
    apart = tmp_path / "apart.yaml"
    apart.write_text(text + "  - {from: guests, to: yard, reached: no}\n")
    found = command("matrix", apart, "--json")
    told = json.loads(found.stdout)["expectations"]
    assert found.returncode == 1 and [one["holds"] for one in told] == [True] * 4 + [False]
    assert {"source": "lounge-1", "target": "crane"} in told[-1]["broken_by"] and told[-1]["broken"] == 6
    audit = command("audit", apart)
    assert audit.returncode == 1 and "expectation-broken at guests" in audit.stdout and "apart.yaml:" in audit.stdout
    # cut off as it should be: the answer is yes
    apart.write_text(
        amend(text, [Edit(("devices", "landing", "interfaces", "p1.240", "off"), "true")]).replace(
            "expect:\n", "expect:\n  - {from: yard, to: 10.44.0.0/20, reached: no}\n"
        )
    )
    # crane and barrier share a VLAN, and still reach each other
    assert json.loads(command("matrix", apart, "--json").stdout)["expectations"][0]["broken"] == 6


def test_pairs_that_should_be_cut_off_do_not_count(command, tmp_path):
    file = tmp_path / "two.yaml"
    hosts = "hosts:\n  kiosk-a: {at: q/p1, address: 10.44.0.2/26}\n  mess: {at: q/p2, address: 10.44.0.3/26}\n"
    start = "format: archipelago-network/1\nvlans: {tickets: 210, crew: 220}\ndevices:\n  q:\n    kind: switch\n"
    ports = "    ports: {p1: {access: tickets}, p2: {access: crew}}\n"
    file.write_text(start + ports + hosts)
    assert command("matrix", file).returncode == 1
    file.write_text(file.read_text() + "expect:\n  - {from: tickets, to: crew, reached: no}\n")
    assert command("matrix", file).returncode == 1  # the way back is cut off too, and nothing says that it should be
    file.write_text(file.read_text() + "  - {from: crew, to: tickets, reached: no}\n")
    assert command("matrix", file).returncode == 0


@pytest.mark.parametrize(
    ("entry", "message"),
    [
        ("{from: ticket, to: crew, reached: yes}", "did you mean 'tickets'?"),
        ("{from: 4095, to: crew, reached: yes}", "ids go from 1 to 4094"),
        ("{from: tickets, to: 10.44.0.1/26, reached: yes}", "bits set beyond its prefix length"),
        ("{from: tickets, to: crew}", "lacks the key 'reached'"),
        ("{from: tickets, to: crew, reached: maybe}", "neither true nor false"),
    ],
)
def test_wrong_expectations_are_told_with_their_line(command, plain_bay, tmp_path, entry, message):
    file = tmp_path / "wrong.yaml"
    file.write_text((plain_bay / "network.yaml").read_text() + f"  - {entry}\n")
    done = command("audit", file)
    assert done.returncode == 2 and message in done.stderr
    assert f":{file.read_text().count(chr(10))}:" in done.stderr


@pytest.mark.long
@given(seed=st.integers(0, 10**6))
@settings(max_examples=25)
def test_expectations_are_the_matrix_asked_by_name(seed):
    network = scrambled(Random(seed))
    if network is None or len(network.hosts) < 2:
        reject()
    random = Random(seed)
    hosts = list(network.hosts)
    asked = [(*random.sample(hosts, 2), random.random() < 0.5) for _ in range(12)]
    verdicts = archipelago.expectations(network, asked)
    families = {version: archipelago.matrix(network, version, causes=False) for version in (4, 6)}
    for (source, target, wanted), verdict in zip(asked, verdicts, strict=True):
        pair = hosts.index(source), hosts.index(target)
        answers = [archipelago.reach(network, source, target, probes=1, family=version) for version in families]
        shared = [one for one in answers if one.cause not in ("no-common-family", "address-missing")]
        for version, answer in zip(families, answers, strict=True):
            assert families[version].reaches(*pair) == answer.reached
        holds = bool(shared) and all(one.reached for one in shared)
        assert verdict.holds == (holds if wanted else not any(one.reached for one in answers))
