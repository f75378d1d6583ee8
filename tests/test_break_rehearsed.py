"""What breaks in a kernel: the scripts that break it, and when two accounts of what was lost are alike."""

from __future__ import annotations

import subprocess
from dataclasses import replace
from random import Random

import pytest

from archipelago import read_network
from archipelago.exchange.break_rehearsed import (
    HANDS_OVER,
    TREE_DIFFERS,
    WAITS,
    BreakRehearsed,
    breaking,
    broken_network,
    judged,
)
from archipelago.exchange.broken import broken_script
from archipelago.exchange.kernel import Where
from archipelago.exchange.linux import script
from archipelago.exchange.rehearsal import Rehearsal
from archipelago.failures.parts import breakable
from archipelago.knowledge.index import NetworkIndex, index_network
from archipelago.knowledge.known import know
from archipelago.model.filters import ECHO
from archipelago.simulation.breaking import Lost, runs_lost
from archipelago.views import rehearsal as view
from redundancy_referee import two_cores
from redundant import redundant
from test_kernel import PAIR

SECOND = 10**9


def account(text: str = PAIR, part: str = "core-1", watched: tuple[str, str] = ("winch", "stores")):
    whole = index_network(read_network(text))
    after = NetworkIndex(know(broken_network(whole.knowledge, part)))
    breaks, ours = breaking(whole, after, part, watched, ECHO)
    return whole, after, breaks, ours


def kernel_says(first: float, last: float, until: float = 12.0) -> tuple[tuple[float, bool], ...]:
    """Ten probes a second, those between two times lost."""
    times = [number / 10 + 0.005 for number in range(-25, round(until * 10))]
    return tuple((time, not first <= time <= last) for time in times)


def test_a_kernel_is_told_when_to_break_and_whom_to_hear():
    whole, _, breaks, ours = account()
    watch = breaks.watch
    assert breaks.after.devices["core-1"].off and not whole.network.devices["core-1"].off
    assert (watch.source, str(watch.address), watch.every, watch.interval) == ("winch", "10.44.2.10", 0.1, 1.0)
    assert {(family, vrid) for _, family, vrid in watch.hears} == {(4, 1), (4, 2)} and watch.until > 9
    # A kernel holds packets while an address is asked for: so does the simulation here, and loses fewer.
    assert ours.survived and 30 <= sum(run.count for run in ours.lost) <= 33
    alone = account(watched=None)
    assert alone[2].watch is None and alone[3] is None


@pytest.mark.parametrize(
    ("first", "last", "alike"),
    [(0.0, 3.15, True), (0.3, 3.15, True), (0.0, 3.05, True), (0.0, 3.6, False), (0.0, 1.0, False), (0.0, 99.0, False)],
)
def test_accounts_are_alike_where_probes_are_answered_again_at_the_same_time(first, last, alike):
    whole, after, _, ours = account()
    found = judged(whole.knowledge, after.knowledge, "core-1", ours, kernel_says(first, last))
    assert found.not_compared is None and found.alike is alike
    assert f"{found.lost_by_us} by our account, {found.lost_in_the_kernel} in the kernel" in found.headline


def test_where_nothing_is_lost_one_probe_more_is_no_difference():
    whole, after, _, ours = account(part="core-2")
    assert ours.lost == ()
    one, two = (
        judged(whole.knowledge, after.knowledge, "core-2", ours, kernel_says(1.0, last)) for last in (1.05, 1.15)
    )
    assert one.alike and not two.alike


@pytest.mark.parametrize(
    ("text", "part", "reason"),
    [
        (PAIR.replace("priority: 120}", "priority: 120, preempt: no}"), "core-1", WAITS),
        (PAIR.replace("cables: [", "cables: [core-1/p2 ~ core-2/p2, "), "core-1", TREE_DIFFERS),
        (
            PAIR.replace("priority: 120}", "priority: 120, track: {interface: p9, priority-decrement: 50}}").replace(
                "p1: {trunk: [crew, yard]}}\n", "p1: {trunk: [crew, yard]}, p9: {address: 10.44.9.1/30}}\n", 1
            )
            + "outside: [{at: core-1/p9}]\n",
            "core-1/p9",
            HANDS_OVER,
        ),
    ],
)
def test_what_cannot_be_held_against_each_other_says_why(text, part, reason):
    whole, after, _, ours = account(text, part)
    found = judged(whole.knowledge, after.knowledge, part, ours, kernel_says(0, 9))
    assert found.not_compared == reason and found.alike is None and "(not compared)" in found.headline


def test_it_is_shown_as_a_table_and_as_values():
    whole, after, _, ours = account()
    broken = judged(whole.knowledge, after.knowledge, "core-1", ours, kernel_says(0.1, 3.15))
    where: Where = "uml"
    told = Rehearsal({}, frozenset(), where, (), broken=broken)
    table = view.tables(told)[0]
    assert table.title == "winch probes stores every 0.1 s while core-1 breaks"
    assert [row[0] for row in table.rows] == ["probes", "when"] and table.rows[1][2] == "+0.1 to +3.1 s"
    values = view.values(told)["broken"]
    assert values["agree"] and values["part"] == "core-1" and values["lost_in_kernel"] == broken.lost_in_the_kernel
    assert told.agrees and not replace(told, broken=replace(broken, theirs=kernel_says(0, 8))).agrees
    nobody = replace(told, broken=BreakRehearsed("core-1", None, (), None))
    assert view.values(nobody)["broken"]["source"] is None and nobody.headline.startswith("with core-1 broken, ")


def test_runs_of_lost_probes():
    probes = [(0, True), (1, False), (2, False), (3, True), (4, False)]
    assert list(runs_lost(probes)) == [Lost(1, 2, 2, True), Lost(4, 4, 1, False)]
    assert list(runs_lost([])) == list(runs_lost([(0, True)])) == []


@pytest.mark.parametrize("seed", range(12))
def test_scripts_that_break_a_part_are_shell_whatever_breaks(seed, tmp_path):
    random = Random(seed)
    network = two_cores(random) if seed % 2 else redundant(random)
    whole = know(network)
    names = set(script(network, "tag").split())
    for part in breakable(whole)[:8]:
        text = broken_script(network, broken_network(whole, part.name), "tag")
        (tmp_path / "broken.sh").write_text(text)
        subprocess.run(["sh", "-n", tmp_path / "broken.sh"], check=True)
        down = [line.split()[3] for line in text.splitlines() if line.startswith("link set dev ")]
        assert all(name in names or name == "down" for name in down), (part, down)
        if part.kind in ("device", "cable"):
            assert any(line.startswith("link set dev ") and line.endswith(" down") for line in text.splitlines()), part
