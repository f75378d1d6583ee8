"""Devices' addresses among all pairs: as `reach` says, in counts of their own beside those of the hosts."""

from __future__ import annotations

import csv
from itertools import permutations
from random import Random

import pytest

import archipelago
from archipelago.knowledge.ends import find_end, find_source
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import know
from archipelago.knowledge.outside import widened
from archipelago.knowledge.parts import switched_off
from archipelago.reachability.build import build_arrays
from archipelago.reachability.devices import device_ends, device_pairs
from archipelago.simulation.reach import reach
from every_field import full_of_everything
from makers import scrambled
from redundant import redundant
from test_changing import PIER

MADE = {
    "everything": full_of_everything,
    "scrambled": lambda random: scrambled(random, anything=True),
    "redundant": redundant,
}


@pytest.mark.parametrize("made", MADE)
@pytest.mark.parametrize("seed", range(20))
def test_they_are_reached_as_a_single_question_says(made, seed):
    random = Random(seed)
    network = MADE[made](random)
    if network is None:
        pytest.skip("no network of this seed")
    arrays = build_arrays(widened(know(network)))
    index = NetworkIndex(arrays.knowledge)
    for version, answer in device_pairs(arrays).by_family.items():
        devices = {end.name for end in device_ends(index.network, version)}
        for _ in range(30):
            source, target = random.sample(answer.hosts, 2)
            if devices & {source, target}:
                assert answer[source, target] == _reached(index, source, target, version), (version, source, target)


def _reached(index, source, target, version):
    try:
        asked = find_source(index, source), find_end(index, target)
    except archipelago.QueryError:  # nobody answers for the address that is to speak
        return False
    return reach(index, *asked, probes=1, family=version).reached


def test_rows_counts_and_headline_are_of_the_same_pairs(command, tern_bay):
    file = tern_bay / "network.yaml"
    rows = list(csv.DictReader(command("matrix", file, "--devices", "--csv").stdout.splitlines()))
    network = archipelago.read_network(file)
    beside = [row for row in rows if _of_a_device(row)]
    told = archipelago.matrix(network, devices=True).values()["devices"]
    reached = [row for row in beside if row["reached"] == "yes"]
    assert (told["pairs"], told["reached"]) == (len(beside), len(reached))
    assert len(told["unreached"]) == len(beside) - len(reached)
    shown = command("matrix", file, "--devices").stdout
    assert f"devices' addresses: {len(reached):,} of {len(beside):,} pairs" in shown
    for row in Random(1).sample(beside, 8):
        said = archipelago.reach(network, row["source"], row["destination"])
        assert said.reached == (row["reached"] == "yes"), row


def _of_a_device(row):
    return any("/" in end or "." in end or ":" in end for end in (row["source"], row["destination"]))


def test_what_a_change_does_to_them_adds_up():
    old = archipelago.read_network(PIER)
    new = archipelago.read_network(PIER.replace("gateway: 10.44.1.1}", "}"))
    found = archipelago.compare(old, new, devices=True)
    assert found.devices is not None and found.devices.lost.pairs
    assert found.devices.before - found.devices.lost.pairs + found.devices.gained.pairs == found.devices.after
    assert archipelago.compare(old, new).devices is None
    counted = archipelago.matrix(new, devices=True).beside.devices
    assert counted.reached == found.devices.after
    assert sum(reached for *_, reached in counted.rows()) == counted.reached


def test_a_step_and_a_failure_say_which_they_cut_off():
    network = archipelago.read_network(PIER)
    moved = archipelago.read_network(PIER.replace("gateway: 10.44.1.1}", "gateway: 10.44.1.9}"))
    steps = archipelago.change(network, moved, next(iter(network.hosts)), devices=True)
    assert all(step.cut_devices is not None for step in steps)
    broken = archipelago.outages(network, devices=True, additions=False)
    assert all(outage.devices is not None for outage in broken) and any(outage.devices.pairs for outage in broken)


def test_two_parts_that_break_lose_what_the_document_without_them_lacks(command, tmp_path):
    network = archipelago.read_network(PIER)
    kept = tmp_path / "kept"
    found = archipelago.outages(network, double=True, devices=True, resume=kept)
    assert archipelago.outages(network, double=True, devices=True, resume=kept) == found
    plugged = {name: host.at.device for name, host in network.hosts.items()}
    before = _reached_pairs(network)
    for outage in Random(1).sample(list(found), 12):
        after = _reached_pairs(switched_off(know(network), outage.parts))
        lost = {pair for pair in before - after if not {_station(end, plugged) for end in pair} & {*outage.parts}}
        assert outage.devices.pairs == len(lost), outage.name
        assert (outage.devices.example in lost) == bool(lost)
    with pytest.raises(archipelago.DocumentError, match="counts something else"):
        archipelago.outages(network, double=True, resume=kept)
    (tmp_path / "pier.yaml").write_text(PIER)
    shown = command("outages", tmp_path / "pier.yaml", "--double", "--devices").stdout
    assert "devices' addresses" in shown and found.outages[0].name in shown


def _reached_pairs(network):
    """Pairs with an address of a device that are reached in any family, decided anew."""
    anew = archipelago.read_network(archipelago.network_text(network))
    by_family = device_pairs(build_arrays(widened(know(anew)))).by_family
    return {pair for answer in by_family.values() for pair in permutations(answer.hosts, 2) if answer[pair]}


def _station(end, plugged):
    return plugged.get(end, end.split("/")[0])
