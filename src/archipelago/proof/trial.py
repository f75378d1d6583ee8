"""Trying changes on a network: each is made to a copy and decided again by the engines."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import cached_property
from typing import NamedTuple

from archipelago.errors import DocumentError, EditError
from archipelago.files.amended import Amendable
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.filters import ECHO, Probe
from archipelago.model.finding import Edit, Finding
from archipelago.progress import tell
from archipelago.proof.gate import kinds_of_probe
from archipelago.proof.pairs import Decision, causes_of_loss, compare, decide
from archipelago.proof.promise import broken_places
from archipelago.reachability.arrays import NetworkArrays
from archipelago.reachability.build import change_arrays
from archipelago.reachability.promises import BreachKey, Promises

MOST_TRIED = 60
"""So many mends are tried each for itself, fewer in a large network; the others together only."""
WORK = 20_000
"""How many hosts, ports and routes all trials of one audit look at, about."""
Rules = Callable[[NetworkIndex], Sequence[Finding]]


class Attempt(NamedTuple):
    """What came of a change: all pairs after it (None where the file would be no network any more), why it must not be
    made (empty where it may), how many pairs it gains, and where rules were asked what they find then, and which of
    that the change has made."""

    after: Decision | None
    why: str
    gained: int
    found: Sequence[Finding] = ()
    made: Sequence[Finding] = ()


class Trial:
    """A network on which changes are tried.

    Args:
        arrays: the network.
        found: what is known to be wrong in it.
        rules: what finds mistakes, for the network with a change; nothing where only pairs matter.
        probe: what pairs are decided for, beside every kind that the network tells apart.
        accept_losses: what works may be cut off.
    """

    def __init__(
        self,
        arrays: NetworkArrays,
        found: Sequence[Finding],
        rules: Rules = lambda index: (),
        probe: Probe = ECHO,
        *,
        accept_losses: bool = False,
    ) -> None:
        self.arrays = arrays
        self._rules = rules
        self._accept_losses = accept_losses
        network = arrays.knowledge.network
        self._probes = tuple(dict.fromkeys((ECHO, probe, *kinds_of_probe(network))))
        self._errors = _errors(found)
        parts = sum(
            len(device.ports) + len(device.interfaces) + len(device.routes) for device in network.devices.values()
        )
        self.most = min(MOST_TRIED, WORK // (len(network.hosts) + parts + 1))

    @cached_property
    def before(self) -> Decision:
        """All pairs of the network as it is."""
        return decide(self.arrays, self._probes)

    @cached_property
    def _amendable(self) -> Amendable:
        return Amendable(self.arrays.knowledge.written)

    @cached_property
    def _broken(self) -> set[int]:
        return broken_places(self.before.arrays.knowledge)

    def attempt(self, edits: Sequence[Edit]) -> Attempt:
        """Make edits and decide all pairs."""
        after = self._after(edits)
        if after is None:
            return Attempt(None, "the file would not be a network any more", 0)
        gained, why = self._compared(after)
        return Attempt(after, why, gained)

    def _compared(self, after: Decision) -> tuple[int, str]:
        """How many pairs a change gains; and what works before it and not after it."""
        gained, lost = compare(self.before, after)
        if self._accept_losses:
            return gained, ""
        if lost:
            return gained, f"it cuts off {lost:,} pair{'s' * (lost != 1)} that work"
        known = after.arrays.knowledge
        gone = [name for name in self._leasing if name in known.leases.given and known.leases.of(name) is None]
        return gained, f"it takes the lease of {gone[0]} away" if gone else ""

    @cached_property
    def _leasing(self) -> list[str]:
        """The hosts that are given a lease."""
        known = self.arrays.knowledge
        return [name for name, lease in known.leases.given.items() if lease is not None] if known.any_learning else []

    def judge(self, findings: Sequence[Finding]) -> Attempt:
        """Make the mends of findings, decide all pairs, and ask the rules and what the network expects."""
        after = self._after(_edits(findings))
        if after is None:
            return Attempt(None, "it does not go with another", 0)
        gained, why = self._compared(after)
        if why:
            return Attempt(after, why, gained)
        changed = {str(edit.path[1]) for edit in _edits(findings) if len(edit.path) > 1}
        found = self._rules(NetworkIndex(after.arrays.knowledge))
        new = [finding for finding in found if _error(finding) and (finding.slug, finding.at) not in self._errors]
        # Elsewhere than where something was changed they were hidden, and now come to light.
        made = [finding for finding in new if finding.at in changed]
        if not made and new and not gained and not self._gains_with(findings, new):
            made = new
        if made:
            return Attempt(after, f"it makes another error: {made[0].says}", gained, found, made)
        if self._expects and broken_places(after.arrays.knowledge) - self._broken:
            return Attempt(after, "it breaks what the network expects", gained, found)
        broken = _promises(after).policy
        worse = [told for key, told in broken.items() if key not in self._policy_broken]
        return Attempt(after, f"it breaks the policy: {worse[0]}" if worse else "", gained, found)

    @cached_property
    def _policy_broken(self) -> Mapping[BreachKey, str]:
        return _promises(self.before).policy

    def remedy(self, attempt: Attempt) -> Finding | None:
        """What would mend what a change does harm to: an error that it makes, or what then cuts pairs off that work."""
        candidates: Sequence[Finding] = attempt.made
        if not candidates and attempt.after is not None:
            candidates = causes_of_loss(self.before, attempt.after)
        return next((finding for finding in candidates if finding.edits), None)

    @property
    def _expects(self) -> bool:
        return bool(self.before.arrays.knowledge.network.expect)

    def _after(self, edits: Sequence[Edit]) -> Decision | None:
        tell("proving mends")
        try:
            network = self._amendable.with_edits(edits)
        except (EditError, DocumentError):
            return None
        return decide(change_arrays(self.before.arrays, network), self._probes)

    def _gains_with(self, findings: Sequence[Finding], others: Sequence[Finding]) -> bool:
        """Whether mends help once what they bring to light is mended too."""
        after = self._after(_edits([*findings, *others]))
        return after is not None and compare(self.before, after).gained > 0


def _promises(decision: Decision) -> Promises:
    return Promises(decision.arrays.knowledge, decision.arrays)


def _edits(findings: Sequence[Finding]) -> list[Edit]:
    return [edit for finding in findings for edit in finding.edits]


def _error(finding: Finding) -> bool:
    return finding.severity == "error"


def _errors(findings: Sequence[Finding]) -> set[tuple[str, str]]:
    return {(finding.slug, finding.at) for finding in findings if _error(finding)}
