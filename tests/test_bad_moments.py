"""Nowhere to write, closed streams, odd encodings, and errors that nobody foresaw: one line and a documented code."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path
from shutil import copytree

import pytest

import archipelago
from archipelago import errors

NETWORK = """\
format: archipelago-network/1
vlans: {fares: 140}
devices: {jetty: {kind: router, interfaces: {p1.140: {parent: p1, tag: fares, address: 10.67.40.1/24}}}}
hosts: {fares-1: {at: jetty/p1, address: 10.67.40.10/24, gateway: 10.67.40.1}}
"""


def shell(line: str, **environment: str) -> subprocess.CompletedProcess[str]:
    """A line of shell in which `archipelago` is the command."""
    command = f'"{sys.executable}" -m archipelago'
    return subprocess.run(
        ["sh", "-c", line.replace("archipelago", command, 1)],
        capture_output=True,
        text=True,
        check=False,
        env={**os.environ, **environment},
    )


@pytest.fixture
def network(tmp_path: Path) -> Path:
    file = tmp_path / "network.yaml"
    file.write_text(NETWORK)
    return file


@pytest.mark.long
def test_a_full_or_closed_output(network: Path) -> None:
    full = shell(f"archipelago audit {network} > /dev/full")
    assert full.returncode == 3
    assert full.stderr == "the answer cannot be written to standard output: No space left on device\n"
    closed = shell(f"archipelago audit {network} >&-")
    assert (closed.returncode, closed.stderr) == (1, "")
    for place in ("2>&-", "2>/dev/full"):
        assert shell(f"archipelago audit {network} {place}").returncode == 1
        missing = shell(f"archipelago audit {network}.not {place}")
        assert (missing.returncode, missing.stdout) == (2, "")


def test_a_narrow_encoding_and_a_reader_that_leaves(network: Path) -> None:
    odd = shell(f"archipelago reach {network} fares-1 hølm", PYTHONIOENCODING="ascii")
    assert odd.returncode == 2
    assert "Traceback" not in odd.stderr
    assert "lm" in odd.stderr
    left = shell(f"(archipelago view {network}; echo $? >&2) | true")
    assert left.stderr in ("0\n", "141\n")  # 0 where all fitted into the pipe before it closed


def test_an_error_that_nobody_foresaw_is_no_answer(network: Path, tmp_path: Path) -> None:
    script = (
        "import sys; from archipelago.cli import main, verbs; import archipelago\n"
        "def audit(network, quick=False): raise KeyError('a place that\\nis not there')\n"
        "archipelago.audit = audit\n"
        f"sys.argv = ['archipelago', 'audit', {str(network)!r}]\n"
        "main.main()\n"
    )
    done = subprocess.run(
        [sys.executable, "-c", script],
        capture_output=True,
        text=True,
        check=False,
        env={**os.environ, "TMPDIR": str(tmp_path)},
    )
    assert done.returncode == 3
    assert done.stderr.count("\n") == 1
    assert "unexpected error, KeyError" in done.stderr
    (details,) = tmp_path.glob("archipelago-error-*.txt")
    assert str(details) in done.stderr
    assert "Traceback" in details.read_text()


def test_what_a_file_holds_is_shown_and_not_obeyed(tmp_path: Path) -> None:
    assert errors.printable("quay\x1b[31m\nall is well") == r"quay\x1b[31m\nall is well"
    file = tmp_path / "network.yaml"
    file.write_text(NETWORK.replace("fares-1", '"fares\\e[31m"'))
    done = shell(f"archipelago audit {file}")
    assert done.returncode == 2
    assert "\x1b" not in done.stderr + done.stdout


def test_a_host_at_a_port_that_takes_tagged_frames_only(network: Path, tmp_path: Path) -> None:
    read = archipelago.read_network(network)
    (found,) = archipelago.audit(read)
    assert found.kind == "tag-mismatch"
    assert not archipelago.reach(read, "fares-1", "jetty").reached
    assert archipelago.matrix(read).pairs == 0
    mended = archipelago.mend(NETWORK)
    assert not len(mended.left)
    assert archipelago.reach(mended.network, "fares-1", "jetty").reached


def test_a_link_between_a_tagged_and_an_untagged_subinterface() -> None:
    text = """\
format: archipelago-network/1
vlans: {fares: 140}
devices:
  jetty: {kind: router, interfaces: {p1.140: {parent: p1, tag: fares, address: 10.67.40.1/24}}}
  mole: {kind: router, interfaces: {p1.140: {parent: p1, tag: fares, untagged: true, address: 10.67.40.2/24}}}
cables: [jetty/p1 ~ mole/p1]
"""
    answer = archipelago.reach(archipelago.read_network(text), "jetty", "mole")
    assert not answer.reached
    assert answer.finding is not None
    assert answer.finding.kind == "tag-mismatch"
    assert answer.mend == "let mole/p1.140 be tagged"
    mended = archipelago.read_network(archipelago.amend(text, answer.finding.edits))
    assert archipelago.reach(mended, "jetty", "mole").reached


def test_a_chain_of_switches_longer_than_the_stack_of_calls() -> None:
    count = 1100
    ports = {name: archipelago.Port(name, trunk=(220,), untagged="none") for name in ("p1", "p2")}
    network = archipelago.Network(
        "a long quay",
        {"crew": 220},
        {f"quay-{n}": archipelago.Device(f"quay-{n}", "switch", ports=ports) for n in range(count)},
        {},
        tuple(
            archipelago.Cable(archipelago.End(f"quay-{n}", "p2"), archipelago.End(f"quay-{n + 1}", "p1"))
            for n in range(count - 1)
        ),
        (),
    )
    from archipelago.knowledge.index import index_network
    from archipelago.views.cards import content_of
    from archipelago.views.diagram import lay_out

    sheet = lay_out(content_of(index_network(network)))
    assert (len(sheet.cards), len(sheet.wires)) == (count, count - 1)


def test_a_link_to_a_file_and_a_long_name_are_written_through(tmp_path: Path) -> None:
    real, link = tmp_path / "real.yaml", tmp_path / "link.yaml"
    link.symlink_to(real)
    network = archipelago.mend(NETWORK).network
    archipelago.write_network(network, link)
    assert link.is_symlink()
    assert archipelago.read_network(real) == network
    long = tmp_path / ("q" * 250)
    archipelago.write_network(network, long)
    assert archipelago.read_network(long) == network


@pytest.mark.parametrize("space", ["127.0.0.0/16", "224.0.0.0/8", "169.254.0.0/16", "0.0.0.0/0", "::/0", "fe80::/10"])
def test_no_subnet_is_carved_from_what_is_for_no_subnet(space: str) -> None:
    with pytest.raises(archipelago.CarveError, match="name a block without it"):
        archipelago.carve([space], {"crew": 20})


def test_numbers_of_thousands_of_digits(tmp_path: Path) -> None:
    done = shell(f"archipelago carve 10.0.0.0/{'9' * 5000} crew=20")
    assert done.returncode == 2
    assert "prefix length" in done.stderr


BRIEF = """\
format: archipelago-brief/1
space: 10.44.0.0/20
vlans: {crew: {id: 220, hosts: 5}}
devices: {landing: {kind: l3switch, ports: 4, manage: crew}}
gateways: [{for: crew, at: landing}]
hosts: {mess: {vlan: crew, at: landing}}
"""


def test_a_gateway_serves_the_management_of_its_device() -> None:
    plan = archipelago.design(archipelago.read_brief(BRIEF))
    assert [one.vlan for one in plan.network.devices["landing"].interfaces.values()] == [220]
    assert archipelago.audit(plan.network) == ()


@pytest.mark.parametrize(
    ("written", "instead", "said"),
    [
        ("hosts: 5}", "hosts: 5, families: []}", "at least one family"),
        ("hosts: {mess", "cables: [landing/p1 ~ landing/p2]\nhosts: {mess", "to itself"),
    ],
)
def test_briefs_that_nobody_can_mean(written: str, instead: str, said: str) -> None:
    with pytest.raises(archipelago.DocumentError, match=said):
        archipelago.read_brief(BRIEF.replace(written, instead))


def test_the_demo_does_not_write_over_what_was_changed(command, tern_bay, tmp_path):
    bay = copytree(tern_bay, tmp_path / "tern-bay")
    (bay / "network.yaml").write_text("# two hours of work\n")
    done = command("demo", bay)
    assert done.returncode == 2 and "network.yaml: changed since the demo wrote it" in done.stderr
    assert (bay / "network.yaml").read_text() == "# two hours of work\n"


@pytest.mark.long
def test_the_demo_is_made_again_where_nothing_was_changed_and_where_that_is_meant(command, tern_bay, tmp_path):
    bay = copytree(tern_bay, tmp_path / "tern-bay")
    assert command("demo", bay).returncode == 0
    (bay / "network.yaml").write_text("# two hours of work\n")
    assert command("demo", bay, "--force").returncode == 0 and "format:" in (bay / "network.yaml").read_text()


@pytest.mark.parametrize(
    ("name", "words"),
    [
        ("slipway-brief.yaml", ["design", "b.yaml", "-o", "./b.yaml"]),
        ("slipway-network.yaml", ["export", "b.yaml", "--as", "linux", "-o", "b.yaml"]),
        ("slipway-network.yaml", ["draw", "b.yaml", "-o", "b.yaml"]),
    ],
)
def test_what_is_read_is_not_replaced_by_what_is_made_of_it(name, words, command, tmp_path):
    text = (Path(__file__).parent.parent / "examples" / name).read_text()
    (tmp_path / "b.yaml").write_text(text)
    done = subprocess.run(
        [sys.executable, "-m", "archipelago.cli.main", *words],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 2 and "would take the place of what is read" in done.stderr
    assert (tmp_path / "b.yaml").read_text() == text


@pytest.mark.parametrize(
    ("line", "code", "said"),
    [
        ("audit - <&-", 2, "standard input cannot be read: it is closed"),
        ("mend {} -o - >&-", 3, "cannot be written to standard output: it is closed"),
        ("schema network -o - > /dev/full", 3, "cannot be written to standard output: No space left on device"),
        ("view {} --gateways --policy", 2, "has no 'policy'"),
    ],
)
def test_streams_that_are_closed_or_full_and_views_that_cannot_be_are_said(line, code, said):
    network = Path(__file__).parent.parent / "examples" / "slipway-network.yaml"
    call = f"{sys.executable} -m archipelago.cli.main {line.format(network)}"
    done = subprocess.run(["sh", "-c", call], capture_output=True, text=True, check=False)
    assert done.returncode == code and said in done.stderr and "Traceback" not in done.stderr


@pytest.mark.parametrize("spoilt", ["[" * 100_000 + "\n", "other parts", "fewer rows"])
def test_work_that_is_not_what_was_kept_is_refused(spoilt, command, tmp_path):
    network, kept = Path(__file__).parent.parent / "examples" / "slipway-network.yaml", tmp_path / "kept.jsonl"
    assert command("outages", network, "--double", "--resume", kept).returncode in (0, 1)
    lines = kept.read_text().splitlines()
    told = json.loads(lines[1])
    if spoilt == "other parts":
        told["rows"][0][1] = 999
    elif spoilt == "fewer rows":
        told["rows"] = told["rows"][1:]
    text = spoilt if spoilt.startswith("[") else "\n".join([lines[0], json.dumps(told), *lines[2:]]) + "\n"
    kept.write_text(text)
    done = command("outages", network, "--double", "--resume", kept)
    assert done.returncode == 2 and "is none of a file of double failures" in done.stderr
