"""Make the pictures of docs/screenshots from the demo data.

Terminal views are what the command shows in a terminal, set in a fixed-width font on a page of 1280 x 800 pixels; of a
longer output it is the first screen. Run: python scripts/screenshots.py
"""

from __future__ import annotations

import os
import pty
import re
import sys
import tempfile
from contextlib import suppress
from pathlib import Path

from matplotlib.figure import Figure

import archipelago

SHOTS = Path(__file__).resolve().parent.parent / "docs" / "screenshots"
PAGES = {
    "design": ["design", "brief.yaml", "-o", "network.yaml"],
    "audit": ["audit", "broken.yaml"],
    "reach-not": ["reach", "broken.yaml", "purser", "camera-s"],
    "lease": ["reach", "network.yaml", "innkeeper", "--lease"],
    "view": ["view", "network.yaml"],
    "redundancy": ["view", "network.yaml", "--redundancy"],
    "matrix": ["matrix", "broken.yaml"],
    "rehearse": ["rehearse", "broken.yaml", "--from", "purser"],
    "change": ["change", "running.yaml", "moved.yaml", "--from", "purser", "--window"],
    "mend": ["mend", "broken.yaml", "-o", "mended.yaml"],
}
MOVED = {"hall:   {kind: switch,": "hall:   {kind: l3switch,", "at: landing/p1}": "at: hall}"}
"""What makes a layer 3 switch of the demo's hall, and then moves the terminal's gateways there."""
BREAK = ["outages", "network.yaml", "--break", "holm", "--from", "innkeeper", "--to", "purser", "--restore", "20"]
CARVE = ["carve", "10.44.0.0/21", "2001:db8:44::/48", "tickets:210=45", "crew:220=110", "guests:250=300"]
WIDTH, HEIGHT = 1280, 800
SIZE = 13.0
LEADING = 19.0


COLUMNS = 152


def run(*words: str, cwd: Path) -> str:
    """What a call shows in a terminal of COLUMNS columns, without its emphasis."""
    pid, reading = pty.fork()
    if pid == 0:
        os.chdir(cwd)
        os.environ.update({"TERM": "xterm", "NO_COLOR": "1", "COLUMNS": str(COLUMNS), "LINES": "50"})
        os.execv(sys.executable, [sys.executable, "-m", "archipelago.cli.main", *words])
    shown = b""
    with suppress(OSError):  # the terminal is gone when the call has ended
        while some := os.read(reading, 1 << 16):
            shown += some
    os.close(reading)
    os.waitpid(pid, 0)
    return re.sub(r"\r[^\n]*?\x1b\[K", "", shown.decode().replace("\r\n", "\n")).replace("\r", "")  # while at work


def page(text: str, name: str) -> None:
    """A text as a picture of a terminal."""
    lines = text.rstrip("\n").split("\n")
    room = int((HEIGHT - 56) / LEADING)
    if len(lines) > room:
        lines = [*lines[: room - 1], f"... {len(lines) - room + 1} more lines"]
    figure = Figure(figsize=(WIDTH / 100, HEIGHT / 100), dpi=100, facecolor="#10222b")
    for index, line in enumerate(lines):
        colour = "#ffffff" if index < 2 else "#d5e3e6"
        figure.text(
            28 / WIDTH,
            1 - (28 + (index + 0.5) * LEADING) / HEIGHT,
            line.replace("$", r"\$"),
            family="DejaVu Sans Mono",
            fontsize=SIZE * 0.72,
            color=colour,
            va="center",
        )
    figure.savefig(SHOTS / f"{name}.png", facecolor=figure.get_facecolor())


def _move(bay: Path) -> None:
    """The network before and after its gateways move: `running.yaml`, `moved.yaml`. Answers leave a way in that was
    closed before; that is accepted."""
    text = (bay / "brief.yaml").read_text()
    for name, keep in (("running", ()), ("moved", ("--keep", "running.yaml", "--accept-losses"))):
        for old, new in MOVED.items():
            if name == "moved" or "kind" in old:
                text = text.replace(old, new)
        (bay / f"{name}-brief.yaml").write_text(text)
        run("design", f"{name}-brief.yaml", *keep, "-o", f"{name}.yaml", cwd=bay)


def weigh_in_pixels(brief: Path, path: Path) -> None:
    """The designs of a brief side by side; the command writes the same as SVG."""
    found = archipelago.weigh(archipelago.read_brief(brief), suppose=["hall"])
    archipelago.draw(found, path)


def main() -> None:
    SHOTS.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as directory:
        bay = Path(directory)
        run("demo", ".", cwd=bay)
        _move(bay)
        for name, words in PAGES.items():
            page(f"$ archipelago {' '.join(words)}\n{run(*words, cwd=bay)}", name)
        run("traffic", "network.yaml", "--each", "20M", "-o", str(SHOTS / "load.png"), cwd=bay)
        weigh_in_pixels(bay / "brief.yaml", SHOTS / "weighing.png")
        run("matrix", "broken.yaml", "-o", str(SHOTS / "matrix-figure.png"), cwd=bay)
        run("matrix", "broken.yaml", "--policy", "-o", str(SHOTS / "policy.png"), cwd=bay)
        run("draw", "broken.yaml", "-o", str(SHOTS / "diagram-broken.png"), "--way", "purser,lamp", cwd=bay)
        run("outages", "network.yaml", "-o", str(SHOTS / "hanging.png"), cwd=bay)
        run("compare", "running.yaml", "moved.yaml", "-o", str(SHOTS / "compare.png"), cwd=bay)
        run(*BREAK, "-o", str(SHOTS / "outages-break.png"), cwd=bay)
        run(*CARVE, "-o", str(SHOTS / "space.png"), cwd=bay)


if __name__ == "__main__":
    main()
