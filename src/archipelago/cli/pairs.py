"""The verb `matrix`: all pairs told as text, as rows or as JSON."""

from __future__ import annotations

from argparse import Namespace
from itertools import islice
from typing import Any

import archipelago
from archipelago.cli import out
from archipelago.errors import QueryError
from archipelago.model.filters import parse_probe
from archipelago.proof.all_pairs import AllPairs, all_pairs
from archipelago.views import matrix as shown


def matrix(words: Namespace) -> int:
    """Answer, and say by the exit code whether everything is as it should be."""
    network = archipelago.read_network(words.network)
    if words.policy:
        return _policy(network, words)
    probes = [parse_probe(kind) for kind in words.probe.split(",")]
    every = all_pairs(network, words.family, words.without, causes=not words.csv, probes=probes)
    if words.output:
        archipelago.draw_matrix(network, every[0].found, words.output)
    if words.csv:
        out.say_lines(shown.csv_lines([told.found for told in every]))
    elif words.as_json:
        values = {str(told.found.probe): _values(told) for told in every}
        out.say_json(values if len(every) > 1 else _values(every[0]))
    else:
        if len(every) > 1:
            out.head("; ".join(f"{told.found.probe}: {told.found.count:,} reached" for told in every))
            out.say()
        for number, told in enumerate(every):
            if number:
                out.say()
            _say(told, words.hosts)
        out.drawn(words.output)
    return 0 if all(told.fine for told in every) else 1


def _policy(network: archipelago.Network, words: Namespace) -> int:
    """What the policy allows, beside what the network does."""
    from archipelago.views.policy import differences

    others = {"--family": words.family, "--without": words.without, "--hosts": words.hosts, "--csv": words.csv}
    for option, value in others.items():
        if value:
            raise QueryError(f"{option} does not go with --policy, which asks for every kind of traffic and family")
    found = archipelago.check_policy(network)
    table = differences(found)
    if words.output:
        archipelago.draw_policy(found, words.output)
    if words.as_json:
        out.say_json({"kept": found.holds, "by_vlan": table.records()})
    else:
        out.head(found.headline)
        out.say_tables([table])
        if not found.holds:
            out.say()
            out.say("'audit' tells each with an example and what mends it")
        out.drawn(words.output)
    return 0 if found.holds else 1


def _values(told: AllPairs) -> dict[str, Any]:
    """The answer with the keys of `--json`."""
    matrix = told.found
    cut = ({"source": a, "target": b} for a, b, reached in matrix.rows() if not reached)
    answer: dict[str, Any] = {
        "pairs": matrix.pairs,
        "reached": matrix.count,
        "causes": [shown.group_values(group) for group in matrix.groups],
        "unreached": list(islice(cut, shown.MOST_LISTED)) if matrix.count < matrix.pairs else [],
        "differing": matrix.differing,
        "expectations": [shown.verdict_values(verdict) for verdict in told.checked.verdicts] if told.checked else [],
    }
    if told.six:
        answer["ipv6"] = {"reached": told.six.count, "causes": [shown.group_values(pair) for pair in told.only_six]}
    return answer


def _say(told: AllPairs, hosts: bool) -> None:
    """The answer first, then what must hold, why what is cut off is, and VLAN by VLAN."""
    groups = shown.grouped(told.knowledge, told.found)
    verdicts = told.checked.verdicts if told.checked else ()
    family = " (in IPv4 where both ends have it, else in IPv6)" if told.six else ""
    out.head(told.found.headline + family)
    lines = (
        shown.both_families(told.found) if told.six else "",
        shown.promise(verdicts) if verdicts else "",
        shown.partitioned(groups),
    )
    out.say_lines(line for line in lines if line)
    tables = (
        shown.expected(verdicts),
        shown.causes(told.found.groups),
        shown.causes(told.only_six, "what cuts them off in IPv6 only"),
        shown.by_vlan(groups),
    )
    out.say_tables(table for table in tables if table.rows)
    if hosts:
        out.say()
        out.say_lines(shown.by_host(groups, told.found))
