"""All pairs as people see them: the headline, tables of many VLANs, causes that share a row, figures of any size."""

from __future__ import annotations

import re
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from matplotlib.image import imread

import archipelago
from archipelago.files.network import network_from
from archipelago.files.tree import parse
from archipelago.knowledge.known import know
from archipelago.model.network import Network
from archipelago.views import breaking_picture, palette, policy_picture
from archipelago.views import matrix as shown
from archipelago.views.table import lines


def islands(vlans, each, gateways=True):
    """A layer 3 switch with so many VLANs, each with a switch and so many hosts."""
    ids = range(110, 110 + vlans)
    text = ["format: archipelago-network/1", "vlans:", *(f"  v{n}: {n}" for n in ids), "devices:", "  core:"]
    text += ["    kind: l3switch", "    routing: [ipv4]", "    ports:", *(f"      q{n}: {{access: v{n}}}" for n in ids)]
    text += ["    interfaces:", *(f"      g{n}: {{vlan: v{n}, address: 10.{n - 100}.0.1/16}}" for n in ids)]
    text += [
        f'  q{n}: {{kind: switch, ports: {{"p{{1..{each}}}": {{access: v{n}}}, up: {{access: v{n}}}}}}}' for n in ids
    ]
    text.append("hosts:")
    for n in ids:
        gateway = f", gateway: 10.{n - 100}.0.1" if gateways else ""
        text.append(f'  h{n}x{{1..{each}}}: {{at: "q{n}/p{{1..{each}}}", address: 10.{n - 100}.0.2/16{gateway}}}')
    text += ["cables:", *(f"  - core/q{n} ~ q{n}/up" for n in ids)]
    return network_from(parse("\n".join(text).encode(), "islands"))


def told(network, **options):
    found = archipelago.matrix(network, **options)
    return found, shown.grouped(know(network), found)


def test_the_headline_is_the_answer():
    sound = archipelago.matrix(islands(3, 4))
    assert sound.headline == "132 of 132 pairs reached"
    cut = archipelago.matrix(islands(3, 4), without=["q111"])
    assert cut.headline == "56 of 132 pairs reached; 76 pairs cut off"
    assert replace(sound, hosts=(), kind=np.empty(0, int)).headline == "0 of 0 pairs reached"


def test_vlan_by_vlan_counts_pairs_and_not_hosts_with_themselves():
    found, groups = told(islands(3, 4), without=["core/g111"])
    grid = shown.by_vlan(groups)
    assert [row[3:] for row in grid.rows] == [("all", "none", "all"), ("none", "all", "none"), ("all", "none", "all")]
    assert shown.partitioned(groups) == "reaching no other VLAN: v111 (111)"
    pairs = sum(int(groups.pairs(i).sum()) for i in range(len(groups.names)))
    assert pairs == found.pairs and groups.missing.sum() == found.pairs - found.reached
    assert [row[0] for row in shown.by_vlan(told(islands(2, 1))[1]).rows] == ["1", "2"]


def test_two_hundred_vlans_stay_readable():
    network = islands(200, 2)
    sound = shown.by_vlan(told(network)[1])
    assert sound.rows == ()  # nothing to say, nothing said
    cut = shown.by_vlan(told(network, without=["core/g150", "h160x1"])[1])
    assert len(cut.rows) == shown.MOST_ROWS and "the worst 20 of 200" in cut.title
    assert cut.rows[0][0] == "v150 (150)" and cut.rows[0][2] == "1 of 200" and "and 196 more" in cut.rows[0][3]
    assert max(len(line) for line in lines(cut)) < 160
    second = next(row for row in cut.rows if row[0] == "v160 (160)")
    assert "2/4" in second[4] and second[3] == "v150 (150), v160 (160)"


def test_causes_of_one_kind_share_a_row():
    network = islands(12, 3, gateways=False)
    found = archipelago.matrix(network)
    table = shown.causes(found.groups)
    assert len(found.groups) == 36 and len(table.rows) == 1
    (row,) = table.rows
    assert row[1] == "gateway-missing" and row[2] == "36 places" and "and 35 more like it" in row[3]
    assert int(row[0].replace(",", "")) == found.pairs - found.reached
    few = shown.causes(archipelago.matrix(islands(2, 1, gateways=False)).groups)
    assert [one[2] for one in few.rows] == ["h110x1", "h111x1"]


def test_host_by_host():
    found, groups = told(islands(2, 2), without=["h111x2"])
    marks = [line.split("  ")[-1] for line in shown.by_host(groups, found) if line.startswith("  ")]
    assert marks == [" ##.", "# #.", "## .", "... "]


@pytest.mark.parametrize(("vlans", "each"), [(1, 5), (4, 50), (20, 100), (3, 1100)])
def test_figures_of_any_size(tmp_path, vlans, each):
    network = islands(vlans, each)
    found = archipelago.matrix(network, without=[f"h110x{each}"], causes=True)
    drawn = found.picture("png")
    (tmp_path / "matrix.png").write_bytes(drawn)
    pixels = imread(tmp_path / "matrix.png")[:, :, :3]
    assert pixels.shape[:2] == (800, 1280)
    shades = {
        name: np.array([int(name[at : at + 2], 16) for at in (1, 3, 5)]) / 255
        for name in (palette.CUT_OFF, palette.REACHED)
    }
    seen = {name: int((np.abs(pixels - shade).max(axis=2) < 0.02).sum()) for name, shade in shades.items()}
    assert seen[palette.REACHED] > 100_000  # nearly everything is reached
    assert seen[palette.CUT_OFF] < seen[palette.REACHED] and (seen[palette.CUT_OFF] > 0 or each > 50)
    svg = found.picture("svg").decode()
    assert "v110 (110)" in svg and f"h110x{each} is off" in svg and found.headline in svg


def test_names_from_a_file_are_quoted_in_the_figure():
    network = islands(1, 2)
    odd = Network(**{name: getattr(network, name) for name in ("devices", "hosts", "cables")}, vlans={"a.b-c": 110})
    assert b"a.b-c (110)" in archipelago.matrix(odd).picture("svg")


def test_colours_are_named_in_one_place_and_never_tell_anything_alone():
    views = Path(palette.__file__).parent
    for file in views.glob("*.py"):
        assert file.name == "palette.py" or not re.search(r'"#[0-9a-fA-F]{3,8}"', file.read_text()), file
    looks = (policy_picture.OPEN, policy_picture.CLOSED, policy_picture.BOTH, policy_picture.ANSWERS)
    assert len({look.pattern.hatch for look in (*looks, policy_picture.ALLOWED)}) == 5
    assert breaking_picture.ANSWERED.hatch != breaking_picture.LOST.hatch

    def light(colour: str) -> float:
        """The relative luminance (WCAG 2)."""
        parts = [int(colour[at : at + 2], 16) / 255 for at in (1, 3, 5)]
        linear = [part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4 for part in parts]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    assert light(palette.REACHED) > 4 * light(palette.CUT_OFF)  # cells of a matrix: too small for a hatch
    assert light(palette.REACHED) > light(palette.PARTLY) > 4 * light(palette.CUT_OFF)
