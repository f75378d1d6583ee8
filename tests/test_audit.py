"""The catalogue: each mistake, put into a sound network, gets its finding and no other; its mend takes it away."""

from __future__ import annotations

import sys
from functools import cache
from importlib import import_module
from pathlib import Path

import pytest

from archipelago import amend, audit, mend, reach, read_network
from archipelago.audit import registry
from archipelago.files.network import network_from
from archipelago.files.tree import parse
from archipelago.model.finding import Edit

ROOT = Path(__file__).parent.parent
SAMPLES = {path.stem: path.read_text() for path in (ROOT / "docs" / "samples").glob("*.yaml")}
SOUND = SAMPLES["pier"]
sys.path.insert(0, str(ROOT / "scripts"))
KINDS = import_module("write_docs").every_kind()
with_example = import_module("write_docs").with_example
EXAMPLES = [kind for kind in KINDS if kind.example is not None]
ASKED = {
    "address-unheld",
    "begun-outside",
    "filtered",
    "held-by-another",
    "no-common-family",
    "not-asked",
    "outside-missing",
    "packet-too-large",
    "policy-in-part",
    "unexplained",
    "way-too-long",
}
"""What only a question shows; each has a test of its own, but for what no rule knows."""


def at(path: str, value: object) -> Edit:
    return Edit(tuple(int(part) if part.isdigit() else part for part in path.split(" ")), value)


D = "devices "
OTHER_WAYS = {
    "next-hop-unusable itself": [at(D + "landing routes 0 next-hop", "10.44.15.0")],
    "next-hop-unusable host": [at(D + "landing routes 0 next-hop", "10.44.0.2")],
    "gateway-wrong other vlan": [at("hosts kiosk gateway", "10.44.1.1")],
    "admin-down interface": [at(D + "core interfaces store-gw off", "true")],
}


COMPANIONS = {
    "active-twice": {"vlan-not-carried"},
    "addresses-in-two-vlans": {"vlan-wrong"},
    "circle-by-wire": {"spare-lacks-vlan"},
    "lease-of-server": {"relay-nowhere"},
    "members-filter-differently": {"filter-unnamed"},
    "next-hop-unusable": {"route-missing"},
    "parent-wrong": {"not-cabled"},
    "policy-open": {"members-filter-differently"},
    "policy-closed": {"members-filter-differently", "filter-unnamed", "policy-answers"},
    "pool-missing": {"members-lease-differently", "members-relay-differently"},
    "port-beyond-range": {"vlan-one"},
    "relay-missing": {"members-relay-differently"},
    "relay-nowhere": {"members-relay-differently"},
    "routed-against-switched": {"route-missing", "no-layer2-path"},
    "routing-loop": {"route-missing", "members-route-differently"},
    "servers-overlap": {"servers-differ"},
    "shared-alone": {"switching-loop"},
    "shared-unjoined": {"active-twice"},
    "vrids-differ": {"root-elsewhere"},
}
"""What else a mistake rightly brings with it."""


def read(text: str):
    return network_from(parse(text.encode(), "bay.yaml"))


@pytest.mark.parametrize("name", SAMPLES)
def test_a_sample_is_sound(name):
    network = read(SAMPLES[name])
    assert not [finding for finding in audit(network) if finding.severity == "error"]
    hosts = list(network.hosts)
    answers = [reach(network, a, b) for a in hosts for b in hosts if a != b]
    assert all(answer.reached or answer.kept_apart for answer in answers)


def test_every_kind_has_an_example_but_those_that_a_question_shows():
    assert {kind.name for kind in KINDS if kind.example is None} == ASKED
    assert len(KINDS) == len({kind.name for kind in KINDS})


@pytest.mark.parametrize("kind", EXAMPLES, ids=[kind.name for kind in EXAMPLES])
def test_an_example_is_found_for_what_it_is_and_its_mend_takes_it_away(kind):
    is_found_and_mended(kind.name, SAMPLES[kind.example.sample], with_example(kind.example))


@pytest.mark.parametrize("way", OTHER_WAYS)
def test_so_is_the_same_mistake_made_in_another_way(way):
    is_found_and_mended(way.partition(" ")[0], SOUND, amend(SOUND, OTHER_WAYS[way]))


@cache
def kinds_in(sound: str) -> set[str]:
    return {finding.kind for finding in audit(read(sound))}


def is_found_and_mended(kind: str, sound: str, text: str) -> None:
    before = kinds_in(sound)
    findings = audit(read(text))
    shown = next((finding for finding in findings if finding.kind == kind), None)
    assert shown is not None, findings
    wrong = {finding.kind for finding in findings if finding.severity == shown.severity}
    assert wrong <= {kind, *before, *COMPANIONS.get(kind, ())}, findings
    for finding in findings:
        assert finding.says and finding.breaks and finding.mend and finding.severity
        assert finding.at or finding.path[0] in ("policy", "expect")
        assert read(text).line(finding.path) > 0
    if shown.edits:
        left = audit(read(amend(text, shown.edits)))
        assert (shown.kind, shown.path, shown.says) not in {(other.kind, other.path, other.says) for other in left}
        known = {finding.kind for finding in findings} | before | COMPANIONS.get(kind, set())
        assert {other.kind for other in left} <= known, left  # the mend adds nothing


def test_every_module_with_a_rule_is_asked():
    room = Path(registry.__file__).parent
    assert {file.stem for file in room.glob("*.py") if "\n@rule\n" in file.read_text()} == set(registry._ORDER)


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


def test_a_digit_of_a_next_hop_and_an_end_that_refuses_untagged_frames_are_put_right():
    text = """format: archipelago-network/1
vlans: {yard: 240, galley: 260}
devices:
  holm:
    kind: router
    ports: {p1: {address: 10.44.148.1/31}, p2: {address: 10.44.1.1/24}}
    routes: [{destination: 0.0.0.0/0, next-hop: 10.44.148.0}]
  landing:
    kind: router
    ports: {p1: {address: 10.44.148.0/31}, p2: {address: 10.44.2.1/24}}
    routes: [{destination: 10.44.1.0/24, next-hop: 10.44.148.1}]
  quay: {kind: switch, ports: {p1: {access: yard}, p2: {trunk: galley, untagged: yard}, p3: {access: galley}}}
  shed: {kind: switch, ports: {p1: {access: yard}, p2: {trunk: galley, untagged: yard}, p3: {access: galley}}}
hosts:
  gate: {at: holm/p2, address: 10.44.1.2/24, gateway: 10.44.1.1}
  crane: {at: quay/p1, address: 10.44.2.2/24, gateway: 10.44.2.1}
cables: [holm/p1 ~ landing/p1, landing/p2 ~ shed/p1, quay/p2 ~ shed/p2]
"""
    assert not [one for one in audit(read_network(text)) if one.is_error]
    slips = {
        "next-hop-unusable": (("next-hop: 10.44.148.0}", "next-hop: 10.45.148.0}"), "set its next hop to 10.44.148.0"),
        "untagged-vlan-mismatch": (
            (
                "  quay: {kind: switch, ports: {p1: {access: yard}, p2: {trunk: galley, untagged: yard}",
                "  quay: {kind: switch, ports: {p1: {access: yard}, p2: {trunk: galley, untagged: none}",
            ),
            "set the untagged VLAN of quay/p2 to yard",
        ),
    }
    for kind, ((right, wrong), change) in slips.items():
        assert right in text
        network = read_network(text.replace(right, wrong, 1))
        (finding,) = [one for one in audit(network) if one.is_error]
        assert (finding.kind, finding.mend) == (kind, change)
        assert reach(network, "gate", "crane").cause == kind
        assert mend(network).network == read_network(text)
