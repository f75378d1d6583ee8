"""The spanning tree and shared gateways: what is blocked, who is active, and what hosts reach by them."""

from __future__ import annotations

import json
from dataclasses import replace
from random import Random

import pytest
import yaml

import archipelago
from agreement import calculated, simulated
from archipelago import DocumentError, read_network
from archipelago.knowledge.known import know
from archipelago.knowledge.parts import switched_off
from archipelago.model.network import with_changes
from redundant import broken, redundant

PAIR = """format: archipelago-network/1
vlans: {crew: 120, yard: 130}
devices:
  core-1:
    kind: l3switch
    routing: [ipv4, ipv6]
    bridge-priority: 4096
    ports: {"p{1..2}": {trunk: all}, p9: {address: 10.44.9.1/30}}
    interfaces:
      crew-gw:
        vlan: crew
        address: [10.44.2.2/24, "2001:db8:44:2::2/64"]
        virtual:
          - {vrid: 20, address: 10.44.2.1, priority: 200, track: {interface: p9, priority-decrement: 120}}
          - {vrid: 20, address: "2001:db8:44:2::1"}
      yard-gw: {vlan: yard, address: 10.44.3.2/24, virtual: {vrid: 30, address: 10.44.3.1}}
  core-2:
    kind: l3switch
    routing: [ipv4, ipv6]
    ports: {"p{1..2}": {trunk: all}}
    interfaces:
      crew-gw:
        vlan: crew
        address: [10.44.2.3/24, "2001:db8:44:2::3/64"]
        virtual: [{vrid: 20, address: 10.44.2.1}, {vrid: 20, address: "2001:db8:44:2::1"}]
      yard-gw: {vlan: yard, address: 10.44.3.3/24, virtual: {vrid: 30, address: 10.44.3.1, preempt: no, hold-time: 10s}}
  landing:
    kind: router
    ports: {p1: {address: 10.44.9.2/30}}
  quay:
    kind: switch
    ports: {p1: {trunk: all}, p2: {trunk: all}, p3: {access: crew}, p4: {access: yard}}
hosts:
  mess: {at: quay/p3, address: [10.44.2.10/24, auto], gateway: 10.44.2.1}
  crane: {at: quay/p4, address: 10.44.3.10/24, gateway: 10.44.3.1}
cables: [core-1/p1 ~ quay/p1, core-2/p1 ~ quay/p2, core-1/p2 ~ core-2/p2, core-1/p9 ~ landing/p1]
"""


def network(text, *changes):
    for old, new in changes:
        assert old in text, old
        text = text.replace(old, new)
    return read_network(text)


def bridged(switches, cables, vlan="crew"):
    """Switches, each `NAME: {KEYS}`, with cables between them and a host at the first and at the last."""
    names = [line.split(":")[0] for line in switches]
    devices = "".join(f"  {line}\n" for line in switches)
    hosts = f"  a: {{at: {names[0]}/h, address: 10.44.2.10/24}}\n  b: {{at: {names[-1]}/h, address: 10.44.2.11/24}}\n"
    return read_network(
        f"format: archipelago-network/1\nvlans: {{crew: 120, yard: 130}}\ndevices:\n{devices}hosts:\n{hosts}"
        f"cables: [{', '.join(cables)}]\n"
    )


def blocked(made):
    return archipelago.redundancy(made)["blocked"]


def active(made, vrid=20, family=4):
    found = [router for router in archipelago.redundancy(made)["active"] if router["vrid"] == vrid]
    return [router["active"] for router in found if router["family"] == family]


def switch(name, keys="", ports="p1: {trunk: all}, p2: {trunk: all}, p3: {trunk: all}, h: {}"):
    return f"{name}: {{kind: switch, {keys}ports: {{{ports}}}}}"


RING = ["one/p1 ~ two/p1", "two/p2 ~ six/p1", "six/p2 ~ one/p2"]


def test_the_lowest_priority_then_the_first_written_is_the_root():
    plain = bridged([switch("one"), switch("two"), switch("six")], RING)
    assert set(archipelago.redundancy(plain)["root"].values()) == {"one"} and blocked(plain) == ["six/p1"]
    chosen = bridged([switch("one"), switch("two"), switch("six", "bridge-priority: 4096, ")], RING)
    assert set(archipelago.redundancy(chosen)["root"].values()) == {"six"} and blocked(chosen) == ["two/p1"]
    by_mac = bridged([switch("one"), switch("two", "mac: 02-00-00-00-00-01, "), switch("six")], RING)
    assert set(archipelago.redundancy(by_mac)["root"].values()) == {"two"}
    assert archipelago.reach(plain, "a", "b").reached


def test_costs_are_written_or_follow_the_speed():
    slow = switch("six", ports="p1: {trunk: all}, p2: {trunk: all, speed: 100M}, h: {}")
    assert blocked(bridged([switch("one"), switch("two"), slow], RING)) == ["six/p2"]
    dear = switch("six", ports="p1: {trunk: all}, p2: {trunk: all, path-cost: 40000}, h: {}")
    assert blocked(bridged([switch("one"), switch("two"), dear], RING)) == ["six/p1"]  # as dear: the lower neighbour
    cheap = switch("six", ports="p1: {trunk: all, path-cost: 1}, p2: {trunk: all, path-cost: 20002}, h: {}")
    assert blocked(bridged([switch("one"), switch("two"), cheap], RING)) == ["six/p2"]


def test_of_parallel_cables_the_lower_port_of_the_neighbour_wins_and_aggregates_come_last():
    parallel = ["one/p2 ~ two/p1", "one/p1 ~ two/p2"]
    assert blocked(bridged([switch("one"), switch("two")], parallel)) == ["two/p1"]
    unlisted = ["one/x ~ two/p1", "one/p1 ~ two/p2", "one/w ~ two/p3"]
    assert blocked(bridged([switch("one"), switch("two")], unlisted)) == ["two/p1", "two/p3"]
    bundle = "one: {kind: switch, ports: {h: {}}, interfaces: {up: {members: [m1, m2], trunk: all}}}"
    far = "two: {kind: switch, ports: {h: {}}, interfaces: {up: {members: [m1, m2], trunk: all, path-cost: 20000}}}"
    made = bridged([bundle, far], ["one/m1 ~ two/m1", "one/m2 ~ two/m2", "one/z ~ two/a"])
    assert blocked(made) == ["two/up"]  # as dear as the single cable, and its neighbour's number is higher
    faster = bridged([bundle, far.replace(", path-cost: 20000", "")], ["one/m1 ~ two/m1", "one/z ~ two/a"])
    assert blocked(faster) == ["two/a"]  # the speed of all members that are written counts


def test_a_cable_back_into_its_own_switch_is_blocked_at_the_higher_port():
    assert blocked(bridged([switch("one"), switch("two")], ["one/p1 ~ two/p1", "two/p3 ~ two/p2"])) == ["two/p3"]


def test_a_device_without_the_tree_is_a_wire():
    wire = switch("two", "spanning-tree: off, ")
    made = bridged([switch("one"), wire, switch("six")], RING)
    assert archipelago.redundancy(made)["root"] == {"one": "one", "six": "one"}
    assert blocked(made) == ["six/p2"] and archipelago.reach(made, "a", "b").reached
    none = bridged([switch(name, "spanning-tree: off, ") for name in ("one", "two", "six")], RING)
    stormed = archipelago.reach(none, "a", "b")
    assert blocked(none) == [] and stormed.cause == "switching-loop"
    (enough,) = [one for one in stormed.finding.instead if "spanning tree" in one.says]
    calm = read_network(archipelago.amend(archipelago.network_text(none), enough.edits))
    assert len(blocked(calm)) == 1 and archipelago.reach(calm, "a", "b").reached
    off = bridged([switch("one"), switch("two", "spanning-tree: off, off: true, "), switch("six")], RING)
    assert blocked(off) == []
    other_vlans = switch("two", "spanning-tree: off, ", "p1: {access: yard}, p2: {trunk: [yard]}, h: {}")
    assert blocked(bridged([switch("one"), other_vlans, switch("six")], RING)) == ["six/p2"]


def test_a_vlan_that_only_a_blocked_trunk_has_is_cut():
    six = switch("six", ports="p1: {trunk: all}, p2: {trunk: [yard], untagged: none}, h: {access: crew}")
    one = switch("one", ports="p1: {trunk: all}, p2: {trunk: all}, h: {access: crew}")
    made = bridged([one, switch("two"), six], RING)
    assert blocked(made) == ["six/p1"] and not archipelago.reach(made, "a", "b").reached


def test_a_blocked_port_makes_no_interface_live():
    text = PAIR.replace("p2: {trunk: all}, p3: {access: crew}", "p2: {trunk: all}, p3: {access: yard}")
    text = text.replace("quay:\n    kind: switch", "quay:\n    kind: l3switch\n    routing: []").replace(
        "ports: {p1: {trunk: all}, p2: {trunk: all}",
        "interfaces: {manage: {vlan: crew, address: 10.44.2.9/24}}\n    ports: {p1: {trunk: [yard]}, p2: {trunk: all}",
    )
    made = read_network(text)
    assert blocked(made) == ["quay/p2"] and not know(made).devices["quay"].nics["manage"].up


def test_priority_then_address_then_order_decide_who_is_active():
    made = network(PAIR)
    assert active(made) == ["core-1/crew-gw"] and active(made, 30) == ["core-2/yard-gw"]
    assert active(made, 20, 6) == ["core-2/crew-gw"]  # of equals the later written
    down = switched_off(know(made), ["core-1/p9"])
    assert active(down) == ["core-2/crew-gw"]  # 200 less 120
    (router,) = [one for one in archipelago.redundancy(made)["active"] if one["vrid"] == 30]
    assert router["members"] == ["core-1/yard-gw", "core-2/yard-gw"]
    owner = network(PAIR, ("10.44.2.3/24", "10.44.2.1/24"))
    assert active(owner) == ["core-2/crew-gw"] and archipelago.reach(owner, "mess", "crane").reached


def test_a_network_is_tracked_by_a_route_to_exactly_it():
    route = 'routes: [{destination: 0.0.0.0/0, next-hop: 10.44.9.2}]\n    ports: {"p{1..2}": {trunk: all}, p9'
    tracked = ("{interface: p9, priority-decrement: 120}", "{network: 0.0.0.0/0, priority-decrement: 250}")
    assert active(network(PAIR, tracked)) == ["core-2/crew-gw"]  # 1 at least, and no route
    with_route = network(PAIR, tracked, ('ports: {"p{1..2}": {trunk: all}, p9', route))
    assert active(with_route) == ["core-1/crew-gw"]
    connected = ("0.0.0.0/0, priority-decrement: 250", "10.44.9.0/30, priority-decrement: 250")
    assert active(network(PAIR, tracked, connected)) == ["core-1/crew-gw"]


def test_hosts_reach_by_whoever_is_active_and_the_shared_address_answers():
    made = network(PAIR)
    answer = archipelago.reach(made, "mess", "crane")
    assert answer.reached and [step.device for step in answer.out if step.ingress == "crew-gw"] == ["core-1"]
    assert (
        archipelago.reach(made, "mess", "10.44.2.1").reached and archipelago.reach(made, "crane", "10.44.2.1").reached
    )
    for gone in (["core-1"], ["core-2"], ["core-1/p1"], ["quay/p2"], ["core-1/p2 ~ core-2/p2"]):
        left = switched_off(know(made), gone)
        assert archipelago.reach(left, "mess", "crane").reached and archipelago.matrix(left)["mess", "crane"], gone
    hops = archipelago.trace(made, "mess", "crane")
    assert "10.44.2.2" in str(hops) and "10.44.2.1 " not in str(hops)  # errors come from its own address


def test_two_parts_of_a_domain_have_an_active_one_each():
    text = PAIR.replace("core-1/p2 ~ core-2/p2, ", "").replace("core-2/p1 ~ quay/p2", "core-2/p1 ~ core-2/p2")
    assert active(read_network(text)) == ["core-1/crew-gw", "core-2/crew-gw"]


def test_who_hears_a_better_one_is_backup_whoever_hears_it():
    bundle = "    kind: switch\n    interfaces: {up: {members: [m1, m2], trunk: all}}\n    ports: {p1: {trunk: all}, p3"
    made = network(
        PAIR,
        ("core-1/p2 ~ core-2/p2, ", ""),
        ("core-2/p1 ~ quay/p2", "quay/m1 ~ core-2/p1, quay/m2 ~ core-2/p2"),
        ("    kind: switch\n    ports: {p1: {trunk: all}, p2: {trunk: all}, p3", bundle),
    )
    ours, theirs = calculated(made, None), simulated(made, None)
    assert ours == theirs and active(made)[0] == "core-1/crew-gw"


def test_only_the_active_one_advertises_itself_by_the_virtual_address():
    host = know(network(PAIR)).hosts["mess"]
    (gateway,) = [hop for hop in host.gateway if hop.address.version == 6]
    assert str(gateway) == "fe80::200:5eff:fe00:214" and len(host.addresses) == 2
    written = network(
        PAIR, ('{vrid: 20, address: "2001:db8:44:2::1"}', '{vrid: 20, address: ["2001:db8:44:2::1", "fe80::1"]}')
    )
    assert "fe80::1" in map(str, know(written).hosts["mess"].gateway)
    assert archipelago.reach(written, "mess", "2001:db8:44:2::1", family=6).reached


def test_what_no_virtual_router_can_be_is_told_with_its_line():
    wrong = [
        ("vrid: 30, address: 10.44.3.1}", "vrid: 300, address: 10.45.3.1, priority: 255, track: {}}"),
        ("bridge-priority: 4096", "bridge-priority: 4000"),
        ("p1: {address: 10.44.9.2/30}", "p1: {address: 10.44.9.2/30, path-cost: 5, virtual: {address: 10.44.9.1}}"),
    ]
    with pytest.raises(DocumentError) as told:
        network(PAIR, *wrong)
    text = str(told.value)
    for part in ("'4000' is not a bridge priority", "'300' is not a VRID", "'255' is not a priority", "'path-cost' is"):
        assert part in text, text
    assert "lacks the key 'vrid'" in text
    later = PAIR.replace("hold-time: 10s", "advertise-interval: 41s").replace("10.44.3.1}", "10.45.3.1, track: {}}")
    with pytest.raises(DocumentError, match=r"is in no subnet of 'yard-gw'.*\n.*one of 'interface' and 'network'"):
        read_network(later)
    with pytest.raises(DocumentError, match=r"10ms to 40\.95s"):
        read_network(later.replace("10.45", "10.44").replace(", track: {}", ""))


def test_what_is_written_reads_back_and_the_command_shows_it(command, tmp_path):
    made = network(PAIR)
    text = archipelago.network_text(made)
    assert read_network(text) == made and "spanning-tree" not in text
    (tmp_path / "pair.yaml").write_text(PAIR)
    done = command("view", tmp_path / "pair.yaml", "--redundancy", "--json")
    assert json.loads(done.stdout) == archipelago.redundancy(made).values()
    shown = command("view", tmp_path / "pair.yaml", "--redundancy").stdout
    assert "the root is core-1; 1 port blocked" in shown and "the highest priority: 200, not 100" in shown
    assert "core-2/p1 is as near to the root, and core-2 has the lower MAC address" in shown


@pytest.mark.parametrize("seed", range(60))
def test_the_engines_agree_as_it_stands_and_after_breaks(seed):
    random = Random(seed)
    made = redundant(random)
    for parts in ([], broken(made, random), broken(made, random)):
        left = switched_off(know(made), parts)
        family = (None, 4, 6)[seed % 3]
        assert calculated(left, family)[0] == simulated(left, family)[0], parts


def joined(ends, pairs):
    """The groups that some ends fall into, joined by pairs; and whether a pair joined what was joined already."""
    group = {end: {end} for end in ends}
    circle = False
    for one, other in pairs:
        circle |= group[one] is group[other]
        both = group[one] | group[other]
        for end in both:
            group[end] = both
    return {frozenset(ends) for ends in group.values()}, circle


@pytest.mark.parametrize("seed", range(40))
def test_the_tree_joins_all_that_cables_join_and_closes_no_circle(seed):
    made = redundant(Random(seed))
    on = {name: replace(device, spanning_tree=True) for name, device in made.devices.items()}
    known = know(with_changes(made, devices=on))
    bridges = known.devices.tree.bridges
    links, forwarding = set(), set()
    for name in bridges:
        for port in known.devices[name].attachments.values():
            peers = [known.links[end].peer for end in port.members if known.links[end].carrier]
            for peer in peers if port.switched and port.carrier else ():
                far = known.attachment_at(peer) if peer is not None and peer.device in bridges else None
                if far is not None and far.switched and far.carrier:
                    link = frozenset(((name, port.name), (peer.device, far.name)))
                    links.add(link)
                    if port.passes and far.passes:
                        forwarding.add(link)

    def devices(some):
        return [tuple(name for name, _ in link) for link in some if len({name for name, _ in link}) == 2]

    every, _ = joined(bridges, devices(links))
    kept, circle = joined(bridges, devices(forwarding))
    assert kept == every and not circle
    for part in every:  # one root in each part, which all of it agree on, and nothing of it is blocked
        (root,) = {known.devices.tree.name(bridges[name].root) for name in part}
        own = min(bridges[name].id for name in part)
        assert bridges[root].id == own and bridges[root].root_port is None
        blocked_there = known.devices.tree.blocked_at(root)
        assert all(str(bridges[root].ports[port].role) == "backup" for port in blocked_there)


@pytest.mark.parametrize("seed", range(40))
def test_every_part_of_a_domain_has_one_active_member_and_the_highest_bid_is_it(seed):
    random = Random(seed)
    made = redundant(random)
    elected = know(made).elected
    for members, active in elected.routers():
        assert sum(elected.active(member) for member in members) == (active is not None)
        if active is not None:
            assert all(member.rank <= active.rank for member in members)
    alone = [(members, active) for members, active in elected.routers() if active is not None and len(members) > 1]
    if not alone:
        pytest.skip("this seed makes nothing to ask about")
    members, active = random.choice(alone)
    other = random.choice([member for member in members if member is not active])
    if active.owns or active.priority == 254 or other.written.track:
        pytest.skip("this seed makes nothing to ask about")
    device = made.devices[other.device]
    part = device.interfaces.get(other.interface) or device.ports[other.interface]
    virtual = [replace(one, priority=254) if one == other.written else one for one in part.virtual]
    section = "interfaces" if other.interface in device.interfaces else "ports"
    parts = {**getattr(device, section), other.interface: replace(part, virtual=tuple(virtual))}
    raised = with_changes(made, devices={**made.devices, other.device: replace(device, **{section: parts})})
    now = [one for _, one in know(raised).elected.routers() if one is not None and one.router == other.router]
    assert str(other) in map(str, now)


@pytest.mark.parametrize(
    ("key", "least", "most", "place"),
    [
        ("vrid", 1, 255, "vrid: 30"),
        ("priority", 1, 254, "priority: 200"),
        ("priority-decrement", 1, 254, "priority-decrement: 120"),
        ("path-cost", 1, 200_000_000, "path-cost: 7"),
        ("bridge-priority", 0, 61440, "bridge-priority: 4096"),
    ],
)
def test_the_reader_and_the_schema_take_the_same_numbers(key, least, most, place):
    from jsonschema import Draft202012Validator

    text = PAIR.replace("p9: {address: 10.44.9.1/30}", "p9: {address: 10.44.9.1/30}, p8: {path-cost: 7}")
    schema = Draft202012Validator(archipelago.schema("network"))
    for number, taken in ((least, True), (most, True), (least - 1, False), (most + 1, False)):
        written = text.replace(place, f"{key}: {number}")
        assert place in text and schema.is_valid(yaml.safe_load(written)) is taken, (key, number)
        if taken:
            read_network(written)
        else:
            with pytest.raises(DocumentError, match=f"'{number}' is not a"):
                read_network(written)


def test_what_a_kernel_does_otherwise_is_told_and_counted():
    from archipelago.exchange.kernel import Answers
    from archipelago.exchange.rehearsal import Rehearsal, redundancy
    from archipelago.views import rehearsal as view

    known = know(network(PAIR))
    told = archipelago.redundancy(network(PAIR))
    acting = {(one["active"], str(one["vrid"]), str(one["family"])) for one in told["active"]}
    same = redundancy(known, Answers(set(), {}, told["root"], set(told["blocked"]), acting))
    assert len(same) == 7 and all(ours == theirs for ours, theirs in same.values())
    backup = {("core-2/crew-gw", "20", "4") if one[1:] == ("20", "4") else one for one in acting}
    other = redundancy(known, Answers(set(), {}, {**told["root"], "quay": "quay"}, {"core-2/p2"}, backup))
    result = Rehearsal({}, frozenset(), "here", (), redundancy=other)
    assert set(result.redundant_otherwise) == {
        "root of quay",
        "core-2/p2",
        "quay/p2",
        "VRID 20 in IPv4, core-1/crew-gw, core-2/crew-gw",
    }
    assert "4 of 8 roots, blocked ports and active gateways agree" in result.headline
    (shown,) = view.tables(result)
    assert ("root of quay", "core-1", "quay", "NO") in shown.rows
    assert [row["what"] for row in view.values(result)["redundancy"] if not row["agree"]] == [
        what for what in other if what in result.redundant_otherwise
    ]
