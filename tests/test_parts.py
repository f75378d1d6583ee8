"""Parts switched off by the names that people give them, and the way outside."""

from __future__ import annotations

import json

import pytest

import archipelago
from archipelago import QueryError
from archipelago.files.network import network_from
from archipelago.files.tree import parse
from archipelago.knowledge.known import apply_change, know
from archipelago.knowledge.outside import with_outside
from archipelago.knowledge.parts import switched_off


@pytest.fixture(scope="module")
def bay(plain_bay):
    return archipelago.read_network(plain_bay / "network.yaml")


@pytest.mark.parametrize(
    ("part", "touched", "cut"),
    [
        ("skerry", {"skerry", "landing", "holm"}, {"skerry-gate", "lamp"}),
        ("lamp", {"skerry"}, {"lamp"}),
        ("quay-1/p12", {"quay-1", "hall"}, {"counter", "mess", "camera-n", "lounge-2"}),
        ("landing/p1.240", {"landing"}, {"barrier", "crane", "yard-desk"}),
        ("hall/p23 ~ quay-1/p12", {"quay-1", "hall"}, {"counter", "mess", "camera-n", "lounge-2"}),
        ("quay-1/p12 ~ hall/p23", {"quay-1", "hall"}, {"counter", "mess", "camera-n", "lounge-2"}),
        ("landing/p2 ~ holm/p12", {"landing", "holm"}, set()),  # the ring of routed links holds
        ("yard", {"landing", "hall", "quay-1", "quay-2", "holm", "skerry"}, {"barrier", "crane", "yard-desk"}),
        ("240", {"landing", "hall", "quay-1", "quay-2", "holm", "skerry"}, {"barrier", "crane", "yard-desk"}),
        ("landing/p4", {"landing"}, set()),  # the way outside
    ],
)
def test_what_each_part_cuts_off(bay, part, touched, cut):
    before = know(bay)
    assert apply_change(before, switched_off(before, [part])).derived == touched
    ((_, found),) = archipelago.what_if(bay, [part])
    place = {name: index for index, name in enumerate(found.hosts)}
    rest = [name for name in found.hosts if name not in cut]
    assert found.block([place[one] for one in rest], [place[one] for one in rest]).all()
    kiosk = place["kiosk-a"]
    assert {name for name in found.hosts if name != "kiosk-a" and not found.reaches(kiosk, place[name])} == cut


def test_several_parts_and_none(bay):
    both = ["landing/p2 ~ holm/p12", "holm/p11"]
    ((_, found),) = archipelago.what_if(bay, [both])
    assert archipelago.matrix(bay, without=both).reached == found.reached < found.pairs
    assert archipelago.matrix(bay, without=[]).reached == found.pairs
    assert {group.finding.kind for group in archipelago.matrix(bay, without=both).groups} == {"admin-down"}


@pytest.mark.parametrize(
    ("part", "message"),
    [
        ("skery", "did you mean 'skerry'?"),
        ("landing/p1.2400", "did you mean 'p1.240'?"),
        ("landing/p2 ~ holm/p11", "did you mean 'landing/p2 ~ holm/p12'?"),
        ("1", "VLAN 1 exists on every switch"),
        ("nobody/p1", "there is no part 'nobody/p1'"),
    ],
)
def test_parts_that_are_not_there(bay, command, plain_bay, part, message):
    with pytest.raises(QueryError) as raised:
        switched_off(know(bay), [part])
    assert message in str(raised.value)
    done = command("matrix", plain_bay / "network.yaml", "--without", part)
    assert done.returncode == 2 and message in done.stderr and not done.stdout


def test_only_what_is_touched_is_derived_again(bay):
    before = know(bay)
    every = dict(before.devices)
    after = apply_change(before, switched_off(before, ["skerry"]))
    touched = after.derived
    for name, node in after.devices.items():
        assert (node is every[name]) == (name not in touched)
    assert after.devices["skerry"].off and not after.devices["landing"].nics["p3"].up
    fresh = know(after.written)
    for name in fresh.devices:
        assert after.devices[name].nics == fresh.devices[name].nics
        assert after.routes(name) == fresh.routes(name)


def edge(ports, routes):
    text = f"""format: archipelago-network/1
devices:
  landing:
    kind: router
    ports: {{p1: {{address: 10.44.0.1/24}}, {ports}}}
    routes: [{routes}]
hosts: {{kiosk-a: {{at: landing/p1, address: 10.44.0.9/24, gateway: 10.44.0.1}}}}
"""
    return network_from(parse(text.encode(), "edge"))


@pytest.mark.parametrize(
    ("ports", "routes", "beyond"),
    [
        ("p2: {address: 203.0.113.2/30}", "{destination: 0.0.0.0/0, next-hop: 203.0.113.1}", ["203.0.113.1/30"]),
        ("p2: {address: 203.0.113.2/30}", "", ["203.0.113.1/30"]),  # a subnet of two has one other end
        ("p2: {address: 203.0.113.0/31}", "", ["203.0.113.1/31"]),
        ("p2: {address: 203.0.113.9/28}", "{destination: 0.0.0.0/0, next-hop: 203.0.113.5}", ["203.0.113.5/28"]),
        (
            "p2: {address: [203.0.113.2/30, 2001:db8:ffff::2/64]}",
            "{destination: 0.0.0.0/0, next-hop: 203.0.113.1}",
            ["203.0.113.1/30", "2001:db8:ffff::1/64"],
        ),
    ],
)
def test_who_stands_for_the_outside(ports, routes, beyond):
    network, names = with_outside(know(edge(ports, routes)))
    host = network.hosts["outside"]
    assert names == ("outside",) and str(host.at) == "landing/p2"
    assert [str(held) for held in host.addresses if held.length not in (32, 128)] == beyond
    found = archipelago.reach(edge(ports, routes), "kiosk-a", "outside")
    assert found.reached == ("0.0.0.0/0" in routes)
    if not found.reached:
        assert found.cause == "route-missing" and "203.0.113.1" in found.mend


def test_a_port_that_leads_outside_has_carrier_and_what_is_beyond_is_reached():
    network = edge("p2: {address: 203.0.113.2/30}", "{destination: 0.0.0.0/0, next-hop: 203.0.113.1}")
    index = know(network)
    assert index.devices["landing"].nics["p2"].up and index.routes("landing").unused == ()
    for target in ("198.51.100.7", "203.0.113.1"):
        assert archipelago.reach(network, "kiosk-a", target).reached
    without = edge("p2: {address: 203.0.113.2/30}", "")
    assert not know(without).devices["landing"].nics["p2"].up
    answer = archipelago.reach(without, "kiosk-a", "198.51.100.7")
    assert answer.cause == "route-missing" and "203.0.113.1" in answer.mend


def test_two_ways_outside():
    two = "p2: {address: 203.0.113.2/30}, p3: {address: 198.51.100.2/30}"
    made = edge(
        two,
        "{destination: 0.0.0.0/0, next-hop: 203.0.113.1, metric: 9}, {destination: 0.0.0.0/0, next-hop: 198.51.100.1}",
    )
    _, names = with_outside(know(made))
    assert names == ("outside", "outside-2")
    assert archipelago.reach(made, "kiosk-a", "outside").out[-1].device == "outside-2"
    assert archipelago.expectations(made, [("kiosk-a", "outside", True)])[0]


@pytest.mark.parametrize(
    ("ports", "why"), [("p2: {}", "no port leads outside"), ("p2: {address: 203.0.113.9/28}", "no port leads outside")]
)
def test_where_nothing_leads_outside(ports, why):
    with pytest.raises(QueryError, match=why):
        archipelago.reach(edge(ports, ""), "kiosk-a", "outside")


def test_far_away_is_nowhere_that_the_network_knows():
    made = edge(
        "p2: {address: 203.0.113.2/30}, p3: {address: 192.0.2.9/24}", "{destination: 0.0.0.0/0, next-hop: 203.0.113.1}"
    )
    network, _ = with_outside(know(made))
    assert str(network.hosts["outside"].addresses[0]) == "198.51.100.1/32"


def test_matrix_without_parts_tells_the_promises_that_break(command, plain_bay):
    done = command("matrix", plain_bay / "network.yaml", "--without", "holm", "--json")
    told = json.loads(done.stdout)
    assert done.returncode == 1
    assert {(one["source"], one["holds"]) for one in told["expectations"]} == {
        ("tickets", True),
        ("cameras", True),
        ("holm-pier", False),
    }
    assert told["expectations"][-1]["cause"] == "admin-down" and told["expectations"][-1]["at"] == "holm"
