"""Make docs/verbs: a page for each verb, with its help and what it answers about the demo.

Run: python scripts/write_verbs.py
"""

from __future__ import annotations

import re
import subprocess
import sys
import tempfile
from pathlib import Path

from archipelago.cli.calls import VERBS

PAGES = Path(__file__).resolve().parent.parent / "docs" / "verbs"
SHOWN = {
    "demo": [["demo", "again"]],
    "carve": [["carve", "10.44.0.0/21", "tickets:210=45", "crew:220=110", "guests:250=300"]],
    "design": [["design", "brief.yaml", "-o", "network.yaml"]],
    "audit": [["audit", "network.yaml"], ["audit", "broken.yaml"]],
    "reach": [
        ["reach", "network.yaml", "purser", "lamp"],
        ["reach", "broken.yaml", "purser", "camera-s"],
        ["reach", "broken.yaml", "purser", "--in-order"],
        ["reach", "network.yaml", "purser", "outside", "--trace"],
        ["reach", "network.yaml", "innkeeper", "--lease"],
    ],
    "matrix": [["matrix", "broken.yaml"], ["matrix", "network.yaml", "--policy"]],
    "view": [
        ["view", "network.yaml"],
        ["view", "network.yaml", "landing"],
        ["view", "broken.yaml", "landing", "skerry"],
        ["view", "network.yaml", "--leases"],
    ],
    "mend": [["mend", "broken.yaml", "-o", "mended.yaml"]],
    "export": [
        ["export", "network.yaml", "--as", "linux", "-o", "network.sh"],
        ["export", "network.yaml", "--as", "csv", "-o", "addresses.csv"],
    ],
    "import": [
        ["import", "addresses.csv", "-o", "imported.yaml"],
        ["import", "addresses.csv", "--brief", "-o", "needs.yaml"],
    ],
    "compare": [["compare", "network.yaml", "broken.yaml"]],
    "change": [
        ["change", "broken.yaml", "network.yaml", "--from", "purser"],
        ["change", "broken.yaml", "network.yaml", "--from", "purser", "--enter", "--device", "quay-1"],
        ["change", "network.yaml"],
        ["change", "network.yaml", "--device", "quay-1"],
    ],
    "record": [["record", "kept/network.yaml", "-m", "before-the-move"]],
    "outages": [
        ["outages", "network.yaml"],
        ["outages", "network.yaml", "--break", "holm", "--from", "innkeeper", "--to", "purser", "--restore", "20"],
    ],
    "traffic": [["traffic", "network.yaml"]],
    "weigh": [["weigh", "brief.yaml"]],
    "draw": [["draw", "network.yaml", "-o", "network.svg"]],
    "schema": [["schema", "network", "-o", "network.schema.json"]],
}
"""What each page shows, one call after the other in a folder with the demo's files. `rehearse` needs a kernel and
prints its times, `completion` a shell: their pages show their help alone."""
MOST_LINES = 60
"""So many lines of an answer are shown."""


def answer(words: list[str], folder: str) -> str:
    """What a call prints."""
    done = subprocess.run(
        [sys.executable, "-m", "archipelago.cli.main", *words], cwd=folder, capture_output=True, text=True, check=False
    )
    return re.sub(r"recorded: [0-9a-f]{7}", "recorded: 1f2e3d4", done.stdout + done.stderr)  # of the time of the commit


def page(verb: str, folder: str) -> str:
    """The page of a verb, in a folder with the demo's files."""
    text = f"# {verb}\n\n```text\n{answer([verb, '--help'], folder).rstrip()}\n```\n"
    for words in SHOWN.get(verb, []):
        lines = answer(words, folder).rstrip().split("\n")
        more = [f"... and {len(lines) - MOST_LINES} more lines"] if len(lines) > MOST_LINES else []
        shown = "\n".join(line.rstrip() for line in [*lines[:MOST_LINES], *more])
        text += f"\n```text\n$ archipelago {' '.join(words)}\n{shown}\n```\n"
    return text


def main() -> None:
    PAGES.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as folder:
        answer(["demo", "."], folder)
        (Path(folder) / "kept").mkdir()
        (Path(folder) / "kept" / "network.yaml").write_bytes((Path(folder) / "network.yaml").read_bytes())
        for verb in VERBS:
            (PAGES / f"{verb}.md").write_text(page(verb, folder), encoding="utf-8")


if __name__ == "__main__":
    main()
