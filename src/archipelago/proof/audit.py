"""An audit whose mends were tried, and that no pair which is cut off escapes."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from archipelago.audit.promises import with_promises
from archipelago.files.amended import Amendable
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge, know
from archipelago.model.finding import Finding
from archipelago.proof.expected import broken
from archipelago.proof.gate import Standing, kinds_of_probe, losses, no_rules
from archipelago.proof.idle import idle_filters
from archipelago.proof.mends import NOT_TRIED, prove, told
from archipelago.proof.mirrored import unlike_filters
from archipelago.proof.policy import broken_policy
from archipelago.proof.promise import unexplained
from archipelago.proof.trial import MOST_TRIED, Rules, Trial
from archipelago.reachability.build import change_arrays
from archipelago.reachability.widened import arrays_of, widened_of


def proved(
    index: NetworkIndex, findings: Sequence[Finding], rules: Rules, *, accept_losses: bool = False
) -> tuple[Finding, ...]:
    """The findings of the rules, without the mends that do not hold, what still cuts pairs off once all are made, and
    what is expected and does not hold.

    Args:
        index: the network, indexed.
        findings: what the rules found in it.
        rules: the rules, for the network with mends.
        accept_losses: a mend may take away something that works.
    """
    arrays = arrays_of(index)
    wide = arrays if index.network.outside is None else widened_of(index).arrays
    trial = Trial(index.knowledge, findings, rules, accept_losses=accept_losses, arrays=wide) if findings else None
    known: list[Finding] = []
    mended_plain: Knowledge | None = None
    after = [arrays, wide] if wide is not arrays else [arrays]
    if trial is not None:
        known, mended = prove(trial, findings)
        after, mended_plain = [mended.pairs.arrays], mended.plain
        if wide is not arrays:
            after.insert(0, change_arrays(arrays, mended.plain.written))
    left: list[Finding] = []
    for state in after:
        left += unexplained(NetworkIndex(state.knowledge), state, [*known, *left])
    if left:  # their mends, too, are for the network as it is
        every = [*findings, *left]
        trial = Trial(index.knowledge, every, rules, accept_losses=accept_losses, arrays=wide)
        left = prove(trial, left).findings
    idle = tuple(idle_filters(index))
    if idle and mended_plain is not None:  # what comes there once the errors are mended, is not idle
        still = {(finding.kind, finding.path) for finding in idle_filters(NetworkIndex(mended_plain))}
        idle = tuple(finding for finding in idle if (finding.kind, finding.path) in still)
    filters = (*idle, *unlike_filters(index))
    if not accept_losses:
        filters = tuple(losing_nothing(index, filters))
    return with_promises((*known, *left, *filters, *broken_policy(index)), broken(index, arrays))


def losing_nothing(index: NetworkIndex, findings: Sequence[Finding]) -> Iterator[Finding]:
    """Findings about filters, without the mends that lose something: pairs that nothing wants apart, and all that the
    gate asks for."""
    network = index.knowledge.written
    if not any(finding.edits for finding in findings):
        yield from findings
        return
    amendable, probes = Amendable(network), kinds_of_probe(network)
    before = Standing(index.knowledge, probes, no_rules)
    for number, finding in enumerate(findings):
        if not finding.edits or number >= MOST_TRIED:
            yield finding if not finding.edits else told(finding, NOT_TRIED)
            continue
        after = Standing(know(amendable.with_edits(finding.edits)), probes, no_rules)
        lost = next(losses(before, after), None)
        yield finding if lost is None else told(finding, f"it loses {lost.says}")
