"""Documents that went wrong once, where two capabilities met: a filter and a change, a mend and what stood beside it, a
recipe and a setting that it did not know, leases and an order."""

from __future__ import annotations

from itertools import permutations
from pathlib import Path

import pytest

import archipelago
from archipelago import follow, matrix, read_network, read_recipe
from archipelago.model.parts import VlanInterface

CASES = Path(__file__).parent / "cases"
RECIPE = "format: archipelago-recipe/1\n"


def case(name: str) -> archipelago.Network:
    return read_network(CASES / f"{name}.yaml")


@pytest.mark.parametrize(("name", "host", "cut"), [("filter-change", "purser", 4), ("leasing-host-gone", "server", 0)])
def test_what_a_step_says_is_what_the_document_at_it_does(name, host, cut):
    change = archipelago.change(case(f"{name}-old"), case(f"{name}-new"), host)
    assert max(step.cut.pairs for step in change) == cut
    for step in change:
        written = read_network(archipelago.network_text(change.at(step.number)))
        assert matrix(written).reached == step.reached, str(step)


def test_gateways_that_move_take_along_what_packets_they_pass():
    old = case("move-loses-mtu")
    recipe = "move-gateways: [{vlans: [crew, guests], to: hall, transit: 10.44.9.0/30}]\n"
    new = follow(old, read_recipe(RECIPE + recipe, old))
    assert {one.mtu for one in new.devices["hall"].interfaces.values()} == {9000}
    assert matrix(new, probe="icmp/8000").reached == matrix(old, probe="icmp/8000").reached == 2


def test_gateways_that_move_are_found_by_routers_that_do_not():
    old = case("move-past-third-router-net")
    new = follow(old, read_recipe(CASES / "move-past-third-router-recipe.yaml", old))
    assert not any(one.severity == "error" for one in archipelago.audit(new))


@pytest.mark.long
def test_a_recipe_by_which_a_policy_is_kept_no_more_is_refused(command, tmp_path):
    words = ["change", CASES / "move-breaks-policy-net.yaml", "--recipe", CASES / "move-breaks-policy-recipe.yaml"]
    words += ["--from", "tic1", "-o", tmp_path / "new.yaml"]
    done = command(*words)
    assert done.returncode == 2 and "not kept any more: policy, otherwise" in done.stderr and "udp/" in done.stderr
    assert not (tmp_path / "new.yaml").exists()
    assert command(*words, "--accept-losses").returncode == 0
    assert matrix(read_network(tmp_path / "new.yaml")).pairs


def test_a_vlan_that_a_policy_names_by_its_id_is_split_in_the_policy_too():
    old = case("split-forgets-policy")
    recipe = "split: [{vlan: crew, new: staff, id: 221, subnet: 10.44.3.0/24, hosts: [mess]}]\n"
    new = follow(old, read_recipe(RECIPE + recipe, old))
    assert [rule.source for rule in new.policy.rules] == [("220", "staff"), ("guests",)]
    assert archipelago.check_policy(new).holds and matrix(new)["mess", "lounge-1"] and matrix(new)["lounge-1", "mess"]


def test_a_vlan_that_is_split_has_a_pool_for_who_leases_in_it():
    text = (CASES / "split-forgets-policy.yaml").read_text().partition("policy:")[0]
    pool = "{subnet: 10.44.1.0/24, range: 10.44.1.100-10.44.1.120, gateway: 10.44.1.1, reservations: {mess: 10.44.1.7}}"
    text = text.replace("routing: [ipv4]", f"routing: [ipv4]\n    dhcp-pools: {{crew: {pool}}}", 1)
    old = read_network(text.replace("address: 10.44.1.12/24, gateway: 10.44.1.1", "address: dhcp"))
    recipe = "split: [{vlan: crew, new: staff, id: 221, subnet: 10.44.3.0/24, hosts: [mess]}]\n"
    new = follow(old, read_recipe(RECIPE + recipe, old))
    assert archipelago.leases(new)["mess"]["address"] == "10.44.3.7/24"
    assert not new.devices["hall"].dhcp_pools["crew"].reservations


def test_a_mend_takes_away_the_address_that_it_names_and_nothing_beside_it():
    text = (CASES / "mend-loses-settings.yaml").read_text()
    old = case("mend-loses-settings").devices["holm"].interfaces["tickets-gw"]
    mended = archipelago.mend(text).network
    part = mended.devices["holm"].interfaces["tickets-gw"]
    assert isinstance(part, VlanInterface) and [str(own) for own in part.addresses] == ["10.44.1.1/24"]
    assert (
        (part.filter_in, part.dhcp_relay, part.mtu)
        == (old.filter_in, old.dhcp_relay, old.mtu)
        == ("f", old.dhcp_relay, 9000)
    )
    assert not matrix(mended, probe="tcp/23")["kiosk-a", "recorder"]


def test_the_gateway_of_a_host_that_leases_is_mended_beside_its_lease():
    result = archipelago.mend((CASES / "gateway-of-leasing-host.yaml").read_text())
    host = result.network.hosts["a"]
    assert host.dhcp and [str(hop) for hop in host.gateway] == ["2001:db8:44:1::1"]
    assert not result.left.errors and archipelago.reach(result.network, "a", "b", family=6).reached


def test_a_design_that_keeps_a_network_leaves_everybody_their_lease():
    old = case("keep-swaps-leases-net")
    made = archipelago.design(archipelago.read_brief(CASES / "keep-swaps-leases-brief.yaml"), old)
    now, before = archipelago.leases(made.network), archipelago.leases(old)
    assert {name: now[name] for name in before} == before


def test_packets_of_a_size_are_decided_where_families_tell_hosts_apart():
    network = case("matrix-size-crash")
    for family in (None, 4, 6):
        assert matrix(network, family, probe="icmp/1472").pairs == 12


@pytest.mark.parametrize("name", ["hosts-swap-ports", "change-add-router", "change-keyerror", "change-recursion"])
@pytest.mark.parametrize("back", [False, True])
def test_whatever_cannot_be_changed_alone_is_changed_together(name, back):
    old, new = (case(f"{name}-{end}") for end in (("new", "old") if back else ("old", "new")))
    host = next(host for host in old.hosts if host in new.hosts and host != "a")
    change = archipelago.change(old, new, host)
    assert change.at(len(change)) == new
    network = old
    for step in change:
        network = archipelago.apply(network, step)
        read_network(archipelago.network_text(network))  # each is a network that can be
    assert network == new


def test_few_steps_come_in_the_best_order_that_there_is():
    change = archipelago.change(case("better-order-old"), case("better-order-new"), "deck-1")
    assert change.cut_steps == 0 and not change.locked_out


def test_what_is_expected_is_asked_at_every_state_of_a_change():
    change = archipelago.change(case("way-out-old"), case("way-out-new"), "kiosk-1")
    broken = [step.number for step in change if step.broken]
    assert broken and "not kept after" in change.headline
    for step in change:
        verdicts = archipelago.expectations(change.at(step.number))
        assert bool(step.broken) == any(verdict.broken for verdict in verdicts), str(step)


def test_an_interface_that_breaks_takes_nothing_in():
    network = case("break-interface-still-receives")
    assert not archipelago.break_part(network, "keel/tide-gw", "knot", "petrel").survived
    assert not matrix(network, without=["keel/tide-gw"])["knot", "petrel"]


def test_what_is_shut_down_in_order_says_goodbye_before_other_ports_open():
    told = archipelago.break_part(
        case("break-orderly-false-circle"), "core-1", "fares-1", "fares-2", family=4, orderly=True
    )
    assert told.survived and not told.stormed


def test_two_that_bid_from_one_address_do_not_answer_each_other_for_ever():
    network = case("break-hangs")
    first, *_, last = network.hosts
    assert archipelago.break_part(network, "pile", first, last).sent


def test_who_holds_a_shared_address_may_change_while_it_is_probed(tern_bay):
    network = read_network(tern_bay / "network.yaml")
    told = archipelago.break_part(network, "holm", "innkeeper", "10.44.4.33")
    assert told.survived and told.lost


SLIPS = {
    "address-on-parent": ("landing", {("landing", "p1"), ("landing", "p1.210")}),
    "address-on-parent-vrf": ("landing", {("landing", "p1"), ("landing", "p1.210")}),
    "default-itself": ("landing", {("landing", "0")}),
    "default-loop": ("landing", {("landing", "1")}),
    "default-over-a-host": ("landing", {("landing", "0")}),
    "gateways-swapped": ("core", {("core", "tickets-gw"), ("core", "crew-gw")}),
    "host-holds-the-gateways-address": ("kiosk-b", {("kiosk-b", "")}),
    "link-wrong-end": ("core", {("core", "p2")}),
    "nat-digit": ("landing", {("landing", "p2")}),
    "nat-removed": ("landing", {("landing", "p2")}),
    "nat-wrong-port": ("landing", {("landing", "p1"), ("landing", "p2")}),
    "next-hop-is-itself": ("skerry", {("skerry", "link-gw")}),
    "next-hop-nobody": ("skerry", {("skerry", "link-gw")}),
    "no-default-route": ("hall", {("hall", "+")}),
    "nothing-leads-outside-any-more": ("landing", {("landing", "+")}),
    "outside-port-off-default": ("landing", {("landing", "p2")}),
    "routed-against-trunk-spare": ("core", {("core", "p1")}),
    "routed-port-against-trunk": ("skerry", {("skerry", "p2")}),
    "vlan-in-another-vrf": ("core", {("core", "crew-gw")}),
    "filter-moved-by-a-risk": ("landing", {("landing", "p1.210")}),
    "gateway-without-address": ("kiosk", {("kiosk", "")}),
    "leasing-host-with-ipv6": ("landing", {("landing", "tickets")}),
    "parent-wrong": ("landing", {("landing", "p1.220")}),
    "pool-of-another-block": ("core", {("core", "tickets")}),
    "route-other-vrf": ("core", {("core", "0")}),
    "second-address-other-vlan-mend": ("kiosk", {("kiosk", "")}),
    "second-address-to-and-fro": ("purser", {("purser", "")}),
    "server-address-wrong": ("server", {("server", "")}),
}
"""Where each slip was made: the device or host that a finding is to name, and the parts that its mend may touch."""


@pytest.mark.parametrize("name", sorted(SLIPS))
def test_a_slip_is_named_where_it_was_made_and_mended_there_alone(name):
    at, parts = SLIPS[name]
    text = (CASES / f"slip-{name}.yaml").read_text()
    broken = read_network(text)
    assert {one.at for one in archipelago.audit(broken) if one.severity == "error" and one.edits} == {at}
    result = archipelago.mend(text)
    after = matrix(result.network)
    apart = {(a, b) for a, b in permutations(after.hosts, 2) if not after[a, b]}
    translated = name.startswith("nat-")  # nobody outside begins with what is translated
    assert not result.left.errors and {a for a, _ in apart} == ({"outside"} if translated else set())
    touched = set()
    for one in result.made:
        for edit in one.edits:
            inner = [part for part in edit.path[2:] if part not in ("ports", "interfaces", "dhcp-pools", "routes")]
            touched.add((edit.path[1], str(inner[0]) if inner and edit.path[0] == "devices" else ""))
    assert touched <= parts, touched
    reached = matrix(broken)
    for pair in permutations(broken.hosts, 2):
        if not reached[pair]:
            assert archipelago.reach(broken, *pair).finding.at == at, pair


def test_what_cuts_nobody_off_yet_is_told_too():
    kinds = {
        "aggregate-lacks-a-member": ("risk", "members-differ", "quay"),
        "line-that-nothing-meets": ("risk", "line-unmet", "landing"),
        "mtu-of-one-gateway": ("risk", "mtu-mismatch", "landing"),
        "untagged-mismatch-silent": ("error", "untagged-vlan-mismatch", "quay-1"),
        "v6-copied-prefix": ("error", "subnet-overlap", "landing"),
        "virtual-address-held-twice": ("error", "shared-address-held", "skerry"),
    }
    for name, told in kinds.items():
        found = archipelago.audit(case(f"slip-{name}"))
        serious = [one for one in found if not one.is_note and one.kind != "gateway-claimable"]
        assert [(one.severity, one.kind, one.at) for one in serious] == [told], name
    mended = archipelago.mend((CASES / "slip-aggregate-lacks-a-member.yaml").read_text())
    assert mended.network.devices["quay"].interfaces["up"].members == ("p1", "p2")
    for name in ("vrf-overlap", "insides-overlap-false"):  # nothing is wrong here
        found = archipelago.audit(case(f"slip-{name}"))
        assert {one.kind for one in found if not one.is_note} <= {"vlan-one"}, name


def test_an_address_that_is_astray_keeps_its_place_and_no_filter_is_opened_for_it():
    text = (CASES / "slip-wrong-address-blamed-on-filter.yaml").read_text()
    assert archipelago.reach(read_network(text), "gate", "kiosk").finding.at == "kiosk"
    assert str(archipelago.mend(text).network.hosts["kiosk"].addresses[0]) == "10.44.1.10/24"


def test_what_is_merely_untidy_is_left_until_asked_for():
    text = (CASES / "slip-false-alarm-vlan-absent.yaml").read_text()
    assert {one.severity for one in archipelago.audit(read_network(text))} == {"note"}
    assert archipelago.mend(text).text == text
    assert len(archipelago.mend(text, notes=True).made) == 2
    cut = (CASES / "mend-kills-link.yaml").read_text()  # not while an error is left that nobody can mend by rule
    assert archipelago.mend(cut, notes=True).text == cut
