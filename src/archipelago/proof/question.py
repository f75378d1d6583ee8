"""A mend that an answer names is tried: the same question is put to the network with it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from archipelago.errors import DocumentError, EditError, QueryError
from archipelago.files.amended import Amendable
from archipelago.model.finding import Mend
from archipelago.model.network import Network
from archipelago.proof.mends import MOST_INSTEAD
from archipelago.simulation.reach import ReachResult

MOST_TOGETHER = 4
"""So many mends are tried together before the answer says that one step is not enough."""


def with_proof(answer: ReachResult, network: Network, ask: Callable[[Network], ReachResult]) -> ReachResult:
    """The answer with a mend after which the pair is reached: its own, or others that are as small, all that hold; else
    its own and those that the question then asks for; where none is found, the answer says so.

    Args:
        answer: what the network as it is answers.
        network: the network as it is written.
        ask: puts the same question to a network.
    """
    if answer.reached or not answer.edits or answer.mend is None:
        return answer
    amendable = Amendable(network)
    first = Mend(answer.mend, answer.edits)
    instead = answer.finding.instead[:MOST_INSTEAD] if answer.finding is not None else ()
    good = [mend for mend in (first, *instead) if _reached(amendable, ask, mend)]
    if good:
        return replace(answer, mend=" or ".join(mend.says for mend in good), edits=good[0].edits)
    edits, mends, said = list(answer.edits), [answer.mend], {answer.says}
    for _ in range(MOST_TOGETHER):
        try:
            after = ask(amendable.with_edits(edits))
        except (EditError, DocumentError, QueryError) as error:
            return replace(answer, mend=f"{mends[0]} (not tried: {error})")
        if after.reached:
            return replace(answer, mend="; then ".join(mends), edits=tuple(edits))
        if not after.edits or after.mend is None or after.says in said:  # no step further
            return replace(answer, mend=f"{'; then '.join(mends)}; which is not enough: {after.says}")
        edits += [edit for edit in after.edits if edit not in edits]
        mends.append(after.mend)
        said.add(after.says)
    return replace(answer, mend=f"{'; then '.join(mends)}; which is not enough")


def _reached(amendable: Amendable, ask: Callable[[Network], ReachResult], mend: Mend) -> bool:
    """Whether one change is enough."""
    try:
        return ask(amendable.with_edits(mend.edits)).reached
    except (EditError, DocumentError, QueryError):
        return False
