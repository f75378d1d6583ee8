"""What links carry: beside the sum of every pair's walked way, in words, as JSON, drawn."""

from __future__ import annotations

import json
from dataclasses import replace
from importlib.resources import files

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.sparse import csr_array

import archipelago
from archipelago import DocumentError, QueryError, read_brief, read_network, traffic
from archipelago.load.both_legs import Numbered, crossed_again
from archipelago.load.result import rate_text, times
from archipelago.model.network import with_changes
from load_agreement import a_network, calculated, differences

TRUNKED = """format: archipelago-network/1
vlans: {crew: 120, yard: 130}
devices:
  landing:
    kind: router
    interfaces:
      p1.120: {parent: p1, tag: crew, address: 10.44.2.1/24}
      p1.130: {parent: p1, tag: yard, address: 10.44.3.1/24}
  quay:
    kind: switch
    ports: {up: {trunk: all, untagged: none, speed: 100M}, p3: {access: crew}, p4: {access: yard}, p5: {access: yard}}
hosts:
  mess: {at: quay/p3, address: 10.44.2.10/24, gateway: 10.44.2.1}
  crane: {at: quay/p4, address: 10.44.3.10/24, gateway: 10.44.3.1}
  winch: {at: quay/p5, address: 10.44.3.11/24, gateway: 10.44.3.1}
cables: [landing/p1 ~ quay/up]
"""


def with_traffic(*demands: str) -> archipelago.Network:
    return read_network(TRUNKED + "traffic:\n" + "".join(f"  - {demand}\n" for demand in demands))


@pytest.mark.long
@pytest.mark.parametrize("kind", ["", "redundant"])
def test_what_links_carry_is_the_sum_of_every_walked_way(kind):
    carrying = 0
    for seed in range(700, 745):
        network = a_network(seed, kind)
        if network is not None:
            assert differences(network) == [], seed
            carrying += calculated(network)[3] > 0
    assert carrying > 12


def test_a_trunk_to_a_router_carries_both_legs_of_what_is_routed(command):
    load = with_traffic("{from: mess, to: yard, rate: 40M, answers: 50%}", "{from: crane, to: winch, rate: 7M}")
    trunk = traffic(load)["landing/p1"]
    assert (trunk.to_a, trunk.to_b, trunk.both_legs) == (60e6, 60e6, 60e6)
    assert trunk.speed == 100_000_000 and trunk.share == 0.6 and round(trunk.growth, 3) == 1.667
    told = traffic(load)
    assert told.fullest == trunk and told["crane"].to_b == 20e6 and told["crane"].to_a == 17e6
    assert "both legs of routed packets: 60 Mbit/s" in run_on(command, load)[1]


def test_moving_gateways_to_a_layer_3_switch_takes_exactly_the_routed_legs_off_the_trunk():
    text = files("archipelago.demo").joinpath("tern-bay.yaml").read_text(encoding="utf-8")
    moved = text.replace("hall:   {kind: switch,", "hall:   {kind: l3switch,").replace("at: landing/p1}", "at: hall}")
    before, after = (traffic(archipelago.design(read_brief(one)).network) for one in (text, moved))
    was, now = before["landing/p1"], after["landing/p1"]
    assert was.both_legs > 10e6 and now.both_legs == 0
    assert was.to_a - now.to_a == pytest.approx(was.both_legs)
    assert was.to_b - now.to_b == pytest.approx(was.both_legs)
    assert [one.arrived for one in before.demands] == [one.arrived for one in after.demands]


def test_what_nobody_can_reach_is_dropped_and_what_does_not_fit_is_named(command):
    network = with_traffic("{from: mess, to: outside, rate: 3M}", "{from: mess, to: yard, rate: 90M, answers: 20%}")
    load = traffic(network)
    assert (load.sent, load.arrived, load.dropped) == (93e6, 90e6, 3e6)
    assert [link.name for link in load.overfull] == ["landing/p1 ~ quay/up"]
    code, text = run_on(command, network)
    assert code == 1 and "1 link would have to carry more than fits" in text


def test_failures_leave_every_pair_sending_what_it_did():
    whole = traffic(
        with_traffic("{from: crew, to: yard, rate: 40M}", "{from: crane, to: winch, rate: 7M}"), failures=True
    )
    assert {one.part: one.dropped for one in whole.broken} == {
        "landing": 40e6,
        "quay": 47e6,
        "landing/p1 ~ quay/up": 40e6,
    }
    pair = traffic(a_network(713, "redundant"), failures=True)
    assert all(one.dropped <= pair.arrived * (1 + 1e-9) for one in pair.broken)


def test_a_rule_of_thumb_is_told_and_can_be_given():
    network = read_network(TRUNKED)
    load = traffic(network)
    assert load.assumed.startswith("every host sends 2 Mbit/s: 50% to other VLANs")
    assert [one.name for one in load.demands] == ["to other VLANs", "within its VLAN"]  # nothing leads outside
    load = traffic(network, each=10e6, others=1.0, outside=0.0, answers=0.0)
    assert load["landing/p1"].to_a == load.sent == 30e6
    with pytest.raises(QueryError, match="at most 1"):
        traffic(network, others=0.8, outside=0.4)
    alone = TRUNKED.replace("p1.120: {parent: p1, tag: crew, address: 10.44.2.1/24}\n      ", "").replace(
        "    interfaces:\n      p1.130", "    ports: {p7: {address: 10.44.2.1/24}}\n    interfaces:\n      p1.130"
    )
    alone = read_network(alone.replace("at: quay/p3,", "at: landing/p7,"))  # mess at a port of the router, in no VLAN
    assert traffic(alone, each=10e6, others=1.0, outside=0.0).sent == 30e6
    frame = archipelago.to_table(load)
    assert list(frame.columns) == ["port", "to", "speed", "sends", "receives", "share"]
    assert frame.set_index("port").loc["quay/up", "sends"] == 30e6


def test_filters_decide_by_kind_of_traffic():
    closed = TRUNKED.replace(
        "  quay:\n", "    filters: {f: {rules: [{drop: udp/53}], otherwise: accept}}\n  quay:\n"
    ).replace("tag: crew,", "tag: crew, filter-in: f,")
    demands = (
        "traffic: [{from: mess, to: yard, rate: 8M, probe: udp/53}, {from: mess, to: crane, rate: 2M, probe: tcp/22}]\n"
    )
    load = traffic(read_network(closed + demands))
    assert (load.arrived, load.dropped, load["crane"].to_b, load["winch"].to_b) == (2e6, 8e6, 2e6, 0)


@pytest.mark.parametrize(
    ("demand", "message"),
    [
        ("{from: mess, to: mess/gateway, rate: 1M}", "'mess/gateway' is HOST/gateway, which is no end here"),
        ("{from: mess, to: nobody, rate: 1M}", "'nobody' is nothing in this network"),
        ("{from: mess, to: yard}", "lacks the key 'rate'"),
        ("{from: mess, to: yard, rate: fast}", "'fast' is not a speed"),
        ("{from: mess, to: yard, rate: 1M, answers: 1}", "'1' is not a share"),
    ],
)
def test_what_is_no_demand_is_said_with_its_line(demand, message):
    with pytest.raises(DocumentError) as error:
        with_traffic(demand)
    assert message in str(error.value) and ":18:" in str(error.value)


def run_on(command, network: archipelago.Network) -> tuple[int, str]:
    """The command on a network, and what it prints."""
    done = command("traffic", "-", stdin=archipelago.network_text(network))
    return done.returncode, done.stdout


def test_the_command_prints_draws_and_gives_json(command, tmp_path):
    path = tmp_path / "network.yaml"
    network = with_traffic("{from: any, to: yard, rate: 40M, answers: 25%}")
    archipelago.write_network(network, path)
    assert read_network(path) == network
    said = json.loads(command("traffic", path, "--json", "--failures").stdout)
    assert said["fills_first"]["name"] == "landing/p1 ~ quay/up" and said["sent"] == 40e6
    assert said["links"][0]["to_a"] + said["host_links"][0]["to_b"] > 0 and len(said["broken"]) == 3
    picture = tmp_path / "load.svg"
    assert command("traffic", path, "-o", picture).returncode == 0
    assert "% full" in picture.read_text() and "the broader a cable" in picture.read_text()
    assert command("traffic", path, "--each", "fast").returncode == 2


def test_rates_and_growth_in_words():
    assert [rate_text(rate) for rate in (0, 999.9, 1_500, 2.5e9)] == ["0 bit/s", "1 kbit/s", "1.5 kbit/s", "2.5 Gbit/s"]
    assert times(1.25) == "1.25 times" and times(5000) == "over 1,000 times"


@pytest.mark.parametrize("seed", [704, 710, 716, 722, 728])
def test_demands_add_up_and_grow_in_proportion(seed):
    network = a_network(seed, "redundant" if seed % 4 else "")
    whole = ports_of(network)
    parts = [ports_of(with_changes(network, traffic=(one,))) for one in network.traffic]
    assert whole == pytest.approx({port: sum(part[port] for part in parts) for port in whole})
    triple = tuple(replace(one, rate=3 * one.rate) for one in network.traffic)
    assert ports_of(with_changes(network, traffic=triple)) == pytest.approx(
        {at: 3 * rate for at, rate in whole.items()}
    )


def ports_of(network: archipelago.Network) -> dict[str, float]:
    """What every port sends."""
    return {row["port"]: row["sends"] for row in traffic(network).rows()}


def test_a_link_is_found_by_any_of_its_names():
    load = traffic(with_traffic("{from: mess, to: yard, rate: 40M}"))
    assert load["landing/p1"] is load["quay/up"] is load["landing/p1 ~ quay/up"] and load["mess"].a == "quay/p3"
    with pytest.raises(QueryError, match="there is no link 'nowhere'"):
        load["nowhere"]
    nobody = with_changes(read_network(TRUNKED), hosts={})
    with pytest.raises(QueryError, match="no host here"):
        traffic(nobody)


def test_a_rule_that_is_given_stands_for_what_is_written(command):
    network = with_traffic("{from: mess, to: yard, rate: 40M}")
    done = command("traffic", "-", "--each", "1M", stdin=archipelago.network_text(network))
    assert "assumed: every host sends 1 Mbit/s" in done.stdout and "mess to yard" not in done.stdout
    assert "assumed" not in run_on(command, network)[1]


@given(st.integers(0, 2**32 - 1))
def test_what_comes_back_over_a_link_is_the_sum_of_every_flow_alone(seed):
    """Flows that are added up by their legs come to what each comes to, followed link by link."""
    random = np.random.default_rng(seed)
    half, legs, ways, flows = 3, 4, 3, 6
    reverse = np.concatenate((np.arange(half, 2 * half), np.arange(half)))

    def made(count, whole):
        cells = random.random((count, 2 * half)) < 0.3
        return csr_array(cells * (1.0 if whole else random.choice([0.5, 1.0], size=cells.shape)))

    first, last = (Numbered(made(legs, False), random.integers(0, legs, flows)) for _ in range(2))
    hops = [made(ways, True) for _ in range(random.integers(0, 3))]
    way, rate = random.integers(0, ways, flows), random.random(flows)
    wanted = np.zeros(2 * half)
    for number in range(flows):
        rows = [first.legs[[first.of[number]]], *(hop[[way[number]]] for hop in hops), last.legs[[last.of[number]]]]
        crossed = np.zeros(2 * half)
        for row in (one.toarray()[0] for one in rows):
            wanted += rate[number] * crossed[reverse] * row
            crossed = np.maximum(crossed, row)
    assert np.allclose(crossed_again(reverse, first, way, hops, last, rate), wanted)
