"""The rules, and running them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from importlib import import_module

from archipelago.diagnosis.picture import Picture
from archipelago.model.finding import SEVERITIES, Finding

Rule = Callable[[Picture], Iterator[Finding]]

RULES: list[Rule] = []
"""Every rule, in the order of its module and place."""

_MODULES = ("hosts", "addresses", "switching", "interfaces", "routing")


def rule(function: Rule) -> Rule:
    """Register a function that finds one kind of mistake."""
    RULES.append(function)
    return function


def run(view: Picture) -> tuple[Finding, ...]:
    """Every finding of every rule, worst first, then in the order of the document; each mistake once."""
    for module in _MODULES:
        import_module(f"archipelago.audit.{module}")
    found: dict[tuple[object, ...], Finding] = {}
    for one in RULES:
        for finding in one(view):
            found.setdefault((finding.slug, finding.path, finding.mend), finding)
    line = view.network.line

    def order(finding: Finding) -> tuple[int, int]:
        return SEVERITIES.index(finding.severity), line(finding.path)

    return tuple(sorted(found.values(), key=order))
