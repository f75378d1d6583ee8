"""Things replaced in a network, and lists that keep an order: laws."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

import archipelago
from archipelago import read_network
from archipelago.changes.differences import differences
from archipelago.changes.needs import needs
from archipelago.changes.related import related
from archipelago.changes.renamed import renamed
from archipelago.changes.replacement import ABSENT, Replacement, merged_order, replaced
from archipelago.errors import QueryError
from test_changing import MOVED, PIER

LISTS = st.lists(st.integers(0, 9), unique=True, max_size=8).map(tuple)


@given(LISTS, LISTS)
def test_a_merged_order_keeps_to_both_lists_or_there_is_none(old, new):
    order = merged_order(old, new)
    common = [entry for entry in old if entry in new]
    if [entry for entry in new if entry in old] != common:
        assert order is None
        return
    assert order is not None and sorted(order) == sorted({*old, *new})
    assert tuple(entry for entry in order if entry in old) == old
    assert tuple(entry for entry in order if entry in new) == new


@given(LISTS)
def test_a_list_that_says_something_twice_has_no_order(entries):
    assert merged_order((*entries, 10, 10), entries) is None


@given(st.permutations(range(len(differences(read_network(PIER), read_network(MOVED))))))
def test_steps_in_any_possible_order_end_in_the_same_network(ranked):
    old, new = read_network(PIER), read_network(MOVED)
    found = differences(old, new)
    wanted, network, done = needs(found), old, set()
    while len(done) < len(found):
        step = next(step for step in ranked if step not in done and wanted[step] <= done)
        network = replaced(network, found[step].replacements)
        done.add(step)
    assert network == new


def test_what_is_not_as_it_was_is_not_replaced():
    network = read_network(PIER)
    place = ("devices", "mast", "ports", "p1", "access")
    once = replaced(network, [Replacement(place, 110, 120)])
    assert once.devices["mast"].ports["p1"].access == 120 and once.devices["office"] is network.devices["office"]
    assert replaced(once, [Replacement(place, 110, 120).undone]) == network
    for wrong in (
        Replacement(place, 130, 120),
        Replacement(("devices", "nobody", "off"), False, True),
        Replacement(("cables",), (network.cables[0], network.cables[0]), (), network.cables),
        Replacement(("hosts", "mess"), ABSENT, network.hosts["mess"]),
    ):
        with pytest.raises(QueryError, match="is not as it was when it was planned"):
            replaced(network, [wrong])


def test_what_hangs_together_is_about_the_same_things():
    found = differences(read_network(PIER), read_network(MOVED))
    whats = [difference.what for difference in found]
    crew = next(number for number, what in enumerate(whats) if what.startswith("add VLAN interface crew-gw"))
    near = related(crew, range(len(found)), found, needs(found))
    assert near[0] == crew and len(set(near)) == len(near)
    assert whats.index("take subinterface p1.120 away") in near[: len(near) // 2 + 2]


def test_names_are_recognised_wherever_they_stand():
    old = read_network(
        PIER.replace(
            "cables:", "policy: {otherwise: any, rules: [{from: crew, to: [mast, window], may-not: any}]}\ncables:"
        )
        + "expect: [{from: crew, to: mast, reached: yes}, {from: window, to: office/p2, reached: yes}]\n"
    )
    called = renamed(
        old, read_network(PIER.replace("mast", "spar").replace("office", "bureau").replace("crew", "staff"))
    )
    assert (called.devices, called.vlans) == ({"office": "bureau", "mast": "spar"}, {"crew": "staff"})
    new = called.applied(old)
    assert [(one.source, one.target) for one in new.expect] == [("staff", "spar"), ("window", "bureau/p2")]
    assert new.policy.rules[0].source == ("staff",) and new.policy.rules[0].target == ("spar", "window")
    assert new.hosts["mess"].at.device == "spar" and str(new.cables[0]) == "bureau/p1 ~ spar/p24"
    assert archipelago.matrix(new).reached == archipelago.matrix(old).reached


def test_another_device_is_not_taken_for_the_same():
    other = PIER.replace("  mast:\n    kind: l3switch\n    routing: []", "  spar:\n    kind: switch").replace(
        "mast/", "spar/"
    )
    other = other.replace("p1: {access: tickets}, p2: {access: crew}", "p1: {access: crew}, p2: {access: tickets}")
    other = other.replace("10.44.2.9", "10.44.2.77").replace("    gateway: 10.44.2.1\n", "")
    assert not renamed(read_network(PIER), read_network(other)).devices
