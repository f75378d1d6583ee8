"""What a person meets in a terminal: tables that fit, emphasis beside words, help, completion; plain text in a pipe."""

from __future__ import annotations

import fcntl
import json
import os
import pty
import re
import struct
import subprocess
import sys
import termios

import pytest

from archipelago.cli.terminal import blocks, fitted, wrapped
from archipelago.views.table import table

CODES = re.compile(r"\x1b\[[0-9;]*[mK]")


def in_terminal(words, columns, cwd, **environment):
    """A call in a terminal of so many columns: what it shows, and its exit code."""
    pid, reading = pty.fork()
    if pid == 0:
        os.chdir(cwd)
        wide = {"COLUMNS": str(columns), "LINES": "24"}
        os.environ.update({"TERM": "xterm", **wide, **environment})
        os.execv(sys.executable, [sys.executable, "-m", "archipelago.cli.main", *words])
    fcntl.ioctl(reading, termios.TIOCSWINSZ, struct.pack("HHHH", 24, columns, 0, 0))
    shown = b""
    while True:
        try:
            some = os.read(reading, 1 << 16)
        except OSError:
            break
        if not some:
            break
        shown += some
    os.close(reading)
    said = re.sub(r"\r[^\n]*?\x1b\[K", "", shown.decode().replace("\r\n", "\n"))  # while it was at work
    return said, os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1])


CALLS = [
    "audit broken.yaml",
    "reach broken.yaml purser camera-s --steps",
    "view network.yaml",
    "carve 10.44.0.0/21 2001:db8::/56 tickets=45 crew=110",
]
MORE_CALLS = [
    "reach network.yaml purser lamp",
    "reach network.yaml purser lamp --trace",
    "reach network.yaml purser --broadcast",
    "reach network.yaml purser --in-order",
    "matrix broken.yaml",
    "view network.yaml landing hall",
    "view network.yaml --gateways",
    "view network.yaml --after purser,lamp",
    "design brief.yaml",
    "mend broken.yaml -o new.yaml",
]


@pytest.mark.parametrize("columns", [80, pytest.param(200, marks=pytest.mark.long)])
@pytest.mark.parametrize("call", [*CALLS, *(pytest.param(call, marks=pytest.mark.long) for call in MORE_CALLS)])
def test_every_answer_fits_the_terminal(tern_bay, call, columns):
    shown, _ = in_terminal(call.split(), columns, tern_bay)
    lines = CODES.sub("", shown).split("\n")
    assert max(map(len, lines)) <= columns
    assert len(lines) > 3 and "Traceback" not in shown


WHOLE = re.compile(r"[0-9a-f]*[.:][0-9a-f.:]+(?:/\d+)?|[\w-]+/[\w.-]+")
"""Addresses, and names of ports and interfaces."""
NEVER_CUT = [
    "view network.yaml --leases",
    "view network.yaml --gateways",
    "view network.yaml holm",
    "view network.yaml",
    "view network.yaml --redundancy",
    "audit broken.yaml",
    "reach broken.yaml purser camera-s",
    "matrix broken.yaml",
    "outages network.yaml --quick",
    "traffic network.yaml",
    "design brief.yaml",
]


@pytest.mark.parametrize("columns", [80, pytest.param(120, marks=pytest.mark.long)])
@pytest.mark.parametrize(
    "call", [*NEVER_CUT[:3], *(pytest.param(call, marks=pytest.mark.long) for call in NEVER_CUT[3:])]
)
def test_no_address_and_no_name_is_cut(tern_bay, call, columns):
    plain, _ = in_terminal([*call.split(), "--plain"], columns, tern_bay)
    shown = CODES.sub("", in_terminal(call.split(), columns, tern_bay)[0])
    wanted = {word.strip("(),;") for word in plain.split() if WHOLE.fullmatch(word.strip("(),;"))}
    if "left out to fit" in shown:  # a column that was left out, and said so
        wanted = {word for word in wanted if not word.startswith("fe80::")}
    assert wanted and not {word for word in wanted if word not in shown}


def test_rows_that_do_not_fit_are_blocks_and_rules_follow_the_first_column(tmp_path):
    wide = table("gateways", ("VLAN", "address"), [("crew (220)", "2001:db8:44:1::1/64"), ("yard", "10.44.3.1/26")])
    assert fitted(wide, 20).widths == [] and fitted(wide, 40).widths
    assert blocks(wide, 24) == [
        "gateways",
        "crew (220)",
        "  address:",
        "     2001:db8:44:1::1/64",
        "yard",
        "  address: 10.44.3.1/26",
    ]


def test_the_words_that_decide_are_set_off_and_never_replaced(tern_bay):
    shown, code = in_terminal(["reach", "broken.yaml", "purser", "camera-s"], 80, tern_bay)
    assert code == 1 and "\x1b[1;31mNOT REACHED\x1b[0m" in shown
    bare, _ = in_terminal(["reach", "broken.yaml", "purser", "camera-s"], 80, tern_bay, NO_COLOR="1")
    dumb, _ = in_terminal(["reach", "broken.yaml", "purser", "camera-s"], 80, tern_bay, TERM="dumb")
    assert "\x1b" not in bare + dumb and CODES.sub("", shown) == bare == dumb


def test_what_is_piped_is_what_plain_shows(command, tern_bay):
    piped = command("matrix", tern_bay / "broken.yaml")
    plain, _ = in_terminal(["matrix", "broken.yaml", "--plain"], 80, tern_bay)
    assert plain == piped.stdout and max(map(len, plain.split("\n"))) > 80


def test_columns_that_are_least_needed_go_first_and_are_named():
    wide = table("", ("who", "what", "why"), [("lamp", "x" * 30, "y" * 30)], least=("why", "what"))
    assert [wide.columns[at] for at in fitted(wide, 80).places] == ["who", "what", "why"]
    assert fitted(wide, 50).left_out == ["why"] and fitted(wide, 20).left_out == ["why", "what"]
    assert sum(fitted(wide, 50).widths) + 2 <= 50


@pytest.mark.parametrize("columns", [20, 40, 80])
def test_long_lines_are_set_in_and_lose_nothing(columns):
    text = "   mend:   give landing an interface in 10.44.0.0/20 and tell whoever asks about it what was done there"
    lines = wrapped(text, columns)
    assert "".join("".join(lines).split()) == "".join(text.split()) and max(map(len, lines)) <= columns
    assert len({len(line) - len(line.lstrip()) for line in lines[1:]}) == 1


@pytest.mark.long
def test_two_hundred_vlans_stay_readable(tmp_path):
    vlans = "".join(f"  v{number}: {number}\n" for number in range(100, 300))
    ports = "".join(f"      p{number}: {{access: v{number}}}\n" for number in range(100, 300))
    hosts = "".join(f"  h{n}: {{at: s/p{n}, address: 10.44.{n - 100}.2/24}}\n" for n in range(100, 300))
    devices = f"devices:\n  s:\n    kind: switch\n    ports:\n{ports}"
    text = f"format: archipelago-network/1\nvlans:\n{vlans}{devices}hosts:\n{hosts}"
    (tmp_path / "wide.yaml").write_text(text)
    for words in (["matrix", "wide.yaml"], ["view", "wide.yaml"], ["audit", "wide.yaml", "--quick"]):
        shown, _ = in_terminal(words, 80, tmp_path)
        assert max(map(len, CODES.sub("", shown).split("\n"))) <= 80
    shown, _ = in_terminal(["view", "wide.yaml"], 80, tmp_path)
    assert not {f"v{number}" for number in range(100, 300)} - set(CODES.sub("", shown).split())


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["audot", "x.yaml"], "did you mean 'audit'?"),
        (["audit", "x.yaml", "--qick"], "did you mean '--quick'?"),
        (["sail"], "there is no verb 'sail'"),
    ],
)
def test_misspelt_verbs_and_options(command, words, told):
    done = command(*words)
    assert done.returncode == 2 and told in done.stderr


def test_a_brief_where_a_network_is_wanted_is_one_line(command, tern_bay):
    done = command("audit", tern_bay / "brief.yaml")
    assert done.returncode == 2 and done.stderr.count("\n") == 1 and "archipelago design" in done.stderr
    other = command("design", tern_bay / "network.yaml")
    assert other.returncode == 2 and other.stderr.count("\n") == 1 and "a brief is wanted" in other.stderr


def test_every_help_has_examples_that_are_calls_of_the_verb(command):
    from archipelago.cli.calls import EXAMPLES, VERBS
    from archipelago.cli.main import parser

    assert EXAMPLES.keys() == VERBS.keys()
    for verb, examples in EXAMPLES.items():
        shown = command(verb, "--help").stdout
        assert max(map(len, shown.split("\n"))) <= 80
        for example in examples:
            assert f"archipelago {verb} {example}".rstrip() in shown.replace(" \\\n    ", " ")
            words = re.split(r" >>? ", example)[0].split()
            assert parser().parse_args([verb, *words]).call is VERBS[verb][0]


def test_the_schema_and_its_file(command, tmp_path):
    printed = json.loads(command("schema", "network").stdout)
    done = command("schema", "network", "-o", tmp_path / "s.json")
    assert done.returncode == 0 and json.loads((tmp_path / "s.json").read_text()) == printed


@pytest.mark.parametrize(
    ("line", "wanted"),
    [
        ("archipelago reach network.yaml kio", ["kiosk-a", "kiosk-b"]),
        ("archipelago view network.yaml skerry", ["skerry", "skerry-gate"]),
        ("archipelago audit network.yaml --q", ["--quick"]),
        ("archipelago matr", ["matrix"]),
        ("archipelago reach nowhere.yaml kio", []),
    ],
)
def test_the_shell_completes_from_the_file(tern_bay, tmp_path, line, wanted):
    (tmp_path / "archipelago").write_text(f'#!/bin/sh\nexec {sys.executable} -m archipelago.cli.main "$@"\n')
    (tmp_path / "archipelago").chmod(0o755)
    asked = f"""
        eval "$(archipelago completion bash)"
        COMP_LINE="{line}"; COMP_POINT=${{#COMP_LINE}}; COMP_WORDS=({line}); COMP_TYPE=9
        COMP_CWORD=$((${{#COMP_WORDS[@]}} - 1))
        $(complete -p archipelago | sed 's/.*-F \\([^ ]*\\).*/\\1/') archipelago
        printf '%s\\n' "${{COMPREPLY[@]}}"
    """
    path = f"{tmp_path}:{os.environ['PATH']}"
    done = subprocess.run(
        ["bash", "-c", asked],
        cwd=tern_bay,
        env={**os.environ, "PATH": path},
        capture_output=True,
        text=True,
        check=False,
    )
    assert [word.strip() for word in done.stdout.split("\n") if word.strip()] == wanted
