"""How frames and packets move: each rule on the smallest network that shows it."""

from __future__ import annotations

import pytest

from archipelago import QueryError, reach
from archipelago.files.network import network_from
from archipelago.files.tree import parse
from archipelago.knowledge.index import index_network
from archipelago.knowledge.reasons import Reason
from archipelago.simulation.events import ErrorReported, NeighbourAsked, PacketDelivered
from archipelago.simulation.reach import simulate

VLANS = "{tickets: 210, crew: 220, cameras: 230}"


def network(devices: str, hosts: str, cables: str = "[]"):
    text = f"format: archipelago-network/1\nvlans: {VLANS}\ndevices:\n{devices}\nhosts:\n{hosts}\ncables: {cables}\n"
    return network_from(parse(text.encode(), "bay.yaml"))


def two_switches(left: str, right: str):
    """mess on the left, bosun on the right, both in crew; the two ports of the cable between are given."""
    return network(
        f"  one: {{kind: switch, ports: {{p1: {{access: crew}}, p9: {left}}}}}\n"
        f"  two: {{kind: switch, ports: {{p1: {{access: crew}}, p9: {right}}}}}",
        "  mess: {at: one/p1, address: 10.44.1.2/24}\n  bosun: {at: two/p1, address: 10.44.1.3/24}",
        "[one/p9 ~ two/p9]",
    )


@pytest.mark.parametrize(
    ("left", "right", "reached"),
    [
        ("{trunk: [crew], untagged: none}", "{trunk: [crew], untagged: none}", True),
        ("{trunk: [crew]}", "{trunk: all}", True),
        ("{trunk: [tickets]}", "{trunk: all}", False),
        ("{access: crew}", "{access: crew}", True),
        ("{access: crew}", "{trunk: [tickets], untagged: crew}", True),  # carried though the list lacks it
        ("{access: crew}", "{trunk: [crew], untagged: none}", False),  # untagged out, but in only tagged
        ("{access: tickets}", "{access: crew}", False),
        ("{trunk: [crew], untagged: tickets}", "{trunk: [crew], untagged: cameras}", True),
        ("{}", "{trunk: all}", False),
    ],
)
def test_a_frame_crosses_where_both_ends_carry_its_vlan(left, right, reached):
    made = two_switches(left, right)
    assert reach(made, "mess", "bosun").reached is reached
    assert reach(made, "bosun", "mess").reached is reached


def test_two_untagged_vlans_are_joined_as_it_happens():
    made = network(
        "  one: {kind: switch, ports: {p1: {access: tickets}, p9: {access: tickets}}}\n"
        "  two: {kind: switch, ports: {p1: {access: crew}, p9: {access: crew}}}",
        "  kiosk: {at: one/p1, address: 10.44.1.2/24}\n  bosun: {at: two/p1, address: 10.44.1.3/24}",
        "[one/p9 ~ two/p9]",
    )
    assert reach(made, "kiosk", "bosun").reached


def routed(router: str = "", mess: str = "", kiosk: str = ""):
    """A router on a stick: kiosk in tickets, mess in crew."""
    return network(
        "  landing:\n    kind: router\n    ports: {p1: {}}\n"
        "    interfaces:\n"
        "      p1.210: {parent: p1, tag: tickets, address: 10.44.0.1/24}\n"
        "      p1.220: {parent: p1, tag: crew, address: 10.44.1.1/24}\n" + router +
        "  quay: {kind: switch, ports: {p1: {access: tickets}, p2: {access: crew}, p9: {trunk: [tickets, crew], "
        "untagged: none}}}",
        f"  kiosk: {{at: quay/p1, address: 10.44.0.2/24, gateway: 10.44.0.1{kiosk}}}\n"
        f"  mess: {{at: quay/p2, address: 10.44.1.2/24, gateway: 10.44.1.1{mess}}}",
        "[landing/p1 ~ quay/p9]",
    )  # fmt: skip


def test_the_steps_out_and_back():
    answer = reach(routed(), "kiosk", "mess")
    assert [step.device for step in answer.out] == ["kiosk", "quay", "landing", "quay", "mess"]
    assert [(s.ingress, s.ingress_tag, s.egress, s.egress_tag) for s in answer.out[1:4]] == [
        ("p1", None, "p9", 210),
        ("p1.210", 210, "p1.220", 220),
        ("p9", 220, "p2", None),
    ]
    assert [step.device for step in answer.back] == ["mess", "quay", "landing", "quay", "kiosk"]


def test_a_router_drops_while_it_asks_and_a_host_holds():
    first = reach(routed(), "kiosk", "mess")
    assert (first.probes_sent, first.probes_answered) == (5, 4)
    assert "landing" in first.lost[0] and "10.44.1.2" in first.lost[0]
    held = reach(routed("    unresolved: hold\n"), "kiosk", "mess")
    assert (held.probes_sent, held.probes_answered) == (5, 5)
    dropped = reach(routed("    unresolved: hold\n", kiosk=", unresolved: drop"), "kiosk", "mess")
    assert (dropped.probes_answered, len(dropped.lost)) == (4, 1)


def test_long_ways_are_warmed_before_they_are_judged():
    """Each router on the way drops the first packet: more than five probes are needed, and sent."""
    devices, cables = [], []
    for number in range(9):
        left = "" if number == 0 else f"p1: {{address: 10.44.200.{2 * number - 1}/31}}, "
        right = "p2: {address: 10.44.9.1/24}" if number == 8 else f"p2: {{address: 10.44.200.{2 * number}/31}}"
        first = "p1: {address: 10.44.8.1/24}, " if number == 0 else left
        routes = []
        if number < 8:
            routes.append(f"{{destination: 10.44.9.0/24, next-hop: 10.44.200.{2 * number + 1}}}")
            cables.append(f"r{number}/p2 ~ r{number + 1}/p1")
        if number:
            routes.append(f"{{destination: 10.44.8.0/24, next-hop: 10.44.200.{2 * number - 2}}}")
        devices.append(f"  r{number}: {{kind: router, ports: {{{first}{right}}}, routes: [{', '.join(routes)}]}}")
    hosts = (
        "  kiosk: {at: r0/p1, address: 10.44.8.2/24, gateway: 10.44.8.1}\n"
        "  bosun: {at: r8/p2, address: 10.44.9.2/24, gateway: 10.44.9.1}"
    )
    answer = reach(network("\n".join(devices), hosts, f"[{', '.join(cables)}]"), "kiosk", "bosun")
    assert answer.reached and answer.probes_sent > 5
    assert [step.device for step in answer.out] == ["kiosk", *(f"r{n}" for n in range(9)), "bosun"]


def test_two_defaults_that_point_at_each_other_run_out_of_ttl():
    made = network(
        "  a: {kind: router, ports: {p1: {address: 10.44.8.1/24}, p2: {address: 10.44.200.0/31}}, "
        "routes: [{destination: 0.0.0.0/0, next-hop: 10.44.200.1}]}\n"
        "  b: {kind: router, ports: {p1: {address: 10.44.200.1/31}}, "
        "routes: [{destination: 0.0.0.0/0, next-hop: 10.44.200.0}]}",
        "  kiosk: {at: a/p1, address: 10.44.8.2/24, gateway: 10.44.8.1}",
        "[a/p2 ~ b/p1]",
    )
    answer = reach(made, "kiosk", "198.51.100.9")
    assert (answer.reached, answer.cause) == (False, "routing-loop")
    refused = [event for event in answer.events if isinstance(event, ErrorReported)]
    assert refused and refused[0].packet.body.reason is Reason.TTL_EXPIRED
    told = [e for e in answer.events if isinstance(e, PacketDelivered) and e.node == "kiosk"]
    assert told  # the error has a way back


def test_an_answer_from_the_near_side_only():
    """The far router has no route back: the near side of the link answers, the far side does not."""
    made = network(
        "  a: {kind: router, ports: {p1: {address: 10.44.8.1/24}, p2: {address: 10.44.200.0/31}}, "
        "routes: [{destination: 10.44.9.0/24, next-hop: 10.44.200.1}]}\n"
        "  b: {kind: router, ports: {p1: {address: 10.44.200.1/31}, p2: {address: 10.44.9.1/24}}}",
        "  kiosk: {at: a/p1, address: 10.44.8.2/24, gateway: 10.44.8.1}\n"
        "  bosun: {at: b/p2, address: 10.44.9.2/24, gateway: 10.44.9.1}",
        "[a/p2 ~ b/p1]",
    )
    assert reach(made, "kiosk", "10.44.200.0").reached
    for target in ("10.44.200.1", "bosun"):
        answer = reach(made, "kiosk", target)
        assert (answer.direction, answer.at, answer.cause) == ("back", "b", "route-missing")
        assert "10.44.8.0/24" in answer.mend and "10.44.200.0" in answer.mend


def test_a_switching_loop_is_told_and_ends():
    own = "kind: switch, spanning-tree: off, ports: {p1: {access: crew}, p7: {trunk: all}, p8: {trunk: all}}"
    switches = "\n".join(f"  {name}: {{{own}}}" for name in ("one", "two", "three"))
    made = network(
        switches,
        "  mess: {at: one/p1, address: 10.44.1.2/24}\n  bosun: {at: two/p1, address: 10.44.1.3/24}",
        "[one/p7 ~ two/p8, two/p7 ~ three/p8, three/p7 ~ one/p8]",
    )
    answer = reach(made, "mess", "bosun")
    assert (answer.reached, answer.cause) == (False, "switching-loop")
    assert all(name in answer.says for name in ("one/p7 ~ two/p8", "two/p7 ~ three/p8", "three/p7 ~ one/p8"))


def test_an_interface_answers_for_its_own_address_only_but_a_device_for_all():
    made = routed()
    assert reach(made, "kiosk", "10.44.1.1").reached  # the far interface, through the near one
    assert reach(made, "kiosk", "10.44.0.77").cause == "address-unheld"


def test_broadcast_addresses_are_not_forwarded_to():
    for target in ("10.44.1.255", "10.44.1.0"):
        assert reach(routed(), "kiosk", target).cause == "address-unusable"


def test_an_aggregate_lives_while_one_member_does():
    def made(one: str, two: str):
        return network(
            f"  a: {{kind: switch, ports: {{p1: {{access: crew}}, p4: {one}, p5: {two}}}, "
            "interfaces: {up: {members: [p4, p5], trunk: [crew]}}}\n"
            "  b: {kind: switch, ports: {p1: {access: crew}}, interfaces: {up: {members: [p4, p5], trunk: [crew]}}}",
            "  mess: {at: a/p1, address: 10.44.1.2/24}\n  bosun: {at: b/p1, address: 10.44.1.3/24}",
            "[a/p4 ~ b/p4, a/p5 ~ b/p5]",
        )

    assert reach(made("{}", "{}"), "mess", "bosun").reached
    assert reach(made("{off: true}", "{}"), "mess", "bosun").reached
    assert not reach(made("{off: true}", "{off: true}"), "mess", "bosun").reached


def test_a_vlan_interface_needs_its_vlan_and_a_live_port():
    def made(vlans: str, port: str, off: str = ""):
        return network(
            f"  core: {{kind: l3switch, routing: [ipv4], vlans: {vlans}, "
            f"ports: {{p1: {port}, p2: {{access: tickets}}}}, interfaces: "
            f"{{c: {{vlan: crew, address: 10.44.1.1/24{off}}}, t: {{vlan: tickets, address: 10.44.0.1/24}}}}}}",
            "  kiosk: {at: core/p2, address: 10.44.0.2/24, gateway: 10.44.0.1}\n"
            "  mess: {at: core/p1, address: 10.44.1.2/24, gateway: 10.44.1.1}",
        )

    assert reach(made("[tickets, crew]", "{access: crew}"), "kiosk", "mess").reached
    assert reach(made("[tickets]", "{access: crew}"), "kiosk", "mess").cause == "vlan-absent"
    assert reach(made("[tickets, crew]", "{access: crew, off: true}"), "kiosk", "mess").cause == "admin-down"
    assert reach(made("[tickets, crew]", "{access: crew}", ", off: true"), "kiosk", "10.44.1.1").cause == "admin-down"


def test_ipv6_is_resolved_by_its_own_means():
    made = network(
        "  quay: {kind: switch, ports: {p1: {access: crew}, p2: {access: crew}}}",
        "  mess: {at: quay/p1, address: 2001:db8:44::2/64}\n  bosun: {at: quay/p2, address: 2001:db8:44::3/64}",
    )
    answer = reach(made, "mess", "bosun")
    assert answer.reached and answer.family == 6
    asked = next(event for event in answer.events if isinstance(event, NeighbourAsked))
    assert asked.frame.target == 0x3333FF000003  # the solicited-node group (RFC 4291, RFC 2464)


def test_no_common_family():
    made = network(
        "  quay: {kind: switch, ports: {p1: {access: crew}, p2: {access: crew}}}",
        "  mess: {at: quay/p1, address: 2001:db8:44::2/64}\n  bosun: {at: quay/p2, address: 10.44.1.3/24}",
    )
    answer = reach(made, "mess", "bosun")
    assert (answer.reached, answer.cause, answer.probes_sent) == (False, "no-common-family", 0)


def test_tables_that_a_probe_leaves_behind():
    view = index_network(routed())
    nodes = view.knowledge.nodes
    simulation = simulate(view, nodes["kiosk"], nodes["mess"])
    assert set(simulation.switch("quay").tables) == {210, 220}
    assert len(simulation.switch("quay").tables[210]) == 2
    assert len(simulation.station("landing").interfaces["p1.220"].neighbours) == 1


def test_unknown_ends_are_refused_with_a_hint():
    with pytest.raises(QueryError, match="did you mean 'mess'"):
        reach(routed(), "kiosk", "mes")
    with pytest.raises(QueryError, match="no interface 'p7'"):
        reach(routed(), "landing/p7", "kiosk")
    assert reach(routed(), "landing/p1.220", "kiosk").reached
