"""Tables and drawings: readable with many VLANs, nothing lost, nothing on top of anything."""

from __future__ import annotations

import json
import sys
from itertools import combinations
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from archipelago import design, to_json
from archipelago.files.brief import brief_from
from archipelago.files.tree import parse
from archipelago.knowledge.index import index_network
from archipelago.views.device import tables
from archipelago.views.diagram import lay_out
from archipelago.views.table import folded, lines, table
from makers import designed, mixed_brief, trunked_brief

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


def overlap(a, b) -> bool:
    return a.x < b.x + b.width and b.x < a.x + a.width and a.y < b.y + b.height and b.y < a.y + a.height


@given(random=st.randoms(use_true_random=False), kind=st.sampled_from([trunked_brief, mixed_brief]))
@settings(max_examples=15)
def test_nothing_in_a_diagram_overlaps(random, kind):
    network = designed(kind(random))
    sheet = lay_out(index_network(network))
    assert not [(a.heading, b.heading) for a, b in combinations(sheet.boxes, 2) if overlap(a, b)]
    told = " ".join(text for box in sheet.boxes for text in [box.heading, *box.texts])
    for name in (*network.devices, *network.hosts):
        assert name in told
    assert all(
        box.x >= 0 and box.x + box.width <= sheet.width and box.y + box.height <= sheet.height for box in sheet.boxes
    )


def test_forty_devices_fit_and_routing_ones_stand_above():
    network = design(brief_from(parse(brief_text(40, 60, 240).encode(), "large"))).network
    view = index_network(network)
    sheet = lay_out(view)
    assert not any(overlap(a, b) for a, b in combinations(sheet.boxes, 2))
    top = {box.heading.split(" ")[0]: box.y for box in sheet.boxes if box.kind != "hosts"}
    routing = [y for name, y in top.items() if name.startswith("isle")]
    assert max(routing) < min(y for name, y in top.items() if name.startswith("quay"))
    assert max(top.values()) < min(box.y for box in sheet.boxes if box.kind == "hosts")


def test_every_result_is_json():
    network = large()
    plan = to_json(design(brief_from(parse(brief_text(10, 5, 12).encode(), "small"))))
    assert json.loads(json.dumps(plan)) == plan
    assert set(plan) == {"network", "carving", "decisions", "requests"}
    assert to_json(network)["format"] == "archipelago-network/1"
