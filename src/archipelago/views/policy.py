"""A policy as a table: what hosts of each VLAN may begin, and with whom."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from enum import Enum
from itertools import groupby
from typing import NamedTuple

import numpy as np

from archipelago.model.filters import LAST_PORT, Ports, Probe
from archipelago.model.network import Network
from archipelago.reachability.kept import Kept, devices_covered, kept
from archipelago.views.face import Face, Part, set_apart
from archipelago.views.schema import FLAG, TEXT, record, several
from archipelago.views.table import Table, counted, table

PART = " (some hosts)"


def summary(network: Network) -> str:
    """How many lines a policy has, and what holds where none says."""
    assert network.policy is not None
    lines = f"policy of {counted(len(network.policy.rules), 'line')}; otherwise {network.policy.otherwise}"
    return f"{lines}; {devices_covered(network)}"


def policy(network: Network) -> Table:
    """What each VLAN may begin with each other, and with the outside; VLANs that it may the same with share a row.

    Raises:
        QueryError: the network has no policy, or something in it is called as the outside is.
    """
    rows = [_ends(row) for row in _rows(kept(network), otherwise=False)]
    return table("what may be begun", ("from", "may", "to"), rows)


def differences(found: Kept) -> Table:
    """The same, beside what the network does otherwise, which comes first."""
    rows = sorted(_rows(found, otherwise=True), key=lambda row: not (row.open or row.closed))
    told = [(*_ends(row), _does(row), row.open, row.closed, row.answers) for row in rows]
    columns = ("from", "may", "to", "network", "wrongly open", "wrongly closed", "open for answers")
    return table("by VLAN", columns, told)


def _ends(row: Row) -> tuple[str, str, str]:
    return row.source, row.may, ", ".join(row.targets)


def _does(row: Row) -> str:
    return "does otherwise" if row.open or row.closed else "as the policy says"


class Row(NamedTuple):
    """What hosts of a place may begin with those of some others, and what the network does otherwise."""

    source: str
    may: str
    targets: tuple[str, ...]
    open: str
    closed: str
    answers: str


def _rows(found: Kept, *, otherwise: bool) -> Iterator[Row]:
    for i, source in enumerate(found.places):
        shared: dict[Cell, list[str]] = {}
        for j, target in enumerate(found.places):
            if i != j and found.pairs[i, j]:
                one = cell(found, i, j)
                shared.setdefault(one if otherwise else Cell(one.may, "", "", ""), []).append(target)
        for one, targets in shared.items():
            yield Row(source, one.may, tuple(targets), one.open, one.closed, one.answers)


class Cell(NamedTuple):
    """What hosts of one place may begin with those of another, what is wrongly open, what wrongly closed, and what is
    open because answers have to pass."""

    may: str
    open: str
    closed: str
    answers: str


def cell(found: Kept, i: int, j: int) -> Cell:
    """What hosts of one place and those of another may, and do otherwise."""
    pairs = int(found.pairs[i, j])
    may = services(found.probes, [_share(int(count), pairs) for count in found.allowed[:, i, j]])
    # Where more is open than answers need, what answers need is part of it.
    open_, answers = found.wrongly_open[:, i, j], found.for_answers[:, i, j]
    if open_.any():
        open_, answers = open_ + answers, np.zeros_like(answers)
    wrong = [
        services(found.probes, [Share.ALL if count else Share.NONE for count in cells.tolist()], none="")
        for cells in (open_, found.wrongly_closed[:, i, j], answers)
    ]
    return Cell(may, *wrong)


class Share(Enum):
    """How many of some pairs."""

    NONE = 0
    SOME = 1
    ALL = 2


def _share(count: int, pairs: int) -> Share:
    return Share.ALL if count == pairs else Share.SOME if count else Share.NONE


def services(probes: Sequence[Probe], shares: Sequence[Share], none: str = "nothing") -> str:
    """Kinds of traffic in words: a protocol whole, or the services that are told apart."""
    if all(share is Share.ALL for share in shares):
        return "any"
    if all(share is Share.NONE for share in shares):
        return none
    told: list[str] = []
    for protocol in ("icmp", "tcp", "udp"):
        both = zip(probes, shares, strict=True)
        mine = sorted((probe.port, share.value) for probe, share in both if probe.protocol == protocol)
        if all(share == Share.ALL.value for _, share in mine):
            told.append(protocol)
        elif protocol == "icmp":
            told += [f"{protocol}{PART}"] if mine[0][1] == Share.SOME.value else []
        else:
            told += [f"{protocol}/{ports}{PART * (share is Share.SOME)}" for ports, share in _ranges(mine)]
    return ", ".join(told)


def _ranges(ports: Sequence[tuple[int, int]]) -> Iterator[tuple[Ports, Share]]:
    """Ranges of ports that fare alike, none of those of which nothing does: each port that is told apart stands for
    those up to the next."""
    until = [port for port, _ in ports[1:]] + [LAST_PORT + 1]
    for share, run in groupby(zip(ports, until, strict=True), key=lambda one: one[0][1]):
        members = list(run)
        if share != Share.NONE.value:
            yield Ports(members[0][0][0], members[-1][1] - 1), Share(share)


def _body(found: Kept) -> list[Part]:
    more = [] if found.holds else ["", "'audit' tells each with an example and what mends it"]
    return [*set_apart([differences(found)]), *more]


POLICY = Face(
    name="policy",
    verb="matrix",
    shape=record(
        holds=FLAG,
        by_vlan=several(
            record(
                source=TEXT("a VLAN, or outside"),
                may=TEXT,
                targets=several(TEXT),
                otherwise=FLAG("whether the network does otherwise"),
                wrongly_open=TEXT,
                wrongly_closed=TEXT,
                open_for_answers=TEXT,
            )
        ),
    ),
    values=lambda found: {
        "holds": found.holds,
        "by_vlan": [
            {
                "source": row.source,
                "may": row.may,
                "targets": list(row.targets),
                "otherwise": bool(row.open or row.closed),
                "wrongly_open": row.open,
                "wrongly_closed": row.closed,
                "open_for_answers": row.answers,
            }
            for row in _rows(found, otherwise=True)
        ],
    },
    tables=lambda found: [differences(found)],
    body=_body,
    picture="policy_picture.policy_picture",
)
