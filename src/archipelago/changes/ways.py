"""Pairs of hosts that two networks both answer, by way of other devices."""

from __future__ import annotations

from itertools import islice

from archipelago.changes.pairs import EXAMPLES, Between, Cut, Pair
from archipelago.knowledge.delivery import Arrived, Carrier
from archipelago.knowledge.ends import first_address
from archipelago.knowledge.forwarding import source_towards
from archipelago.knowledge.header import probe_header
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge
from archipelago.model.filters import ECHO

MOST = 20_000
"""So many sorts of pairs are followed at most."""


def otherwise(between: Between, old: Knowledge, new: Knowledge) -> Cut | None:
    """The pairs that both networks answer, whose packets pass other devices; None where they are too many to follow."""
    sorts = list(islice(between.both(), MOST + 1))
    if len(sorts) > MOST:
        return None
    carriers = [(NetworkIndex(one).carrier, one) for one in (old, new)]
    total, examples = 0, list[Pair]()
    for version, source, target, many in sorts:
        before, after = (_passed(carrier, one, source, target, version) for carrier, one in carriers)
        if before != after:
            total += many
            examples.append((source, target))
    return Cut(total, tuple(dict.fromkeys(examples))[:EXAMPLES])


def _passed(carrier: Carrier, knowledge: Knowledge, source: str, target: str, version: int) -> tuple[str, ...]:
    """The stations that a packet passes, as far as it gets."""
    address = first_address(knowledge.nodes[target], version)
    own = source_towards(knowledge.state(source), address) if address is not None else None
    if address is None or own is None:
        return ()
    went = carrier.carry(source, probe_header(own, address, ECHO))
    return went.passed if isinstance(went, Arrived) else (went.node,)
