"""Recipes: what is to become of a network, in a few lines; how is worked out, and decided."""

from __future__ import annotations

import pytest

import archipelago
from archipelago import read_network, read_recipe
from test_changing import LEASES, PIER

HEAD = "format: archipelago-recipe/1\n"
POLICY = "policy: {otherwise: any, rules: [{from: [tickets], to: [crew], may-not: any}]}\n"


def followed(text: str, recipe: str):
    network = read_network(text)
    new = archipelago.follow(network, read_recipe(HEAD + recipe, network))
    change = archipelago.change(network, new, "agent")
    assert change.at(len(change)) == new == read_network(archipelago.network_text(new))
    return network, new, change


def test_gateways_move_with_their_uplink_default_and_return_routes():
    old, new, change = followed(PIER, "move-gateways: [{vlans: [tickets, crew], to: mast, transit: 10.44.8.0/31}]\n")
    assert change.locked_out == () and change.cut_steps == 0
    mast, office = new.devices["mast"], new.devices["office"]
    assert mast.routing == (4,) and not mast.gateway and str(mast.routes[0].next_hop) == "10.44.8.0"
    assert [str(route.destination) for route in office.routes] == ["10.44.1.0/24", "10.44.2.0/24"]
    assert list(office.interfaces) == ["p1.4094"] and new.hosts == old.hosts
    whats = [step.what for step in change]
    assert whats.index("routing ipv4") < whats.index("take subinterface p1.120 away")  # old subinterfaces go last
    assert [str(event) for event in archipelago.compare(old, new).events][-2:] == [
        "gateway of crew moved from office to mast",
        "gateway of transit is new, on office and mast",
    ]


def test_pools_go_along_and_leases_stay():
    old, new, change = followed(LEASES, "move-gateways: [{vlans: [tickets, crew], to: mast, transit: 10.44.8.0/31}]\n")
    assert list(new.devices["mast"].dhcp_pools) == ["tickets"] and not new.devices["office"].dhcp_pools
    assert archipelago.leases(new)["window"]["address"] == archipelago.leases(old)["window"]["address"]
    assert change.cut_steps == 0


def test_filters_of_a_policy_are_worked_out_anew_where_the_traffic_passes():
    text = PIER + POLICY
    network = read_network(text)
    assert archipelago.follow(network, read_recipe(HEAD + "renumber: []\n", network)) == network  # not kept before
    placed = archipelago.mend(text).network
    recipe = "move-gateways: [{vlans: [tickets, crew], to: mast, transit: 10.44.8.0/31}]\n"
    steps = read_recipe(HEAD + recipe, placed)
    with pytest.raises(archipelago.QueryError, match=r"not kept any more: policy.*udp/49152"):  # answers, by any port
        archipelago.follow(placed, steps)
    moved = archipelago.follow(placed, steps, accept_losses=True)
    assert moved.devices["mast"].interfaces["tickets-gw"].filter_in and archipelago.check_policy(moved).holds


def test_gateways_move_to_a_pair_that_shares_them():
    pair = PIER.replace(
        "hosts:\n", "  spar:\n    kind: l3switch\n    routing: []\n    ports: {p24: {trunk: [tickets, crew]}}\nhosts:\n"
    ).replace("cables: [", "cables: [mast/p23 ~ spar/p24, ")
    pair = pair.replace(
        "p24: {trunk: [tickets, crew]}}\n    interfaces",
        "p23: {trunk: [tickets, crew]}, p24: {trunk: [tickets, crew]}}\n    interfaces",
    )
    recipe = "move-gateways: [{vlans: [tickets, crew], to: [mast, spar], transit: 10.44.8.0/29}]\n"
    _, new, change = followed(pair, recipe)
    shares = new.devices["mast"].interfaces["crew-gw"].virtual
    assert str(shares[0].addresses[0]) == "10.44.2.1" and str(shares[0].track[0]) == "transit-link"
    assert {route.next_hop for route in new.devices["office"].routes} == {new.devices["office"].routes[0].next_hop}
    assert archipelago.redundancy(new) and change.at(len(change)) == new
    after = archipelago.outages(new, additions=False)
    assert after["mast/crew-gw"].outcome == "taken over"


def test_a_vlan_is_renumbered_everywhere_and_nobody_is_cut_off():
    text = (
        PIER + "expect: [{from: 10.44.2.0/24, to: agent, reached: yes}, {from: agent, to: 10.44.2.2, reached: yes}]\n"
    )
    _, new, change = followed(text, "renumber: [{vlan: crew, subnet: 10.44.12.0/24}]\n")
    assert "10.44.2." not in archipelago.network_text(new)
    assert [one.source for one in new.expect] == ["10.44.12.0/24", "agent"]
    assert change.cut_steps == 0 and change.locked_out == ()


def test_a_vlan_is_split_and_one_gets_ipv6():
    split = "split: [{vlan: crew, new: mates, id: 125, subnet: 10.44.13.0/25, hosts: mess}]\n"
    _, new, _ = followed(PIER + POLICY, split)
    assert new.vlans["mates"] == 125 and str(new.hosts["mess"].addresses[0]) == "10.44.13.2/25"
    assert new.policy.rules[0].target == ("crew", "mates") and new.devices["mast"].ports["p24"].trunk[-1] == 125
    six = "add-ipv6: [{vlan: crew, subnet: 2001:db8:44:2::/64}, {vlan: tickets, subnet: 2001:db8:44:1::/64}]\n"
    _, new, change = followed(PIER, six)
    assert archipelago.reach(new, "window", "mess", family=6).reached and change.cut_steps == 0


def test_a_device_is_replaced_by_hand():
    _, new, change = followed(PIER, "replace: [{device: office, by: bureau}]\n")
    whats = [step.what for step in change]
    assert "put device bureau in place" in whats and "take device office away" in whats and change.locked_out == ()
    assert "office" not in archipelago.network_text(new)


@pytest.mark.parametrize(
    ("recipe", "said"),
    [
        ("renumber: [{vlan: nobody, subnet: 10.44.12.0/24}]\n", ":2:19: there is no VLAN 'nobody'"),
        ("renumber: [{vlan: crew, subnet: 10.44.1.0/24}]\n", "overlaps 10.44.1.0/24"),
        ("renumber: [{vlan: crew, subnet: 10.44.12.0/30}]\n", "has no place in 10.44.12.0/30"),
        ("replace: [{device: offise, by: x}]\n", "there is no device 'offise'; did you mean 'office'?"),
        ("replace: [{device: office, by: mast}]\n", "there is a 'mast' already"),
        ("split: [{vlan: crew, new: crew, id: 125, subnet: 10.44.13.0/25, hosts: mess}]\n", "new ones are expected"),
        ("split: [{vlan: crew, new: m, id: 125, subnet: 10.44.13.0/25, hosts: window}]\n", "is not in VLAN crew"),
        ("move-gateways: [{vlans: crew, to: office}]\n", "gateways move to layer 3 switches"),
        ("move-gateways: [{vlans: crew, to: mast}]\n", "'transit' is missing: a free subnet of IPv4"),
        ("move-gateways: [{vlans: crew, to: mast, transit: 10.44.2.0/31}]\n", "overlaps"),
        (
            "move-gateways: [{vlans: crew, to: mast, transit: 10.44.8.0/32}]\n",
            "10.44.8.0/32 is too small for office, mast",
        ),
        ("add-ipv6: [{vlan: crew, subnet: 10.44.13.0/25}]\n", "one subnet of IPv6"),
        ("move-gateway: []\n", "did you mean 'move-gateways'?"),
        ("replace: [[]]\n", "mapping is expected"),
    ],
)
def test_what_cannot_be_followed_is_said(recipe, said, command, tmp_path):
    (tmp_path / "old.yaml").write_text(PIER)
    (tmp_path / "recipe.yaml").write_text(HEAD + recipe)
    words = ("--recipe", tmp_path / "recipe.yaml", "--from", "agent", "-o", tmp_path / "new.yaml")
    done = command("change", tmp_path / "old.yaml", *words)
    assert done.returncode == 2 and said in done.stderr and not (tmp_path / "new.yaml").exists()


def test_a_stateful_filter_cannot_go_to_a_layer_3_switch(tmp_path):
    filters = "    filters: {crew-in: {stateful: yes, otherwise: accept, rules: []}}\n"
    text = PIER.replace("    interfaces:\n      p1.110", filters + "    interfaces:\n      p1.110")
    text = text.replace("address: 10.44.2.1/24}", "address: 10.44.2.1/24, filter-in: crew-in}")
    network = read_network(text)
    recipe = read_recipe(HEAD + "move-gateways: [{vlans: crew, to: mast, transit: 10.44.8.0/31}]\n", network)
    with pytest.raises(archipelago.QueryError, match=r"filter crew-in of office/p1\.120 is stateful"):
        archipelago.follow(network, recipe)
    plain = read_network(text.replace("stateful: yes, ", ""))
    moved = archipelago.follow(plain, recipe)
    assert moved.devices["mast"].interfaces["crew-gw"].filter_in == "crew-in" and not moved.devices["office"].filters


def test_names_that_are_taken_are_not_taken_again():
    text = PIER.replace(
        "interfaces: {manage:", "interfaces: {transit-link: {loopback: yes, address: 10.44.99.1/32}, manage:"
    )
    _, new, change = followed(text, "move-gateways: [{vlans: [tickets, crew], to: mast, transit: 10.44.8.0/31}]\n")
    assert {"transit-link", "transit-link-2"} <= new.devices["mast"].interfaces.keys() and change.cut_steps == 0


def test_a_filter_and_a_pool_called_like_one_at_the_new_place_get_names_of_their_own():
    gate = "filters: {{gate: {{rules: [{{drop: {}}}], otherwise: accept}}}}\n    "
    text = PIER.replace("interfaces: {manage:", gate.format("tcp/23") + "interfaces: {manage:")
    text = text.replace("ports: {p1: {}, p2", gate.format("tcp/9") + "ports: {p1: {}, p2")
    text = text.replace("tag: crew,", "tag: crew, filter-in: gate,")
    old, new, _ = followed(text, "move-gateways: [{vlans: [crew], to: mast, transit: 10.44.8.0/31}]\n")
    mast = new.devices["mast"]
    assert mast.filters["gate"] == old.devices["mast"].filters["gate"]
    moved = mast.filters[mast.interfaces["crew-gw"].filter_in]
    assert moved.name != "gate" and moved.rules == old.devices["office"].filters["gate"].rules
