"""Networks as people draw them by hand: sound ones have no error and no risk, and everybody reaches whom they should,
by both engines."""

from __future__ import annotations

from random import Random

import pytest

import archipelago
from drawn import drawn
from slips_referee import answers


@pytest.mark.parametrize("seed", range(16))
def test_a_sound_drawing_is_told_as_one(seed):
    network = drawn(Random(seed))
    assert [str(finding) for finding in archipelago.audit(network) if not finding.is_note] == []
    all_pairs = archipelago.matrix(network)
    assert all_pairs, all_pairs.headline
    hosts = [*all_pairs.hosts]
    for source, target in (Random(seed).sample(hosts, 2) for _ in range(3)):
        asked = archipelago.reach(network, source, target)
        assert asked.reached == all_pairs[source, target]
        assert asked.reached or asked.kept_apart


QUAY = """format: archipelago-network/1
vlans: {crew: 120, yard: 130, store: 140}
devices:
  landing:
    kind: router
    ports:
      p1: {address: 10.44.1.1/24}
      p2: {address: 10.44.2.1/24, dhcp-relay: 10.44.1.5}
      p3: {address: 10.44.3.1/24}
      p4: {address: 203.0.113.2/30, source-nat: 10.44.0.0/16}
    routes: [{destination: 0.0.0.0/0, next-hop: 203.0.113.1}]
  quay:
    kind: switch
    ports:
      p1: {access: crew}
      p2: {access: yard}
      p3: {access: store}
      p11: {access: crew}
      p12: {access: crew}
      p21: {access: yard}
      p22: {access: yard}
      p31: {access: store}
      p32: {access: store}
hosts:
  mess:
    at: quay/p11
    address: 10.44.1.5/24
    gateway: 10.44.1.1
    dhcp-pools: {yard: {subnet: 10.44.2.0/24, range: 10.44.2.20-10.44.2.40, gateway: 10.44.2.1}}
  purser: {at: quay/p12, address: 10.44.1.6/24, gateway: 10.44.1.1}
  crane: {at: quay/p21, address: dhcp}
  barrier: {at: quay/p22, address: dhcp}
  shelf: {at: quay/p31, address: 10.44.3.6/24, gateway: 10.44.3.1}
  scale: {at: quay/p32, address: 10.44.3.7/24, gateway: 10.44.3.1}
cables: [landing/p1 ~ quay/p1, landing/p2 ~ quay/p2, landing/p3 ~ quay/p3]
outside: {at: landing/p4, routes-back: none}
"""

SLIPS = {
    "a port to the gateway of whose hosts lease is set to nothing": ("p2: {access: yard}", "p2: {}", "quay"),
    "a port to a gateway is set to nothing": ("p3: {access: store}", "p3: {}", "quay"),
    "a port to a gateway is in another VLAN": ("p3: {access: store}", "p3: {access: yard}", "quay"),
    "a gateway has the address of another port": (
        "p3: {address: 10.44.3.1/24}",
        "p3: {address: 10.44.1.1/24}",
        "landing",
    ),
    "a leasing gateway has another address": ("p2: {address: 10.44.2.1/24,", "p2: {address: 10.44.9.1/24,", "landing"),
    "a leasing gateway is gone": ("      p2: {address: 10.44.2.1/24, dhcp-relay: 10.44.1.5}\n", "", "landing"),
    "a cable ends beside its port": ("landing/p3 ~ quay/p3", "landing/p5 ~ quay/p3", "landing"),
    "a cable is gone": (", landing/p3 ~ quay/p3", "", "landing"),
    "a leasing host has nothing": ("{at: quay/p21, address: dhcp}", "{at: quay/p21}", "crane"),
    "a leasing host has another's address": ("p21, address: dhcp", "p21, address: 10.44.1.6/24", "crane"),
    "a leasing host's port is set to nothing": ("p21: {access: yard}", "p21: {}", "quay"),
    "a server lost its pool": (
        "    dhcp-pools: {yard: {subnet: 10.44.2.0/24, range: 10.44.2.20-10.44.2.40, gateway: 10.44.2.1}}\n",
        "",
        "mess",
    ),
    "a host has another's address, and its own gateway": ("10.44.3.7/24", "10.44.1.6/24", "scale"),
    "the default route is gone": ("[{destination: 0.0.0.0/0, next-hop: 203.0.113.1}]", "[]", "landing"),
    "the mask of the way outside leaves its next hop out": ("203.0.113.2/30", "203.0.113.2/32", "landing"),
    "the outside is named no more": ("{at: landing/p4, routes-back: none}", "[]", "landing"),
}


@pytest.mark.parametrize("slip", SLIPS)
def test_a_slip_is_named_where_it_was_made_and_mended_whole(slip):
    right, wrong, at = SLIPS[slip]
    assert QUAY.count(right) == 1
    sound, broken = (archipelago.read_network(text) for text in (QUAY, QUAY.replace(right, wrong)))
    before = answers(sound)
    assert before - answers(broken)
    serious = [finding for finding in archipelago.audit(broken) if not finding.is_note]
    assert {finding.at for finding in serious} == {at}, [str(finding) for finding in serious]
    causes = {(finding.kind, finding.at) for finding in serious}
    doubled = "10.44.1.6/24" in wrong  # a packet's end does not tell which of two that have one address is wrong
    for group in archipelago.matrix(broken).groups:
        asked = archipelago.reach(broken, group.source, group.target)
        assert (group.finding.kind, group.finding.at) == (asked.cause, asked.at)
        assert doubled or (asked.cause, asked.at) in causes
    mended = archipelago.mend(archipelago.network_text(broken))
    assert before <= answers(mended.network), mended.left
