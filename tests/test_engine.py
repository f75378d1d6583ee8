"""The arrays on networks made for one rule each; the simulation is asked beside them."""

from __future__ import annotations

import numpy as np
import pytest

import archipelago
from agreement import calculated, simulated
from archipelago.files.network import network_from
from archipelago.files.tree import parse
from archipelago.knowledge.known import know
from archipelago.reachability.build import build_arrays
from archipelago.reachability.domains import label_domains
from archipelago.reachability.families import Decided
from archipelago.reachability.matrix import matrix


def network(text):
    return network_from(parse(("format: archipelago-network/1\n" + text).encode(), "made"))


def agreed(made, family=None):
    """The pairs reached and the causes, on which both engines agree."""
    ours, theirs = calculated(made, family), simulated(made, family)
    assert ours == theirs
    return ours


def chain(routers, last_routes=True):
    """A row of routers with a host at either end, each knowing the way both ways."""
    lines = ["devices:"]
    for n in range(routers):
        near = "192.168.0.1/24" if n == 0 else f"10.0.{n - 1}.2/24"
        far = "192.168.1.1/24" if n == routers - 1 else f"10.0.{n}.1/24"
        lines.append(f"  r{n}:\n    kind: router\n    ports: {{a: {{address: {near}}}, b: {{address: {far}}}}}")
        lines.append("    routes:")
        if n:
            lines.append(f"      - {{destination: 192.168.0.0/24, next-hop: 10.0.{n - 1}.1}}")
        if n < routers - 1:
            lines.append(f"      - {{destination: 192.168.1.0/24, next-hop: 10.0.{n}.2}}")
        if routers == 1:
            lines[-1] = "    routes: []"
    lines.append("hosts:\n  near: {at: r0/a, address: 192.168.0.9/24, gateway: 192.168.0.1}")
    lines.append(f"  far: {{at: r{routers - 1}/b, address: 192.168.1.9/24, gateway: 192.168.1.1}}")
    cables = [f"r{n}/b ~ r{n + 1}/a" for n in range(routers - 1)]
    lines.append(f"cables: [{', '.join(cables)}]")
    return network("\n".join(lines))


@pytest.mark.parametrize(("routers", "reached"), [(1, 2), (2, 2), (62, 2), (63, 2), (64, 0), (70, 0)])
def test_a_first_ttl_of_64_passes_63_routers(routers, reached):
    made = chain(routers)
    assert matrix(made, causes=False).reached == reached
    assert archipelago.reach(made, "near", "far").reached == bool(reached)
    assert archipelago.reach(made, "far", "near").reached == bool(reached)


RING = """devices:
  a:
    kind: router
    ports: {h: {address: 10.1.0.1/24}, x: {address: 10.9.0.1/31}, y: {address: 10.9.0.4/31}}
    routes: [{destination: 10.2.0.0/24, next-hop: 10.9.0.0}, {destination: 10.3.0.0/24, next-hop: 10.9.0.0}]
  b:
    kind: router
    ports: {h: {address: 10.2.0.1/24}, x: {address: 10.9.0.0/31}, y: {address: 10.9.0.2/31}}
    routes: [{destination: 10.1.0.0/24, next-hop: 10.9.0.1}, {destination: 10.3.0.0/24, next-hop: 10.9.0.1}]
  c:
    kind: router
    ports: {h: {address: 10.3.0.1/24}, x: {address: 10.9.0.3/31}, y: {address: 10.9.0.5/31}}
    routes: [{destination: 10.1.0.0/24, next-hop: 10.9.0.4}, {destination: 10.2.0.0/24, next-hop: 10.9.0.2}]
hosts:
  ha: {at: a/h, address: 10.1.0.9/24, gateway: 10.1.0.1}
  hb: {at: b/h, address: 10.2.0.9/24, gateway: 10.2.0.1}
  hc: {at: c/h, address: 10.3.0.9/24, gateway: 10.3.0.1}
cables: [a/x ~ b/x, b/y ~ c/x, a/y ~ c/y]
"""


def test_a_circle_is_told_from_a_dead_end():
    reached, causes = agreed(network(RING))
    assert reached == {("ha", "hb"), ("hb", "ha")}
    assert {kind for kind, _ in causes} == {"routing-loop"}  # a and b send what is for c to each other
    dead = RING.replace(
        "{destination: 10.3.0.0/24, next-hop: 10.9.0.1}", "{destination: 10.8.0.0/24, next-hop: 10.9.0.1}"
    )
    _, causes = agreed(network(dead))
    assert ("route-missing", "b") in causes and "routing-loop" not in {kind for kind, _ in causes}


def test_a_way_out_without_a_way_back_is_no_way():
    made = network(
        RING.replace("{destination: 10.1.0.0/24, next-hop: 10.9.0.4}, ", "").replace(
            "next-hop: 10.9.0.0}]", "next-hop: 10.9.0.5}]"
        )
    )
    (group,) = [group for group in archipelago.matrix(made).groups if group.finding.at == "c"]
    assert (group.finding.kind, group.pairs) == ("route-missing", 2)  # there and, for the same want, back
    answer = archipelago.reach(made, "ha", "hc")
    assert (answer.direction, answer.stopped_at, answer.out[-1].device) == ("back", "c", "hc")
    assert archipelago.reach(made, "hc", "ha").direction == "out"


@pytest.mark.parametrize(
    ("routes", "through"),
    [
        (
            "{destination: 10.2.0.0/24, next-hop: 10.9.0.0}, {destination: 10.2.0.0/16, next-hop: 10.9.0.5}",
            "b",
        ),  # the longer prefix
        (
            "{destination: 10.2.0.0/24, next-hop: 10.9.0.0, metric: 5}, {destination: 10.2.0.0/24, next-hop: 10.9.0.5}",
            "c",
        ),  # the lower metric
        (
            "{destination: 10.2.0.0/24, next-hop: 10.9.0.0}, {destination: 10.2.0.0/24, next-hop: 10.9.0.5}",
            "b",
        ),  # the first written
        ("{destination: 0.0.0.0/0, next-hop: 10.9.0.5}, {destination: 10.0.0.0/8, next-hop: 10.9.0.0}", "b"),
    ],
)
def test_which_route_a_packet_takes(routes, through):
    made = network(
        RING.replace(
            "{destination: 10.2.0.0/24, next-hop: 10.9.0.0}, {destination: 10.3.0.0/24, next-hop: 10.9.0.0}", routes
        ).replace("{destination: 10.3.0.0/24, next-hop: 10.9.0.1}", "{destination: 10.3.0.0/24, next-hop: 10.9.0.3}")
    )
    agreed(made)
    way = [step.device for step in archipelago.reach(made, "ha", "hb").out]
    assert way[1:3] == ["a", through]
    ((_, without),) = archipelago.what_if(made, [f"{through}/h" if through == "c" else "a/x"])
    assert without.reaches(0, 1) == (through == "c")


def test_tables_apart_do_not_see_each_other():
    text = """vlans: {red: 210, blue: 220}
devices:
  landing:
    kind: router
    interfaces:
      p1.210: {parent: p1, tag: red, address: 10.1.0.1/24, vrf: inner}
      p1.220: {parent: p1, tag: blue, address: 10.2.0.1/24}
  q: {kind: switch, ports: {p1: {access: red}, p2: {access: blue}, p3: {access: red}, up: {trunk: all, untagged: none}}}
hosts:
  r1: {at: q/p1, address: 10.1.0.9/24, gateway: 10.1.0.1}
  b1: {at: q/p2, address: 10.2.0.9/24, gateway: 10.2.0.1}
  r2: {at: q/p3, address: 10.1.0.8/24, gateway: 10.1.0.1}
cables: [landing/p1 ~ q/up]
"""
    reached, _ = agreed(network(text))
    assert reached == {("r1", "r2"), ("r2", "r1")}
    assert len(agreed(network(text.replace(", vrf: inner", "")))[0]) == 6


LAN = """vlans: {crew: 220}
devices:
  landing: {kind: router, ports: {p1: {address: [10.1.0.1/24, 10.2.0.1/24]}}}
  q: {kind: switch, ports: {p1: {access: crew}, p2: {access: crew}, p3: {access: crew}, up: {access: crew}}}
hosts:
  one: {at: q/p1, address: 10.1.0.9/24, gateway: 10.1.0.1}
  two: {at: q/p2, address: [10.2.0.9/24, 10.1.0.8/24], gateway: 10.2.0.1}
  odd: {at: q/p3, address: 10.1.0.7/24}
cables: [landing/p1 ~ q/up]
"""


def test_a_host_of_two_addresses_answers_from_the_one_that_fits():
    made = network(LAN)
    reached, causes = agreed(made)
    # odd has no gateway: two asks it from 10.1.0.8, which is on odd's own subnet; odd does not get to 10.2.0.9
    assert ("one", "two") in reached and ("two", "odd") in reached and ("odd", "two") not in reached
    assert causes == {("gateway-missing", "odd"): 1}
    (outcome,) = Decided(build_arrays(know(made)), None).outcomes.values()
    assert len(outcome.replies) == 1 and outcome.onward.shape == (3, 3)


@pytest.mark.parametrize(
    ("change", "reached"),
    [
        (("10.1.0.7/24", "10.1.0.255/24"), 2),  # the subnet's broadcast address
        (("10.1.0.7/24", "10.1.0.0/24"), 2),  # its all-zeros address (RFC 1122 3.2.1.3)
        (("10.1.0.7/24", "10.1.0.7/30"), 2),  # a broadcast address by its own mask alone
        (("10.1.0.7/24}", "10.1.0.7/24, gateway: 10.1.0.9}"), 5),  # a gateway that forwards nothing, but is one itself
        (("10.1.0.7/24}", "10.1.0.7/24, gateway: 10.1.0.8}"), 6),  # two's other address: two gets its own packets
        (("gateway: 10.2.0.1", "gateway: 10.3.0.1"), 5),  # outside every prefix of the host
        (("q/p3, address", "q/p3, off: true, address"), 2),
    ],
)
def test_single_hosts_with_single_mistakes(change, reached):
    pairs, _ = agreed(network(LAN.replace(*change)))
    assert len(pairs) == reached, pairs


def test_hosts_that_fare_alike_are_one_class():
    hosts = "".join(
        f"  h{n}: {{at: q{n % 3}/p{n}, address: 10.1.0.{n + 9}/24, gateway: 10.1.0.1}}\n" for n in range(90)
    )
    switches = "".join(f"  q{n}: {{kind: switch}}\n" for n in range(3))
    text = "devices:\n  landing: {kind: router, ports: {p1: {address: 10.1.0.1/24}}}\n" + switches
    made = network(text + "hosts:\n" + hosts + "cables: [landing/p1 ~ q0/up, q0/a ~ q1/a, q1/b ~ q2/b]\n")
    arrays = build_arrays(know(made))
    assert len(arrays.examples) == 3  # a host class for each switch
    found = matrix(made)
    assert found.between.shape == (1, 1) and found.reached == found.pairs == 90 * 89
    ((_, cut),) = archipelago.what_if(made, ["q1/b"])
    assert cut.between.shape == (2, 2) and cut.reached == 60 * 59 + 30 * 29
    block = found.block([0, 1], range(90))
    assert block.shape == (2, 90) and block.all()


ONE_WAY = """vlans: {crew: 220, yard: 240}
devices:
  q1: {kind: switch, ports: {p1: {access: crew}, x: {trunk: [crew], untagged: none}}}
  q2: {kind: switch, ports: {p1: {access: crew}, x: {access: crew}}}
hosts:
  a: {at: q1/p1, address: 10.1.0.1/24}
  b: {at: q2/p1, address: 10.1.0.2/24}
cables: [q1/x ~ q2/x]
"""


def test_frames_that_pass_one_way_only_join_nothing():
    made = network(ONE_WAY)  # q2 accepts the tag, but answers without one, which q1 refuses
    reached, causes = agreed(made)
    assert not reached and sum(causes.values()) == 2
    arrays = build_arrays(know(made))
    found = label_domains(len(arrays.endpoints), arrays.adjacencies)
    assert not arrays.adjacencies.mutual.all() and not found.loops.any()
    assert found.of[arrays.endpoints["q1", 220]] != found.of[arrays.endpoints["q2", 220]]


def test_both_labellings_of_the_domains_are_the_same():
    for made in (network(RING), network(LAN), network(ONE_WAY)):
        knowledge = know(made)
        arrays = build_arrays(knowledge)
        labels = label_domains(len(arrays.endpoints), arrays.adjacencies)
        live = [one for one in arrays.endpoints if knowledge.domains.of(one) is not None]
        same = np.array([[knowledge.domains.together(a, b) for a in live] for b in live])
        ours = labels.of[[arrays.endpoints[one] for one in live]]
        looped = [knowledge.domains.loop_at(one) is not None for one in live]
        assert looped == labels.loops[ours].tolist()
        assert (same == (ours[:, None] == ours[None, :])).all()


BUNDLE = """vlans: {crew: 220}
devices:
  q1:
    kind: switch
    ports: {p1: {access: crew}}
    interfaces: {up: {members: [m1, m2], access: crew}}
  q2:
    kind: switch
    ports: {p1: {access: crew}}
    interfaces: {up: {members: [m1, m2], access: crew}}
hosts:
  a: {at: q1/p1, address: 10.1.0.1/24}
  b: {at: q2/p1, address: 10.1.0.2/24}
cables: [q1/m1 ~ q2/m1, q1/m2 ~ q2/m2]
"""


def test_an_aggregate_lives_while_one_member_does():
    made = network(BUNDLE)
    assert len(agreed(made)[0]) == 2
    whole = [["q1/m1"], ["q2/m2"], ["q1/m1", "q2/m2"], ["q1/up"], ["q1/m1 ~ q2/m1"], ["q2/m1 ~ q1/m1", "q1/m2 ~ q2/m2"]]
    counts = [found.reached for _, found in archipelago.what_if(made, whole)]
    assert counts == [2, 2, 0, 0, 2, 0]


def test_a_loop_takes_its_domain_with_it_and_nothing_else():
    text = BUNDLE.replace("interfaces: {up: {members: [m1, m2], access: crew}}", "unresolved: hold").replace(
        "p1: {access: crew}}", "p1: {access: crew}, m1: {access: crew}, m2: {access: crew}, s1: {}, s2: {}}"
    )
    text = text.replace("kind: switch", "kind: switch\n    spanning-tree: off").replace(
        "cables:", "  c: {at: q1/s1, address: 10.2.0.1/24}\n  d: {at: q1/s2, address: 10.2.0.2/24}\ncables:"
    )
    reached, causes = agreed(network(text))
    assert reached == {("c", "d"), ("d", "c")}
    assert causes[("switching-loop", "q1")] + causes[("switching-loop", "q2")] == 2


def test_an_address_held_twice_is_decided_by_whose_answer_stands():
    made = network(LAN.replace("odd: {at: q/p3, address: 10.1.0.7/24}", "odd: {at: q/p3, address: 10.1.0.9/24}"))
    answer = Decided(build_arrays(know(made)), None)
    assert answer.doubtful.any()
    agreed(made)
    ((_, apart),) = archipelago.what_if(made, ["odd"])
    assert apart.reaches(0, 1) and apart.reaches(1, 0)


def test_no_hosts_and_one_host():
    none = network("devices: {q: {kind: switch}}\n")
    assert (matrix(none).pairs, matrix(none).reached, matrix(none).groups) == (0, 0, ())
    one = network("devices: {q: {kind: switch}}\nhosts: {a: {at: q/p1}}\n")
    assert (matrix(one).pairs, matrix(one).reached, list(matrix(one).rows())) == (0, 0, [])
    bare = network("devices: {q: {kind: switch}}\nhosts: {a: {at: q/p1}, b: {at: q/p2, address: 10.0.0.1/24}}\n")
    assert agreed(bare) == (set(), {("address-missing", "a"): 2})


VRF_CIRCLE = """devices:
  a:
    kind: router
    ports: {h: {address: 10.1.0.1/24, vrf: red}, x: {address: 10.9.0.1/31, vrf: red}, g: {address: 10.1.0.1/24}}
    routes:
      - {destination: 10.2.0.0/24, next-hop: 10.9.0.0, vrf: red}
      - {destination: 10.3.0.0/24, next-hop: 10.9.0.0, vrf: red}
      - {destination: 10.9.0.2/31, next-hop: 10.9.0.0, vrf: red}
  b:
    kind: router
    ports:
      h: {address: 10.2.0.1/24, vrf: red}
      x: {address: 10.9.0.0/31, vrf: red}
      y: {address: 10.9.0.2/31, vrf: red}
    routes:
      - {destination: 10.1.0.0/24, next-hop: 10.9.0.1, vrf: red}
      - {destination: 10.3.0.0/24, next-hop: 10.9.0.1, vrf: red}
  c:
    kind: router
    ports: {h: {address: 10.3.0.1/24, vrf: red}, x: {address: 10.9.0.3/31, vrf: red}}
    routes:
      - {destination: 10.1.0.0/24, next-hop: 10.9.0.2, vrf: red}
      - {destination: 10.2.0.0/24, next-hop: 10.9.0.2, vrf: red}
      - {destination: 10.9.0.0/31, next-hop: 10.9.0.2, vrf: red}
hosts:
  ha: {at: a/h, address: 10.1.0.9/24, gateway: 10.1.0.1}
  hb: {at: b/h, address: 10.2.0.9/24, gateway: 10.2.0.1}
  hc: {at: c/h, address: 10.3.0.9/24, gateway: 10.3.0.1}
  other: {at: a/g, address: 10.1.0.8/24, gateway: 10.1.0.1}
cables: [a/x ~ b/x, b/y ~ c/x]
"""


def test_routers_that_circle_in_a_vrf_are_found_and_named():
    made = network(VRF_CIRCLE)
    reached, causes = agreed(made)
    assert {("ha", "hb"), ("hb", "ha")} <= reached and ("ha", "hc") not in reached
    assert causes["routing-loop", "b"] == 4
    answer = archipelago.reach(made, "ha", "hc")
    assert (answer.cause, answer.at) == ("routing-loop", "b") and "10.9.0.3" in answer.mend
    assert [(one.kind, one.at) for one in archipelago.audit(made) if one.severity == "error"] == [("routing-loop", "b")]
    mended = archipelago.amend(archipelago.network_text(made), answer.edits)
    assert archipelago.reach(network_from(parse(mended.encode(), "made")), "ha", "hc").reached
