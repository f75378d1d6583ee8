"""What devices know: carrier, membership, interfaces, tables, domains; each rule of the contract on its own."""

from __future__ import annotations

import pytest
from hypothesis import given, reject
from hypothesis import strategies as st

from archipelago.addressing.values import Prefix, parse_address, parse_prefix
from archipelago.files.network import network_from
from archipelago.files.tree import parse
from archipelago.knowledge.forwarding import Dropped, Sent, decide_own, holder_of
from archipelago.knowledge.known import know
from archipelago.knowledge.reasons import Reason
from archipelago.model.parts import End
from makers import scrambled


def known(devices: str, hosts: str = "{}", cables: str = "[]", vlans: str = "{tickets: 210, crew: 220}"):
    text = f"format: archipelago-network/1\nvlans: {vlans}\ndevices:\n{devices}\nhosts: {hosts}\ncables: {cables}\n"
    return know(network_from(parse(text.encode(), "bay.yaml")))


def pair(left: str = "", right: str = "", cable: str = "a/p1 ~ b/p1", device: str = ""):
    return known(
        f"  a: {{kind: switch{device}, ports: {{p1: {{{left}}}}}}}\n  b: {{kind: switch, ports: {{p1: {{{right}}}}}}}",
        cables=f"[{cable}]",
    )


@pytest.mark.parametrize(
    ("made", "blocked"),
    [
        (pair(), None),
        (pair(left="off: true"), "a/p1 is off"),
        (pair(right="off: true"), "b/p1 is off"),
        (pair(cable="{ends: a/p1 ~ b/p1, off: true}"), "cable a/p1 ~ b/p1 is off"),
        (pair(device=", off: true"), "a is off"),
    ],
)
def test_carrier_needs_both_ends_both_devices_and_the_cable(made, blocked):
    for end in (End("a", "p1"), End("b", "p1")):
        down = made.links[end].down
        assert (str(down) if down else None) == blocked


def test_a_listed_port_without_a_cable_exists_and_is_down():
    made = known("  a: {kind: switch, ports: {p7: {}}}")
    assert str(made.links[End("a", "p7")].down) == "a/p7 is not cabled"


def test_a_cable_a_host_and_an_aggregate_make_ports_exist():
    made = known(
        "  a: {kind: switch, interfaces: {up: {members: [p8, p9]}}}\n  b: {kind: router}",
        "{h: {at: a/p1}}",
        "[a/p2 ~ b/p1]",
    )
    assert set(made.ports["a"]) == {"p1", "p2", "p8", "p9"} and set(made.ports["b"]) == {"p1"}
    assert set(made.nodes["a"].attachments) == {"p1", "p2", "up"}


@pytest.mark.parametrize(
    ("port", "vlans", "untagged"),
    [
        ("{}", {1}, 1),
        ("{access: crew}", {220}, 220),
        ("{trunk: [crew]}", {1, 220}, 1),
        ("{trunk: [crew], untagged: none}", {220}, None),
        ("{trunk: [crew], untagged: tickets}", {210, 220}, 210),
        ("{trunk: all}", {1, 210, 220}, 1),
        ("{trunk: all, untagged: none}", {1, 210, 220}, None),
        ("{trunk: []}", {1}, 1),
    ],
)
def test_what_a_port_carries(port, vlans, untagged):
    one = known(f"  a: {{kind: switch, ports: {{p1: {port}}}}}").nodes["a"].attachments["p1"]
    assert (one.vlans, one.untagged) == (vlans, untagged)


def test_a_port_set_to_a_vlan_that_its_device_lacks_carries_nothing_in_it():
    made = known("  a: {kind: switch, vlans: [tickets], ports: {p1: {access: crew}, p2: {trunk: [tickets, crew]}}}")
    assert made.nodes["a"].attachments["p1"].vlans == frozenset()
    assert made.nodes["a"].attachments["p1"].untagged is None
    assert made.nodes["a"].attachments["p2"].vlans == {1, 210}  # VLAN 1 exists without being listed


def test_an_aggregate_that_is_off_takes_its_members_down():
    made = known(
        "  a: {kind: switch, interfaces: {up: {members: [p1, p2], off: true}}}\n  b: {kind: switch}",
        cables="[a/p1 ~ b/p1, a/p2 ~ b/p2]",
    )
    assert str(made.links[End("b", "p1")].down) == "aggregate a/up is off"
    assert not made.nodes["a"].attachments["up"].carrier


def gateway(interface: str = "", port: str = "access: crew", vlans: str = "", extra: str = ""):
    made = known(
        f"  core: {{kind: l3switch, routing: [ipv4]{vlans}, ports: {{p1: {{{port}}}}}, "
        f"interfaces: {{gw: {{vlan: crew, address: 10.44.1.1/24{interface}}}}}{extra}}}\n  far: {{kind: switch}}",
        cables="[core/p1 ~ far/p1]",
    )
    return made.nodes["core"].nics["gw"]


@pytest.mark.parametrize(
    ("nic", "down"),
    [
        (gateway(), "None"),
        (gateway(port="trunk: [crew]"), "None"),
        (gateway(port="trunk: [tickets], untagged: crew"), "None"),
        (gateway(interface=", off: true"), "core/gw is off"),
        (gateway(vlans=", vlans: [tickets]"), "VLAN 220 does not exist on core"),
        (gateway(port="access: tickets"), "no port of core that carries VLAN 220 has carrier"),
        (gateway(port="access: crew, off: true"), "no port of core that carries VLAN 220 has carrier"),
        (gateway(extra=", off: true"), "core is off"),
    ],
)
def test_a_vlan_interface_is_up_when_it_is_on_its_vlan_exists_and_a_port_lives(nic, down):
    assert str(nic.down) == down


def table(routes: str, ports: str = "p1: {address: 10.44.8.1/24}, p2: {address: 10.44.9.1/24}", more: str = ""):
    return known(
        f"  r: {{kind: router, ports: {{{ports}}}, routes: [{routes}]{more}}}\n  s: {{kind: switch}}",
        cables="[r/p1 ~ s/p1, r/p2 ~ s/p2]",
    ).state("r")  # fmt: skip


def hop(state, target: str, vrf: str = ""):
    decision = decide_own(state, parse_address(target), vrf)
    if not isinstance(decision, Sent):
        return None
    return str(decision.next_hop) if decision.route.next_hop else decision.interface


def test_longest_prefix_then_connected_then_metric_then_first_written():
    routes = table(
        "{destination: 0.0.0.0/0, next-hop: 10.44.8.9, metric: 5}, {destination: 0.0.0.0/0, next-hop: 10.44.9.9}, "
        "{destination: 10.44.0.0/16, next-hop: 10.44.8.2}, {destination: 10.44.0.0/16, next-hop: 10.44.8.3}, "
        "{destination: 10.44.9.0/24, next-hop: 10.44.8.4}, {destination: 10.44.9.128/25, next-hop: 10.44.8.5}"
    )
    assert hop(routes, "198.51.100.1") == "10.44.9.9"  # the lower metric
    assert hop(routes, "10.44.77.1") == "10.44.8.2"  # the first written
    assert hop(routes, "10.44.9.7") == "p2"  # connected before static
    assert hop(routes, "10.44.9.200") == "10.44.8.5"  # the longest prefix
    assert len(routes.routes.shadowed) == 3 and not routes.routes.unused


@pytest.mark.parametrize(
    ("route", "why"),
    [
        ("{destination: 10.50.0.0/16, next-hop: 10.60.0.1}", "on no connected subnet"),
        ("{destination: 10.50.0.0/16, next-hop: 10.44.8.1}", "the device itself"),
        (
            "{destination: 10.60.0.0/16, next-hop: 10.44.8.2}, {destination: 10.50.0.0/16, next-hop: 10.60.0.1}",
            "on no connected subnet",
        ),
    ],
)
def test_a_next_hop_must_be_on_a_connected_subnet_and_not_the_device(route, why):
    assert why in table(route).routes.unused[0].reason


def test_a_route_goes_with_its_interface():
    routes = table(
        "{destination: 10.50.0.0/16, next-hop: 10.44.9.2}",
        ports="p1: {address: 10.44.8.1/24}, p2: {address: 10.44.9.1/24, off: true}",
    )
    assert hop(routes, "10.50.0.1") is None and len(routes.routes.unused) == 1
    assert holder_of(routes, "", parse_address("10.44.9.1")) is None  # held by an interface that is down: by nobody


def test_of_two_equal_connected_prefixes_the_first_written_wins():
    assert hop(table("", ports="p1: {address: 10.44.8.1/24}, p2: {address: 10.44.8.2/24}"), "10.44.8.9") == "p1"


@pytest.mark.parametrize(
    ("target", "broadcast"),
    [("10.44.8.255", True), ("10.44.8.0", True), ("10.44.8.254", False), ("10.44.10.0", False), ("10.44.10.1", False)],
)
def test_which_addresses_are_a_subnets_ends(target, broadcast):
    routes = table("", ports="p1: {address: 10.44.8.1/24}, p2: {address: 10.44.10.0/31}")
    decision = decide_own(routes, parse_address(target))
    assert (isinstance(decision, Dropped) and decision.reason is Reason.BROADCAST) is broadcast


def test_a_hosts_gateway_outside_its_prefixes_is_unusable():
    made = known(
        "  s: {kind: switch}",
        "{near: {at: s/p1, address: 10.44.8.2/24, gateway: 10.44.8.1}, "
        "far: {at: s/p2, address: 10.44.8.3/24, gateway: 10.44.9.1}}",
    )
    assert hop(made.state("near"), "10.50.0.1") == "10.44.8.1"
    assert hop(made.state("far"), "10.50.0.1") is None


def test_a_gateway_serves_only_the_families_that_are_not_routed():
    made = known(
        "  core: {kind: l3switch, routing: [ipv6], ports: {p1: {access: crew}}, "
        "interfaces: {c: {vlan: crew, address: [10.44.1.9/24, 2001:db8:44::9/64]}}, "
        "gateway: [10.44.1.1, '2001:db8:44::1']}",
        "{h: {at: core/p1, address: 10.44.1.2/24}}",
    )
    routes = made.state("core")
    assert hop(routes, "10.50.0.1") == "10.44.1.1" and hop(routes, "2001:db8:99::1") is None


def test_tables_are_apart_by_vrf():
    made = known(
        "  r: {kind: router, ports: {p1: {address: 10.44.8.1/24, vrf: red}, p2: {address: 10.44.8.1/24}}, "
        "routes: [{destination: 10.50.0.0/16, next-hop: 10.44.8.2, vrf: red}]}\n  s: {kind: switch}",
        cables="[r/p1 ~ s/p1, r/p2 ~ s/p2]",
    )
    routes = made.state("r")
    assert hop(routes, "10.50.0.1", "red") == "10.44.8.2" and hop(routes, "10.50.0.1") is None


def test_a_link_local_next_hop_names_its_interface():
    ports = "p1: {address: '2001:db8::1/64'}, p2: {address: '2001:db8:1::1/64'}"
    routes = table("{destination: '2001:db8:9::/64', next-hop: 'fe80::1%p2'}", ports=ports)
    decision = decide_own(routes, parse_address("2001:db8:9::5"))
    assert (decision.interface, str(decision.next_hop)) == ("p2", "fe80::1")


@given(st.randoms(use_true_random=False))
def test_domains_are_what_frames_cross_both_ways(random):
    network = scrambled(random)
    if network is None:
        reject()
    made = know(network)
    for domain in made.domains.every():
        for endpoint in domain.endpoints:
            assert made.domains.of(endpoint) is domain
            for one in made.topology.at(endpoint):
                assert made.domains.together(endpoint, one.target) == (one.mutual or one.target in domain.endpoints)
    for host in network.hosts.values():
        assert (made.domains.of((host.name, "port")) is not None) == made.links[host.at].carrier


@given(st.lists(st.tuples(st.integers(0, 2**12), st.integers(20, 32)), max_size=30), st.integers(0, 2**12))
def test_lookup_is_the_longest_of_the_matching_prefixes(pieces, value):
    from archipelago.knowledge.routes import Entry
    from archipelago.knowledge.routes import table as arrange

    prefixes = {Prefix(4, value, 32).supernet(length) for value, length in pieces}
    made = arrange({prefix: Entry(prefix, str(prefix), None, 0, None) for prefix in prefixes}, ())
    matching = [prefix for prefix in prefixes if prefix.value <= value <= prefix.last]
    entry = made.lookup(value)
    assert (entry.prefix if entry else None) == max(matching, key=lambda prefix: prefix.length, default=None)
    assert [one.prefix for one in made.entries()] == sorted(prefixes)


def test_prefix_arithmetic():
    wide, narrow = parse_prefix("10.44.0.0/16"), parse_prefix("10.44.3.0/24")
    assert wide.covers(narrow) and not narrow.covers(wide) and wide.overlaps(narrow)
    assert narrow.supernet(16) == wide and not narrow.overlaps(parse_prefix("10.44.4.0/24"))
