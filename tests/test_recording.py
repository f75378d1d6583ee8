"""States of a network kept in git."""

from __future__ import annotations

import json
import os
import subprocess
import sys

import pytest

import archipelago
from test_changing import PIER


def git(folder, *words):
    who = ("-c", "user.name=x", "-c", "user.email=x@example")
    return subprocess.run(["git", "-C", str(folder), *who, *words], capture_output=True, text=True, check=True).stdout


@pytest.mark.long
def test_states_are_kept_listed_compared_and_restored(command, tmp_path):
    file = tmp_path / "pier.yaml"
    file.write_text(PIER)
    (tmp_path / "other.txt").write_text("not ours")
    done = command("record", file, "-m", "as it runs")
    assert done.returncode == 0 and "pairs: 6 of 6 pairs reached" in done.stdout and "audit: " in done.stdout
    assert git(tmp_path, "ls-files").split() == ["pier.yaml"]  # what it was not asked for is left alone
    again = command("record", file, "-m", "once more")
    assert again.stdout.startswith("commit ") and len(archipelago.records(file)) == 1
    file.write_text(PIER.replace("gateway: 10.44.1.1}", "}"))
    archipelago.record(file, "a gateway is missing")
    latest, first = archipelago.records(file)
    assert (latest.why, first.why) == ("a gateway is missing", "as it runs")
    assert first.said["Pairs"] == "6 of 6 pairs reached" and latest.said["Pairs"] == "2 of 6 pairs reached"
    listed = json.loads(command("record", file, "--list", "--json").stdout)
    assert [one["name"] for one in listed["records"]] == [latest.name, first.name]
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
        (["-m", "why", "--list"], "does not go with"),
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


PLAIN = "format: archipelago-network/1\ndevices: {s: {kind: switch}}\n"


def test_a_document_that_git_holds_already_is_recorded(command, tmp_path):
    (tmp_path / "network.yaml").write_text(PLAIN)
    git(tmp_path, "init", "-q")
    git(tmp_path, "add", "-A")
    git(tmp_path, "commit", "-qm", "the \x1f plan \x1e")
    done = command("record", tmp_path / "network.yaml", "-m", "one")
    assert done.returncode == 0 and " holds it, the" in done.stdout
    assert git(tmp_path, "log", "--oneline").count("\n") == 1
    assert command("record", tmp_path / "network.yaml", "--list").stdout.startswith("1 record of")


def test_the_document_is_recorded_and_nothing_else_wherever_git_was_sent(command, tmp_path):
    other, own = tmp_path / "other", tmp_path / "own"
    other.mkdir(), own.mkdir()
    git(other, "init", "-q")
    name = ":!network.yaml"
    (own / name).write_text(PLAIN)
    (own / "secret.txt").write_text("no")
    environment = {**os.environ, "GIT_DIR": str(other / ".git"), "GIT_INDEX_FILE": str(other / "index")}
    words = [sys.executable, "-m", "archipelago.cli.main", "record", str(own / name), "-m", "one"]
    assert subprocess.run(words, env=environment, capture_output=True, check=False).returncode == 0
    assert git(own, "show", "--stat", "--format=", "HEAD").splitlines()[-1].startswith(" 1 file changed")
    assert "secret" not in git(own, "show", "--stat", "HEAD") and (own / ".git").is_dir()


def test_a_symbolic_link_a_hook_s_refusal_and_a_repository_that_is_not_read_are_said(command, tmp_path):
    (tmp_path / "real.yaml").write_text(PLAIN)
    (tmp_path / "network.yaml").symlink_to("real.yaml")
    done = command("record", tmp_path / "network.yaml", "-m", "one")
    assert done.returncode == 2 and "is a symbolic link" in done.stderr and not (tmp_path / ".git").exists()
    git(tmp_path, "init", "-q")
    hook = tmp_path / ".git" / "hooks" / "pre-commit"
    hook.write_text("#!/bin/sh\necho 'not on a Friday' >&2\nexit 1\n")
    hook.chmod(0o755)
    done = command("record", tmp_path / "real.yaml", "-m", "one")
    assert done.returncode == 2 and "not on a Friday" in done.stderr
    assert git(tmp_path, "diff", "--cached", "--name-only") == ""
    hook.unlink()
    (tmp_path / ".git" / "index.lock").write_text("")
    done = command("record", tmp_path / "real.yaml", "-m", "one")
    assert done.returncode == 2 and "if none is, remove that file" in done.stderr
    (tmp_path / ".git" / "HEAD").write_text("damaged")
    (tmp_path / "deep").mkdir()
    (tmp_path / "deep" / "network.yaml").write_text(PLAIN)
    done = command("record", tmp_path / "deep" / "network.yaml", "--list")
    assert done.returncode == 2 and "git does not read the repository" in done.stderr
    assert not (tmp_path / "deep" / ".git").exists()


@pytest.mark.long
def test_line_ends_separators_and_other_names_do_not_lose_a_record(command, tmp_path):
    document = tmp_path / "network.yaml"
    document.write_bytes(PLAIN.replace("\n", "\r\n").encode())
    git(tmp_path, "init", "-q")
    git(tmp_path, "config", "core.autocrlf", "true")
    git(tmp_path, "config", "trailer.separators", "#")
    assert command("record", document, "-m", "one").returncode == 0
    document.write_bytes(document.read_bytes() + b"# more\r\n")
    assert command("record", document, "-m", "two").returncode == 0
    assert command("record", document, "--restore", "HEAD~1").returncode == 0
    assert document.read_bytes() == PLAIN.replace("\n", "\r\n").encode()
    git(tmp_path, "checkout", "-q", "--", ".")
    git(tmp_path, "mv", "network.yaml", "quay.yaml")
    git(tmp_path, "commit", "-qm", "renamed")
    assert command("record", tmp_path / "quay.yaml", "--list").stdout.startswith("3 records of")
    assert command("record", tmp_path / "quay.yaml", "--restore", "HEAD~2").returncode == 0
