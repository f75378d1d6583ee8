"""The rules, and running them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from importlib import import_module

from archipelago.audit.halves import whole
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import SEVERITIES, Finding
from archipelago.model.network import Network
from archipelago.progress import steps

Rule = Callable[[NetworkIndex], Iterator[Finding]]

RULES: list[Rule] = []
"""Every rule of the modules that are loaded."""


_ORDER = (
    "hosts",
    "addresses",
    "switching",
    "sizes",
    "unneeded",
    "interfaces",
    "routing",
    "ways",
    "filters",
    "leases",
    "redundancy",
    "spanning_tree",
    "takeovers",
    "shared_aggregates",
)
"""The modules with rules, in the order in which they are asked: of two that find one mistake the first says how bad it
is. A test fails where a module with a rule is missing."""


def rule(function: Rule) -> Rule:
    """Register a function that finds one kind of mistake."""
    RULES.append(function)
    return function


def run(index: NetworkIndex) -> tuple[Finding, ...]:
    """Every finding of every rule, worst first, then in the order of the document; each mistake once."""
    for module in _ORDER:
        import_module(f"archipelago.audit.{module}")
    rules = sorted(RULES, key=lambda rule: _ORDER.index(rule.__module__.rpartition(".")[2]))
    known: dict[tuple[object, ...], Finding] = {}
    for rule in steps(rules, "asking the rules"):
        for finding in rule(index):
            known.setdefault((finding.kind, finding.path, finding.mend), finding)
    return sort(index.network, whole(index, known.values()))


def sort(network: Network, findings: Iterable[Finding]) -> tuple[Finding, ...]:
    """Findings worst first, then in the order of the document."""
    return tuple(sorted(findings, key=lambda finding: (SEVERITIES.index(finding.severity), network.line(finding.path))))
