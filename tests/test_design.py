"""Design: what comes of a valid brief works, holds no finding, and stays where it was."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from random import Random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import archipelago
from archipelago import DesignError, audit, design, reach
from archipelago.addressing.values import Address, Prefix
from archipelago.design.fewest import fewest
from archipelago.design.filter_lines import Line
from archipelago.files.brief import brief_from
from archipelago.files.tree import parse
from archipelago.knowledge.filtering import judge
from archipelago.knowledge.header import Header
from archipelago.model.brief import HostNeed, VlanNeed
from archipelago.model.filters import Filter, FilterRule, Ports, Traffic
from makers import designed, mixed_brief, trunked_brief

BRIEF = """\
format: archipelago-brief/1
space: 10.44.0.0/20
vlans:
  tickets: {id: 210, hosts: 45}
  crew: {id: 220, hosts: 110, subnet: 10.44.8.0/24}
devices:
  landing: {kind: router, ports: 4}
  quay-1: {kind: switch, ports: 24, manage: crew}
  quay-2: {kind: switch, ports: 24}
gateways:
  - {for: [tickets, crew], at: landing/p1}
hosts:
  kiosk-a: {vlan: tickets, at: quay-1/p1}
  mess: {vlan: crew, at: quay-2, address: 10.44.8.40/24}
cables:
  - landing/p1 ~ quay-1/p24
  - quay-1/p23 ~ quay-2/p24
"""


def brief(text: str = BRIEF):
    return brief_from(parse(text.encode(), "brief.yaml"))


def test_the_small_brief():
    network = design(brief()).network
    landing, quay = network.devices["landing"], network.devices["quay-1"]
    assert {name: str(one.addresses[0]) for name, one in landing.interfaces.items()} == {
        "p1.210": "10.44.9.1/26",
        "p1.220": "10.44.8.1/24",
    }
    assert quay.ports["p24"].trunk == (210, 220) and quay.ports["p24"].untagged == "none"
    assert quay.ports["p23"].trunk == (220,)  # nobody behind it is in tickets
    assert network.hosts["mess"].at.port == "p1" and str(network.hosts["mess"].addresses[0]) == "10.44.8.40/24"
    assert str(quay.gateway[0]) == "10.44.8.1"


@given(random=st.randoms(use_true_random=False), kind=st.sampled_from([trunked_brief, mixed_brief]))
@settings(max_examples=40)
def test_a_designed_network_has_no_finding_and_everyone_reaches_everyone(random, kind):
    network = designed(kind(random))
    assert audit(network) == ()
    hosts = list(network.hosts)
    pairs = [(a, b) for a in hosts for b in hosts if a != b]
    for source, target in random.sample(pairs, min(8, len(pairs))):
        for family in {address.version for address in network.hosts[source].addresses}:
            answer = reach(network, source, target, family=family)
            assert answer.reached, (source, target, answer.says)


@given(random=st.randoms(use_true_random=False), kind=st.sampled_from([trunked_brief, mixed_brief]))
def test_keep_moves_nothing(random, kind):
    first = kind(random)
    old = designed(first)
    assert design(first, keep=old).network == old
    grown = replace(
        first,
        vlans={
            "new-big": VlanNeed("new-big", 3000, 500),
            **{name: replace(vlan, hosts=max(0, vlan.hosts - 1)) for name, vlan in first.vlans.items()},
        },
        hosts={**first.hosts, "newcomer": HostNeed("newcomer", *_seat(first))},
    )
    gateways = (replace(first.gateways[0], vlans=(*first.gateways[0].vlans, 3000)), *first.gateways[1:])
    new = design(replace(grown, gateways=gateways), keep=old).network
    for name, host in old.hosts.items():
        assert new.hosts[name] == host
    for name, device in old.devices.items():
        for label, one in device.interfaces.items():
            assert new.devices[name].interfaces[label].addresses == one.addresses


def _seat(first):
    host = next(iter(first.hosts.values()))
    return host.vlan, host.device, None


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        ("  - landing/p1 ~ quay-1/p24\n", "", "add a cable"),
        ("  - quay-1/p23 ~ quay-2/p24\n", "", "no path over switches from quay-2"),
        ("[tickets, crew]", "[tickets]", "has no gateway"),
        ("address: 10.44.8.40/24", "address: 10.44.9.40/24", "subnet of 'crew' is 10.44.8.0/24"),
        ("address: 10.44.8.40/24", "address: 10.44.8.1/24", "the gateway of 'crew'"),
        ("subnet: 10.44.8.0/24", "subnet: 10.44.8.0/26", "short"),
        ("hosts: 45", "hosts: 9000", "the largest free block"),
        ("kiosk-a: {vlan: tickets, at: quay-1/p1}", "kiosk-a: {vlan: tickets, at: landing/p2}", "a router's port"),
    ],
)
def test_what_cannot_be_built_names_its_remedy(old, new, told):
    assert old in BRIEF
    with pytest.raises(DesignError, match=told):
        design(brief(BRIEF.replace(old, new)))


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        ("at: landing/p1}", "at: landing}", "name the port"),
        ("at: landing/p1}", "at: quay-1}", "layer 2 switch"),
        ("quay-1/p1}", "quay-1/p24}", "used twice"),
        ("quay-1/p1}", "quay-1/p99}", "no port 'p99'"),
        ("id: 220", "id: 210", "VLAN id 210"),
    ],
)
def test_a_wrong_brief_is_refused_when_read(old, new, told):
    from archipelago import DocumentError

    with pytest.raises(DocumentError, match=told):
        brief(BRIEF.replace(old, new))


def test_routes_lead_everywhere_and_back_with_a_backup():
    text = """\
format: archipelago-brief/1
space: 10.44.0.0/16
vlans: {a: {id: 110, hosts: 5}, b: {id: 120, hosts: 5}, c: {id: 130, hosts: 5}}
devices: {one: {kind: l3switch}, two: {kind: l3switch}, three: {kind: l3switch}}
gateways: [{for: a, at: one}, {for: b, at: two}, {for: c, at: three}]
outside: {at: one/p9, address: 203.0.113.2/30, next-hop: 203.0.113.1}
hosts: {ha: {vlan: a, at: one}, hb: {vlan: b, at: two}, hc: {vlan: c, at: three}}
cables: [one/p1 ~ two/p1, two/p2 ~ three/p2, three/p3 ~ one/p3]
"""
    made = design(brief(text))
    assert made.requests == ("ask the owner of 203.0.113.1 for a route to 10.44.0.0/16 via 203.0.113.2",)
    two = made.network.devices["two"]
    assert [str(route.destination) for route in two.routes if route.metric > 1]  # a second way round the ring
    for index in range(3):
        cables = list(made.network.cables)
        cables[index] = replace(cables[index], off=True)
        broken = replace(made.network, cables=tuple(cables))
        for source, target in (("ha", "hb"), ("hb", "hc"), ("hc", "ha")):
            assert reach(broken, source, target).reached, (index, source, target)


BLOCKS = [*(Prefix(4, 10 << 24 | at << 8, 24) for at in range(3)), Prefix(4, 10 << 24 | 5, 32), Prefix(6, 1 << 64, 64)]
KINDS = [
    Traffic("any"),
    Traffic("icmp"),
    Traffic("tcp"),
    Traffic("tcp", Ports(443, 443)),
    Traffic("udp", Ports(53, 60)),
]


def some_line(random: Random) -> Line:
    kinds = tuple(random.sample(KINDS, random.choice([1, 1, 2])))
    source, there = (tuple(random.sample(BLOCKS, random.choice([0, 0, 1, 2]))) for _ in range(2))
    said = {"accept": kinds} if random.random() < 0.6 else {"reject": kinds}
    return Line(FilterRule(**said, source=source, destination=there, answering=random.random() < 0.1), "")


def some_header(random: Random) -> Header:
    def address() -> int:
        return random.choice(BLOCKS).value + random.choice([0, 5, 9])

    version = random.choice([4, 6])
    ends = [Address(version, address() if version == 4 else random.choice([1, (1 << 64) + 7])) for _ in range(2)]
    protocol = random.choice([1 if version == 4 else 58, 6, 17, 89])
    port = random.choice([0, 52, 53, 60, 61, 442, 443, 444])
    return Header(*ends, protocol, 50_000, port, random.choice([8, 0, 3]), random.random() < 0.5)


@given(st.integers(0, 1 << 32))
@settings(max_examples=60, deadline=None)
def test_fewer_lines_say_the_same(seed):
    random = Random(seed)
    lines = [some_line(random) for _ in range(random.randint(0, 8))]
    otherwise = random.choice(["accept", "drop", "reject"])
    fewer = fewest(lines, otherwise)
    assert len(fewer) <= len(lines) and fewest(fewer, otherwise) == fewer
    before, after = (Filter("f", otherwise, tuple(line.rule for line in some)) for some in (lines, fewer))
    for header in (some_header(random) for _ in range(200)):
        assert judge(before, header).action == judge(after, header).action, header


def test_a_design_writes_no_more_lines_than_needed():
    network = design(archipelago.read_brief(Path(__file__).parent / "cases" / "fewer-lines-brief.yaml")).network
    filters = network.devices["edge"].filters
    assert {name: len(one.rules) for name, one in filters.items()} == {"tickets-in": 6, "crew-in": 3, "outside-in": 1}


def test_those_who_share_every_gateway_have_no_link_that_nobody_uses():
    shared = """\
format: archipelago-brief/1
space: 10.44.0.0/20
vlans: {tickets: {id: 210, hosts: 45}, crew: {id: 220, hosts: 110}}
devices:
  core-1: {kind: l3switch, ports: 8}
  core-2: {kind: l3switch, ports: 8}
  quay: {kind: switch, ports: 8}
gateways: [{for: [tickets, crew], at: [core-1, core-2], shared: true}]
hosts: {kiosk: {vlan: tickets, at: quay}, mess: {vlan: crew, at: quay}}
cables: [core-1/p1 ~ core-2/p1, core-1/p2 ~ quay/p7, core-2/p2 ~ quay/p8]
"""
    assert set(design(brief(shared)).network.vlans) == {"tickets", "crew"}
    beyond = f"{shared}outside: {{at: core-1/p8, address: 203.0.113.2/30, next-hop: 203.0.113.1}}\n"
    network = design(brief(beyond)).network
    assert set(network.vlans) == {"tickets", "crew", "transit-1"} and network.devices["core-2"].routes
