"""The real command, as its users meet it."""

from __future__ import annotations

import csv
import io
import json
import re
import shutil
from argparse import Namespace
from itertools import combinations
from pathlib import Path

import pytest

import archipelago
from archipelago.cli.calls import VERBS
from archipelago.cli.together import APART, NEEDS, check

ROOT = Path(__file__).resolve().parent.parent


def test_the_demo_is_a_page(tern_bay):
    page = (tern_bay / "demo.txt").read_text()
    assert len(page.splitlines()) <= 60 and page.startswith("Tern Bay: ")
    for name in ("brief.yaml", "network.yaml", "broken.yaml", "mended.yaml", "network.svg"):
        assert (tern_bay / name).stat().st_size and name in page
    told = [line.split()[0] for line in page.splitlines() if re.match(r"   [a-z-]+ at ", line)]
    found = archipelago.audit(archipelago.read_network(tern_bay / "broken.yaml"))
    assert sorted(told) == sorted(finding.kind for finding in found if finding.is_error)
    after = page.partition("what to try next\n")[2].splitlines()
    assert after[0] == f"  cd {tern_bay}"


@pytest.mark.long
def test_the_tour_tells_its_story(command, tmp_path):
    tern_bay = tmp_path / "tour"
    tour = command("demo", "tour", tern_bay).stdout
    assert command("demo", "tour", tern_bay, "more").returncode == 2
    assert [line for line in tour.splitlines() if line[:2] in {f"{n}." for n in range(1, 13)}][11:]
    for name in ("brief.yaml", "network.yaml", "broken.yaml", "mended.yaml", "network.svg"):
        assert (tern_bay / name).stat().st_size
    assert "1 risk" in tour and "9 errors; 0 of 4 expectations hold" in tour and "NOT REACHED" in tour
    assert tour.rstrip().splitlines()[-1].startswith("Everything is in")


def test_version_and_help(command):
    assert command("--version").stdout.startswith("archipelago ")
    for verb in ("demo", "carve", "design", "audit", "reach", "view", "mend", "draw"):
        assert verb in command("--help").stdout
        assert command(verb, "--help").returncode == 0


def test_exit_codes_say_yes_no_and_wrong(command, tern_bay):
    network, broken = tern_bay / "network.yaml", tern_bay / "broken.yaml"
    assert command("reach", network, "kiosk-a", "mess").returncode == 0
    assert command("reach", broken, "kiosk-a", "mess").returncode == 1
    assert command("audit", network).returncode == 0
    assert command("audit", broken).returncode == 1


@pytest.mark.parametrize(
    "words",
    [
        ["reach", "network.yaml", "kiosk-a", "mes"],
        ["reach", "network.yaml", "kiosk-a", "mess", "--family", "5"],
        ["reach", "network.yaml", "kiosk-a", "mess", "--count", "0"],
        ["reach", "network.yaml", "kiosk-a", "mess", "--device", "nobody"],
        ["audit", "brief.yaml"],
        ["audit", "none.yaml"],
        ["audit", "."],
        ["design", "network.yaml"],
        ["design", "brief.yaml", "-o", "none/network.yaml"],
        ["view", "network.yaml", "nobody"],
        ["view", "network.yaml", "--vlan", "nothing"],
        ["view", "network.yaml", "--after", "kiosk-a"],
        ["mend", "broken.yaml", "-o", "new.yaml", "--only", "nothing"],
        ["draw", "network.yaml", "-o", "diagram.gif"],
        ["carve", "10.44.0.0/24", "crew"],
        ["carve", "10.44.0.0/24", "crew=5", "--headroom", "much"],
        ["carve", "10.44.0.0/24", "crew=5", "--gateway", "middle"],
        ["carve", "10.44.0.0/24", "crew=5", "--pin", "yard=10.44.0.0/26"],
        ["carve", "10.44.0.1/24", "crew=5"],
        ["carve", "10.44.0.0/30", "crew=500"],
        ["sail"],
        [],
    ],
    ids=" ".join,
)
def test_what_is_wrong_ends_with_a_message_and_2(command, tern_bay, words):
    before = sorted(path.name for path in tern_bay.iterdir())
    done = command(*words, cwd=tern_bay)
    assert done.returncode == 2 and done.stderr.strip() and not done.stdout
    assert "Traceback" not in done.stderr
    assert sorted(path.name for path in tern_bay.iterdir()) == before


def test_reach_json_has_the_promised_keys(command, tern_bay):
    found = json.loads(command("reach", tern_bay / "broken.yaml", "kiosk-a", "recorder", "--json").stdout)
    assert (found["reached"], found["cause"], found["direction"], found["at"]) == (
        False, "gateway-missing", "out", "kiosk-a")  # fmt: skip
    assert found["mend"] and (found["probes_sent"], found["probes_answered"]) == (5, 0)
    assert isinstance(found["out"], list) and isinstance(found["back"], list)
    good = json.loads(command("reach", tern_bay / "network.yaml", "kiosk-a", "mess", "--json").stdout)
    assert good["reached"] is True and good["cause"] is None and len(good["out"]) == 6


@pytest.mark.long
def test_steps_can_be_narrowed(command, tern_bay):
    def events(*words: str) -> list[dict[str, str]]:
        done = command("reach", tern_bay / "broken.yaml", "purser", "camera-s", "--steps", "--json", *words)
        return json.loads(done.stdout)["events"]

    everything = events()
    assert {event["device"] for event in events("--device", "hall")} == {"hall"}
    assert all("echo" not in event["what"] for event in events("--protocol", "arp"))
    late = events("--from-fault")
    assert 0 < len(late) < len(everything) and late == everything[-len(late) :]
    text = command("reach", tern_bay / "broken.yaml", "purser", "camera-s", "--steps").stdout
    assert "ARP request for" in text and "time line" in text


def test_audit_names_file_line_and_mend(command, tern_bay):
    done = command("audit", "broken.yaml", cwd=tern_bay)
    lines = (tern_bay / "broken.yaml").read_text().splitlines()
    found = json.loads(command("audit", "broken.yaml", "--json", cwd=tern_bay).stdout)
    assert found["errors"] == 9
    for finding in found["findings"]:
        assert f"broken.yaml:{finding['line']}" in done.stdout
        words = {"expect": ["reached: yes"], "policy": ["may"]}
        shown = words.get(finding["path"][0], [str(part) for part in finding["path"][-2:]])
        assert any(part in lines[finding["line"] - 1] for part in shown)


def test_mend_keeps_comments_and_heals(command, tern_bay, tmp_path):
    new = tmp_path / "new.yaml"
    done = command("mend", tern_bay / "broken.yaml", "-o", new)
    assert done.returncode == 0 and "9 mends made; left: 1 risk" in done.stdout  # VRRP proves nobody
    assert new.read_text().startswith("# Tern Bay with nine mistakes")
    for pair in (
        ("kiosk-a", "recorder"),
        ("purser", "camera-s"),
        ("mess", "purser"),
        ("bosun", "barrier"),
        ("purser", "lamp"),
    ):
        assert command("reach", new, *pair).returncode == 0
    one = command("mend", tern_bay / "broken.yaml", "-o", new, "--only", "vlan-wrong")
    assert one.returncode == 1 and "1 mend made" in one.stdout


def test_design_writes_what_reads_back_and_keeps(command, tern_bay, tmp_path):
    made = tmp_path / "made.yaml"
    assert command("design", tern_bay / "brief.yaml", "-o", made).returncode == 0
    editors, _, text = made.read_text().partition("\n")
    assert text == (tern_bay / "network.yaml").read_text() and "$schema=archipelago-network.schema.json" in editors
    again = tmp_path / "again.yaml"
    assert command("design", tern_bay / "brief.yaml", "-o", again, "--keep", made).returncode == 0
    assert again.read_text() == made.read_text()
    told = json.loads(command("design", tern_bay / "brief.yaml", "--json").stdout)
    assert told["network"]["format"] == "archipelago-network/1" and told["decisions"]


def test_carve_json_and_text(command):
    done = command("carve", "10.44.0.0/24", "tickets:210=45", "crew:220=60", "--json")
    rows = {row["name"]: row for row in json.loads(done.stdout)["allotments"]}
    assert rows["crew"]["prefix"] == "10.44.0.0/25" and rows["crew"]["vlan_id"] == 220
    text = command("carve", "10.44.0.0/24", "tickets=45").stdout
    assert "255.255.255.192" in text and "0.0.0.63" in text and "free" in text


def tables_of(answer):
    """The rows of the tables of a view, by title."""
    return {table["title"]: table["rows"] for table in answer["tables"]}


def test_view_shows_filters_and_tables(command, tern_bay):
    network = tern_bay / "network.yaml"
    glance = command("view", network).stdout
    assert len(glance.splitlines()) < 40 and re.search(r"^holm +layer 3 switch +IPv4, IPv6 +1 pool", glance, re.M)
    assert re.search(r"^ 220 +crew +landing, hall, quay-1, quay-2 +3 +3 +landing/p1.220", glance, re.M)
    assert "of all with --all: routing (8 rows)" in glance
    everything = command("view", network, "--all").stdout
    assert "p1-p2" in everything and "subinterface" in everything and "in use" in everything
    assert "and 40 more" in command("view", network, "landing").stdout and "and 40 more" not in everything
    assert "--all shows them whole" in command("view", network, "landing").stdout
    policy = command("view", network, "--policy").stdout
    assert not re.search(r"and \d+ more", policy) and "--all" not in policy
    crew = json.loads(command("view", network, "hall", "--vlan", "crew", "--json").stdout)
    rows = tables_of(crew)["VLANs"]
    assert {row["vlan"] for row in rows} == {220} and {row["device"] for row in rows} == {"hall"}
    assert "p24" in command("view", network, "--port", "p24").stdout
    learned = command("view", network, "landing", "hall", "--after", "kiosk-a,mess").stdout
    assert "ARP and neighbour tables" in learned and "MAC tables" in learned
    assert "10.44.3.129" in command("view", network, "kiosk-a").stdout


def test_points_of_view(command, tern_bay):
    broken = tern_bay / "broken.yaml"
    both = command("view", broken, "landing", "skerry").stdout
    assert "only landing has a route" in both and "subnets, as both see them" in both
    assert "no route: no IPv4 gateway" in command("view", broken, "--host", "kiosk-a").stdout
    tables = tables_of(json.loads(command("view", tern_bay / "network.yaml", "--gateways", "--json").stdout))
    assert {row["at"] for row in tables["gateways"]} >= {"landing/p1.210", "holm/holm-inn-gw"}
    assert all(row["how"] == "static" or row["how"] == "gateway" for row in tables["static routes"])


def test_trace_and_broadcast(command, tern_bay):
    network = tern_bay / "network.yaml"
    traced = json.loads(command("reach", network, "purser", "lamp", "--trace", "--json").stdout)
    assert [(one["ttl"], one["device"], one["answer"]) for one in traced["trace"]] == [
        (1, "landing", "ttl-expired"),
        (2, "skerry", "ttl-expired"),
        (3, "lamp", "reply"),
    ]
    heard = json.loads(command("reach", network, "kiosk-a", "--broadcast", "--json").stdout)
    assert {one["name"] for one in heard["heard"]} == {"kiosk-b", "counter", "landing"} and heard["hosts"] == 2
    counter = next(one for one in heard["heard"] if one["name"] == "counter")
    assert counter["through"] == ["hall p1 to p23", "quay-1 p12 to p1"]
    assert command("reach", tern_bay / "broken.yaml", "purser", "lamp", "--trace").returncode == 1


@pytest.mark.parametrize("ending", ["svg", "png"])
def test_draw(command, tern_bay, tmp_path, ending):
    drawn = tmp_path / f"bay.{ending}"
    assert command("draw", tern_bay / "network.yaml", "-o", drawn).returncode == 0
    content = drawn.read_bytes()
    assert (
        content.startswith(b"\x89PNG")
        if ending == "png"
        else b"kiosk-a" in content and b"lighthouse" not in content and b"skerry-light" in content
    )


def test_a_title_cannot_break_the_drawing(command, tern_bay, tmp_path):
    text = (tern_bay / "network.yaml").read_text()
    text = text.replace("title: The ferry line of Tern Bay", "title: '<b>$x$ & \"y\"'")
    (tmp_path / "odd.yaml").write_text(text)
    assert command("draw", tmp_path / "odd.yaml", "-o", tmp_path / "odd.svg").returncode == 0
    drawn = (tmp_path / "odd.svg").read_text()
    assert "<b>" not in drawn and "&lt;b&gt;" in drawn


def test_plain_text_without_a_terminal(command, tern_bay):
    done = command("audit", tern_bay / "broken.yaml")
    assert "\x1b" not in done.stdout


@pytest.mark.parametrize("example", sorted(path.name for path in (ROOT / "examples").glob("*.py")))
def test_examples_run(example, tmp_path):
    import subprocess
    import sys

    shutil.copy(ROOT / "examples" / example, tmp_path)
    done = subprocess.run([sys.executable, example], cwd=tmp_path, capture_output=True, text=True, check=False)
    assert done.returncode == 0 and done.stdout, done.stderr


def test_tables_for_pandas(tern_bay):
    import archipelago

    network = archipelago.read_network(tern_bay / "broken.yaml")
    findings = archipelago.to_table(archipelago.audit(network))
    assert list(findings["severity"]) == sorted(findings["severity"], key=["error", "risk", "note"].index)
    steps = archipelago.to_table(archipelago.reach(network, "purser", "lounge-1"))
    assert {"direction", "device", "looked_up"} <= set(steps.columns)
    carving = archipelago.to_table(archipelago.carve("10.44.0.0/24", {"crew": 40}))
    rows = list(csv.DictReader(io.StringIO(carving.to_csv())))
    assert rows[0]["prefix"] == "10.44.0.0/26"


SAID = {
    "outages": ["network.yaml", "--break", "holm", "--from", "innkeeper", "--to", "purser", "--restore", "20"],
    "audit": ["broken.yaml"],
    "matrix": ["broken.yaml", "--json"],
    "view": ["network.yaml", "--redundancy"],
    "reach": ["broken.yaml", "lamp", "mess", "--steps"],
    "design": ["brief.yaml", "-o", "-"],
}


@pytest.mark.long
@pytest.mark.parametrize("verb", SAID)
def test_what_is_said_is_the_same_in_every_process(command, tern_bay, verb, monkeypatch):
    said = set()
    for seed in ("1", "4"):  # the order of a set of texts hangs on it
        monkeypatch.setenv("PYTHONHASHSEED", seed)
        said.add(command(verb, *SAID[verb], cwd=tern_bay).stdout)
    assert len(said) == 1


@pytest.mark.long
def test_mends_are_chosen_one_by_one(command, tern_bay, tmp_path):
    new = tmp_path / "new.yaml"
    done = command("mend", tern_bay / "broken.yaml", "--ask", "-o", new, stdin="yes\nno\nback\nperhaps\nyes\ndone\n")
    assert "1 of 9. ERROR admin-down at landing" in done.stdout and "2 mends made" in done.stdout
    text = new.read_text()
    assert "off: true" not in text and "cameras]" in text and "  kiosk-a: {at: hall/p1" in text
    none = command("mend", tern_bay / "broken.yaml", "--ask", "-o", new, stdin="")
    assert "0 mends made" in none.stdout and new.read_text() == (tern_bay / "broken.yaml").read_text()


def test_what_a_person_decides_is_a_choice_with_what_it_does(command, tmp_path):
    text = (Path(__file__).parent.parent / "docs" / "samples" / "pier.yaml").read_text()
    text = text.replace(
        "kiosk: {at: quay/p1, address: 10.44.0.2/24, gateway: 10.44.0.1}", "kiosk: {at: quay/p1, address: 10.44.0.2/24}"
    )
    (tmp_path / "bay.yaml").write_text(text + "expect: [{from: kiosk, to: mess, reached: no}]\n")
    (finding,) = archipelago.audit(archipelago.read_network(tmp_path / "bay.yaml"))
    (choice,) = finding.choices
    assert choice.says == "set the gateway of kiosk to 10.44.0.1" and finding.edits == ()
    assert choice.does == "it breaks expectation 1, kiosk must not reach mess" and choice.does in finding.mend
    made = command("mend", tmp_path / "bay.yaml", "--ask", "-o", tmp_path / "new.yaml", stdin="yes\n1\n")
    assert "no, back, done, or a number up to 1" in made.stdout + made.stderr
    assert archipelago.reach(archipelago.read_network(tmp_path / "new.yaml"), "kiosk", "mess").reached


@pytest.mark.long
def test_what_was_tried_for_a_finding_is_told(command, tern_bay):
    told = command("mend", tern_bay / "broken.yaml", "--why", "1").stdout
    assert told.startswith("1. ERROR admin-down at landing") and "tried: switch landing/p1.240 on: it holds" in told
    assert "the policy is kept there then" in command("mend", tern_bay / "broken.yaml", "--why", "9").stdout
    for words in (["--why", "40"], ["--why", "0"], ["--why", "1", "-o", "x.yaml"], []):
        assert command("mend", tern_bay / "broken.yaml", *words).returncode == 2


@pytest.mark.long
def test_mends_of_one_severity_alone(command, tern_bay, tmp_path):
    done = command("mend", tern_bay / "broken.yaml", "--only", "error", "-o", tmp_path / "new.yaml")
    assert done.returncode == 0 and "9 mends made" in done.stdout
    assert command("mend", tern_bay / "broken.yaml", "--only", "note", "-o", tmp_path / "x.yaml").returncode == 2


@pytest.mark.parametrize("verb", VERBS)
def test_of_every_two_options_one_that_would_be_ignored_is_refused(verb):
    """Each pair of options of a verb either goes together or is one message; what the tables name is there."""
    options = {names[0]: settings for *names, settings in VERBS[verb][2] if names[0].startswith("-")}
    apart = {frozenset((one, other)) for one, others in APART.get(verb, ()) for other in others}
    needs = NEEDS.get(verb, {})
    assert {*needs, *(option for pair in apart for option in pair)} <= options.keys()
    ends = [settings.get("metavar") for *names, settings in VERBS[verb][2] if not names[0].startswith("-")]
    for one, other in combinations(options, 2):
        words = Namespace(verb=verb, new="new.yaml" if "NEW" in ends else None, output=None)
        alone = any(option in (one, other) and not {one, other} & set(others) for option, others in needs.items())
        if alone or frozenset((one, other)) in apart:
            with pytest.raises(archipelago.QueryError, match="go"):
                check(words, [one, other])
        else:
            check(words, [one, other])


def test_options_that_would_be_ignored_are_refused_by_the_command(command, tern_bay):
    file = tern_bay / "network.yaml"
    for words in (
        ["matrix", file, "--csv", "--json"],
        ["outages", file, "--every", "1"],
        ["change", file, "--pace", "3"],
        ["mend", file, "-o", ""],
        ["reach", file, "kiosk-a", "--in-order", "--steps"],
    ):
        done = command(*words)
        assert done.returncode == 2 and done.stderr.count("\n") == 1, words
