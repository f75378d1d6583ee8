"""Signals at random moments of long verbs: nothing is left running, no file is half written, no lock stays.

python tests/signals_referee.py FIRST-SEED COUNT      prints what falls short, then the figures
"""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path
from random import Random

import archipelago

EXAMPLES = Path(__file__).parent.parent / "examples"
SIGNALS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
PATIENCE = 15
"""So many seconds after a signal a verb has ended."""


def calls(folder: Path) -> list[list[str]]:
    """Verbs that take a while, each with a file that it writes."""
    network, brief, broken = (str(folder / name) for name in ("network.yaml", "brief.yaml", "broken.yaml"))
    return [
        ["mend", broken, "-o", "out.yaml"],
        ["design", brief, "-o", "out.yaml"],
        ["outages", network, "--double", "--resume", "kept.jsonl"],
        ["outages", network, "--double", "--workers", "2", "--resume", "kept.jsonl"],
        ["weigh", brief, "-o", "weighed"],
        ["draw", broken, "-o", "out.png"],
        ["export", network, "--as", "xlsx", "-o", "out.xlsx"],
        ["record", "own/network.yaml", "-m", "why"],
        ["demo", "made"],
        ["rehearse", network, "--from", "kiosk-a", "--to", "purser"],
    ]


def running(mark: str) -> list[str]:
    """What of a call runs still, by a word of its environment."""
    found = []
    for process in Path("/proc").glob("[0-9]*"):
        try:
            if mark.encode() in (process / "environ").read_bytes() and "Z" not in (process / "stat").read_text()[:40]:
                found.append((process / "cmdline").read_bytes().replace(b"\0", b" ").decode(errors="replace"))
        except OSError:
            continue
    return found


def short(random: Random, demo: Path, number: int) -> tuple[str, list[str]]:
    """The call of a seed, and what falls short of it."""
    mark = f"SIGNALLED_{os.getpid()}_{number}"
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "own").mkdir()
        shutil.copy(demo / "network.yaml", folder / "own" / "network.yaml")
        call = random.choice(calls(demo))
        process = subprocess.Popen(
            [sys.executable, "-m", "archipelago", *call],
            cwd=folder,
            env={**os.environ, mark: "1"},
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        time.sleep(random.random() ** 2 * 6)
        sent = random.choice(SIGNALS)
        process.send_signal(sent)
        said = []
        try:
            _, errors = process.communicate(timeout=PATIENCE)
            if "Traceback" in errors:
                said.append(errors[-400:])
        except subprocess.TimeoutExpired:
            process.kill()
            said.append(f"does not end within {PATIENCE} s")
        time.sleep(0.3)
        said += [f"runs still: {left[:120]}" for left in running(mark)]
        for path in folder.rglob("*"):
            if path.name.startswith(".archipelago") or path.name == "index.lock":
                said.append(f"left: {path.relative_to(folder)}")
            elif path.suffix == ".yaml":
                text = path.read_text()
                (archipelago.read_brief if "archipelago-brief" in text else archipelago.read_network)(text + "\n")
            elif path.suffix == ".jsonl":
                [json.loads(line) for line in path.read_text().split("\n")[:-1]]
        return f"{call[0]} {sent.name}", said


def main() -> None:
    first, count = map(int, sys.argv[1:3])
    figures: Counter[str] = Counter()
    with tempfile.TemporaryDirectory() as name:
        demo = Path(name) / "demo"
        subprocess.run([sys.executable, "-m", "archipelago", "demo", str(demo)], check=True, capture_output=True)
        for seed in range(first, first + count):
            call, said = short(Random(seed), demo, seed)
            figures.update([call.split()[0]])
            for line in said:
                figures["short"] += 1
                print(seed, call, line, flush=True)
    print(dict(figures))


if __name__ == "__main__":
    main()
