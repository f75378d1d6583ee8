"""Hosts that become more: room is made for them, and it is said what runs out first, when, and what it takes then."""

from __future__ import annotations

import pytest

import archipelago
from archipelago import CarveError, DocumentError, apply, carve, design, foresee, matrix, read_brief, write_brief
from archipelago.model.brief import foreseen, hosts_after
from archipelago.weighing.growth import NEVER, when

BRIEF = """format: archipelago-brief/1
space: 10.44.0.0/21
conventions: {headroom: 0%, growth: 20%, years: 4}
vlans:
  crew: {id: 120, hosts: 45, later: 90}
  yard: {id: 130, hosts: 20}
devices:
  landing: {kind: router, ports: 4}
  hall: {kind: switch, ports: 8}
gateways: [{for: [crew, yard], at: landing/p1}]
hosts:
  mess: {vlan: crew, at: hall}
  purser: {vlan: crew, at: hall}
  crane: {vlan: yard, at: hall}
cables: [landing/p1 ~ hall/p8]
traffic: [{from: crew, to: yard, rate: 600M}]
"""


def test_room_is_made_for_what_is_foreseen():
    brief = read_brief(BRIEF)
    assert [foreseen(brief, vlan) for vlan in brief.vlans.values()] == [90, 42]  # 20 * 1.2 ** 4 = 41.5
    assert hosts_after(brief, brief.vlans["crew"], 4) == pytest.approx(90)
    by_name = {one.name: one for one in design(brief).carving.allotments}
    assert (by_name["crew"].prefix.length, by_name["yard"].prefix.length) == (25, 26)
    plain = BRIEF.replace(", growth: 20%, years: 4", "").replace(", later: 90", "")
    by_name = {one.name: one for one in design(read_brief(plain)).carving.allotments}
    assert (by_name["crew"].prefix.length, by_name["yard"].prefix.length) == (26, 27)
    assert carve("10.44.0.0/20", {"crew": (45, 90)}).allotments[0].prefix.length == 25
    with pytest.raises(CarveError, match="fewer hosts later than now"):
        carve("10.44.0.0/20", {"crew": (45, 40)})


def test_what_runs_out_is_used_up_then_and_not_before():
    brief = read_brief(BRIEF)
    found = foresee(brief, design(brief))
    assert [limit.years for limit in found.limits] == sorted(limit.years for limit in found.limits)
    ways = {(limit.kind, limit.what.split()[0]): limit for limit in found.limits}
    crew, link, ports = ways["subnet", "crew"], ways["link", "landing/p1"], ways["ports", "hall"]
    assert (crew.now, crew.room) == (45, 125)
    assert crew.now * 2 ** (crew.years / 4) == pytest.approx(crew.room)
    hosts = sum(hosts_after(brief, vlan, link.years) for vlan in brief.vlans.values())
    assert 600e6 * hosts / 65 == pytest.approx(link.room)
    assert (ports.now, ports.room) == (4, 8)
    assert 2 * 2 ** (ports.years / 4) + 1.2**ports.years + 1 == pytest.approx(8)
    assert found.first is link and found.headline.startswith("1 runs out within the 4 years")
    assert "link landing/p1 ~ hall/p8 runs out first, after 2." in str(found)
    assert when(NEVER) == "never" and when(0.0) == "is used up today"


def test_what_it_takes_then_was_worked_out():
    made = design(read_brief(BRIEF))
    found = foresee(read_brief(BRIEF), made)
    costs = {limit.kind: limit.then for limit in found.limits if limit.then}
    assert costs["link"].startswith("one more cable, landing/p2 ~ hall/")
    assert "a larger switch (its 4 cables moved)" in costs["ports"]
    recipe = next(limit for limit in found.limits if limit.kind == "subnet")
    name, free = recipe.what.split()[0], costs["subnet"].split()[3].rstrip(":")
    text = f"format: archipelago-recipe/1\nrenumber: [{{vlan: {name}, subnet: {free}}}]\n"
    network = made.network
    after = archipelago.follow(network, archipelago.read_recipe(text, network))
    change = archipelago.change(network, after, "mess")
    assert f"{len(change.steps)} steps" in costs["subnet"]
    for step in change.steps:
        network = apply(network, step)
    assert matrix(network).reached == matrix(made.network).reached
    full = BRIEF.replace("10.44.0.0/21", "10.44.0.0/24")
    costs = [
        limit.then for limit in foresee(read_brief(full), design(read_brief(full))).limits if limit.kind == "subnet"
    ]
    assert "is free in the space: add a block to 'space'" in costs[0]


def test_a_subnet_that_is_kept_is_told_and_not_refused():
    plain = BRIEF.replace(", growth: 20%, years: 4", "").replace(", later: 90", "")
    today = design(read_brief(plain)).network
    made = design(read_brief(BRIEF), today)
    kept = next(one for one in made.carving.allotments if one.name == "crew")
    assert kept.prefix.length == 26
    limit = next(one for one in foresee(read_brief(BRIEF), made).limits if one.what.startswith("crew"))
    assert limit.years < 4 and limit.then.startswith("renumber it to 10.44.")


def test_pools_run_out_where_hosts_lease():
    text = BRIEF.replace("crane: {vlan: yard, at: hall}", "crane: {vlan: yard, at: hall, address: dhcp}")
    found = foresee(read_brief(text), design(read_brief(text)))
    pool = next(limit for limit in found.limits if limit.kind == "pool")
    assert pool.what == "yard" and pool.now == 20 and pool.room >= 42 and pool.years >= 4


def test_a_brief_says_it_and_what_it_cannot_say_is_refused(command, tmp_path):
    path = tmp_path / "brief.yaml"
    write_brief(read_brief(BRIEF), path)
    assert read_brief(path) == read_brief(BRIEF)
    told = command("design", path, "-o", tmp_path / "network.yaml").stdout
    assert "what runs out first" in told and "45, later 90, hosts" in told
    assert "what runs out first" in command("weigh", path).stdout
    assert "10.44.0.0/25" in command("carve", "10.44.0.0/20", "crew=45..90").stdout
    assert command("carve", "10.44.0.0/20", "crew=90..45").returncode == 2
    for before, after in (("later: 90", "later: 9"), ("growth: 20%", "growth: fast"), ("years: 4", "years: 0")):
        with pytest.raises(DocumentError) as error:
            read_brief(BRIEF.replace(before, after))
        assert any(word in str(error.value) for word in ("fewer later", "not a share", "number of years"))
