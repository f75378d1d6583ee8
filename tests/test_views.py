"""Tables and drawings: readable with many VLANs, nothing lost, nothing on top of anything."""

from __future__ import annotations

import json
import sys
from itertools import combinations, pairwise
from pathlib import Path
from random import Random
from xml.etree import ElementTree

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import archipelago
from archipelago import design, to_json
from archipelago.files.brief import brief_from
from archipelago.files.tree import parse
from archipelago.knowledge.index import index_network
from archipelago.model.problems import folded
from archipelago.views.cards import content_of
from archipelago.views.device import tables
from archipelago.views.diagram import LABEL, Placed, label_of, lay_out
from archipelago.views.palette import FILLS
from archipelago.views.shapes import Rectangle, pattern, text_width
from archipelago.views.space import space_picture
from archipelago.views.table import lines, table
from makers import designed, mixed_brief, scrambled, trunked_brief

sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "benchmarks"))
from networks import brief_text


@pytest.mark.parametrize(
    ("names", "text"),
    [
        (["p1", "p2", "p3", "p7"], "p1-p3, p7"),
        (["p10", "p9", "p2"], "p2, p9-p10"),
        (["up", "p1"], "p1, up"),
        (["p1.210", "p1.211"], "p1.210-p1.211"),
        (["210", "220"], "210, 220"),
        ([], ""),
        (["p01", "p02"], "p01, p02"),
    ],
)
def test_runs_of_names_are_folded(names, text):
    assert folded(names) == text


@given(st.lists(st.lists(st.text("abc ", max_size=8), min_size=3, max_size=3), min_size=1, max_size=8))
def test_columns_line_up_and_empty_ones_go(rows):
    one = table("", ("a", "b", "c"), rows)
    made = lines(one)
    kept = [index for index in range(3) if any(row[index] for row in rows)]
    assert len(one.columns) == len(kept)
    if kept:
        assert len(made) == 2 + len(rows) and len(made[1]) >= max(len(line) for line in made)


def large():
    return design(brief_from(parse(brief_text(20, 200, 400).encode(), "large"))).network


def test_a_view_with_200_vlans_stays_narrow_and_can_be_filtered():
    view = index_network(large())
    nodes = [view.knowledge.nodes[name] for name in view.network.devices]
    everything = [line for one in tables(view, nodes) for line in lines(one)]
    assert max(len(line) for line in everything) < 700
    one = tables(view, nodes, vlans=frozenset({150}))
    shown = [line for table_ in one for line in lines(table_)]
    assert 0 < len(shown) < 40 and all("151" not in row.rows[0][1] for row in one)
    port = tables(view, nodes[:1], ports=frozenset({next(iter(nodes[0].attachments))}))
    assert sum(len(table_.rows) for table_ in port) <= 8


def placed(network, findings=(), way=None):
    return lay_out(content_of(index_network(network), findings, way))


def crossed(sheet):
    """Each part of a cable that runs over a card."""
    for wire in sheet.wires:
        for (x, y), (u, v) in pairwise(wire.points):
            for box in sheet.cards:
                inside_x = max(min(x, u), box.x + 1) < min(max(x, u), box.x + box.width - 1) or box.x + 1 < x == u < (
                    box.x + box.width - 1
                )
                inside_y = max(min(y, v), box.y + 1) < min(max(y, v), box.y + box.height - 1) or box.y + 1 < y == v < (
                    box.y + box.height - 1
                )
                if inside_x and inside_y:
                    yield wire.link, box.card.name


def on_each_other(sheet):
    """Pairs of cables with a part on the same line."""
    runs = [
        (number, tuple(sorted((start, end))))
        for number, wire in enumerate(sheet.wires)
        for start, end in pairwise(wire.points)
        if start != end
    ]
    for (a, ((x, y), (u, v))), (b, ((p, q), (r, t))) in combinations(runs, 2):
        if a != b and ((x == u == p == r and max(y, q) < min(v, t)) or (y == v == q == t and max(x, p) < min(u, r))):
            yield sheet.wires[a].link, sheet.wires[b].link


def labels(sheet):
    for wire in sheet.wires:
        x, y = wire.label
        half = text_width(label_of(wire.link), LABEL) / 2
        yield x - half, x + half, y


def sound(sheet, network):
    assert not [(a.card.name, b.card.name) for a, b in combinations(sheet.cards, 2) if overlaps(a, b)]
    assert not list(crossed(sheet)) and not list(on_each_other(sheet))
    for (a, b, y), (c, d, z) in combinations(labels(sheet), 2):
        assert y != z or b <= c or d <= a
    for tab in sheet.tabs:
        assert tab.box.x < tab.x < tab.box.x + tab.box.width  # each cable ends at its port
    assert all(box.x >= 0 and box.x + box.width <= sheet.width for box in sheet.cards)
    told = {cell for box in sheet.cards for group in box.card.groups for row in group.rows for cell in row.cells}
    assert {box.card.name for box in sheet.cards} == set(network.devices) and set(network.hosts) <= told


@given(random=st.randoms(use_true_random=False), kind=st.sampled_from([trunked_brief, mixed_brief]))
@settings(max_examples=15)
def test_nothing_in_a_diagram_overlaps(random, kind):
    network = designed(kind(random))
    sound(placed(network), network)


@pytest.mark.parametrize("seed", range(20))
def test_a_scrambled_network_of_any_kind_is_drawn(seed):
    network = scrambled(Random(seed), anything=True)
    if network is not None:
        sound(placed(network, archipelago.audit(network, quick=True)), network)


@pytest.mark.parametrize("count", [3, 10, 25, 60])
def test_devices_joined_at_random_do_not_overlap(count):
    random = Random(count)
    names = [f"quay-{number}" for number in range(count)]
    pairs = [(a, random.choice(names[:number])) for number, a in enumerate(names) if number]
    pairs += [tuple(random.sample(names, 2)) for _ in range(count // 2)]
    ends = [[archipelago.End(name, f"p{number}") for name in pair] for number, pair in enumerate(pairs)]
    ports = {
        name: {e.port: archipelago.Port(e.port) for both in ends for e in both if e.device == name} for name in names
    }
    kinds = ["switch", "l3switch", "router"]
    network = archipelago.Network(
        devices={
            name: archipelago.Device(
                name, kind := kinds[number % 3], ports=ports[name], routing=(4,) if kind == "l3switch" else None
            )
            for number, name in enumerate(names)
        },
        cables=tuple(archipelago.Cable(*both) for both in ends),
    )
    sound(placed(network), network)


def test_the_demo_is_readable_at_1280_wide(tern_bay):
    network = archipelago.read_network(tern_bay / "network.yaml")
    sheet = placed(network)
    sound(sheet, network)
    assert sheet.width <= 1300 and sheet.bottom <= 1000
    told = {wire.link.label for wire in sheet.wires}
    assert {"1G, routed", "1G, VLANs 210, 220, 230, 240, 250", "outside, via 203.0.113.1 and 2001:db8:ffff::1"} <= told
    patterns = {pattern(number) for number in range(70)}
    assert len(patterns) == 70


def test_a_picture_marks_what_is_wrong_and_where_a_way_stops(tern_bay, tmp_path, command):
    network = archipelago.read_network(tern_bay / "broken.yaml")
    command("draw", tern_bay / "broken.yaml", "-o", tmp_path / "way.svg", "--way", "lamp,mess")
    root = ElementTree.parse(tmp_path / "way.svg").getroot()
    space = "{http://www.w3.org/2000/svg}"
    texts = [element.text for element in root.iter(f"{space}text")]
    assert "STOPS HERE on the way out" in texts and "DOWN" in texts
    wrong = [finding for finding in archipelago.audit(network, quick=True) if finding.kind != "expectation-broken"]
    for number, finding in enumerate(wrong[:9], 1):
        told = f"[{number}] {finding.severity.upper()} at {finding.at}"
        assert any(text.startswith(told) for text in texts), finding
        assert sum(f"[{number}]" in text for text in texts) >= 2, finding  # where it stands, and below
    assert root.find(f"{space}title").text == "The ferry line of Tern Bay"
    assert root.find(f"{space}desc").text.startswith("1 router, 3 layer 3 switches")
    reached = archipelago.reach(network, "kiosk-b", "counter")
    there = [wire.link.legs for wire in placed(network, (), reached).wires if wire.link.legs]
    assert there == [(("out", 2), ("back", 2))]


def test_a_cable_that_is_off_is_broken_and_no_other_is(tern_bay, tmp_path):
    text = (
        (tern_bay / "network.yaml")
        .read_text()
        .replace("- landing/p2 ~ holm/p12", "- {ends: landing/p2 ~ holm/p12, off: yes}")
    )
    archipelago.draw(archipelago.read_network(text), tmp_path / "off.svg")
    drawn = (tmp_path / "off.svg").read_text()
    assert drawn.count("stroke-dasharray") == 2 and ">OFF [2]<" in drawn  # the other is kept in reserve


def test_forty_devices_fit_and_routing_ones_stand_above():
    network = design(brief_from(parse(brief_text(40, 60, 240).encode(), "large"))).network
    sheet = placed(network)
    assert not any(overlaps(a, b) for a, b in combinations(sheet.cards, 2))
    top = {box.card.name: box.y for box in sheet.cards}
    routing = [y for name, y in top.items() if name.startswith("isle")]
    assert max(routing) < min(y for name, y in top.items() if name.startswith("quay"))


def test_the_space_is_drawn_to_scale(tmp_path, command):
    words = [
        "carve",
        "10.44.0.0/22",
        "2001:db8:44::/60",
        "tickets:210=45",
        "crew=110",
        "--reserve",
        "10.44.3.0/24",
        "-o",
    ]
    assert f"drawn: {tmp_path}/space.svg" in command(*words, tmp_path / "space.svg").stdout
    root = ElementTree.parse(tmp_path / "space.svg").getroot()
    space = "{http://www.w3.org/2000/svg}"
    texts = [element.text for element in root.iter(f"{space}text")]
    assert {"tickets (210)", "crew", "reserved", "free", "2001:db8:44::/64"} <= set(texts)
    framed = [float(e.get("width")) for e in root.iter(f"{space}rect") if e.get("fill") == "none"]
    assert min(framed) > 0 and command(*words, tmp_path / "space.png").returncode == 0
    carving = archipelago.carve(["10.44.0.0/22"], {"tickets": 45, "crew": 110})
    sheet = space_picture(carving)
    areas = {}
    for shape in sheet.shapes:
        if isinstance(shape, Rectangle) and shape.edge == "" and shape.height > 20:
            areas[shape.pattern] = areas.get(shape.pattern, 0.0) + shape.width
    used = [area for filled, area in areas.items() if filled.fill in FILLS and not filled.hatch]
    assert sorted(round(area / sum(areas.values()) * 512) for area in used) == [46, 111]


def test_every_result_is_json():
    network = large()
    plan = to_json(design(brief_from(parse(brief_text(10, 5, 12).encode(), "small"))))
    assert json.loads(json.dumps(plan)) == plan
    assert set(plan) == {"format", "network", "carving", "decisions", "requests", "lines"}
    assert to_json(network)["format"] == "archipelago-network/1"


def overlaps(a: Placed, b: Placed) -> bool:
    """Whether two cards lie on each other."""
    return a.x < b.x + b.width and b.x < a.x + a.width and a.y < b.y + b.height and b.y < a.y + a.height


def test_an_aggregate_is_shown_with_the_members_that_it_sends_by(command, tmp_path):
    pair = (Path(__file__).parents[1] / "docs" / "samples" / "pair.yaml").read_text()
    cable = "- core-1/p2 ~ core-2/p2"
    assert cable in pair

    def row(text):
        (file := tmp_path / "pair.yaml").write_text(text)
        shown = command("view", file, "core-1").stdout.splitlines()
        return shown[shown.index("aggregates") + 3]

    assert row(pair).split() == ["core-1", "bundle", "p1-p2", "p1-p2", "p1", "p2", "core-2/bundle"]
    assert "core-2/bundle, core-2/p20 (in no aggregate)" in row(pair.replace(cable, "- core-1/p2 ~ core-2/p20"))
    off = pair.replace(cable, "- {ends: core-1/p2 ~ core-2/p2, off: true}")
    assert row(off).split() == ["core-1", "bundle", "p1-p2", "p1", "p1", "none", "core-2/bundle"]
    fast = pair.replace("p1: {}", "p1: {speed: 10G}")
    assert "p2, at 1G instead of 10G" in row(fast)
