"""What is expected and does not hold, with every mend that it takes: tried until it holds."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from archipelago.audit.promises import Broken
from archipelago.errors import DocumentError, EditError
from archipelago.files.amended import Amendable
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge, apply_change
from archipelago.model.finding import Edit, Finding
from archipelago.model.network import Network, with_changes
from archipelago.reachability.arrays import NetworkArrays
from archipelago.reachability.build import change_arrays
from archipelago.reachability.expect import check, findings, mistakes
from archipelago.reachability.verdict import Verdict

MOST_ROUNDS = 4
"""Mending one thing can bring another to light; so many times it is looked again."""
MOST_TRIED = 12
"""So many expectations have their mends tried; the others tell the first mistake only, and say so."""


def broken(index: NetworkIndex, arrays: NetworkArrays) -> Iterator[Broken]:
    """Each expectation that does not hold, with all the mends that it takes, and the mistakes behind it as far as they
    were looked for.

    Args:
        index: the network, indexed.
        arrays: the same network.
    """
    verdicts = check(index.knowledge).verdicts if index.network.expect else ()
    amendable: Amendable | None = None
    tried = 0
    for number, finding in findings(verdicts):
        verdict = verdicts[number]
        if not verdict.broken or verdict.finding is None:
            yield Broken(verdict.promise(number), finding, ())
        elif tried == MOST_TRIED:
            yield Broken(
                verdict.promise(number), replace(finding, mend=f"{finding.mend} (not tried)"), (verdict.finding,)
            )
        else:
            tried += 1
            amendable = amendable or Amendable(index.knowledge.written)
            says, mend, causes = _mended(amendable, index.knowledge, arrays, number)
            yield Broken(verdict.promise(number), replace(finding, says=says, mend=mend), causes)


def _mended(
    amendable: Amendable, knowledge: Knowledge, arrays: NetworkArrays, number: int
) -> tuple[str, str, Sequence[Finding]]:
    """What an expectation is broken by, and the mends after which it holds, as the words of its finding; and the
    mistakes."""
    edits: list[Edit] = []
    causes: dict[tuple[object, ...], Finding] = {}
    one = _alone(knowledge.written, number)
    verdict, left = _ask(knowledge, arrays, one)
    first = verdict
    why = ""
    for _ in range(MOST_ROUNDS):
        if not verdict.broken:
            break
        new = [cause for cause in left if (cause.kind, cause.path, cause.mend) not in causes]
        causes.update({(cause.kind, cause.path, cause.mend): cause for cause in new})
        added = [edit for cause in new for edit in cause.edits if edit not in edits]
        edits += added
        if not added:
            why = "which is not enough"
            break
        try:
            network = amendable.with_edits(edits)
        except (EditError, DocumentError):
            why = "not tried together: they do not go into one file"
            break
        after = change_arrays(arrays, network)
        verdict, left = _ask(after.knowledge, after, one)
    else:
        why = "" if not verdict.broken else "which is not enough"
    told = list(dict.fromkeys(cause.mend for cause in causes.values()))
    said = list(dict.fromkeys(cause.says for cause in causes.values()))
    mend = "; and ".join(told) + (f"; {why}" if why else "")
    return f"{first.says}: {_listed(said)}", mend, () if why else tuple(causes.values())


def _listed(said: list[str]) -> str:
    """What is wrong, the first three in words."""
    return "; and ".join(said[:3]) + (f"; and {len(said) - 3} more" if len(said) > 3 else "")


def _alone(network: Network, number: int) -> Network:
    return with_changes(network, expect=(network.expect[number],))


def _ask(knowledge: Knowledge, arrays: NetworkArrays, one: Network) -> tuple[Verdict, list[Finding]]:
    """Whether a network keeps one expectation, and the mistakes that break it."""
    alone = apply_change(knowledge, with_changes(knowledge.written, expect=one.expect))
    verdict = check(alone).verdicts[0]
    return verdict, mistakes(alone, arrays, verdict) if verdict.broken else []
