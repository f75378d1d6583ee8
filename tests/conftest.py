"""What every test may use."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

settings.register_profile(
    "steady", deadline=None, derandomize=True, suppress_health_check=[HealthCheck.too_slow], max_examples=25
)
settings.load_profile("steady")

Run = Callable[..., "subprocess.CompletedProcess[str]"]


@pytest.fixture(scope="session")
def command() -> Run:
    """The real command in a process of its own."""

    def run(*words: object, cwd: Path | None = None, stdin: str | None = None) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [sys.executable, "-m", "archipelago.cli.main", *map(str, words)],
            capture_output=True,
            text=True,
            cwd=cwd,
            input=stdin,
            env={**os.environ, "PYTHONIOENCODING": "utf-8"},
            timeout=120,
            check=False,
        )

    return run


@pytest.fixture(scope="session")
def tern_bay(command: Run, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo's files, written by the demo itself."""
    directory = tmp_path_factory.mktemp("demo") / "tern bay"
    done = command("demo", directory)
    assert done.returncode == 0, done.stderr
    (directory / "tour.txt").write_text(done.stdout)
    return directory
