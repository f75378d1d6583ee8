"""What the documentation tells people to type works."""

from __future__ import annotations

import os
import re
import shlex
import subprocess
import sys
from pathlib import Path

import pytest

from archipelago.cli.calls import EXAMPLES, VERBS

DOCS = Path(__file__).parent.parent / "docs"


@pytest.fixture(scope="module")
def first_hour(tmp_path_factory):
    """The steps of the first hour, typed in order in an empty folder; what each printed."""
    folder = tmp_path_factory.mktemp("hour")
    (folder / "archipelago").write_text(f'#!/bin/sh\nexec {sys.executable} -m archipelago.cli.main "$@"\n')
    (folder / "archipelago").chmod(0o755)
    text = (DOCS / "first-hour.md").read_text()
    (folder / "brief.yaml").write_text(re.search(r"```yaml\n(.*?)```", text, re.DOTALL)[1])
    printed = {}
    for block in re.findall(r"```sh\n(.*?)```", text, re.DOTALL):
        for line in block.splitlines():
            env = {**os.environ, "PATH": f"{folder}:{os.environ['PATH']}"}
            done = subprocess.run(["sh", "-c", line], cwd=folder, env=env, capture_output=True, text=True, check=False)
            assert done.returncode == 0, (line, done.stderr)
            printed[line] = done.stdout
    return folder, printed


@pytest.mark.long
def test_the_first_hour_ends_with_a_mended_network(first_hour):
    folder, printed = first_hour
    assert "no findings" in printed["archipelago audit network.yaml"]
    assert "2 of 2 pairs reached" in printed["archipelago matrix network.yaml"]
    broken = printed["archipelago reach network.yaml winch gull || true"]
    assert broken.startswith("NOT REACHED") and "add yard to the trunk slip/p12" in broken
    assert "no findings" in printed["archipelago audit mended.yaml"]
    assert (folder / "mended.svg").read_text().startswith("<?xml")


@pytest.mark.parametrize("verb", VERBS)
def test_each_verb_has_a_page_with_its_options_and_examples(verb):
    page = (DOCS / "verbs" / f"{verb}.md").read_text().replace(" \\\n    ", " ")
    options = [name for *names, _ in VERBS[verb][2] for name in names if name.startswith("-")]
    examples = [f"archipelago {verb} {example}".rstrip() for example in EXAMPLES[verb]]
    assert all(word in page for word in (*options, *examples))


def test_every_link_between_pages_leads_somewhere():
    for page in (*DOCS.glob("**/*.md"), DOCS.parent / "README.md"):
        for link in re.findall(r"\]\(([^)#:]+)\)", page.read_text()):
            assert (page.parent / link).exists(), (page, link)


def blocks(page, language):
    """The code blocks of a page in a language."""
    return re.findall(rf"^```{language}\n(.*?)^```$", page, re.M | re.S)


def test_what_the_readme_shows_is_what_is_printed(command, tern_bay, monkeypatch):
    page = (DOCS.parent / "README.md").read_text()
    monkeypatch.chdir(tern_bay)
    shown = [block for block in blocks(page, "text") if block.startswith("$ archipelago ")]
    assert shown
    for block in shown:
        line, _, answer = block.partition("\n")
        assert command(*shlex.split(line)[2:], cwd=tern_bay).stdout.rstrip() == answer.rstrip()
    (code,) = blocks(page, "python")
    exec(code, {})


def test_the_page_of_verbs_names_every_verb():
    page = (DOCS / "verbs" / "README.md").read_text()
    assert all(f"[{verb}]({verb}.md)" in page for verb in VERBS)
