"""A design works: its network keeps all rules of a file, is audited and asked before anybody is told of it."""

from __future__ import annotations

from archipelago.audit.registry import run
from archipelago.knowledge.index import index_network
from archipelago.knowledge.known import know
from archipelago.model.network import Network
from archipelago.model.rules import network_problems
from archipelago.proof.audit import proved
from archipelago.proof.gate import TOLERATED, Standing, kinds_of_probe, losses, no_rules
from archipelago.proof.outlasting import cut_off_by_one


def lost_by(network: Network, old: Network) -> list[str]:
    """What a designed network loses of what works in one that is to be kept; empty where nothing is."""
    probes = kinds_of_probe(old, network)
    before, after = (Standing(know(each), probes, no_rules) for each in (old, network))
    return [loss.says for loss in losses(before, after)]


def shortcomings(network: Network) -> list[str]:
    """Why a designed network would not work, each with what would help; empty where it does.

    Args:
        network: the network that a brief was turned into.
    """
    unreadable = [f"the network could not be read back: {problem.message}" for problem in network_problems(network)]
    if unreadable:
        return unreadable
    index = index_network(network)
    findings = run(index)
    found = proved(index, findings, run) if network.hosts or network.expect else findings
    wrong = (finding for finding in found if not finding.is_note and finding.kind not in TOLERATED)
    return [f"{finding.says}; {finding.mend}" for finding in wrong] or cut_off_by_one(network)
