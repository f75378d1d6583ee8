"""The verb `matrix`: all pairs decided, then told as text, as rows or as JSON."""

from __future__ import annotations

from argparse import Namespace
from dataclasses import dataclass
from itertools import islice
from typing import Any

import archipelago
from archipelago.cli import out
from archipelago.files.disk import write_whole
from archipelago.knowledge.known import Knowledge, know
from archipelago.reachability.build import build_arrays
from archipelago.reachability.causes import Group
from archipelago.reachability.expect import Checked, check
from archipelago.reachability.matrix import Matrix, without
from archipelago.reachability.matrix import matrix as decide
from archipelago.views import matrix as shown


@dataclass(frozen=True, slots=True)
class Told:
    """Everything that there is to tell: all pairs; in IPv6 too where both families are there, with the causes that
    only IPv6 has; and what must hold, where anything must."""

    knowledge: Knowledge
    found: Matrix
    six: Matrix | None
    only_six: tuple[Group, ...]
    checked: Checked | None

    @property
    def fine(self) -> bool:
        """Whether every pair is reached that nothing wants cut off, and what must hold does."""
        if self.checked is None:
            return self.found.count == self.found.pairs
        return not self.checked.unforeseen and all(one.holds for one in self.checked.verdicts)


def matrix(words: Namespace) -> int:
    """Answer, and say by the exit code whether everything is as it should be."""
    told = _told(words)
    if words.output:
        write_whole(words.output, shown.figure(told.knowledge, told.found, words.output))
    if words.csv:
        out.say_lines(shown.csv_lines(told.found))
    elif words.as_json:
        out.say_json(_values(told))
    else:
        _say(told, words.hosts)
        if words.output:
            out.say()
            out.say(f"drawn: {words.output}")
    return 0 if told.fine else 1


def _told(words: Namespace) -> Told:
    arrays = build_arrays(know(archipelago.read_network(words.network)))
    if words.without:
        arrays = without(arrays, words.without)
    found = decide(arrays, words.family, causes=not words.csv)
    both = words.family is None and len(arrays.families) == 2
    six = decide(arrays, 6, causes=True) if both and not words.csv else None
    known = {(one.finding.path, one.finding.mend) for one in found.groups}
    only_six = [one for one in six.groups if (one.finding.path, one.finding.mend) not in known] if six else []
    expect = arrays.knowledge.network.expect
    checked = check(arrays.knowledge, words.family, found) if expect else None
    return Told(arrays.knowledge, found, six, tuple(only_six), checked)


def _values(told: Told) -> dict[str, Any]:
    """The answer with the keys of `--json`."""
    found = told.found
    cut = ({"source": a, "target": b} for a, b, reached in found.rows() if not reached)
    answer: dict[str, Any] = {
        "pairs": found.pairs,
        "reached": found.count,
        "causes": [shown.group_values(one) for one in found.groups],
        "unreached": list(islice(cut, shown.MOST_LISTED)) if found.count < found.pairs else [],
        "differing": found.differing,
        "expectations": [shown.verdict_values(one) for one in told.checked.verdicts] if told.checked else [],
    }
    if told.six:
        answer["ipv6"] = {"reached": told.six.count, "causes": [shown.group_values(one) for one in told.only_six]}
    return answer


def _say(told: Told, hosts: bool) -> None:
    """The answer first, then what must hold, why what is cut off is, and VLAN by VLAN."""
    groups = shown.grouped(told.knowledge, told.found)
    verdicts = told.checked.verdicts if told.checked else ()
    out.head(shown.headline(told.found))
    lines = (
        shown.both_families(told.found) if told.six else "",
        shown.promise(verdicts) if verdicts else "",
        shown.parted(groups),
    )
    out.say_lines(line for line in lines if line)
    tables = (
        shown.expected(verdicts),
        shown.causes(told.found.groups),
        shown.causes(told.only_six, "what cuts them off in IPv6 only"),
        shown.by_vlan(groups),
    )
    out.say_tables(one for one in tables if one.rows)
    if hosts:
        out.say()
        out.say_lines(shown.by_host(groups, told.found))
