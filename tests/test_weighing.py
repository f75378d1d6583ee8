"""Designs side by side: every place that the devices allow, figures beside single runs, and the figure that flips."""

from __future__ import annotations

import json
from dataclasses import replace
from importlib.resources import files
from itertools import permutations

import pytest

import archipelago
from archipelago import DesignError, QueryError, matrix, reach, read_brief, read_network, weigh
from archipelago.failures.parts import breakable
from archipelago.failures.surviving import surviving
from archipelago.knowledge.known import know
from archipelago.knowledge.parts import switched_off
from archipelago.weighing.measures import Cost, Measures
from archipelago.weighing.places import other_places
from archipelago.weighing.ranking import Figures, flip, ranked
from load_agreement import a_network
from outages_referee import reached as answered

BRIEF = """format: archipelago-brief/1
space: 10.44.0.0/20
vlans:
  crew: {id: 120, hosts: 20}
  yard: {id: 130, hosts: 20}
devices:
  landing: {kind: router, ports: 6}
  hall: {kind: l3switch, ports: 24}
  hall-2: {kind: l3switch, ports: 24}
gateways:
  - {for: [crew, yard], at: landing/p1}
hosts:
  mess: {vlan: crew, at: hall}
  purser: {vlan: crew, at: hall-2}
  crane: {vlan: yard, at: hall}
  winch: {vlan: yard, at: hall-2}
cables: [landing/p1 ~ hall/p24, hall/p23 ~ hall-2/p23]
traffic:
  - {from: crew, to: yard, rate: 400M, answers: 50%}
"""


@pytest.fixture(scope="module")
def found():
    return weigh(read_brief(BRIEF))


def test_every_placement_that_the_devices_allow_is_designed(found):
    kinds = {one.title: one.kind for one in found.designs}
    assert kinds == {
        "as the brief says": "trunked router",
        "crew, yard at hall": "layer 3 switch",
        "crew, yard at hall-2": "layer 3 switch",
        "crew, yard shared by hall and hall-2": "shared pair",
        "crew, yard at 2 ports of landing": "a router port for each VLAN",
    }
    for one in found.designs:
        assert archipelago.audit(one.design.network).errors == 0
        assert matrix(one.design.network).headline == "12 of 12 pairs reached"
    assert found.left_out == 0 and found.refused == ()


def test_figures_are_those_of_single_runs(found):
    for one in found.designs:
        network = one.design.network
        pairs = [("mess", "crane"), ("mess", "winch"), ("purser", "crane"), ("purser", "winch")]
        pairs += [(b, a) for a, b in pairs]
        routed = [sum("routed" in step.did for step in reach(network, *pair).out) for pair in pairs]
        assert one.measures.hops == pytest.approx(sum(routed) / len(pairs))
        load = archipelago.traffic(network)
        assert (one.measures.fullest, one.measures.share) == (load.links[0].name, load.links[0].share)
        assert one.measures.cost.cables == len(network.cables)
    by_kind = {one.kind: one.measures for one in found.designs}
    each, trunk = by_kind["a router port for each VLAN"], by_kind["trunked router"]
    assert each.cost.cables == trunk.cost.cables + 1 and each.share < trunk.share
    assert by_kind["layer 3 switch"].delay < trunk.delay


def left_by_every_failure(network) -> tuple[int, int]:
    """How many pairs are reached, and how many of them whatever breaks that they are not plugged into, run by run."""
    knowledge, hosts = know(network), set(permutations(network.hosts, 2))
    left = answered(network) & hosts
    reached = len(left)
    for part in breakable(knowledge):
        after = answered(switched_off(knowledge, [part.name]))
        own = {name for name, host in network.hosts.items() if part.kind == "device" and host.at.device == part.name}
        if part.kind != "interface":
            left = {pair for pair in left if own.intersection(pair) or pair in after}
    return reached, len(left)


@pytest.mark.parametrize("seed", [701, 704, 708, 711, 715, 719])
def test_what_survives_is_what_every_single_failure_leaves(seed):
    network = a_network(seed, "redundant")
    assert surviving(network)[:2] == left_by_every_failure(network)


@pytest.mark.long
def test_what_survives_where_hosts_lease_is_counted_too():
    text = files("archipelago.demo").joinpath("tern-bay.yaml").read_text(encoding="utf-8")
    network = archipelago.design(read_brief(text)).network
    assert surviving(network)[:2] == left_by_every_failure(network)


@pytest.mark.long
def test_places_that_are_too_many_to_look_at_are_counted():
    more = "".join(f"  loft-{number}: {{kind: l3switch, ports: 4}}\n" for number in range(12))
    cables = ", ".join(f"hall/p{number + 5} ~ loft-{number}/p1" for number in range(12))
    text = BRIEF.replace("gateways:\n", f"{more}gateways:\n").replace("cables: [", f"cables: [{cables}, ")
    found = weigh(read_brief(text))
    places = len(list(other_places(read_brief(text), read_brief(text).gateways[0], ())))
    assert found.left_out and len(found.designs) + len(found.refused) + found.left_out == places + 1


def test_the_recommendation_says_why_and_the_figure_put_in_flips_it(found):
    first, second = found.designs[:2]
    why, flips = found.recommendation
    assert why.startswith(
        f"Take '{first.title}': {first.measures.surviving.survive} of 12 pairs survive any one failure"
    )
    assert flips.startswith(f"The second, '{second.title}'")
    assert found.flip is not None and found.flip.says in flips
    again = weigh(read_brief(BRIEF), **{found.flip.figure: found.flip.value})
    titles = [one.title for one in again.designs]
    assert titles.index(second.title) < titles.index(first.title)


def measured(survive: int, share: float, lines: int) -> Measures:
    cost = Cost(ports=9, cables=4, addresses=4, lines=lines)
    return Measures(1.0, 5e4, "a/p1 ~ b/p1", share, "", archipelago_surviving(survive), cost, None)


def archipelago_surviving(survive: int):
    from archipelago.failures.surviving import Surviving

    return Surviving(100, survive, "a", 100 - survive)


def test_the_ranking_follows_its_rule_and_every_flip_is_tried():
    full, plain, sturdy = measured(90, 0.9, 10), measured(60, 0.3, 20), measured(80, 0.5, 40)
    figures = Figures()
    assert ranked([full, plain, sturdy], figures) == [2, 1, 0]
    assert ranked([full, plain, sturdy], replace(figures, tolerate=0.2)) == [1, 2, 0]
    assert ranked([full, plain, sturdy], replace(figures, growth=0.7)) == [0, 2, 1]
    found = flip([plain, sturdy], [1, 0], figures)
    assert (found.figure, found.value) == ("growth", 1.41) and "--growth 1.41" in found.says
    found = flip([full, sturdy], [1, 0], figures)
    assert (found.figure, found.value) == ("growth", 0.777)
    assert flip([sturdy, measured(80, 0.5, 50)], [0, 1], figures) is None
    found = flip([sturdy, measured(75, 0.6, 30)], [0, 1], figures)
    assert (found.figure, found.value) == ("tolerate", 0.05)


def test_steps_from_the_network_of_today_are_counted():
    brief = read_brief(BRIEF)
    today = archipelago.design(brief).network
    found = weigh(brief, keep=today)
    assert found.host == "mess"
    planned = {one.title: one.measures.steps for one in found.designs if one.measures.steps is not None}
    assert len(planned) == 3 and list(planned) == [one.title for one in found.designs[:3]]
    for one in found.designs[:3]:
        change = archipelago.change(today, one.design.network, "mess")
        assert one.measures.steps.steps == len(change.steps)
        assert one.measures.steps.cut == max((step.cut.pairs for step in change.steps), default=0)


def test_a_brief_without_hosts_is_weighed_by_what_designs_take():
    text = BRIEF[: BRIEF.index("hosts:\n")] + BRIEF[BRIEF.index("cables:") : BRIEF.index("traffic:")]
    found = weigh(read_brief(text))
    lines = [one.measures.cost.lines for one in found.designs if one.measures.cost.cables == 2]
    assert lines == sorted(lines) and "no host is placed" in found.recommendation[0]


def test_a_switch_can_be_supposed_a_layer_3_switch():
    plain = read_brief(BRIEF.replace("kind: l3switch", "kind: switch"))
    assert all(one.kind != "layer 3 switch" for one in weigh(plain).designs)
    found = weigh(plain, suppose=["hall"])
    assert [one.supposed for one in found.designs if one.kind == "layer 3 switch"] == [("hall",)]
    for name in ("landing", "nobody"):
        with pytest.raises(QueryError, match="is no switch of the brief"):
            weigh(plain, suppose=[name])
    with pytest.raises(DesignError):
        weigh(read_brief(BRIEF.replace("space: 10.44.0.0/20", "space: 10.44.0.0/27")))


@pytest.mark.long
def test_the_command_prints_keeps_and_refuses(command, tmp_path):
    brief = tmp_path / "brief.yaml"
    brief.write_text(BRIEF)
    done = command("weigh", brief, "-o", tmp_path / "weighed")
    assert done.returncode == 0 and "what each does, the best first" in done.stdout and "us" in done.stdout
    kept = sorted(path.name for path in (tmp_path / "weighed").iterdir())
    assert kept == [*(f"design-{number}.yaml" for number in range(1, 6)), "weighing.svg"]
    assert read_network(tmp_path / "weighed" / "design-1.yaml").devices
    assert "pairs surviving" in (tmp_path / "weighed" / "weighing.svg").read_text()
    said = json.loads(command("weigh", brief, "--json", "--growth", "2").stdout)
    assert len(said["designs"]) == 5 and said["figures"]["growth"] == 2
    for words in (
        ("--keep", brief, "--from", "nobody"),
        ("--growth", "0"),
        ("--suppose", "landing"),
        ("--from", "mess"),
    ):
        done = command("weigh", brief, *words)
        assert done.returncode == 2 and "Traceback" not in done.stderr, words
