"""Breaking parts on purpose: one over time; each, and every two, once all has settled."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack
from os import PathLike
from typing import TYPE_CHECKING

from archipelago.api.arguments import checked
from archipelago.api.asking import each_target, ends_of
from archipelago.errors import QueryError

if TYPE_CHECKING:
    from archipelago.addressing.values import Address
    from archipelago.api.asking import Ends
    from archipelago.failures.double import Piece, Row
    from archipelago.failures.result import Outages
    from archipelago.knowledge.devices import Node
    from archipelago.knowledge.index import NetworkIndex
    from archipelago.model.filters import Probe
    from archipelago.model.network import Network
    from archipelago.simulation.breaking import Broken


@checked
def break_part(
    network: Network,
    part: str,
    source: str,
    target: str,
    *,
    every: float = 0.1,
    restore: float | None = None,
    orderly: bool = False,
    family: int | None = None,
    probe: str = "icmp",
) -> Broken:
    """Break a part while one end probes another, and watch: which probes are lost, who notices what when (carrier, the
    spanning tree, missed advertisements), when something else has taken over.

    Args:
        network: the network.
        part: what breaks: a device, `DEVICE/PORT`, `DEVICE/INTERFACE`, or a cable (`A/p1 ~ B/p2`).
        source: who probes: a host or a device.
        target: whom: the same, an address (a shared one too), or HOST/gateway; of a VLAN or a subnet the first host
            that is reached before.
        every: seconds between two probes, 0.001 to 1.
        restore: after how many seconds the part comes back; None where it does not.
        orderly: it is shut down in order, so that who is active for a shared gateway says goodbye.
        family: 4 or 6; by default IPv4 where both ends have it, else IPv6.
        probe: what is sent: `icmp`, `tcp/443`, `udp/53`. A conversation of that kind is begun before, too.

    Returns:
        What was lost, what happened, and what became of the conversation and of leases; printed, a time line. Times
        are in nanoseconds from the break on.

    Raises:
        QueryError: an end or the part does not exist, the ends share no address family, or a time is out of bounds.
        TrafficError: that is no probe.

    Example:
        >>> text = '''format: archipelago-network/1
        ... devices: {quay: {kind: switch}}
        ... hosts: {a: {at: quay/p1, address: 10.44.0.2/24}, b: {at: quay/p2, address: 10.44.0.3/24}}
        ... '''
        >>> archipelago.break_part(archipelago.read_network(text), "quay/p2", "a", "b").survived
        False
    """
    from archipelago.model.filters import parse_probe
    from archipelago.simulation.breaking import break_part as run
    from archipelago.simulation.station import SECOND

    kind = parse_probe(probe)
    index, ends = _first_reached(network, source, target, kind)
    if not (0.001 <= every <= 1 and (restore is None or 0 < restore <= 3600)):
        raise QueryError("probes are 0.001 s to 1 s apart, and what comes back does so within an hour")
    return run(
        index.knowledge,
        ends[0][0],
        _asked(index, *ends[0], family, kind),
        part,
        every=round(every * SECOND),
        restore=None if restore is None else round(restore * SECOND),
        orderly=orderly,
        kind=kind,
    )


@checked
def outages(
    network: Network,
    *,
    double: bool = False,
    additions: bool = True,
    workers: int | None = None,
    scheduler: str | None = None,
    resume: str | PathLike[str] | None = None,
    devices: bool = False,
) -> Outages:
    """What every failure does once all has settled: each device, each cable (which either of its ports takes with it),
    each port that leads outside and each routed interface broken in turn; all pairs of hosts are decided each time.

    Args:
        network: the network.
        double: instead, every two of them broken together.
        additions: also look for the one cable or second gateway that makes a failure harmless (of one part).
        workers: how many processes do double failures (1 to 1,024; the extra `cluster`); by default this one does.
        scheduler: the address of a Dask cluster's scheduler that does them instead.
        resume: a file that keeps which double failures are done; called again with it, only the others are.
        devices: also say what failures do to devices' addresses.

    Returns:
        The failures, the worst first.

    Raises:
        QueryError: Dask is wanted and not there, or for single failures.
        DocumentError: the file to resume from is none, or of another network.

    Example:
        >>> text = '''format: archipelago-network/1
        ... devices: {quay: {kind: switch}, slip: {kind: switch}}
        ... hosts: {a: {at: quay/p1, address: 10.44.0.2/24}, b: {at: slip/p1, address: 10.44.0.3/24}}
        ... cables: [quay/p9 ~ slip/p9]
        ... '''
        >>> found = archipelago.outages(archipelago.read_network(text))
        >>> print(found["quay/p9 ~ slip/p9"].addition.says)
        a cable quay/p10 ~ slip/p10 (quay/p10 and slip/p10: not in the file yet)
    """
    from archipelago.failures.single import single_outages

    spread = {"workers": workers, "scheduler": scheduler, "resume": resume}
    if not double:
        for name, value in spread.items():
            if value is not None:
                raise QueryError(f"'{name}' is for double failures: single ones take no such time")
        return single_outages(network, additions=additions, devices=devices)
    if workers is not None and not 1 <= workers <= 1024:
        raise QueryError("there are 1 to 1,024 workers")
    return _double(network, workers, scheduler, resume, devices)


def _double(
    network: Network, workers: int | None, scheduler: str | None, resume: str | PathLike[str] | None, devices: bool
) -> Outages:
    """Every two parts broken together, here or over a cluster, those that are done already left out."""
    from archipelago.api.kept_work import KeptWork
    from archipelago.failures.double import outages_of, rows_of, work_of
    from archipelago.progress import steps

    work = work_of(network, devices=devices)
    pieces = work.pieces()
    with ExitStack() as open_:
        kept = open_.enter_context(KeptWork(resume, work)) if resume is not None else None
        done = dict(kept.done) if kept is not None else {}
        left = [piece for piece in pieces if piece not in done]
        if workers is None and scheduler is None:
            answers: Iterator[tuple[Piece, list[Row]]] = ((piece, rows_of(work, piece)) for piece in left)
        else:
            from archipelago.api.cluster import cluster, spread

            answers = spread(open_.enter_context(cluster(workers, scheduler)), work, left)
        for piece, rows in steps(answers, "breaking every two parts", len(left)):
            done[piece] = rows
            if kept is not None:
                kept.keep(piece, rows)
    return outages_of(work, (row for piece in pieces for row in done[piece]))


def _first_reached(network: Network, source: str, target: str, probe: Probe) -> tuple[NetworkIndex, Ends]:
    """The ends of a question; of the hosts of a VLAN or a subnet the first that is reached, else the first."""
    from archipelago.knowledge.index import index_network
    from archipelago.simulation.reach import reach

    known = index_network(network)
    targets = each_target(known, source, target)
    for one in targets if len(targets) > 1 else ():
        index, ends = ends_of(known, source, one)
        if reach(index, *ends[0], probe=probe, probes=1).reached:
            return index, ends
    return ends_of(known, source, targets[0])


def _asked(
    index: NetworkIndex, start: Node, goal: Node | Address, family: int | None, probe: Probe
) -> tuple[str, Address]:
    """Whom one end asks, and at which address."""
    from archipelago.knowledge.devices import Node
    from archipelago.knowledge.ends import common_family
    from archipelago.simulation.reach import asked_address

    name = goal.name if isinstance(goal, Node) else str(goal)
    address = asked_address(index, start, goal, family or common_family(start, goal), probe)
    if address is None:
        raise QueryError(f"{start.name} and {name} share no address family that is asked for")
    return name, address
