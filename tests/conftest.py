"""What every test may use."""

from __future__ import annotations

import subprocess
from collections.abc import Callable, Iterator
from importlib.resources import files
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

import archipelago
from archipelago.cli.demo import mistakes_on_the_way
from warm_command import WarmCommand

USUAL = settings(deadline=None, derandomize=True, suppress_health_check=[HealthCheck.too_slow])
settings.register_profile("quick", USUAL, max_examples=10)
settings.register_profile("thorough", USUAL, max_examples=60)
settings.load_profile("quick")

Run = Callable[..., "subprocess.CompletedProcess[str]"]


@pytest.hookimpl(tryfirst=True)
def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """A law that is tried on many random networks (`seed`) is tried on one in ten of them by the usual command, and on
    the others by `-m long`. Those that Hypothesis tries (`law`) are tried on few examples; on many by
    `--hypothesis-profile thorough`, as CI does."""
    for item in items:
        call = getattr(item, "callspec", None)
        if call is not None and call.indices.get("seed", 0) % 10:
            item.add_marker("long")
        if getattr(getattr(item, "obj", None), "is_hypothesis_test", False):
            item.add_marker("law")


@pytest.fixture(scope="session")
def command() -> Iterator[Run]:
    """The real command in a process of its own."""
    run = WarmCommand()
    yield run
    run.close()


@pytest.fixture(scope="session")
def tern_bay(command: Run, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo's files, written by the demo itself."""
    directory = tmp_path_factory.mktemp("demo") / "tern bay"
    done = command("demo", directory)
    assert done.returncode == 0, done.stderr
    (directory / "demo.txt").write_text(done.stdout)
    return directory


@pytest.fixture(scope="session")
def plain_bay(command: Run, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo's terminal without a policy and leases, and with one of everything: its brief, the network designed from
    it, and a copy with the six mistakes that packets meet on their way."""
    directory = tmp_path_factory.mktemp("plain") / "tern bay"
    directory.mkdir()
    text = files("archipelago.demo").joinpath("tern-bay.yaml").read_text(encoding="utf-8")
    text = (
        text[: text.index("policy:")].replace("address: [dhcp, auto]", "address: auto").replace(", address: dhcp", "")
    )
    for twice, once in (
        ("  holm-2: {kind: l3switch, ports: 12}\n  inn:    {kind: switch, ports: 12}\n", ""),
        ("at: [holm, holm-2], shared: true}", "at: holm}"),
        ("at: inn/", "at: holm/"),
        ("holm-2/p11 ~ skerry/p11", "holm/p11 ~ skerry/p11"),
        (text[text.index("  # a round of trunks") : text.index("expect:")], ""),
    ):
        text = text.replace(twice, once)
    (directory / "brief.yaml").write_text(text)
    network = directory / "network.yaml"
    done = command("design", directory / "brief.yaml", "-o", network)
    assert done.returncode == 0, done.stderr
    edits = [edit for _, edits in mistakes_on_the_way(archipelago.read_network(network)) for edit in edits]
    (directory / "broken.yaml").write_text(archipelago.amend(network.read_text(), edits))
    return directory
