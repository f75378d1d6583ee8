"""Every part of a network broken in turn, the worst first, and what would make each harmless."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from archipelago.failures.additions import Additions
from archipelago.failures.breaking import Breaker
from archipelago.failures.few import with_few_hosts
from archipelago.failures.parts import Part, breakable
from archipelago.failures.result import Outage, Outages
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import know
from archipelago.model.network import Network
from archipelago.progress import steps


def single_outages(network: Network, *, additions: bool = True, devices: bool = False) -> Outages:
    """Break every part of a network in turn.

    Args:
        network: the network.
        additions: also look for the smallest addition that makes each failure harmless elsewhere.
        devices: also say what is lost of devices' addresses.
    """
    few = with_few_hosts(network)
    breaker = Breaker(few.network, few.stands_for)
    parts = breakable(breaker.plain)
    found = [breaker.outage([part], devices=devices) for part in steps(parts, "breaking one part after another")]
    ranked = sorted(found, key=lambda outage: outage.rank)
    if additions:
        ranked = _with_additions(network, breaker, ranked)
    return Outages(breaker.pairs, breaker.reached, tuple(ranked), network)


def _with_additions(network: Network, breaker: Breaker, ranked: Sequence[Outage]) -> list[Outage]:
    """The outages, each that cuts off somebody elsewhere with what would make it harmless."""
    looking = Additions(NetworkIndex(know(network)), breaker)
    told = []
    for outage in steps(list(ranked), "looking for what would help"):
        if outage.outcome == "cuts off":
            addition, why = looking.of(Part(outage.parts[0], outage.kinds[0]), outage)
            outage = replace(outage, addition=addition, without=why)
        told.append(outage)
    return told
