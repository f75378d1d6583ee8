"""All pairs at once: exactly what the simulation says, pair by pair."""

from __future__ import annotations

import csv
import io
import json
from random import Random

import pytest
from hypothesis import given, reject, settings
from hypothesis import strategies as st

from agreement import calculated, simulated
from archipelago.knowledge.ends import first_address
from archipelago.knowledge.index import index_network
from archipelago.knowledge.known import know
from archipelago.knowledge.parts import switched_off
from archipelago.reachability.matrix import matrix, what_if
from makers import scrambled
from outages_referee import a_network


@pytest.mark.long
@given(seed=st.integers(0, 10**6), family=st.sampled_from([None, 4, 6]))
@settings(max_examples=80)
def test_the_arrays_agree_with_the_simulation(seed, family):
    network = scrambled(Random(seed))
    if network is None:
        reject()
    assert calculated(network, family) == simulated(network, family)


@pytest.mark.long
@given(seed=st.integers(0, 10**6), family=st.sampled_from([None, 4, 6]))
@settings(max_examples=40)
def test_they_agree_where_broadcasts_never_end_and_where_addresses_are_held_twice(seed, family):
    network = scrambled(Random(seed), anything=True)
    assert calculated(network, family) == simulated(network, family)


@pytest.mark.parametrize("seed", [*range(300, 330), 9100053, 9100258])
def test_in_any_family_is_in_one_or_the_other(seed):
    """Also where several hold an address in IPv6 only."""
    network = a_network(Random(seed))
    if network is None:
        pytest.skip("this seed makes nothing to ask about")
    four, six, both = (matrix(network, family, causes=False) for family in (4, 6, None))
    for source, target, _ in both.rows():
        i, j = (both.kind[both.hosts.index(name)] for name in (source, target))
        reached = four[source, target], six[source, target]
        assert bool(both.some[i, j]) == any(reached), (source, target)
        addressed = [version for version in (4, 6) if common(network, source, target, version)]
        every = all(reached[version == 6] for version in addressed) and bool(addressed)
        assert bool(both.every[i, j]) == every, (source, target)


def common(network, source, target, version):
    """Whether two hosts have both an address of a family."""
    nodes = index_network(network).knowledge.nodes
    return all(first_address(nodes[name], version) is not None for name in (source, target))


def parts_of(network):
    """Every name by which a part can be switched off."""
    yield from (*network.devices, *network.hosts, *(str(cable) for cable in network.cables), *network.vlans)
    for device in network.devices.values():
        yield from (f"{device.name}/{name}" for name in (*device.ports, *device.interfaces))


@pytest.mark.long
@given(seed=st.integers(0, 10**6))
@settings(max_examples=40)
def test_parts_switched_off_one_by_one_or_written_off_are_the_same(seed):
    random = Random(seed)
    network = scrambled(random)
    if network is None:
        reject()
    parts = list(parts_of(network))
    asked = [*random.sample(parts, min(8, len(parts))), tuple(random.sample(parts, 2))]
    for part, found in what_if(network, asked):
        written = switched_off(know(network), [part] if isinstance(part, str) else part)
        assert list(found.rows()) == list(matrix(written, causes=False).rows()), part


def test_matrix_for_people_and_for_programs(command, plain_bay, tmp_path):
    network, broken = plain_bay / "network.yaml", plain_bay / "broken.yaml"
    good = command("matrix", network)
    assert good.returncode == 0 and good.stdout.startswith("306 of 306 pairs reached (in IPv4")
    bad = command("matrix", broken, "--hosts")
    assert bad.returncode == 1 and "cut off" in bad.stdout.splitlines()[0]
    assert "gateway-missing" in bad.stdout and "add cameras to the trunk hall/p22" in bad.stdout and "#" in bad.stdout
    rows = list(csv.DictReader(io.StringIO(command("matrix", broken, "--csv").stdout)))
    assert len(rows) == 306 and {row["reached"] for row in rows} == {"yes", "no"}
    told = json.loads(command("matrix", broken, "--json").stdout)
    assert told["pairs"] == 306 and told["reached"] == sum(row["reached"] == "yes" for row in rows)
    assert sum(cause["pairs"] for cause in told["causes"]) == 306 - told["reached"] == len(told["unreached"])


@pytest.mark.long
def test_matrix_without_parts(command, plain_bay):
    network = plain_bay / "network.yaml"
    alone = command("matrix", network, "--without", "landing/p2", "--csv")
    assert alone.returncode == 0  # the ring of routed links holds
    cut = json.loads(command("matrix", network, "--without", "landing", "--json").stdout)
    assert 0 < cut["reached"] < cut["pairs"]
    assert command("matrix", network, "--without", "nothing").returncode == 2
    assert command("matrix", network, "--without", "landing/nothing").returncode == 2


@pytest.mark.parametrize("ending", ["svg", pytest.param("png", marks=pytest.mark.long)])
def test_matrix_figure(command, plain_bay, tmp_path, ending):
    drawn = tmp_path / f"matrix.{ending}"
    command("matrix", plain_bay / "broken.yaml", "-o", drawn)
    assert drawn.read_bytes()[:4] == b"\x89PNG" if ending == "png" else b"kiosk-a" in drawn.read_bytes()
    assert command("matrix", plain_bay / "broken.yaml", "-o", tmp_path / "matrix.gif").returncode == 2
