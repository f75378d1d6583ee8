"""The mend of a lease is proved: the host is given one, or a right one, once it is made."""

from __future__ import annotations

from dataclasses import replace

from archipelago.diagnosis.leased import leased_wrongly
from archipelago.errors import DocumentError, EditError
from archipelago.files.amended import Amendable
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import know
from archipelago.proof.mends import CHANGES_NOTHING, told
from archipelago.simulation.lease import LeaseResult


def with_proof(index: NetworkIndex, answer: LeaseResult) -> LeaseResult:
    """An answer whose mend was tried on the network.

    Args:
        index: the network.
        answer: what became of a host that asked.
    """
    finding = answer.finding
    if finding is None or not finding.edits:
        return answer
    try:
        after = NetworkIndex(know(Amendable(index.knowledge.written).with_edits(finding.edits)))
    except (EditError, DocumentError):
        return replace(answer, finding=told(finding, "the file would not be a network any more"))
    if after.knowledge.leases.of(answer.host) is None:
        return replace(answer, finding=told(finding, f"{answer.host} would get no address all the same"))
    left = leased_wrongly(after, answer.host)
    if left is not None and (left.kind, left.path) == (finding.kind, finding.path):
        return replace(answer, finding=told(finding, CHANGES_NOTHING))
    return answer
