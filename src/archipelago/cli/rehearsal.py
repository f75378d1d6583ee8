"""The verb `rehearse`: the kernel's answers beside ours."""

from __future__ import annotations

import sys
import time
from typing import Any

from archipelago.cli import out
from archipelago.errors import QueryError
from archipelago.exchange.kernel import ask_kernel, kernel_here
from archipelago.knowledge.ends import common_family, first_address
from archipelago.knowledge.index import NetworkIndex, index_network
from archipelago.model.network import Network
from archipelago.simulation.reach import ReachResult, reach
from archipelago.views.table import counted, lines, table


def rehearse(network: Network, sources: list[str], targets: list[str], seconds: float, as_json: bool) -> int:
    """Ask the simulation and a real kernel the same pairs. Returns 0 when they agree on all, else 1.

    Raises:
        QueryError: a host does not exist, or the network cannot be built because it would storm.
        KernelError: there is no kernel to use, or it did not finish in time.
    """
    index = index_network(network)
    loop = next((one.circle for one in index.domains.every() if one.circle is not None), None)
    if loop is not None:
        cables = ", ".join(str(cable) for cable in loop.cables)
        raise QueryError(f"this network would storm in a kernel: switching runs in a circle over {cables}")
    pairs = _pairs(network, sources, targets)
    where = kernel_here()
    out.note(
        {"here": "in this machine's kernel", "uml": "in a kernel that boots as a process (user-mode-linux)"}[where]
    )
    ours: dict[tuple[str, str], ReachResult] = {}
    asked = []
    nodes = index.knowledge.nodes
    for source, target in pairs:
        ours[source, target] = reach(index, nodes[source], nodes[target])
        family = common_family(nodes[source], nodes[target])
        address = first_address(nodes[target], family) if family else None
        if address is not None:
            asked.append((source, target, address))
    started = time.monotonic()

    def progress(done: int, total: int) -> None:
        if sys.stderr.isatty():
            passed = time.monotonic() - started
            bar = "#" * int(20 * done / total)
            print(
                f"\r[{bar:<20}] {counted(len(asked), 'pair')}, {passed:.0f} of at most {seconds:.0f} s",
                end="",
                file=sys.stderr,
            )

    theirs = ask_kernel([(network, asked)], where=where, seconds=seconds, progress=progress)[0]
    if sys.stderr.isatty():
        print(file=sys.stderr)
    differ = [pair for pair in pairs if ours[pair].reached != (pair in theirs)]
    if as_json:
        out.say_json(_values(ours, theirs, differ))
    else:
        _say(index, ours, theirs, differ)
    return 1 if differ else 0


def _pairs(network: Network, sources: list[str], targets: list[str]) -> list[tuple[str, str]]:
    for name in (*sources, *targets):
        if name not in network.hosts:
            raise QueryError(f"there is no host '{name}'; there are: {', '.join(list(network.hosts)[:12])}")
    return [(a, b) for a in sources or network.hosts for b in targets or network.hosts if a != b]


def _values(
    ours: dict[tuple[str, str], ReachResult], theirs: set[tuple[str, str]], differ: list[tuple[str, str]]
) -> Any:
    return {
        "pairs": len(ours),
        "agree": len(ours) - len(differ),
        "reached": len(theirs),
        "differ": [
            {
                "source": a,
                "target": b,
                "simulation": ours[a, b].reached,
                "kernel": (a, b) in theirs,
                "cause": ours[a, b].cause,
            }
            for a, b in differ
        ],
    }


def _say(
    index: NetworkIndex,
    ours: dict[tuple[str, str], ReachResult],
    theirs: set[tuple[str, str]],
    differ: list[tuple[str, str]],
) -> None:
    agreed = len(ours) - len(differ)
    out.head(f"{agreed} of {counted(len(ours), 'pair')} agree; the kernel answered {counted(len(theirs), 'pair')}")
    causes: dict[tuple[str, str, str], int] = {}
    for answer in ours.values():
        if not answer.reached:
            key = (answer.cause or "", answer.says or "", answer.mend or "")
            causes[key] = causes.get(key, 0) + 1
    if causes:
        rows = [(count, *key) for key, count in sorted(causes.items(), key=lambda item: -item[1])]
        out.say()
        out.say_lines(
            lines(table("pairs that neither reaches, by cause", ("pairs", "cause", "why", "mend"), rows, ("pairs",)))
        )
    if differ:
        unlike = [
            (
                a,
                b,
                "reached" if ours[a, b].reached else f"not reached: {ours[a, b].says}",
                "answered" if (a, b) in theirs else "silent",
            )
            for a, b in differ
        ]
        out.say()
        out.say_lines(lines(table("pairs that differ", ("from", "to", "simulation", "kernel"), unlike)))
        twice = [str(address) for address, _ in index.shared_addresses()]
        if twice:
            out.say(f"addresses held twice, whose holder is decided by chance: {', '.join(twice)}")
