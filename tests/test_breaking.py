"""Failures over time: the timers of the rapid tree and of VRRP, what is lost, and what returns."""

from __future__ import annotations

import json
from collections import Counter
from random import Random

import pytest

import archipelago
from archipelago import QueryError, read_network
from archipelago.knowledge.known import know
from archipelago.knowledge.parts import switched_off
from archipelago.simulation.breaking import Broken, Noticed
from archipelago.simulation.bridging import Bridges
from archipelago.simulation.world import World
from archipelago.views.breaking import tables
from breaks_referee import judged
from redundant import broken, redundant

SECOND = 10**9
LEAD = 2.5
"""Seconds from the first advertisement to the break."""
PAIR = """format: archipelago-network/1
vlans: {{crew: 120, yard: 130}}
devices:
  core-1:
    kind: l3switch
    routing: [ipv4]
    bridge-priority: 4096
    unresolved: hold
    ports: {{"p{{1..2}}": {{trunk: all}}}}
    interfaces:
      crew-gw: {{vlan: crew, address: 10.44.2.2/24, virtual: {{vrid: 20, address: 10.44.2.1, {first}}}}}
      yard-gw: {{vlan: yard, address: 10.44.3.2/24, virtual: {{vrid: 30, address: 10.44.3.1, {first}}}}}
  core-2:
    kind: l3switch
    routing: [ipv4]
    unresolved: hold
    ports: {{"p{{1..2}}": {{trunk: all}}}}
    interfaces:
      crew-gw: {{vlan: crew, address: 10.44.2.3/24, virtual: {{vrid: 20, address: 10.44.2.1, {second}}}}}
      yard-gw: {{vlan: yard, address: 10.44.3.3/24, virtual: {{vrid: 30, address: 10.44.3.1, {second}}}}}
  quay:
    kind: switch
    ports: {{p1: {{trunk: all}}, p2: {{trunk: all}}, p3: {{access: crew, edge: true}}, p4: {{access: yard}}}}
hosts:
  mess: {{at: quay/p3, address: 10.44.2.10/24, gateway: 10.44.2.1}}
  crane: {{at: quay/p4, address: 10.44.3.10/24, gateway: 10.44.3.1}}
cables: [core-1/p1 ~ quay/p1, core-2/p1 ~ quay/p2, core-1/p2 ~ core-2/p2]
"""


def pair(first="priority: 200", second="priority: 100"):
    return read_network(PAIR.format(first=first, second=second))


def took_over(result, device):
    """When a device took over, in seconds from the break on."""
    times = [one.time for one in result.noticed if one.where.startswith(f"{device}/") and one.what == "takes over"]
    return [time / SECOND for time in dict.fromkeys(times)]


def broke(network, part="core-1", **options):
    return archipelago.break_part(network, part, "mess", "crane", **options)


def missed(interval, priority):
    """When the active one is missed (RFC 9568 6.1): after three intervals and the skew time from its last word on."""
    last = int(LEAD / interval) * interval - LEAD
    return last + 3 * interval + (256 - priority) * interval / 256


@pytest.mark.parametrize(
    ("second", "expected"),
    [
        ("priority: 100", missed(1, 100)),
        ("priority: 199", missed(1, 199)),
        ("priority: 1", missed(1, 1)),
        ("priority: 100, preempt: no, hold-time: 30s", missed(1, 100)),
    ],
)
def test_who_is_silent_is_missed_after_three_intervals_and_the_skew_time(second, expected):
    result = broke(pair(second=second))
    assert took_over(result, "core-2") == [pytest.approx(expected, abs=0.001)]
    (gap,) = result.lost
    assert result.survived and gap.first == 0 and expected <= (gap.last + result.every) / SECOND <= expected + 0.3


def test_the_interval_of_the_active_one_counts():
    first = "priority: 200, advertise-interval: 200ms"
    result = broke(pair(first, "priority: 100, advertise-interval: 3s"))
    assert took_over(result, "core-2") == [pytest.approx(missed(0.2, 100), abs=0.011)]


def test_equals_take_over_alike_and_stay():
    result = broke(pair("priority: 100", "priority: 100"), "core-2", restore=8)
    assert took_over(result, "core-1") == [pytest.approx(missed(1, 100), abs=0.001)]
    assert (
        took_over(result, "core-2") == [] and result.survived
    )  # 6.4.2: a priority that is only equal takes over nothing


def test_goodbye_leaves_the_skew_time_alone():
    result = broke(pair(), orderly=True)
    assert took_over(result, "core-2") == [pytest.approx(156 / 256, abs=0.001)]
    assert broke(pair(), "core-2", orderly=True).lost == ()


def test_it_returns_by_preemption_after_its_hold_time_only():
    back = broke(pair(), restore=10)
    heard = missed(1, 100) + 7  # what it hears of the lower one after it is up counts for nothing
    first = took_over(back, "core-1")[0]
    assert 10 + 3 + 56 / 256 - 0.001 <= first <= 10 + 3 + 56 / 256 + 0.001 and heard > 10
    assert took_over(broke(pair("priority: 200, preempt: no"), restore=10), "core-1") == []
    held = broke(pair("priority: 200, hold-time: 10s"), restore=10)
    (time,) = took_over(held, "core-1")
    last = missed(1, 100) + int(20 - missed(1, 100))  # the last advertisement of core-2 within the hold time
    assert time == pytest.approx(last + 3 + 56 / 256, abs=0.001) and held.survived


def test_what_is_tracked_lets_the_next_best_take_over_and_nothing_is_lost():
    first = "priority: 200, track: {interface: p9, priority-decrement: 150}"
    text = PAIR.format(first=first, second="priority: 100").replace(
        '    ports: {"p{1..2}": {trunk: all}}', '    ports: {"p{1..2}": {trunk: all}, p9: {address: 10.44.9.1/30}}', 1
    )
    text = text.replace("  quay:\n", "  landing: {kind: router, ports: {p1: {address: 10.44.9.2/30}}}\n  quay:\n")
    made = read_network(text.replace("cables: [", "cables: [landing/p1 ~ core-1/p9, "))
    result = broke(made, "landing")
    assert ("core-1/crew-gw (VRID 20, IPv4)", "bids 50, not 200") in [(one.where, one.what) for one in result.noticed]
    assert took_over(result, "core-2") == [pytest.approx(missed(1, 100), abs=0.001)] and result.survived


def test_a_cut_trunk_is_replaced_at_once_and_what_switches_learned_is_forgotten():
    result = broke(pair(), "core-1/p1 ~ quay/p1")
    told = [(one.where, one.what, one.time) for one in result.noticed]
    assert ("quay/p2", "forwards, as root port", 0) in told
    assert result.survived and sum(gap.count for gap in result.lost) <= 1 and took_over(result, "core-2") == []


def test_an_edge_port_forwards_at_once_and_another_when_nobody_is_heard():
    for host, port, wait in (("mess", "p3", 0), ("crane", "p4", 3)):
        result = archipelago.break_part(pair(), f"quay/{port}", "mess", "crane", restore=1)
        (time,) = [one.time for one in result.noticed if one.where == f"quay/{port}" and "forwards" in one.what]
        assert time == (1 + wait) * SECOND and result.survived, host


def test_who_has_no_other_way_is_told_and_the_command_says_so(command, tmp_path):
    (tmp_path / "pair.yaml").write_text(PAIR.format(first="priority: 200", second="priority: 100"))
    words = ["outages", tmp_path / "pair.yaml", "--from", "mess", "--to", "crane", "--break"]
    done = command(*words, "quay")
    assert done.returncode == 1 and "from then on mess does not reach crane" in done.stdout
    told = json.loads(command(*words, "core-1", "--restore", "8", "--json").stdout)
    assert told["survived"] and told["restored"] == 8 and told["lost"][0]["start"] == 0
    shown = command(*words, "core-1").stdout
    assert "core-2: crew-gw, yard-gw  takes over" in shown and "+3.109" in shown
    assert command(*words, "nobody").returncode == 2
    with pytest.raises(QueryError, match="no address family"):
        archipelago.break_part(pair(), "core-1", "mess", "crane", family=6)


@pytest.mark.parametrize("seed", range(60))
def test_the_tree_on_the_clock_comes_to_its_steady_state(seed):
    random = Random(seed)
    made = redundant(random)
    before = know(made)
    world = World()
    bridges = Bridges(world, before, lambda device, port, what: None, lambda device, kept: None)
    assert bridges.blocked == before.devices.tree.blocked
    for after in (know(switched_off(before, broken(made, random))), before):
        bridges.rewired(after)
        world.run()
        assert {name: set(ports) for name, ports in bridges.blocked.items()} == {
            name: set(ports) for name, ports in after.devices.tree.blocked.items()
        }


@pytest.mark.parametrize("seed", [*range(6), 1105, 2123, 9100385, 9200147])
def test_what_comes_of_a_break_is_what_the_document_without_the_part_says_or_what_lasts_is_told(seed):
    assert not list(judged(seed, Counter()))


@pytest.mark.parametrize(
    ("first", "part", "why"),
    [
        ("priority: 100", "core-2", "it bids 100 too, and takes over from a lower bid only"),
        ("priority: 200, preempt: no", "core-1", "it is set not to take over (preempt: no)"),
        ("priority: 200", "core-1", None),
    ],
)
def test_who_stays_active_from_before_is_told_with_the_reason(first, part, why):
    other = {"core-1": "core-2", "core-2": "core-1"}[part]
    lines = broke(pair(first), part, restore=20).lasting
    stays = "{0}/{1} stays active for {2}; switched on anew, {3}/{1} would be: {4}"
    gateways = (("crew-gw", "10.44.2.1"), ("yard-gw", "10.44.3.1"))
    assert lines == (() if why is None else tuple(stays.format(other, *gateway, part, why) for gateway in gateways))


def test_an_answer_by_another_holder_of_the_address_is_no_answer():
    text = PAIR.format(first="priority: 200", second="priority: 100").replace("10.44.3.10/24", "10.44.3.3/24")
    broken = archipelago.break_part(read_network(text), "core-1", "mess", "crane")
    assert not broken.survived and "core-2 answers, which holds the address too" in broken.headline


def test_a_port_that_changes_its_mind_is_told_where_it_ends():
    told = [Noticed(SECOND, "core-1/p1", what) for what in ("forwards, as root port", "is blocked, as alternate")] * 2
    many = Broken("quay", "mess", "crane", SECOND, None, 2 * SECOND, 3, 3, (), tuple(told), False)
    (row,) = tables(many)[1].rows
    assert row[1:] == ("core-1: p1", "is blocked, as alternate, after 3 other changes")


def test_a_conversation_goes_on_where_nothing_has_to_know_it():
    result = broke(pair(), restore=20)
    assert [look.time for look in result.standing] == [12 * SECOND, result.until]
    assert [look.goes_on for look in result.standing] == [True, True]
    assert result.standing[0].lines == ("the conversation that mess had begun with crane goes on",)
    assert broke(pair(), "quay").standing[0].goes_on is False


ROUTERS = """format: archipelago-network/1
vlans: {crew: 120, shore: 130}
devices:
  r1:
    kind: router
    ports:
      p1: {address: 10.44.2.2/24, virtual: {vrid: 2, address: 10.44.2.1, priority: 200}}
      p9: {address: 203.0.113.2/29, source-nat: 10.44.2.0/24}
  r2:
    kind: router
    ports:
      p1: {address: 10.44.2.3/24, virtual: {vrid: 2, address: 10.44.2.1}}
      p9: {address: 203.0.113.3/29, source-nat: 10.44.2.0/24}
  quay: {kind: switch, ports: {"p{1..3}": {access: crew}, "p{7..9}": {access: shore}}}
hosts:
  mess: {at: quay/p3, address: 10.44.2.10/24, gateway: 10.44.2.1}
  gull: {at: quay/p9, address: 203.0.113.6/29}
cables: [r1/p1 ~ quay/p1, r2/p1 ~ quay/p2, r1/p9 ~ quay/p7, r2/p9 ~ quay/p8]
"""


def test_a_stateful_filter_that_has_not_seen_it_waits_until_the_first_end_speaks():
    text = ROUTERS.replace("kind: router", "kind: router\n    filters: {shut: {stateful: yes, otherwise: drop}}")
    for priority in (200, 100):
        shared = f"filter-in: shut, virtual: {{vrid: 9, address: 203.0.113.1, priority: {priority}}}"
        text = text.replace("source-nat: 10.44.2.0/24", shared, 1)
    text = text.replace("address: 203.0.113.6/29", "address: 203.0.113.6/29, gateway: 203.0.113.1")
    result = archipelago.break_part(read_network(text), "r1", "mess", "gull", probe="tcp/443", restore=30)
    begun = "the conversation that mess had begun with gull"
    waits = f"{begun} goes on once mess speaks: until then what gull says is not let through"
    assert [look.conversation for look in result.standing] == [waits, waits]  # r1 was without power
    silent = archipelago.break_part(read_network(text), "r1", "gull", "mess")
    assert silent.answered == 0 and silent.standing[0].goes_on is None and silent.standing[0].lines == ()


def test_a_translated_conversation_dies_with_the_router_that_translates_it():
    result = archipelago.break_part(read_network(ROUTERS), "r1", "mess", "gull", restore=30)
    assert result.survived  # new ones are answered
    assert [look.goes_on for look in result.standing] == [False, True]
    over = "is over: it came from 203.0.113.2, and comes from 203.0.113.3 now"
    assert result.standing[0].conversation == f"the conversation that mess had begun with gull {over}"


@pytest.mark.long
def test_a_renewal_is_answered_by_who_gave_the_lease_or_nobody(command, tern_bay, tmp_path):
    network = archipelago.read_network(tern_bay / "network.yaml")
    result = archipelago.break_part(network, "holm", "innkeeper", "purser", restore=20)
    told = [(one.server, one.acknowledged) for look in result.standing for one in look.renewals]
    assert told == [("holm", False), ("holm", True)]
    assert "keeps its address until the lease ends" in str(result.standing[0].renewals[0])
    words = ["--break", "holm", "--from", "innkeeper", "--to", "purser", "--restore", "20"]
    done = command("outages", tern_bay / "network.yaml", *words, "-o", tmp_path / "break.svg")
    assert "what had begun before" in done.stdout and f"drawn: {tmp_path / 'break.svg'}" in done.stdout
    drawn = (tmp_path / "break.svg").read_text()
    assert "35 lost" in drawn and "holm-2: holm-pier-gw, holm-inn-gw" in drawn and "lease would be renewed" in drawn
    values = json.loads(command("outages", tern_bay / "network.yaml", *words, "--json").stdout)
    assert values["standing"][0]["renewals"] == [{"host": "innkeeper", "server": "holm", "acknowledged": False}]


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["--break", "quay", "--from", "mess", "--to", "crane", "--probe", "x"], "x"),
        (["--break", "quay", "--from", "mess", "--to", "crane", "-o", "x.gif"], "neither .svg nor .png"),
        (["--break", "quai", "--from", "mess", "--to", "crane"], "did you mean"),
        (["--break", "quay", "--from", "mass", "--to", "crane"], "did you mean"),
        (["--break", "quay", "--from", "mess", "--to", "crane", "--every", "100"], "0.001 s to 1 s apart"),
        (["--break", "quay", "--from", "mess", "--to", "crane", "--every", "0"], "above 0"),
        (["--break", "quay", "--from", "mess", "--to", "crane", "--restore", "4000"], "within an hour"),
        (["--break", "quay", "--from", "mess", "--to", "crane", "--family", "6"], "no address family"),
        (["--from", "mess", "--to", "crane"], "--break"),
    ],
)
def test_a_wrong_call_is_one_message(command, tmp_path, words, told):
    (tmp_path / "pair.yaml").write_text(PAIR.format(first="priority: 200", second="priority: 100"))
    done = command("outages", tmp_path / "pair.yaml", *words)
    assert done.returncode == 2 and told in done.stderr and not done.stdout and "Traceback" not in done.stderr


def test_an_outage_says_in_python_what_the_command_says(command, tmp_path):
    text = PAIR.format(first="priority: 200", second="priority: 100")
    (tmp_path / "pair.yaml").write_text(text)
    result = broke(read_network(text))
    shown = command("outages", tmp_path / "pair.yaml", "--break", "core-1", "--from", "mess", "--to", "crane").stdout
    assert shown.splitlines()[0] == result.headline == str(result).splitlines()[0]
    assert repr(result) == f"<Broken: {result.headline}>" and "core-1 breaks: " in result.headline
    assert str(result) == shown.rstrip("\n")
    assert result.sent - result.answered == sum(gap.count for gap in result.lost)
    unhurt = broke(read_network(text), "core-2/p2")
    assert unhurt.headline == "core-2/p2 breaks: no probe from mess to crane is lost" and unhurt.survived
