"""The events of a question: numbered, repeats folded, the next that matters, one in full."""

from __future__ import annotations

import json

import pytest

import archipelago
from archipelago.views import timeline as times


@pytest.fixture(scope="module")
def lost(tern_bay):
    return archipelago.reach(archipelago.read_network(tern_bay / "broken.yaml"), "purser", "camera-s").events


def test_events_are_numbered_faults_marked_and_repeats_folded(lost):
    shown = times.timeline("time line", lost, times.Chosen())
    numbers = [int(row[0]) for row in shown.rows]
    assert numbers == sorted(numbers) and len(numbers) < len(lost)
    marks = {row[shown.columns.index("event")] for row in shown.rows if row[-1] == "fault"}
    assert "drops" in marks and "sends" not in marks
    told = [row[shown.columns.index("what")] for row in shown.rows if "repeats" in row]
    assert "probe 3 went the same way as probe 2" in told
    every = times.timeline_rows(lost, times.Chosen())
    assert [row["number"] for row in every] == list(range(1, len(lost) + 1))
    folded = len(lost) - len(numbers)
    assert folded == sum(1 for row in every if row["number"] not in numbers)


def test_what_is_left_out_does_not_change_the_numbers(lost):
    every = {row["number"]: row for row in times.timeline_rows(lost, times.Chosen())}
    for chosen in (times.Chosen("landing"), times.Chosen(protocol="arp"), times.Chosen(from_fault=True)):
        rows = times.timeline_rows(lost, chosen)
        assert rows and all(every[row["number"]] == row for row in rows) and len(rows) < len(every)


def test_from_one_that_matters_to_the_next(lost):
    seen, number = [], 0
    while True:
        try:
            number = times.next_that_matters(lost, number)
        except archipelago.QueryError as error:
            assert "nothing that matters follows" in str(error)
            break
        seen.append(number)
    faults = {row["number"] for row in times.timeline_rows(lost, times.Chosen()) if row["fault"]}
    assert seen == sorted(seen) and faults <= set(seen) and len(seen) < len(lost)


def test_an_event_in_full_says_what_was_looked_up_and_why(lost):
    texts = [dict(times.in_full(lost, number).rows) for number in range(1, len(lost) + 1)]
    routed = next(text for text in texts if text["event"] == "sends")
    assert routed["chose"] == "0.0.0.0/0 via 10.44.2.1, by port" and "longest prefix" in routed["because"]
    flood = next(text for text in texts if text["event"] == "switches")
    assert flood["looked up"] == "the MAC table of VLAN 220" and "a group" in flood["to MAC address"]
    known = next(text for text in texts if text["event"] == "switches" and "echo" in text["what"])
    assert known["because"] == "the table has that MAC address there" and known["TTL"] == "64"
    with pytest.raises(archipelago.QueryError, match="there is no event 0"):
        times.in_full(lost, 0)


def test_the_options(command, tern_bay):
    network = tern_bay / "network.yaml"
    first = command("reach", network, "purser", "lamp", "--next")
    assert first.returncode == 0 and "event 3 of" in first.stdout and "--after 3" in first.stdout
    after = command("reach", network, "purser", "lamp", "--after", "3", "--json")
    assert json.loads(after.stdout)["number"] > 3
    frame = command("reach", network, "purser", "lamp", "--frame", "9999")
    assert frame.returncode == 2 and "there is no event 9999" in frame.stderr
    assert command("reach", network, "purser", "lamp", "--frame", "x").returncode == 2


def test_first_probes_that_are_lost_while_tables_fill_are_said_to_be_that(command, tern_bay):
    cold = command("reach", tern_bay / "network.yaml", "purser", "lamp").stdout
    assert "3 of 5 answered, IPv4; the first 2 were lost while tables filled, and only then" in cold
    assert "while tables filled" not in command("reach", tern_bay / "broken.yaml", "purser", "camera-s").stdout


def test_two_devices_side_by_side_count_what_only_one_knows(command, tern_bay):
    shown = command("view", tern_bay / "broken.yaml", "landing", "skerry").stdout
    assert "12 subnets only landing has a route to" in shown.split("\n")[0]
    assert "only" not in command("view", tern_bay / "network.yaml", "landing", "holm").stdout.split("\n")[0]
