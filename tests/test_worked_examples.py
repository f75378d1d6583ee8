"""Whoever adds something touches the files that docs/rooms.md names, and no other: each worked example is followed."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

import archipelago

SOURCE = Path(archipelago.__file__).parent
DOCS = Path(__file__).parent.parent / "docs"
ROWS = re.findall(r"^\| (.+) \|$", (DOCS / "rooms.md").read_text().partition("## Where a new thing goes")[2], re.M)[2:]


@pytest.fixture
def package(tmp_path):
    """A copy of the package to change, and what runs Python, or the command, with it."""
    shutil.copytree(SOURCE, tmp_path / "archipelago", ignore=shutil.ignore_patterns("__pycache__"))
    shutil.copy(DOCS.parent / "examples" / "slipway-network.yaml", tmp_path / "network.yaml")

    def run(*words):
        return subprocess.run(
            [sys.executable, *words], cwd=tmp_path, env={"PYTHONPATH": str(tmp_path)}, capture_output=True, text=True
        )

    def put(file, before, line):
        """A line before what begins so in a file."""
        text = (tmp_path / "archipelago" / file).read_text()
        assert text.count(before) == 1, (file, before)
        (tmp_path / "archipelago" / file).write_text(text.replace(before, line + before))

    def new(file, text):
        (tmp_path / "archipelago" / file).write_text(text)

    return run, put, new


@pytest.mark.parametrize("row", ROWS, ids=[row.partition(" | ")[0] for row in ROWS])
def test_what_a_row_names_is_there(row):
    _, where, _ = row.split(" | ")
    for word in re.findall(r"`((?:\w+/)+[\w.]+)`", where):
        path, _, name = word.partition(".") if not word.endswith(".py") else (word.removesuffix(".py"), "", "")
        file = SOURCE / f"{path}.py"
        assert file.exists() or (SOURCE / path).is_dir(), word
        assert not name or re.search(rf"^(class |def )?{name}\b", file.read_text(), re.M), word


def test_a_new_key(package):
    run, put, _ = package
    put(
        "model/keys.py",
        "    # leases\n",
        '    Key("berth", Value.NAME, (Holder.DEVICE,), "the berth that it stands at"),\n',
    )
    put("model/parts.py", "    console: bool = False\n", "    berth: str | None = None\n")
    code = """
import archipelago, json
text = open("network.yaml").read().replace("kind: switch", "kind: switch\\n    berth: north", 1)
open("berthed.yaml", "w").write(text)
network = archipelago.read_network("berthed.yaml")
assert [device.berth for device in network.devices.values() if device.berth] == ["north"]
assert "berth: north" in archipelago.network_text(network)
assert "the berth that it stands at" in json.dumps(archipelago.schema("network"))
"""
    done = run("-c", code)
    assert not done.returncode, done.stderr


def test_a_new_answer_with_a_picture_and_the_verb_that_gives_it(package):
    run, put, new = package
    new(
        "load/tides.py",
        """
from dataclasses import dataclass
from archipelago.answer import Answer

@dataclass(frozen=True, slots=True, repr=False)
class Tides(Answer):
    SHOWN = "tides.TIDES"
    metres: tuple[float, ...]

    @property
    def headline(self) -> str:
        return f"{len(self.metres)} tides, the highest {max(self.metres)} m"

    def __bool__(self) -> bool:
        return max(self.metres) < 6
""",
    )
    new(
        "views/tides.py",
        """
from archipelago.views.face import Face
from archipelago.views.schema import NUMBER, record, several
from archipelago.views.table import table

TIDES = Face(
    name="tides",
    verb="tides",
    shape=record(metres=several(NUMBER)),
    values=lambda tides: {"metres": list(tides.metres)},
    tables=lambda tides: [table("tides", ("metres",), [(one,) for one in tides.metres])],
    picture="tides_picture.tides_picture",
)
""",
    )
    new(
        "views/tides_picture.py",
        """
from archipelago.views.picture_parts import MARGIN, bar, heading
from archipelago.views.shapes import Picture, pattern

def tides_picture(tides):
    picture = Picture("tides", tides.headline, 400, 60 + 20 * len(tides.metres))
    picture.shapes += heading(tides.headline)
    for number, metres in enumerate(tides.metres):
        picture.shapes += bar(MARGIN, 50 + 20 * number, 50 * metres, pattern(0), f"{metres} m")
    return picture
""",
    )
    new(
        "api/tides.py",
        """
def tides(*metres):
    from archipelago.load.tides import Tides
    return Tides(metres)
""",
    )
    put("public.py", "from archipelago.api.showing import export", "from archipelago.api.tides import tides as tides\n")
    put("public.py", "from archipelago.load.result import Load ", "from archipelago.load.tides import Tides as Tides\n")
    put(
        "cli/verbs.py",
        "def schema(",
        """def tides(words: Namespace) -> int:
    found = archipelago.tides(*words.metres)
    out.say_json(found.values()) if words.as_json else out.answer(found)
    return 0 if found else 1


""",
    )
    put(
        "cli/calls.py",
        '    "schema": (\n',
        '    "tides": (verbs.tides, "tell the tides", [("metres", {"type": float, "nargs": "+"}), JSON]),\n',
    )
    put("cli/calls.py", '    "demo": ["", "tern-bay", "tour tern-bay"],\n', '    "tides": ["2.5 5.5"],\n')

    code = """
import archipelago, re
from archipelago import *
tides = tides(2.5, 5.5)
assert isinstance(tides, Tides) and tides and repr(tides) == "<Tides: 2 tides, the highest 5.5 m>"
archipelago.draw(tides, "tides.svg")
assert "5.5 m" in open("tides.svg").read()
assert to_json(tides)["format"] == "archipelago-tides/1" and list(to_table(tides)["metres"]) == [2.5, 5.5]
assert schema("tides")["properties"]["metres"]["type"] == "array"
print(tides)
"""
    printed = run("-c", code)
    assert not printed.returncode, printed.stderr
    told = run("-m", "archipelago", "tides", "2.5", "5.5")
    assert (told.returncode, told.stdout) == (0, printed.stdout), told.stderr
    high = run("-m", "archipelago", "tides", "6.5", "--json")
    assert high.returncode == 1 and json.loads(high.stdout)["metres"] == [6.5]
    assert "tell the tides" in run("-m", "archipelago", "--help").stdout
    assert "archipelago tides 2.5 5.5" in run("-m", "archipelago", "tides", "--help").stdout


def test_a_new_format(package, tmp_path):
    run, put, _ = package
    put(
        "views/formats.py",
        '    "zone": Format(',
        '    "names": Format("its hosts", lambda network: "\\n".join(network.hosts)),\n',
    )
    done = run("-m", "archipelago", "export", "network.yaml", "--as", "names", "-o", "names.txt")
    assert not done.returncode, done.stderr
    assert (tmp_path / "names.txt").read_text().split() == [
        *archipelago.read_network(DOCS.parent / "examples" / "slipway-network.yaml").hosts
    ]
    assert "its hosts" in " ".join(run("-m", "archipelago", "export", "--help").stdout.split())


def test_a_new_finding(package, tmp_path):
    run, put, _ = package
    rule = """
@rule
def nameless(index: NetworkIndex) -> Iterator[Finding]:
    \"\"\"A network without a title.\"\"\"
    if not index.network.title:
        yield finding(UNTITLED, at="", path=(), says="the network has no title", mend="give it a title")


UNTITLED = Kind("untitled", "note", "a network without a title", "nothing; nobody knows which it is", NEVER)


"""
    put("audit/unneeded.py", "@rule\ndef unused_vlans", rule.replace('\\"', '"').lstrip("\n"))
    put("audit/unneeded.py", "from archipelago.diagnosis.kind", "from archipelago.diagnosis.kind import NEVER\n")
    (tmp_path / "bare.yaml").write_text("format: archipelago-network/1\ndevices: {quay: {kind: switch}}\n")
    done = run("-m", "archipelago", "audit", "bare.yaml")
    assert "NOTE untitled" in done.stdout and "nobody knows which it is" in done.stdout, done.stderr
