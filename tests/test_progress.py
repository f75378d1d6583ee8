"""How far long work is, and what is said where it is stopped."""

from __future__ import annotations

import os
import pty
import re
import signal
import subprocess
import sys

import archipelago
from archipelago.progress import listening, steps, tell


def test_steps_are_told_in_order_and_the_stage_before_goes_on():
    told = []
    with listening(told.append):
        tell("proving mends")
        assert list(steps("abc", "counting")) == ["a", "b", "c"]
    assert told == [("proving mends", 0, 0), *(("counting", done, 3) for done in range(3)), ("proving mends", 0, 0)]
    assert list(steps("abc", "counting")) == ["a", "b", "c"] and len(told) == 5  # nobody listens any more


def test_many_steps_are_told_about_now_and_then():
    told = []
    with listening(told.append):
        assert sum(1 for _ in steps(iter(range(100_000)), "counting", 100_000)) == 100_000
    assert 400 < len(told) < 600 and [stage.done for stage in told[:-1]] == sorted(stage.done for stage in told[:-1])


def test_an_audit_tells_its_stages(plain_bay):
    works = []
    with listening(lambda stage: works.append(stage.work)):
        archipelago.audit(archipelago.read_network(plain_bay / "broken.yaml"))
    order = list(dict.fromkeys(works))
    assert order[:1] == ["reading the file"] and order.index("reading hosts") < order.index("asking the rules")
    assert "proving mends" in order and "proving mends one by one" in order


def test_who_stops_it_is_told_what_was_not_done(tmp_path):
    os.mkfifo(tmp_path / "slow.yaml")
    words = [sys.executable, "-m", "archipelago.cli.main", "mend", "slow.yaml", "-o", "mended.yaml"]
    process = subprocess.Popen(words, cwd=tmp_path, stderr=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    with open(tmp_path / "slow.yaml", "w") as slow:  # opens once the command reads
        slow.write("format: archipelago-network/1\n")
        slow.flush()
        process.send_signal(signal.SIGTERM)
        said, told = process.communicate(timeout=120)
    assert process.returncode == 143 and said == ""
    assert told == "mend: stopped while reading the file; there is no answer, and nothing was written\n"
    assert os.listdir(tmp_path) == ["slow.yaml"]


def test_a_terminal_is_shown_how_far_it_is_and_a_pipe_is_not(tmp_path, plain_bay):
    os.mkfifo(tmp_path / "slow.yaml")
    mine, theirs = pty.openpty()
    words = [sys.executable, "-m", "archipelago.cli.main", "matrix", "slow.yaml"]
    for place in (theirs, subprocess.PIPE):
        process = subprocess.Popen(words, cwd=tmp_path, stdout=subprocess.PIPE, stderr=place, text=True)
        with open(tmp_path / "slow.yaml", "w") as slow:
            if place is theirs:  # it waits for the file until it has said so
                shown = read_until(mine, r"reading the file, \d+ s so far\x1b\[K")
                assert re.fullmatch(r"(\rmatrix: (at work|reading the file), \d+ s so far\x1b\[K)+", shown), shown
            slow.write((plain_bay / "network.yaml").read_text())
        said, told = process.communicate(timeout=60)
        assert process.returncode == 0 and "pairs reached" in said
        if place is theirs:
            read_until(mine, r"\r\x1b\[K$")
        else:
            assert told == ""


def read_until(terminal: int, wanted: str) -> str:
    """What a terminal is shown until it ends in something wanted; who runs this says how long that may take."""
    shown = ""
    while not re.search(wanted, shown):
        shown += os.read(terminal, 1000).decode()
    return shown
