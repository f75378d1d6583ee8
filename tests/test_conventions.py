"""House conventions and other wishes of a brief, each seen in the network that comes of it."""

from __future__ import annotations

from itertools import permutations

import pytest

from archipelago import DesignError, audit, design, network_text, reach
from archipelago.files.brief import brief_from
from archipelago.files.network import network_from
from archipelago.files.tree import parse
from archipelago.model.parts import Loopback, Subinterface, VlanInterface


def plan(conventions: str = "", extra: str = "", space: str = "10.44.0.0/16", gateways: str = "", cables: str = ""):
    text = f"""\
format: archipelago-brief/1
space: {space}
conventions: {{{conventions}}}
vlans:
  tickets: {{id: 210, hosts: 45}}
  crew: {{id: 220, hosts: 110}}
  mail: {{id: 230, hosts: 2}}
devices:
  landing: {{kind: router, ports: 4}}
  core: {{kind: l3switch}}
  quay: {{kind: switch, ports: [north, south, p1, p2, p3]}}
gateways:
{gateways or "  - {for: [tickets, crew], at: landing/p1}" + chr(10) + "  - {for: mail, at: core}"}
hosts:
  kiosk: {{vlan: tickets, at: quay}}
  mess: {{vlan: crew, at: quay/p3}}
  box: {{vlan: mail, at: core}}
cables:
  - landing/p1 ~ quay/north
{cables or "  - landing/p2 ~ core/p9"}
{extra}
"""
    return design(brief_from(parse(text.encode(), "brief.yaml")))


def sound(made) -> bool:
    network = made.network
    again = network_from(parse(network_text(network).encode(), "network.yaml"))
    return again == network and audit(network) == () and all(
        reach(network, a, b).reached for a, b in permutations(network.hosts, 2)
    )  # fmt: skip


def addresses(made, device: str, interface: str) -> list[str]:
    return [str(held) for held in made.network.devices[device].interfaces[interface].addresses]


@pytest.mark.parametrize(
    ("conventions", "interface", "gateway"),
    [
        ("", "p1.210", "10.44.1.1/26"),
        ("gateway: last", "p1.210", "10.44.1.62/26"),
        ("headroom: 100%", "p1.210", "10.44.1.1/25"),
        ("headroom: 0%", "p1.210", "10.44.0.129/26"),
        ("subnets: by-vlan-id", "p1.210", "10.44.210.1/26"),
        ("subinterface: counted", "p1.1", "10.44.1.1/26"),
    ],
)
def test_conventions_of_subnets_and_gateways(conventions, interface, gateway):
    made = plan(conventions)
    assert sound(made)
    assert addresses(made, "landing", interface) == [gateway]


def test_a_gateway_convention_that_does_not_fit_a_small_subnet_is_refused():
    with pytest.raises(DesignError, match="outside the usable"):
        plan("gateway: +100")


@pytest.mark.parametrize(("transit", "length"), [("/31", 31), ("/30", 30)])
def test_links_between_routing_devices(transit, length):
    made = plan(f"transit: {transit}")
    ends = [made.network.devices[name].ports[port].addresses[0] for name, port in (("landing", "p2"), ("core", "p9"))]
    assert {end.length for end in ends} == {length} and ends[0].prefix == ends[1].prefix and ends[0] != ends[1]
    assert sound(made)


def test_loopbacks_are_given_and_routed():
    made = plan("loopbacks: true")
    own = [
        one
        for device in made.network.devices.values()
        for one in device.interfaces.values()
        if isinstance(one, Loopback)
    ]
    assert len(own) == 2 and sound(made)
    assert reach(made.network, "kiosk", str(own[1].addresses[0].address)).reached


def test_an_untagged_vlan_that_nothing_else_uses():
    brief = """\
format: archipelago-brief/1
space: 10.44.0.0/24
conventions: {untagged: spare}
vlans:
  crew: {id: 220, hosts: 5}
  spare: {id: 999}
devices:
  landing: {kind: router}
  quay: {kind: switch}
gateways: [{for: crew, at: landing/p1}]
hosts: {mess: {vlan: crew, at: quay}}
cables: [landing/p1 ~ quay/p9]
"""
    network = design(brief_from(parse(brief.encode(), "brief.yaml"))).network
    assert network.devices["quay"].ports["p9"].untagged == 999
    assert {finding.severity for finding in audit(network)} <= {"note"}


def test_a_whole_port_for_one_vlan():
    made = plan(gateways="  - {for: tickets, at: landing/p1, untagged: true}\n  - {for: [mail, crew], at: core}",
                cables="  - core/p9 ~ quay/south\n  - landing/p2 ~ core/p8")  # fmt: skip
    landing = made.network.devices["landing"]
    assert landing.ports["p1"].addresses and not landing.interfaces
    assert made.network.devices["quay"].ports["north"].access == 210
    assert sound(made)


def test_gateways_on_both_sides_of_a_switch_meet_in_a_transit_vlan():
    made = plan(cables="  - core/p9 ~ quay/south")
    transit = made.network.vlans["transit-1"]
    kinds = [type(one) for device in made.network.devices.values() for one in device.interfaces.values()
             if getattr(one, "vlan", getattr(one, "tag", None)) == transit]  # fmt: skip
    assert sorted(kind.__name__ for kind in kinds) == ["Subinterface", "VlanInterface"]
    assert sound(made)


def test_both_families_and_one_family_only():
    made = plan(space="[10.44.0.0/16, '2001:db8:44::/48']")
    assert sound(made)
    for a, b in permutations(made.network.hosts, 2):
        assert reach(made.network, a, b, family=6).reached
    alone = plan(space="'2001:db8:44::/48'")
    assert sound(alone) and reach(alone.network, "kiosk", "box").family == 6


def test_places_that_need_a_vlan_before_its_hosts_do():
    text = """\
format: archipelago-brief/1
space: 10.44.0.0/24
vlans:
  crew: {id: 220, hosts: 5, at: [quay-2, quay-1/p7]}
  mail: {id: 230, hosts: 3}
devices: {landing: {kind: router}, quay-1: {kind: switch}, quay-2: {kind: switch}}
gateways: [{for: [crew, mail], at: landing/p1}]
cables: [landing/p1 ~ quay-1/p9, quay-1/p8 ~ quay-2/p9]
"""
    network = design(brief_from(parse(text.encode(), "brief.yaml"))).network
    assert network.devices["quay-1"].ports["p7"].access == 220
    assert network.devices["quay-1"].ports["p8"].trunk == (220, 230)  # mail has no place yet: it goes everywhere
    assert audit(network) == ()


def test_a_circle_of_switches_is_opened():
    text = """\
format: archipelago-brief/1
space: 10.44.0.0/24
vlans: {crew: {id: 220, hosts: 5}}
devices: {landing: {kind: router}, a: {kind: switch}, b: {kind: switch}, c: {kind: switch}}
gateways: [{for: crew, at: landing/p1}]
hosts: {x: {vlan: crew, at: a}, y: {vlan: crew, at: b}, z: {vlan: crew, at: c}}
cables: [landing/p1 ~ a/p9, a/p8 ~ b/p9, b/p8 ~ c/p9, c/p8 ~ a/p7]
"""
    made = design(brief_from(parse(text.encode(), "brief.yaml")))
    assert sound(made)
    assert any("would close a circle" in one.why for one in made.decisions)


def test_every_interface_kind_is_named_by_convention():
    made = plan()
    kinds = {name: type(one) for device in made.network.devices.values() for name, one in device.interfaces.items()}
    assert kinds == {"p1.210": Subinterface, "p1.220": Subinterface, "mail-gw": VlanInterface}
