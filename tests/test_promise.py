"""What is said is so: a green audit, a mend, a design."""

from __future__ import annotations

from collections import Counter
from pathlib import Path
from random import Random

import pytest

import archipelago
from archipelago import DesignError, audit, matrix, mend, network_text, reach, read_brief, read_network
from briefs import any_brief
from makers import designed, mixed_brief, scrambled, trunked_brief
from mistakes_made import single_mistakes


def reached(network):
    """Who reaches whom, family by family."""
    return {
        (family, source, target)
        for family in (4, 6)
        for source, target, yes in matrix(network, family, causes=False).rows()
        if yes
    }


def serious(findings):
    """What a design may not have; that nobody is there yet whom a promise is about is for its owner to know."""
    return [finding for finding in findings if finding.severity != "note" and finding.kind != "expectation-idle"]


@pytest.mark.parametrize("seed", range(40))
def test_mends_lose_nothing_and_a_green_audit_is_a_promise(seed):
    network = scrambled(Random(40_000 + seed), small=True, anything=seed % 2 == 0)
    if network is None:
        pytest.skip("this seed makes nothing to ask about")
    found = audit(network)
    result = mend(network_text(network))
    assert result.left.errors <= found.errors
    assert reached(network) <= reached(result.network)
    assert mend(result.text).text == result.text
    for before, findings in ((network, found), (result.network, result.left)):
        named = any(nic.vrf for device in before.devices.values() for nic in device.interfaces.values())
        if not serious(findings) and not named:
            pairs = matrix(before, causes=False)
            assert pairs.reached == pairs.pairs


@pytest.mark.parametrize("seed", range(6))
def test_a_single_mistake_is_named_where_it_is_and_mended(seed):
    random = Random(41_000 + seed)
    sound = designed((trunked_brief, mixed_brief)[seed % 2](random, True))
    whole = reached(sound)
    told: Counter[str] = Counter()
    for kind, holders, network in single_mistakes(sound, random):
        now = reached(network)
        if now == whole or told[kind] == 2:
            continue
        told[kind] += 1
        errors = [finding for finding in audit(network) if finding.severity == "error"]
        assert any(finding.at in holders for finding in errors), (kind, holders, errors)
        assert reached(mend(network_text(network)).network) == whole, (kind, holders, errors)
        family, source, target = min(whole - now)
        answer = reach(network, source, target, family=family)
        assert not answer.reached and answer.edits, (kind, answer)
        mended = read_network(archipelago.amend(network_text(network), answer.edits))
        assert reach(mended, source, target, family=family).reached, (kind, answer)
    assert told


@pytest.mark.parametrize("seed", range(60))
def test_what_is_designed_works(seed):
    brief = read_brief(any_brief(Random(42_000 + seed)))
    try:
        network = archipelago.design(brief).network
    except DesignError as error:
        assert error.reasons
        return
    assert read_network(network_text(network)) == network
    assert not serious(audit(network))
    pairs = matrix(network, causes=False)
    assert pairs.reached == pairs.pairs


SLIPWAY = Path(__file__).parent.parent / "examples" / "slipway-network.yaml"


def test_routing_devices_that_meet_by_a_trunk_only_get_a_transit():
    brief = """format: archipelago-brief/1
space: 10.44.48.0/20
vlans: {fares: {id: 110, hosts: 40}, deck: {id: 120, hosts: 40}}
devices: {gull: {kind: router, ports: 4}, core: {kind: l3switch, ports: 24}, shed: {kind: switch, ports: 12}}
gateways: [{for: fares, at: gull/p1}, {for: deck, at: core}]
hosts: {till: {vlan: fares, at: shed/p1}, winch: {vlan: deck, at: shed/p2}}
cables: [gull/p1 ~ core/p24, core/p23 ~ shed/p12]
"""
    network = archipelago.design(read_brief(brief)).network
    assert "transit-1" in network.vlans and matrix(network).reached == 2


def test_a_mend_that_would_cut_somebody_off_is_not_offered():
    """The host is in the wrong VLAN by its address, but everybody talks to it where it is."""
    text = SLIPWAY.read_text().replace(
        "gull: {at: slip/p2, address: 10.44.20.130/25, gateway: 10.44.20.129}",
        "gull: {at: slip/p2, address: 10.44.20.3/25, gateway: 10.44.20.1}",
    )
    network = read_network(text)
    for finding in audit(network):
        if finding.edits:
            assert reached(network) <= reached(read_network(archipelago.amend(text, finding.edits)))


def test_reached_means_that_who_was_asked_answered():
    text = """format: archipelago-network/1
vlans: {fares: 110, deck: 120, guest: 130}
devices:
  core:
    kind: l3switch
    routing: [ipv4]
    ports: {p1: {access: fares}, p2: {access: deck}, p3: {access: guest}}
    interfaces:
      fares-gw: {vlan: fares, address: 10.44.1.1/24}
      deck-gw: {vlan: deck, address: 10.44.2.1/24}
      guest-gw: {vlan: guest, address: 10.44.1.1/24, vrf: visitors}
hosts:
  till: {at: core/p1, address: 10.44.1.10/24, gateway: 10.44.1.1}
  winch: {at: core/p2, address: 10.44.2.10/24, gateway: 10.44.2.1}
  pad: {at: core/p3, address: 10.44.1.10/24, gateway: 10.44.1.1}
"""
    network = read_network(text)
    answer = reach(network, "winch", "pad")
    assert not answer.reached and answer.answered_by == "till" and answer.cause == "held-by-another"
    assert reach(network, "winch", "10.44.1.10").reached and reach(network, "winch", "till").reached
    assert not matrix(network)["winch", "pad"] and matrix(network)["winch", "till"]
    assert audit(network) == ()


def test_quick_tries_nothing_and_says_so(command):
    text = SLIPWAY.read_text().replace("gateway: 10.44.20.129", "gateway: 10.44.20.200")
    assert not command("audit", SLIPWAY).returncode
    quick = archipelago.audit(read_network(text), quick=True)
    assert len(quick) and all("by hand" not in finding.mend for finding in quick)
    assert "quick: neither pairs nor mends were tried" in command("audit", SLIPWAY, "--quick").stdout


def test_one_mistake_is_counted_once_beside_what_it_breaks():
    text = (
        SLIPWAY.read_text().replace("access: yard", "access: crew")
        + "expect: [{from: winch, to: gull, reached: yes}]\n"
    )
    found = audit(read_network(text))
    assert found.headline == "1 error; 0 of 1 expectation holds"


def line_of(count):
    """Routers in a line, a host at each end; towards lower numbers by single routes, else by default."""
    text = "format: archipelago-network/1\ndevices:\n"
    for number in range(count):
        ports = {"left": f"10.64.0.{2 * number - 1}", "right": f"10.64.0.{2 * number}"}
        hops = {"left": f"10.64.0.{2 * number - 2}", "right": f"10.64.0.{2 * number + 1}"}
        ends = ["left"] * (number > 0) + ["right"] * (number < count - 1)
        lan = f"lan: {{address: 10.44.{number}.1/24}}"
        text += f"  r{number}: {{kind: router, ports: {{{lan}"
        text += "".join(f", {end}: {{address: {ports[end]}/31}}" for end in ends) + "}, routes: ["
        routes = [f"{{destination: 10.44.{other}.0/24, next-hop: {hops['left']}}}" for other in range(number)]
        routes += [f"{{destination: 0.0.0.0/0, next-hop: {hops['right']}}}"] * (number < count - 1)
        text += ", ".join(routes) + "]}\n"
    last = count - 1
    text += "hosts:\n  near: {at: r0/lan, address: 10.44.0.2/24, gateway: 10.44.0.1}\n"
    text += f"  far: {{at: r{last}/lan, address: 10.44.{last}.2/24, gateway: 10.44.{last}.1}}\n"
    cables = ", ".join(f"r{number}/right ~ r{number + 1}/left" for number in range(last))
    return f"{text}cables: [{cables}]\n"


@pytest.mark.long
@pytest.mark.parametrize(("count", "reached"), [(63, True), (64, False)])
def test_a_way_over_too_many_routers_is_no_loop(count, reached):
    network = read_network(line_of(count))
    answer = archipelago.reach(network, "near", "far", probes=1)
    assert answer.reached == archipelago.matrix(network)["near", "far"] == reached
    kinds = {finding.kind for finding in archipelago.audit(network) if finding.severity == "error"}
    assert answer.cause == (None if reached else "way-too-long") and ("way-too-long" in kinds) != reached
    assert "routing-loop" not in kinds


LOOP = """
format: archipelago-network/1
vlans: {crew: 120}
devices:
  quay: {kind: switch, spanning-tree: off, ports: {p1: {trunk: [crew]}, p2: {trunk: [crew]}, p3: {access: crew}}}
  slip: {kind: switch, spanning-tree: off, ports: {p1: {trunk: [crew]}, p2: {trunk: [crew]}, p3: {access: crew}}}
hosts: {winch: {at: quay/p3, address: 10.44.0.2/24}, gull: {at: slip/p3, address: 10.44.0.3/24}}
cables: [quay/p1 ~ slip/p1, quay/p2 ~ slip/p2]
"""


def test_changes_that_are_as_small_are_told_beside_each_other():
    loop = next(finding for finding in archipelago.audit(read_network(LOOP)) if finding.kind == "switching-loop")
    assert "quay/p2 ~ slip/p2" in loop.mend and [other.says for other in loop.instead] == [
        "take cable quay/p1 ~ slip/p1 out",
        "let quay take part in the spanning tree",
    ]
    alone = SLIPWAY.read_text().replace("gateway: 10.44.20.129", "gateway: 10.44.20.140")
    wrong = next(finding for finding in archipelago.audit(read_network(alone)) if finding.kind == "gateway-wrong")
    assert "set the gateway of gull to 10.44.20.129" in wrong.mend
    assert [other.says for other in wrong.instead] == ["set the address of landing/p1.140 to 10.44.20.140/25"]
    asked = archipelago.reach(read_network(alone), "winch", "gull")
    assert asked.mend == f"{wrong.mend} or {wrong.instead[0].says}" and asked.edits == wrong.edits
    for edits in (wrong.edits, wrong.instead[0].edits):
        assert archipelago.reach(read_network(archipelago.amend(alone, edits)), "winch", "gull").reached


def test_the_mends_of_a_matrix_were_tried():
    once = SLIPWAY.read_text().replace("gateway: 10.44.20.129", "gateway: 10.44.20.140")
    (group,) = archipelago.matrix(read_network(once)).groups
    assert group.finding.edits and not group.finding.mend.startswith("decide by hand")


def test_several_targets_and_the_checks_in_order(command):
    done = command("reach", SLIPWAY, "winch", "gull", "landing")
    assert done.returncode == 0 and done.stdout.startswith("winch: 2 of 2 reached")
    order = command("reach", SLIPWAY, "--in-order", "winch", "--json")
    assert order.returncode == 0 and '"its gateway"' in order.stdout
    refused = command("reach", SLIPWAY, "winch", "gull", "--broadcast")
    assert refused.returncode == 2 and "asks of FROM alone" in refused.stderr
    broken = archipelago.reach_in_order(
        read_network(SLIPWAY.read_text().replace("parent: p1, tag: crew", "off: yes, parent: p1, tag: crew")), "winch"
    )
    assert not broken.reached and broken.first_wrong.what == "its gateway"
    assert [check.verdict for check in broken.checks] == ["UP", "NOT REACHED", "NOT REACHED"]  # it goes on
    assert broken.checks[2].meaning.endswith("as above")
    each = archipelago.reach_all_in_order(read_network(SLIPWAY))
    assert each and [one.source for one in each.each] == ["winch", "gull"]
    assert command("reach", SLIPWAY, "--in-order").stdout.startswith("from a host of each VLAN: 2 of 2 find")
    assert "name two ends" in command("reach", SLIPWAY).stderr


@pytest.mark.parametrize("switches", [8, pytest.param(60, marks=pytest.mark.long)])
def test_as_many_equal_mistakes_as_there_are_switches_are_all_mended(switches):
    """Each alone would cut its host off from the others that are wrong alike; together nobody loses anything."""
    ports = '"p{1..4}": {access: v1}, "p{5..8}": {access: v2}, up: {trunk: [v1, v2], untagged: none}'
    text = (
        "format: archipelago-network/1\nvlans: {v1: 210, v2: 220}\ndevices:\n  core:\n    kind: l3switch\n"
        f'    routing: [ipv4]\n    ports: {{"d{{1..{switches}}}": {{trunk: [v1, v2], untagged: none}}}}\n'
        "    interfaces: {g1: {vlan: v1, address: 10.44.0.1/22}, g2: {vlan: v2, address: 10.44.4.1/22}}\n"
        + "".join(f"  s{s}: {{kind: switch, ports: {{{ports}, p5: {{access: v1}}}}}}\n" for s in range(1, switches + 1))
        + "hosts:\n"
        f'  "a-{{1..4}}-{{1..{switches}}}": {{at: "s{{1..{switches}}}/p{{1..4}}", address: 10.44.0.10/22, '
        "gateway: 10.44.0.1}\n"
        f'  "b-{{5..8}}-{{1..{switches}}}": {{at: "s{{1..{switches}}}/p{{5..8}}", address: 10.44.4.10/22, '
        "gateway: 10.44.4.1}\n"
        f'cables: "core/d{{1..{switches}}} ~ s{{1..{switches}}}/up"\n'
    )
    found = archipelago.audit(archipelago.read_network(text))
    assert found.errors == switches and {finding.kind for finding in found if finding.is_error} == {"vlan-wrong"}
    mended = archipelago.mend(text)
    assert len(mended.made) == switches and not mended.left.errors
    pairs = archipelago.matrix(mended.network)
    assert pairs.reached == pairs.pairs
