"""States of a network kept in git."""

from __future__ import annotations

import json
import os
import subprocess

import pytest

import archipelago
from test_changing import PIER


def git(folder, *words):
    return subprocess.run(["git", "-C", str(folder), *words], capture_output=True, text=True, check=True).stdout


def test_states_are_kept_listed_compared_and_restored(command, tmp_path):
    file = tmp_path / "pier.yaml"
    file.write_text(PIER)
    (tmp_path / "other.txt").write_text("not ours")
    done = command("record", file, "-m", "as it runs")
    assert done.returncode == 0 and "pairs: 6 of 6 pairs reached" in done.stdout and "audit: " in done.stdout
    assert git(tmp_path, "ls-files").split() == ["pier.yaml"]  # what it was not asked for is left alone
    again = command("record", file, "-m", "once more")
    assert again.stdout.startswith("nothing is otherwise") and len(archipelago.records(file)) == 1
    file.write_text(PIER.replace("gateway: 10.44.1.1}", "}"))
    archipelago.record(file, "a gateway is missing")
    latest, first = archipelago.records(file)
    assert (latest.why, first.why) == ("a gateway is missing", "as it runs")
    assert first.said["Pairs"] == "6 of 6 pairs reached" and latest.said["Pairs"] == "2 of 6 pairs reached"
    listed = json.loads(command("record", file, "--list", "--json").stdout)
    assert [one["record"] for one in listed] == [latest.name, first.name]
    compared = command("record", file, "--compare", first.name, latest.name)
    assert compared.returncode == 1 and "4 pairs lost" in compared.stdout
    restored = command("record", file, "--restore", first.name)
    assert restored.returncode == 0 and file.read_text() == PIER
    assert archipelago.recorded(file, first.name) == archipelago.read_network(file)
    assert archipelago.restore(file, latest.name) != archipelago.recorded(file, first.name)


def test_what_does_not_read_is_not_recorded_and_what_is_not_recorded_is_not_lost(command, tmp_path):
    file = tmp_path / "pier.yaml"
    file.write_text("format: archipelago-network/1\nvlans: [\n")
    done = command("record", file, "-m", "broken")
    assert done.returncode == 2 and "pier.yaml:" in done.stderr and not (tmp_path / ".git").exists()
    file.write_text(PIER)
    archipelago.record(file, "sound")
    file.write_text(PIER + "# a word that nobody recorded\n")
    done = command("record", file, "--restore", "HEAD")
    assert done.returncode == 2 and "not recorded" in done.stderr and "nobody recorded" in file.read_text()


@pytest.mark.parametrize(
    ("words", "said"),
    [
        ([], "write one of"),
        (["-m", "why", "--list"], "write one of"),
        (["-m", " "], "a line is expected"),
        (["--restore", "--output=x"], "expected one argument"),
        (["--restore", "nowhere"], "there is no record 'nowhere'; there are: none"),
    ],
)
def test_what_cannot_be_asked_of_records_is_said(words, said, command, tmp_path):
    (tmp_path / "pier.yaml").write_text(PIER)
    done = command("record", tmp_path / "pier.yaml", *words)
    assert done.returncode == 2 and said in done.stderr.lower() and "Traceback" not in done.stderr


def test_a_record_in_a_repository_of_ones_own_takes_nothing_along(tmp_path):
    git(tmp_path, "init", "-q")
    (tmp_path / "staged.txt").write_text("somebody's own work")
    git(tmp_path, "add", "staged.txt")
    (tmp_path / "plans").mkdir()
    file = tmp_path / "plans" / "pier.yaml"
    file.write_text(PIER)
    made = archipelago.record(file, "from below $(touch broke)")
    assert made.why == "from below $(touch broke)" and not os.path.exists("broke")
    assert "staged.txt" not in git(tmp_path, "show", "--stat", "--format=", "HEAD")
    assert not (file.parent / ".git").exists()
