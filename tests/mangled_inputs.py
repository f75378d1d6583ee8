"""Inputs of every kind mangled at random, given to the real command: lists, recipes, folders of what devices say, work
that is carried on with, states of git, and every verb on mangled documents. Each call ends with an answer or in words.

python tests/mangled_inputs.py FIRST-SEED COUNT      prints each call that fails, then how many there were of each kind
"""

from __future__ import annotations

import hashlib
import json
import os
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from random import Random
from typing import Any

import yaml

import archipelago
from archipelago.api.kept_work import KeptWork
from archipelago.failures.double import rows_of, work_of
from makers import scrambled
from test_as_built import quay
from test_mangled import ODD, mangled, text_of
from warm_command import WarmCommand

EXAMPLES = Path(__file__).parent.parent / "examples"
LONGEST = 10
"""No call takes more seconds."""
WORDS = ("", "0", "-1", "999999", "1e9", "all", "none", "outside", "any", "a/b", "p1 ~ p2", "10.44.0.1", "::", "\u00e9")
Calls = Callable[[Random, Path], list[list[object]]]
"""Writes files into a folder, and says which calls are made of them."""
RECIPE = {
    "format": "archipelago-recipe/1",
    "move-gateways": [{"vlans": ["tickets"], "to": "shed", "transit": "10.44.30.0/31"}],
    "renumber": [{"vlan": "crew", "subnet": "10.44.40.0/24"}],
    "split": [{"vlan": "crew", "new": "deck", "id": 260, "subnet": "10.44.50.0/24", "hosts": ["winch"]}],
}


def noisy(text: str, random: Random) -> bytes:
    """A text with some of its bytes dropped, doubled, exchanged, or replaced."""
    content = bytearray(text.encode())
    for _ in range(random.choice((0, 1, 1, 3, 20))):
        at = random.randrange(len(content) + 1)
        piece = random.choice((b",", b"\n", b'"', b"|", b"\t", b"\x00", b"\xff", b"{", b"]", b"= ", b"'", b" " * 500))
        content[at : at + random.choice((0, 1, 5))] = random.choice((piece, b"", content[at : at + 30]))
    return bytes(content)


def lists(random: Random, folder: Path) -> list[list[object]]:
    """Address lists of every writer."""
    network = scrambled(random, small=True) or archipelago.read_network(EXAMPLES / "slipway-network.yaml")
    form = random.choice(("csv", "tsv", "markdown", "xlsx"))
    made = archipelago.export(network, form)
    assert isinstance(made, (str, bytes))
    content = noisy(made, random) if isinstance(made, str) else bytearray(made)
    if isinstance(content, bytearray):
        for _ in range(random.choice((0, 1, 4))):
            content[random.randrange(len(content))] = random.randrange(256)
    (folder / "list").write_bytes(bytes(content))
    brief = ["--brief"] if random.random() < 0.3 else []
    return [["import", folder / "list", *brief, "-o", folder / "out.yaml"]]


def recipes(random: Random, folder: Path) -> list[list[object]]:
    """Recipes for the slipway, and for a network at random."""
    network = scrambled(random, small=True)
    sound = network if network is not None and random.random() < 0.5 else EXAMPLES / "slipway-network.yaml"
    text = archipelago.network_text(sound) if not isinstance(sound, Path) else sound.read_text()
    (folder / "old.yaml").write_text(text)
    recipe: dict[str, Any] = {key: RECIPE[key] for key in RECIPE if key == "format" or random.random() < 0.5}
    (folder / "recipe.yaml").write_text(text_of(mangled(recipe, random), random), encoding="utf-8", errors="replace")
    return [["change", folder / "old.yaml", "--recipe", folder / "recipe.yaml", "-o", folder / "out.yaml"]]


def folders(random: Random, folder: Path) -> list[list[object]]:
    """What devices say of themselves."""
    root = quay(folder / "built")
    for path in sorted(root.rglob("*.*")):
        chance = random.random()
        if chance < 0.15 and path.suffix == ".json":
            path.write_text(json.dumps(mangled(json.loads(path.read_text()), random)))
        elif chance < 0.25:
            path.write_bytes(noisy(path.read_text(), random))
        elif chance < 0.28:
            path.unlink()
            random.choice((path.mkdir, lambda: os.mkfifo(path), lambda: path.symlink_to("/dev/zero")))()  # noqa: B023
    return [["import", root, "-o", folder / "out.yaml"]]


def kept_work(random: Random, folder: Path) -> list[list[object]]:
    """Double failures that are carried on with."""
    network, kept = EXAMPLES / "slipway-network.yaml", folder / "kept.jsonl"
    work = work_of(archipelago.read_network(network))
    with KeptWork(kept, work) as file:
        for piece in work.pieces():
            file.keep(piece, rows_of(work, piece))
    lines = kept.read_text().splitlines()
    told = [json.dumps(mangled(json.loads(line), random)) if random.random() < 0.3 else line for line in lines]
    kept.write_bytes(noisy("\n".join(told) + "\n", random))
    return [["outages", network, "--double", "--resume", kept]]


def records(random: Random, folder: Path) -> list[list[object]]:
    """States of git."""
    document = folder / random.choice(("network.yaml", ":!x.yaml", "a b.yaml", "-n.yaml"))
    document.write_text((EXAMPLES / "slipway-network.yaml").read_text())

    def git(*words: str) -> None:
        call = ["git", "-c", "user.name=x", "-c", "user.email=x@example.org", *words]
        subprocess.run(call, cwd=folder, capture_output=True, check=False)

    for step in random.sample(range(8), random.randrange(6)):
        if step == 0:
            git("init", "-q")
        elif step == 1:
            git("add", "-A")
            git("commit", "-qm", random.choice(("plan", "a\x1fb", "Recorded-by: x", "\u00e9\n\nRecorded-by: me")))
        elif step == 2:
            (folder / ".git").mkdir(exist_ok=True)
            (folder / ".git" / random.choice(("HEAD", "index", "config"))).write_bytes(noisy("ref: x\n", random))
        elif step == 3 and (folder / ".git").is_dir():
            (folder / ".git" / "index.lock").touch()
        elif step == 4:
            git("config", random.choice(("trailer.separators", "core.autocrlf", "commit.gpgsign")), "true")
        elif step == 5:
            document.write_bytes(document.read_bytes() + b"# more\r\n")
        elif step == 6:
            git("checkout", "-q", "--detach")
        else:
            git("mv", document.name, "moved.yaml")
    asked = (
        ["-m", random.choice(WORDS[:8]) or "why"],
        ["--list"],
        ["--compare", "HEAD~1", "HEAD"],
        ["--restore", "HEAD"],
    )
    return [["record", *random.choice(asked), f"./{document.name}"]]


def documents(random: Random, folder: Path) -> list[list[object]]:
    """Verbs with words at random, on mangled networks and briefs."""
    network = scrambled(random, small=True, anything=True)
    names = [*(network.hosts if network else ()), *(network.devices if network else ())]
    document = yaml.safe_load(archipelago.network_text(network)) if network else {"format": "archipelago-network/1"}
    if random.random() < 0.5:
        document = mangled(document, random)
    (folder / "n.yaml").write_text(text_of(document, random), encoding="utf-8", errors="replace")
    (folder / "m.yaml").write_text(archipelago.network_text(network) if network else "")
    end = lambda: random.choice([*names, *WORDS, *map(str, ODD[:12])]) or "x"  # noqa: E731
    n = folder / "n.yaml"
    calls: list[list[object]] = [
        ["audit", n],
        ["reach", n, end(), end()],
        ["reach", n, end(), end(), random.choice(("--trace", "--steps", "--json", "--next"))],
        ["reach", n, end(), random.choice(("--lease", "--broadcast", "--in-order"))],
        ["matrix", n, random.choice(("--policy", "--hosts", "--devices", "--csv", "--json"))],
        ["matrix", n, "--without", end()],
        ["view", n, *([end()] if random.random() < 0.5 else [])],
        ["view", n, random.choice(("--gateways", "--policy", "--leases", "--redundancy"))],
        ["view", n, random.choice(("--host", "--vlan", "--port")), end()],
        ["mend", n, "-o", folder / "out.yaml"],
        ["draw", n, "-o", folder / "out.svg"],
        ["export", n, "--as", random.choice(("linux", "csv", "xlsx", "zone")), "-o", folder / "out"],
        ["outages", n, "--break", end(), "--from", end(), "--to", end()],
        ["outages", n, "--quick"],
        ["compare", folder / "m.yaml", n],
        ["traffic", n],
        ["change", folder / "m.yaml", n, "--from", end()],
        ["design", n],
    ]
    return random.sample(calls, 2)


KINDS: dict[str, Calls] = {
    "list": lists,
    "recipe": recipes,
    "folder": folders,
    "work": kept_work,
    "record": records,
    "document": documents,
}


def state(folder: Path) -> dict[str, str]:
    """What each file of a folder holds, but git's own."""
    files = (path for path in sorted(folder.rglob("*")) if path.is_file() and ".git" not in path.parts)
    return {str(path): hashlib.sha256(path.read_bytes()).hexdigest() for path in files if not path.is_symlink()}


def short(seed: int, kind: str, run: WarmCommand) -> list[str]:
    """What falls short in the calls of a seed: an answer that is none, words that are none, a file changed or left."""
    random = Random(seed)
    told: list[str] = []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for call in KINDS[kind](random, folder):
            before, began = state(folder), time.monotonic()
            done = run(*call, cwd=folder)
            line = f"{kind} {seed}: {' '.join(map(str, call))!r} ended with {done.returncode}: {done.stderr[-300:]!r}"
            if done.returncode not in (0, 1, 2) or "Traceback" in done.stderr or "unexpected error" in done.stderr:
                told.append(line)
            elif done.returncode == 2 and not done.stderr.strip():
                told.append(f"{line} (no words)")
            if time.monotonic() - began > LONGEST:
                told.append(f"{line} after {time.monotonic() - began:.0f} s")
            after = state(folder)
            changed = {path for path in before if after.get(path) != before[path]}
            allowed = {str(folder / "kept.jsonl")} if kind == "work" else set()
            allowed |= {path for path in before if kind == "record" and "--restore" in call}
            left = {path for path in after if path not in before and Path(path).name.startswith(".")}
            if changed - allowed or left:
                told.append(f"{line} changed {sorted(changed)}, left {sorted(left)}")
    return told


def main() -> None:
    first, count = map(int, sys.argv[1:3])
    figures: Counter[str] = Counter()
    run = WarmCommand()
    kinds = sys.argv[3:] or list(KINDS)
    for seed in range(first, first + count):
        for kind in kinds:
            figures[kind] += 1
            for line in short(seed, kind, run):
                figures["short"] += 1
                print(line, flush=True)
    run.close()
    print(dict(figures))


if __name__ == "__main__":
    main()
