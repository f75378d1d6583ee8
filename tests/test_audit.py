"""The catalogue: each mistake, put into a sound network, gets its finding and no other; its mend takes it away."""

from __future__ import annotations

import pytest

from archipelago import amend, audit, reach
from archipelago.files.network import network_from
from archipelago.files.tree import parse
from archipelago.model.finding import REMOVE, Edit

SOUND = """\
format: archipelago-network/1
vlans: {tickets: 210, crew: 220, cameras: 230, store: 240}
devices:
  landing:
    kind: router
    ports:
      p1: {}
      p2: {address: 10.44.15.0/31}
    interfaces:
      p1.210: {parent: p1, tag: tickets, address: 10.44.0.1/24}
      p1.220: {parent: p1, tag: crew, address: 10.44.1.1/24}
    routes:
      - {destination: 10.44.2.0/24, next-hop: 10.44.15.1}
      - {destination: 10.44.3.0/24, next-hop: 10.44.15.1}
  core:
    kind: l3switch
    routing: [ipv4]
    ports:
      p1: {access: cameras}
      p2: {access: store}
      p9: {address: 10.44.15.1/31}
      p8: {trunk: [cameras, store], untagged: none}
    interfaces:
      cameras-gw: {vlan: cameras, address: 10.44.2.1/24}
      store-gw: {vlan: store, address: 10.44.3.1/24}
    routes:
      - {destination: 10.44.0.0/23, next-hop: 10.44.15.0}
  shed:
    kind: switch
    ports:
      p1: {access: cameras}
      p2: {access: store}
      p9: {trunk: [cameras, store], untagged: none}
  quay:
    kind: switch
    ports:
      p1: {access: tickets}
      p2: {access: tickets}
      p3: {access: crew}
      p9: {trunk: [tickets, crew], untagged: none}
    interfaces:
      manage: {vlan: crew, address: 10.44.1.9/24}
    gateway: 10.44.1.1
hosts:
  kiosk: {at: quay/p1, address: 10.44.0.2/24, gateway: 10.44.0.1}
  desk: {at: quay/p2, address: 10.44.0.3/24, gateway: 10.44.0.1}
  mess: {at: quay/p3, address: 10.44.1.2/24, gateway: 10.44.1.1}
  eye: {at: core/p1, address: 10.44.2.2/24, gateway: 10.44.2.1}
  lens: {at: shed/p1, address: 10.44.2.3/24, gateway: 10.44.2.1}
  rack: {at: core/p2, address: 10.44.3.2/24, gateway: 10.44.3.1}
  shelf: {at: shed/p2, address: 10.44.3.3/24, gateway: 10.44.3.1}
cables:
  - landing/p1 ~ quay/p9
  - landing/p2 ~ core/p9
  - core/p8 ~ shed/p9
"""


def at(path: str, value: object) -> Edit:
    return Edit(tuple(int(part) if part.isdigit() else part for part in path.split(" ")), value)


D = "devices "
CATALOGUE = {
    "routing-off": [at(D + "core routing", [])],
    "route-missing": [at(D + "core routes", [])],
    "next-hop-unusable": [at(D + "landing routes 0 next-hop", "10.44.99.9")],
    "next-hop-unusable itself": [at(D + "landing routes 0 next-hop", "10.44.15.0")],
    "next-hop-unusable host": [at(D + "landing routes 0 next-hop", "10.44.0.2")],
    "route-never-used": [at(D + "landing routes +", {"destination": "10.44.1.0/24", "next-hop": "10.44.15.1"})],
    "more-specific-route": [at(D + "core routes +", {"destination": "10.44.3.0/25", "next-hop": "10.44.15.0"})],
    "tag-wrong": [at(D + "landing interfaces p1.210 tag", "cameras")],
    "tag-missing": [at(D + "landing interfaces p1.210 tag", REMOVE)],
    "tag-repeated": [at(D + "landing interfaces p1.220 tag", "tickets")],
    "no-gateway-in-vlan": [at(D + "landing interfaces p1.210", REMOVE)],
    "gateway-missing": [at(D + "quay gateway", REMOVE)],
    "gateway-wrong": [at(D + "quay gateway", "10.44.0.1")],
    "gateway-wrong other vlan": [at("hosts kiosk gateway", "10.44.1.1")],
    "mask-mismatch": [at("hosts kiosk address", "10.44.0.2/25")],
    "vlan-wrong": [at(D + "quay ports p1 access", "crew")],
    "vlan-absent": [at(D + "quay vlans", ["tickets"])],
    "vlan-not-carried": [at(D + "quay ports p9 trunk", ["tickets"])],
    "trunk-expected": [
        at(D + "quay ports p9 trunk", REMOVE),
        at(D + "quay ports p9 untagged", REMOVE),
        at(D + "quay ports p9 access", "crew"),
    ],
    "vlan-not-needed-on-trunk": [at(D + "shed ports p9 trunk +", "crew"), at(D + "core ports p8 trunk +", "crew")],
    "vlan-unused": [at("vlans mail", "250")],
    "untagged-default": [at(D + "shed ports p9 untagged", REMOVE)],
    "untagged-leaks": [at(D + "quay ports p9 untagged", "cameras")],
    "untagged-vlan-mismatch": [
        at(D + "core ports p8", {"trunk": ["cameras", "store"], "untagged": "store"}),
        at(D + "shed ports p9", {"trunk": ["cameras", "store"], "untagged": "cameras"}),
    ],
    "hosts-untagged": [at(D + "shed ports p9 untagged", "store"), at(D + "core ports p8 untagged", "store")],
    "vlan-one": [at(D + "quay ports p5", {}), at("hosts stray", {"at": "quay/p5", "address": "10.44.77.2/24"})],
    "admin-down": [at(D + "core interfaces store-gw off", "true")],
    "admin-down port": [at(D + "quay ports p3 off", "true")],
    "not-cabled": [at("cables 1", REMOVE)],
    "switching-loop": [
        at(D + "core ports p7", {"trunk": ["cameras"], "untagged": "none"}),
        at(D + "shed ports p7", {"trunk": ["cameras"], "untagged": "none"}),
        at("cables +", "core/p7 ~ shed/p7"),
        at(D + "core spanning-tree", "off"),
        at(D + "shed spanning-tree", "off"),
    ],
    "duplicate-address": [at("hosts desk address", "10.44.0.2/24")],
    "address-missing": [at("hosts desk address", REMOVE), at("hosts desk gateway", REMOVE)],
    "address-unusable": [at("hosts desk address", "10.44.0.255/24")],
    "subnet-overlap": [at(D + "landing interfaces old", {"parent": "p1", "tag": "store", "address": "10.44.3.9/24"})],
    "link-subnets-differ": [at(D + "core ports p9 address", "10.44.16.1/31"), at(D + "core routes", [])],
    "link-mask-mismatch": [at(D + "core ports p9 address", "10.44.15.1/30")],
    "members-differ": [
        at(D + "core ports p8", REMOVE),
        at(D + "core interfaces up", {"members": ["p8", "p7"], "trunk": ["cameras", "store"], "untagged": "none"}),
        at(D + "core ports p7", {"speed": "10G"}),
    ],
    "pair-differs": [
        at("cables +", "core/p3 ~ quay/p8"),
        at(D + "quay ports p8", {"trunk": ["crew", "tickets"], "untagged": "none"}),
        at(D + "core ports p3", {"trunk": ["crew", "tickets"], "untagged": "none"}),
        at(D + "core interfaces crew-2", {"vlan": "crew", "address": "10.44.1.3/24"}),
        at(D + "core interfaces tickets-2", {"vlan": "tickets", "address": "10.44.0.4/24"}),
        at(D + "core routes", []),
    ],
}  # fmt: skip
COMPANIONS = {
    "untagged-leaks": {"hosts-untagged"},
    "link-subnets-differ": {"route-missing", "next-hop-unusable"},
    "link-mask-mismatch": {"next-hop-unusable", "address-unusable"},
    "untagged-vlan-mismatch": {"hosts-untagged"},
    "subnet-overlap": {"route-never-used"},
    "pair-differs": {"route-missing", "route-never-used"},
    "next-hop-unusable": {"route-missing"},
    "tag-wrong": {"vlan-not-carried", "number-differs"},
    "tag-repeated": {"number-differs"},
    "members-differ": {"member-dead"},
    "not-cabled": {"route-missing"},
    "vlan-one": {"gateway-missing", "no-gateway-in-vlan"},
}
"""What else a mistake rightly brings with it."""


def read(text: str):
    return network_from(parse(text.encode(), "bay.yaml"))


def test_the_sound_network_has_no_finding():
    network = read(SOUND)
    assert audit(network) == ()
    hosts = list(network.hosts)
    assert all(reach(network, a, b).reached for a in hosts for b in hosts if a != b)


@pytest.mark.parametrize("case", CATALOGUE)
def test_each_mistake_is_found_and_its_mend_takes_it_away(case):
    kind = case.partition(" ")[0]
    text = amend(SOUND, CATALOGUE[case])
    findings = audit(read(text))
    kinds = {finding.kind for finding in findings}
    assert kind in kinds, findings
    assert kinds <= {kind} | COMPANIONS.get(kind, set()), findings
    for finding in findings:
        assert finding.says and finding.breaks and finding.mend and finding.at and finding.severity
        assert read(text).line(finding.path) > 0
    one = next(finding for finding in findings if finding.kind == kind)
    if one.edits:
        left = audit(read(amend(text, one.edits)))
        assert (one.kind, one.path, one.says) not in {(other.kind, other.path, other.says) for other in left}
        assert {other.kind for other in left} <= kinds, left  # the mend adds nothing


def test_routing_tables_of_their_own():
    """Interfaces with a `vrf` reach each other only; the same subnet may live in two tables."""
    text = amend(
        SOUND, [at(D + "core interfaces cameras-gw vrf", "red"), at(D + "core interfaces store-gw vrf", "red")]
    )
    network = read(text)
    assert reach(network, "eye", "rack").reached
    assert not reach(network, "eye", "kiosk").reached
    assert reach(network, "kiosk", "desk").reached


def test_routers_that_send_to_each_other():
    """A ring of three; two of them take each other for the way to the third one's subnet."""
    ring = """\
format: archipelago-network/1
vlans: {a: 110, b: 120, c: 130}
devices:
  one:
    kind: l3switch
    routing: [ipv4]
    ports: {p1: {access: a}, p2: {address: 10.44.9.0/31}, p3: {address: 10.44.9.2/31}}
    interfaces: {a-gw: {vlan: a, address: 10.44.1.1/24}}
    routes:
      - {destination: 10.44.2.0/24, next-hop: 10.44.9.1}
      - {destination: 10.44.3.0/24, next-hop: 10.44.9.1}
      - {destination: 10.44.9.4/31, next-hop: 10.44.9.1}
  two:
    kind: l3switch
    routing: [ipv4]
    ports: {p1: {access: b}, p2: {address: 10.44.9.1/31}, p3: {address: 10.44.9.4/31}}
    interfaces: {b-gw: {vlan: b, address: 10.44.2.1/24}}
    routes:
      - {destination: 10.44.1.0/24, next-hop: 10.44.9.0}
      - {destination: 10.44.3.0/24, next-hop: 10.44.9.0}
      - {destination: 10.44.9.2/31, next-hop: 10.44.9.0}
  three:
    kind: l3switch
    routing: [ipv4]
    ports: {p1: {access: c}, p2: {address: 10.44.9.3/31}, p3: {address: 10.44.9.5/31}}
    interfaces: {c-gw: {vlan: c, address: 10.44.3.1/24}}
    routes:
      - {destination: 10.44.1.0/24, next-hop: 10.44.9.2}
      - {destination: 10.44.2.0/24, next-hop: 10.44.9.4}
      - {destination: 10.44.9.0/31, next-hop: 10.44.9.2}
hosts:
  ha: {at: one/p1, address: 10.44.1.2/24, gateway: 10.44.1.1}
  hb: {at: two/p1, address: 10.44.2.2/24, gateway: 10.44.2.1}
  hc: {at: three/p1, address: 10.44.3.2/24, gateway: 10.44.3.1}
cables: [one/p2 ~ two/p2, one/p3 ~ three/p2, two/p3 ~ three/p3]
"""
    findings = audit(read(ring))
    assert [finding.kind for finding in findings] == ["routing-loop"]
    answer = reach(read(ring), "ha", "hc")
    assert (answer.cause, answer.direction) == ("routing-loop", "out")
    for edits in (findings[0].edits, answer.edits):
        mended = read(amend(ring, edits))
        assert audit(mended) == () and reach(mended, "ha", "hc").reached and reach(mended, "hb", "hc").reached
