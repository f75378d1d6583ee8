"""Pairs of cores that a brief asks for: what the design makes of them, and every mistake that can be made in one."""

from __future__ import annotations

from dataclasses import replace
from random import Random

import pytest

import archipelago
from agreement import calculated
from archipelago import DesignError, DocumentError, amend, read_brief, read_network
from archipelago.knowledge.known import know
from archipelago.knowledge.parts import switched_off
from archipelago.model.finding import REMOVE, Edit
from archipelago.model.network import with_changes
from briefs import paired_brief

BRIEF = """format: archipelago-brief/1
title: Tern Bay with two cores
space: [10.44.0.0/16, 2001:db8:44::/48]
vlans: {crew: {id: 120, hosts: 40}, yard: {id: 130, hosts: 20}, guests: {id: 140, hosts: 60}}
devices:
  landing: {kind: router, ports: 8}
  core-1: {kind: l3switch, ports: 24}
  core-2: {kind: l3switch, ports: 24}
  quay-1: {kind: switch, ports: 12, manage: crew}
  quay-2: {kind: switch, ports: 12}
gateways: [{for: [crew, yard, guests], at: [core-1, core-2], shared: true}]
outside: {at: landing/p8, address: 203.0.113.2/30, next-hop: 203.0.113.1}
hosts:
  mess: {vlan: crew, at: quay-1/p1}
  bosun: {vlan: crew, at: quay-2/p1, address: auto}
  crane: {vlan: yard, at: quay-2/p2}
  lounge: {vlan: guests, at: quay-1/p2, address: dhcp}
cables:
  - landing/p1 ~ core-1/p24
  - landing/p2 ~ core-2/p24
  - core-1/p23 ~ core-2/p23
  - core-1/p1 ~ quay-1/p12
  - core-2/p1 ~ quay-1/p11
  - core-1/p2 ~ quay-2/p12
  - core-2/p2 ~ quay-2/p11
"""
UPLINKS = "  - landing/p1 ~ core-1/p24\n  - landing/p2 ~ core-2/p24\n"
BEHIND_A_SWITCH = "  - landing/p1 ~ quay-1/p10\n"
RISK = "gateway-claimable"


def designed(*changes: tuple[str, str]) -> archipelago.Network:
    text = BRIEF
    for old, new in changes:
        assert old in text, old
        text = text.replace(old, new)
    return archipelago.design(read_brief(text)).network


@pytest.fixture(scope="module")
def sound() -> archipelago.Network:
    return designed()


def test_both_ends_are_made_and_nothing_of_the_pair_cuts_anybody_off(sound):
    assert {finding.kind for finding in archipelago.audit(sound)} == {RISK}
    told = archipelago.redundancy(sound)
    assert set(told["root"].values()) == {"core-1"} and {one["active"][:6] for one in told["active"]} == {"core-1"}
    member = sound.devices["core-1"].interfaces["crew-gw"].virtual[0]
    assert (member.priority, member.hold_time, [track.interface for track in member.track]) == (200, 10_000, ["p24"])
    pools = [sound.devices[name].dhcp_pools["guests"].ranges for name in ("core-1", "core-2")]
    assert pools[0][0].last.value + 1 == pools[1][0].first.value
    for part in ("core-1", "core-2", *map(str, sound.cables)):
        assert archipelago.matrix(switched_off(know(sound), [part])).reached == 12, part


def test_roles_are_spread_and_the_way_back_is_shared_over_switches():
    spread = designed(("shared: true", "shared: true, spread: true"))
    active = {one["active"] for one in archipelago.redundancy(spread)["active"]}
    assert {name.split("/")[0] for name in active} == {"core-1", "core-2"}
    behind = designed((UPLINKS, BEHIND_A_SWITCH))
    shared = {
        str(address) for one in behind.devices["core-1"].interfaces["transit-1"].virtual for address in one.addresses
    }
    back = {str(route.next_hop) for route in behind.devices["landing"].routes if route.destination.length}
    assert back == shared and len(shared) == 2


def test_an_old_gateway_becomes_the_shared_one(sound):
    single = BRIEF.replace("at: [core-1, core-2], shared: true", "at: core-1").replace(
        "  - core-2/p1 ~ quay-1/p11\n", ""
    )
    old = archipelago.design(read_brief(single.replace("  - core-2/p2 ~ quay-2/p11\n", ""))).network
    new = archipelago.design(read_brief(BRIEF), keep=old).network
    assert [new.hosts[name].gateway for name in old.hosts] == [old.hosts[name].gateway for name in old.hosts]
    again = archipelago.design(read_brief(BRIEF), keep=sound).network
    assert again == sound


def test_what_cannot_be_shared_is_told():
    for old, new, told in (
        (", shared: true", "", "write 'shared: true'"),
        ("[core-1, core-2]", "core-1", "two l3switches or more"),
        ("[core-1, core-2]", "[core-1, landing/p3]", "'landing/p3' is no l3switch"),
    ):
        with pytest.raises(DocumentError, match=told):
            read_brief(BRIEF.replace(old, new))
    apart = BRIEF.replace("  - core-1/p23 ~ core-2/p23\n", "").replace("  - core-2/p1 ~ quay-1/p11\n", "")
    with pytest.raises(DesignError, match="core-2 is to share gateways with core-1, and no cables over switches join"):
        archipelago.design(read_brief(apart.replace("  - core-2/p2 ~ quay-2/p11\n", "")))


def test_whoever_has_two_cables_is_not_cut_off_from_outside_either():
    over_one = BRIEF.replace("  - core-1/p23 ~ core-2/p23\n", "").replace("  - core-2/p2 ~ quay-2/p11\n", "")
    told = "core-1/p1 ~ quay-1/p12 off, mess no longer reaches .*; no cable joins core-1 and core-2"
    with pytest.raises(DesignError, match=told):  # the VLANs are cut in two, and the way back leads to the wrong part
        archipelago.design(read_brief(over_one))
    one_cable = designed(("  - core-2/p2 ~ quay-2/p11\n", ""))  # quay-2 asked for no more than it has
    assert archipelago.matrix(switched_off(know(one_cable), ["core-2"])).reached == 12


D = ("devices",)
CREW, YARD = ("interfaces", "crew-gw"), ("interfaces", "yard-gw")
ONE = ("devices", "core-1", *CREW, "virtual", 0)
TWO = ("devices", "core-2", *CREW, "virtual", 0)
ACCEPT = {"rules": [{"accept": "any"}], "otherwise": "drop"}
MISTAKES = {
    "shared-addresses-differ": [Edit((*TWO, "address"), "10.44.0.140")],
    "vrids-differ": [Edit((*TWO, "vrid"), "99")],
    "shared-intervals-differ": [Edit((*TWO, "advertise-interval"), "3s")],
    "link-mask-mismatch": [Edit(("devices", "core-2", *YARD, "address"), ["10.44.0.195/28", "2001:db8:44:1::3/64"])],
    "member-missing": [Edit(("devices", "core-2", *YARD, "virtual"), REMOVE)],
    "member-missing interface": [Edit(("devices", "core-2", *YARD), REMOVE)],
    "members-route-differently": [Edit(("devices", "core-2", "routes", 1), REMOVE)],
    "members-filter-differently": [
        Edit(("devices", "core-1", "filters"), {"quiet": ACCEPT}),
        Edit(("devices", "core-1", *CREW, "filter-in"), "quiet"),
    ],
    "members-relay-differently": [Edit(("devices", "core-1", *CREW, "dhcp-relay"), "203.0.113.1")],
    "members-lease-differently": [Edit(("devices", "core-2", "dhcp-pools"), REMOVE)],
    "active-twice": [
        Edit(("devices", device, "ports", port, "trunk"), ["yard", "guests", "transit-1"])
        for device, port in (("core-1", "p23"), ("quay-1", "p11"), ("quay-2", "p11"))
    ],
    "root-elsewhere": [Edit(("devices", "quay-1", "bridge-priority"), "0")],
    "root-by-accident": [
        Edit(("devices", "core-1", "bridge-priority"), REMOVE),
        Edit(("devices", "core-2", "bridge-priority"), REMOVE),
        Edit(("devices", "quay-1", "mac"), "02-00-00-00-00-01"),
    ],
    "vlan-not-carried": [Edit(("devices", "core-1", "ports", "p1", "trunk"), ["yard", "guests", "transit-1"])],
    "spare-lacks-vlan": [Edit(("devices", "core-2", "ports", "p1", "trunk"), ["yard", "guests", "transit-1"])],
    "edge-to-bridge": [Edit(("devices", "quay-1", "ports", "p11", "edge"), "true")],
    "circle-by-wire": [Edit(("devices", "core-2", "spanning-tree"), "off")],
    "preempts-at-once": [Edit((*ONE, "hold-time"), REMOVE)],
    "uplink-untracked": [Edit((*ONE, "track"), REMOVE)],
    "gateway-of-one": [Edit(("hosts", "mess", "gateway"), ["10.44.0.130", "2001:db8:44::1"])],
    "gateway-of-one pool": [
        Edit(("devices", name, "dhcp-pools", "guests", "gateway"), "10.44.0.2") for name in ("core-1", "core-2")
    ],
    "active-not-routing": [Edit(("devices", "core-1", "routing"), ["ipv6"])],
}
ANOTHER_WAY = {
    "members-filter-differently",  # both have now what one had
    "members-relay-differently",
    "root-by-accident",  # the root's priority is written, the other's was not needed
}
"""Mistakes that a mend takes away, and the network is sound, but not the same as before."""


@pytest.mark.parametrize("mistake", MISTAKES)
def test_every_mistake_is_found_and_its_mend_takes_it_away(sound, mistake):
    kind = mistake.split()[0]
    text = amend(archipelago.network_text(sound), MISTAKES[mistake])
    found = [one for one in archipelago.audit(read_network(text)) if one.kind == kind]
    assert found, [str(one) for one in archipelago.audit(read_network(text))]
    if kind not in ("members-lease-differently",):
        for one in found:
            assert one.edits, str(one)
        mended = read_network(archipelago.mend(text, notes=True).text)
        left = {one.kind for one in archipelago.audit(mended)}
        assert kind not in left, left
        if mistake not in ANOTHER_WAY:
            assert in_order(mended) == in_order(sound)


def in_order(made: archipelago.Network) -> archipelago.Network:
    """A network with the VLANs of each trunk in one order, and the routes of each device by metric: in which they are
    listed means nothing."""
    devices = {}
    for name, device in made.devices.items():
        ports = {
            key: replace(port, trunk=tuple(sorted(port.trunk))) if isinstance(port.trunk, tuple) else port
            for key, port in device.ports.items()
        }
        routes = sorted(device.routes, key=lambda route: (route.destination, route.metric))
        devices[name] = replace(device, ports=ports, routes=tuple(routes))
    return with_changes(made, devices=devices)


def test_a_route_by_one_of_several_behind_a_switch():
    made = designed((UPLINKS, BEHIND_A_SWITCH))
    own = made.devices["core-1"].interfaces["transit-1"].addresses[0].address
    number = next(n for n, route in enumerate(made.devices["landing"].routes) if route.next_hop.address.version == 4)
    text = amend(archipelago.network_text(made), [Edit(("devices", "landing", "routes", number, "next-hop"), str(own))])
    (found,) = [one for one in archipelago.audit(read_network(text)) if one.kind == "next-hop-of-one"]
    assert read_network(amend(text, found.edits)) == made


TWO_ROUTERS = """format: archipelago-network/1
vlans: {crew: 120, yard: 130}
devices:
  landing:
    kind: router
    ports: {p1: {}}
    interfaces:
      p1.120: {parent: p1, tag: crew, address: 10.44.2.2/24, virtual: {vrid: 20, address: 10.44.2.1, priority: 200}}
      p1.130: {parent: p1, tag: yard, address: 10.44.3.2/24, virtual: {vrid: 30, address: 10.44.3.1, priority: 200}}
    filters: {asked: {rules: [{accept: icmp, icmp-type: request}], otherwise: drop, stateful: yes}}
  skerry:
    kind: router
    ports: {p1: {}}
    interfaces:
      p1.120: {parent: p1, tag: crew, address: 10.44.2.3/24, virtual: {vrid: 20, address: 10.44.2.1}}
      p1.130: {parent: p1, tag: yard, address: 10.44.3.3/24, virtual: {vrid: 30, address: 10.44.3.1}}
    filters: {asked: {rules: [{accept: icmp, icmp-type: request}], otherwise: drop, stateful: yes}}
  quay:
    kind: switch
    ports: {p1: {trunk: all}, p2: {trunk: all}, p3: {access: crew}, p4: {access: yard}}
hosts:
  mess: {at: quay/p3, address: 10.44.2.10/24, gateway: 10.44.2.1}
  crane: {at: quay/p4, address: 10.44.3.10/24, gateway: 10.44.3.1}
cables: [landing/p1 ~ quay/p1, skerry/p1 ~ quay/p2]
"""


@pytest.mark.parametrize("what", [{"filter-in": "asked"}, {"source-nat": "10.44.3.0/24"}])
def test_an_answer_that_passes_the_other_member_is_told_where_conversations_count(what):
    edits = [
        Edit(("devices", name, "interfaces", "p1.120", key), value)
        for name in ("landing", "skerry")
        for key, value in what.items()
    ]
    text = amend(TWO_ROUTERS, edits)
    assert archipelago.reach(read_network(text), "crane", "mess").reached
    assert "answers-elsewhere" not in {one.kind for one in archipelago.audit(read_network(text))}
    spread = amend(text, [Edit(("devices", "landing", "interfaces", "p1.130", "virtual", "priority"), REMOVE)])
    assert archipelago.reach(read_network(spread), "crane", "mess").reached == ("source-nat" in what)
    (found,) = [one for one in archipelago.audit(read_network(spread)) if one.kind == "answers-elsewhere"]
    mended = read_network(amend(spread, found.edits))
    assert archipelago.reach(mended, "crane", "mess").reached
    assert "answers-elsewhere" not in {one.kind for one in archipelago.audit(mended)}


def test_the_brief_of_a_network_asks_for_the_same_shared_gateways():
    spread = "at: [core-1, core-2], shared: true, spread: true}"
    for made in (designed(), designed(("at: [core-1, core-2], shared: true}", spread))):
        brief = archipelago.needs_of(made)
        assert {vlan.name for vlan in brief.vlans.values()} == {"crew", "yard", "guests"}
        wide = replace(brief, space=read_brief(BRIEF).space)
        again = archipelago.design(read_brief(archipelago.brief_text(wide))).network
        for name in ("core-1", "core-2"):
            for gateway in ("crew-gw", "yard-gw", "guests-gw"):
                was, now = (one.devices[name].interfaces[gateway] for one in (made, again))
                assert [(one.vrid, one.addresses, one.priority) for one in now.virtual] == [
                    (one.vrid, one.addresses, one.priority) for one in was.virtual
                ]


def test_one_of_three_without_a_way_on_sends_by_an_address_that_the_others_share():
    third = "  core-2: {kind: l3switch, ports: 24}\n  core-3: {kind: l3switch, ports: 24}\n"
    ends = ("landing/p2 ~ core-3/p24", "core-2/p20 ~ core-3/p20", "core-3/p1 ~ quay-1/p10", "core-3/p2 ~ quay-2/p10")
    more = "".join(f"  - {cable}\n" for cable in ends)
    made = designed(
        ("  core-2: {kind: l3switch, ports: 24}\n", third),
        ("[core-1, core-2]", "[core-1, core-2, core-3]"),
        ("  - landing/p2 ~ core-2/p24\n", more),
    )
    transit = made.devices["core-1"].interfaces["transit-1"].virtual
    shared = {str(address) for one in transit for address in one.addresses}
    assert {str(route.next_hop) for route in made.devices["core-2"].routes if not route.destination.length} <= shared
    for part in ("core-1", "core-3", "landing/p1 ~ core-1/p24"):
        left = switched_off(know(made), [part])
        assert all(archipelago.reach(left, name, "outside").reached for name in ("mess", "crane")), part


@pytest.mark.parametrize("which", [0, 1])
def test_a_way_that_one_of_a_pair_has_lost_is_put_back(sound, which):
    for name in ("core-1", "core-2"):
        routes = sound.devices[name].routes
        text = amend(archipelago.network_text(sound), [Edit(("devices", name, "routes", which), REMOVE)])
        found = [one for one in archipelago.audit(read_network(text)) if one.kind == "members-route-differently"]
        assert [one.at for one in found] == [name], routes[which]
        mended = read_network(archipelago.mend(text).text)
        assert set(mended.devices[name].routes) == set(routes)


def test_both_ways_lost_are_told_and_come_back_one_after_the_other(sound):
    lost = [Edit(("devices", "core-2", "routes", number), REMOVE) for number in (1, 0)]
    text = amend(archipelago.network_text(sound), lost)
    assert "members-route-differently" in {one.kind for one in archipelago.audit(read_network(text))}
    for _ in range(2):
        text = archipelago.mend(text).text
    assert {one.kind for one in archipelago.audit(read_network(text))} == {RISK}


@pytest.mark.parametrize("seed", range(14))
def test_whatever_one_part_of_a_pair_breaks_nobody_is_cut_off(seed):
    text, parts = paired_brief(Random(seed))
    made = archipelago.design(read_brief(text)).network
    risks = {one.kind for one in archipelago.audit(made) if one.severity != "note"}
    assert risks <= {RISK}
    whole = calculated(made, None)[0]
    known = know(made)
    out = [name for name in made.hosts if "outside" in text and archipelago.reach(made, name, "outside").reached]
    for part in parts:
        left = switched_off(known, [part])
        assert calculated(left, None)[0] == whole, part
        assert all(archipelago.reach(left, name, "outside").reached for name in out), part


def test_a_pair_of_routers_is_no_place_that_a_brief_can_ask_for():
    brief = archipelago.needs_of(read_network(TWO_ROUTERS))
    assert [(place.places, place.shared) for place in brief.gateways] == [((("landing", "p1"),), False)]
    assert {str(vlan.gateway[0]) for vlan in brief.vlans.values()} == {"10.44.2.1", "10.44.3.1"}


def test_one_address_in_two_virtual_routers_is_told_whichever_of_its_addresses_it_is(sound):
    text = amend(
        archipelago.network_text(sound),
        [
            Edit((*ONE, "address"), ["10.44.0.129", "10.44.0.140"]),
            Edit((*TWO, "address"), ["10.44.0.141", "10.44.0.140"]),
            Edit((*TWO, "vrid"), "99"),
        ],
    )
    (found,) = [one for one in archipelago.audit(read_network(text)) if one.kind == "vrids-differ"]
    assert "10.44.0.140 in virtual router 99" in found.says and found.edits[0].value == "120"


@pytest.mark.parametrize(
    ("number", "says", "breaks"),
    [
        (0, "no way to 0.0.0.0/0 of its own", "out of reach once core-1 is gone"),
        (1, "no way to 0.0.0.0/0 by core-1 in reserve", "out of reach once core-2's own way is cut"),
    ],
)
def test_what_a_lost_way_breaks_is_told_as_it_is(sound, number, says, breaks):
    text = amend(archipelago.network_text(sound), [Edit(("devices", "core-2", "routes", number), REMOVE)])
    made = read_network(text)
    (found,) = [one for one in archipelago.audit(made) if one.kind == "members-route-differently"]
    assert says in found.says and breaks in found.breaks
    gone, who = (("core-1", "crane"), ("landing/p2 ~ core-2/p24", "core-2"))[number]
    for network, answer in ((sound, True), (made, False)):  # and so it is
        left = switched_off(know(network), [gone])
        assert archipelago.reach(left, who, "outside").reached is answer


def test_of_many_vlans_each_is_told_once_that_its_answers_pass_elsewhere():
    more = "\n".join(
        f"      p1.{tag}: {{parent: p1, tag: {name}, address: 10.44.{net}.{own}/24, "
        f"virtual: {{vrid: {net}, address: 10.44.{net}.1, priority: {priority}}}}}"
        for name, tag, net, own, priority in (("guests", 140, 4, 2, 50), ("tickets", 210, 5, 2, 50))
    )
    text = TWO_ROUTERS.replace("{crew: 120, yard: 130}", "{crew: 120, yard: 130, guests: 140, tickets: 210}")
    for name, own in (("landing", 2), ("skerry", 3)):
        first, rest = text.split(f"  {name}:\n", 1)
        there = more.replace(".2/24", f".{own}/24")
        there = there if name == "landing" else there.replace("priority: 50", "priority: 150")
        text = f"{first}  {name}:\n" + rest.replace("    filters:", f"{there}\n    filters:", 1)
    edits = [Edit(("devices", name, "interfaces", "p1.120", "filter-in"), "asked") for name in ("landing", "skerry")]
    made = read_network(amend(text, edits))
    told = [one for one in archipelago.audit(made) if one.kind == "answers-elsewhere"]
    assert {one["active"] for one in archipelago.redundancy(made)["active"]} == {
        "landing/p1.120",
        "landing/p1.130",
        "skerry/p1.140",
        "skerry/p1.210",
    }
    assert sorted(one.path[3] for one in told) == ["p1.140", "p1.210"]
    mended = made
    for one in told:
        mended = read_network(amend(archipelago.network_text(mended), one.edits))
    assert "answers-elsewhere" not in {one.kind for one in archipelago.audit(mended)}
