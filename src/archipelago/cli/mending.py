"""The verb `mend`: apply, read again, audit again, show what changed and what is left."""

from __future__ import annotations

import difflib
from typing import NamedTuple

import archipelago
from archipelago.cli import out
from archipelago.errors import DocumentError, QueryError
from archipelago.files.disk import read_bytes, write_whole
from archipelago.files.network import network_from
from archipelago.files.tree import parse
from archipelago.model.finding import Finding
from archipelago.model.network import Network
from archipelago.views import findings as view
from archipelago.views.plain import finding_with_line
from archipelago.views.table import counted

ROUNDS = 8
"""Mending one thing can bring another to light; so many times it is looked again."""


class Mended(NamedTuple):
    """A document after its mends: the text, the network it is, what was mended, and what is left."""

    text: str
    network: Network
    made: list[Finding]
    left: tuple[Finding, ...]


def apply_mends(text: str, source: str, only: list[str]) -> Mended:
    """Mend a document's text, and look again until nothing that can be mended is left."""
    made: list[Finding] = []
    for _ in range(ROUNDS):
        network = network_from(parse(text.encode(), source))
        found = archipelago.audit(network)
        chosen = [one for one in found if one.edits and (not only or _meant(one, only))]
        if not chosen:
            break
        text, applied = _apply(text, chosen)
        made += applied
        if not applied:
            break
    else:
        network = network_from(parse(text.encode(), source))
        found = archipelago.audit(network)
    return Mended(text, network, made, found)


def mend(path: str, output: str, only: list[str], as_json: bool) -> int:
    """Mend a network file into another. Returns 0 when no error is left, else 1."""
    before = read_bytes(path).decode("utf-8-sig")
    found = archipelago.audit(archipelago.read_network(path))
    for choice in only:
        if not any(_meant(one, [choice]) for one in found):
            listed = ", ".join(sorted({f"{one.slug}@{one.at}" for one in found})) or "none"
            raise QueryError(f"no finding is '{choice}'; give a kind, a device or KIND@DEVICE of: {listed}")
    mended = apply_mends(before, output, only)
    text, network, made, found = mended.text, mended.network, mended.made, mended.left
    write_whole(output, text)
    errors = sum(one.severity == "error" for one in found)
    if as_json:
        left = [finding_with_line(network, one) for one in found]
        out.say_json({"mended": archipelago.to_json(made), "left": left, "errors": errors, "written": output})
        return 1 if errors else 0
    out.head(f"{counted(len(made), 'mend')} made, written to {output}; left: {view.headline(found)}")
    out.say()
    out.say_lines(f"  {one.slug} at {one.at}: {one.mend}" for one in made)
    out.say()
    changed = difflib.unified_diff(before.splitlines(), text.splitlines(), path, output, lineterm="", n=0)
    out.say_lines(line for line in changed if not line.startswith("@@"))
    out.say_lines(view.lines(network, found))
    return 1 if errors else 0


def _meant(finding: Finding, only: list[str]) -> bool:
    """Whether a finding is among those chosen: by its kind, its device, or both."""
    return bool({finding.slug, finding.at, f"{finding.slug}@{finding.at}"} & set(only))


def _apply(text: str, findings: list[Finding]) -> tuple[str, list[Finding]]:
    """Apply the mends of one audit; those that touch the same place wait for the next look."""
    touched: set[tuple[str | int, ...]] = set()
    chosen = []
    for one in findings:
        paths = {edit.path for edit in one.edits}
        clash = any(a[: len(b)] == b or b[: len(a)] == a for a in paths for b in touched if a[-1] != "+" or a != b)
        moved = any(isinstance(part, int) for path in paths for part in path[:-1]) and any(
            isinstance(t[-1], int) for t in touched
        )
        if not clash and not moved:
            touched |= paths
            chosen.append(one)
    together = archipelago.amend(text, [edit for one in chosen for edit in one.edits])
    if _reads(together):
        return together, chosen
    # Two mends that cannot stand together: each in turn, those that would spoil the document left out.
    made = []
    for one in chosen:
        alone = archipelago.amend(text, one.edits)
        if _reads(alone):
            text = alone
            made.append(one)
    return text, made


def _reads(text: str) -> bool:
    try:
        network_from(parse(text.encode(), ""))
    except DocumentError:
        return False
    return True
