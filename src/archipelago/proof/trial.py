"""Trying changes on a network: each is made to a copy and decided again by the engines."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import cached_property
from typing import NamedTuple

from archipelago.answer import spelled_out
from archipelago.errors import DocumentError, EditError
from archipelago.files.amended import Amendable
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge, apply_change
from archipelago.knowledge.outside import widened
from archipelago.model.filters import ECHO, Probe
from archipelago.model.finding import Edit, Finding
from archipelago.progress import tell
from archipelago.proof.gate import kinds_of_probe
from archipelago.proof.pairs import Decision, causes_of_loss, compare, decide
from archipelago.reachability.arrays import NetworkArrays
from archipelago.reachability.build import build_arrays, change_arrays
from archipelago.reachability.policy import BreachKey
from archipelago.reachability.promises import Promises

MOST_TRIED = 60
"""So many mends are tried each for itself, fewer in a large network; the others together only."""
WORK = 20_000
"""How many hosts, ports and routes all trials of one audit look at, about."""
MOST_KEPT = 10_000
"""Networks with mends are remembered while all of them have no more hosts."""
Rules = Callable[[NetworkIndex], Sequence[Finding]]


class Tried(NamedTuple):
    """A network as it is written, and all its pairs, the outside among its hosts where it says what leads there."""

    plain: Knowledge
    pairs: Decision


class Attempt(NamedTuple):
    """What came of a change: the network after it and all its pairs (None where the file would be no network any more),
    why it must not be made (empty where it may), how many pairs it gains, and where rules were asked what they find
    then, and which of that the change has made."""

    after: Tried | None
    why: str
    gained: int
    found: Sequence[Finding] = ()
    made: Sequence[Finding] = ()


class Trial:
    """A network on which changes are tried.

    Args:
        plain: the network as it is written.
        found: what is known to be wrong in it.
        rules: what finds mistakes, for the network with a change; nothing where only pairs matter.
        probe: what pairs are decided for, beside every kind that the network tells apart.
        accept_losses: what works may be cut off.
        arrays: the network in arrays, with the outside, where they were made already.
    """

    def __init__(
        self,
        plain: Knowledge,
        found: Sequence[Finding],
        rules: Rules = lambda index: (),
        probe: Probe = ECHO,
        *,
        accept_losses: bool = False,
        arrays: NetworkArrays | None = None,
    ) -> None:
        self.plain = plain
        self._rules = rules
        self._accept_losses = accept_losses
        self._arrays = arrays
        network = plain.written
        named = (kind for expectation in network.expect for kind in expectation.probe)
        kinds = kinds_of_probe(network)
        self._settled = tuple(dict.fromkeys((ECHO, probe, *named, *(kind for kind in kinds if not kind.size))))
        self._probes = tuple(dict.fromkeys((*self._settled, *kinds)))
        self._errors = _errors(found)
        self._known: dict[tuple[str, ...], Tried] = {}
        parts = sum(
            len(device.ports) + len(device.interfaces) + len(device.routes) for device in network.devices.values()
        )
        self.most = min(MOST_TRIED, WORK // (len(network.hosts) + parts + 1))

    @cached_property
    def before(self) -> Tried:
        """The network as it is."""
        arrays = self._arrays if self._arrays is not None else build_arrays(widened(self.plain))
        return Tried(self.plain, decide(arrays, self._probes, self._settled))

    @cached_property
    def _amendable(self) -> Amendable:
        return Amendable(self.plain.written)

    @cached_property
    def _broken(self) -> set[int]:
        return set(_promises(self.before).expectations)

    def attempt(self, edits: Sequence[Edit]) -> Attempt:
        """Make edits and decide all pairs."""
        after = self._after(edits)
        if after is None:
            return Attempt(None, "the file would not be a network any more", 0)
        gained, why = self._compared(after)
        return Attempt(after, why, gained)

    def _compared(self, after: Tried) -> tuple[int, str]:
        """How many pairs a change gains; and what works before it and not after it."""
        gained, lost = compare(self.before.pairs, after.pairs)
        if self._accept_losses:
            return gained, ""
        if lost:
            return gained, f"it cuts off {lost:,} pair{'s' * (lost != 1)} that work"
        leases = after.plain.leases if self._leasing else None
        gone = [name for name in self._leasing if leases and name in leases.given and leases.of(name) is None]
        return gained, f"it takes the lease of {gone[0]} away" if gone else ""

    @cached_property
    def _leasing(self) -> list[str]:
        """The hosts that are given a lease."""
        known = self.plain
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
        found = self._rules(NetworkIndex(after.plain))
        new = [finding for finding in found if _error(finding) and (finding.kind, finding.at) not in self._errors]
        # Elsewhere than where something was changed they were hidden, and now come to light.
        made = [finding for finding in new if finding.at in changed]
        if not made and new and not gained and not self._gains_with(findings, new):
            made = new
        if made:
            return Attempt(after, f"it makes another error: {made[0].says}", gained, found, made)
        unkept = sorted(_promises(after).expectations.keys() - self._broken) if self._expects else []
        if unkept:
            expected = after.plain.network.expect[unkept[0]]
            return Attempt(after, f"it breaks expectation {unkept[0] + 1}, {expected}", gained, found)
        # Lines for answers that nobody changes let others begin wherever hosts come back to: that is told of them.
        filters = any(str(part).startswith("filter") for edit in _edits(findings) for part in edit.path)
        broken = _promises(after).policy if filters else _promises(after).policy_but_answers
        # Who is kept apart and could talk before is among the pairs that are cut off; who could not is no worse off.
        worse = [told for key, told in broken.items() if key not in self._policy_broken and key.let_through]
        return Attempt(after, f"it breaks the policy: {worse[0]}" if worse else "", gained, found)

    @cached_property
    def _policy_broken(self) -> Mapping[BreachKey, str]:
        return _promises(self.before).policy

    def remedy(self, attempt: Attempt) -> Finding | None:
        """What would mend what a change does harm to: an error that it makes, or what then cuts pairs off that work."""
        candidates: Sequence[Finding] = attempt.made
        if not candidates and attempt.after is not None:
            candidates = causes_of_loss(self.before.pairs, attempt.after.pairs)
        return next((finding for finding in candidates if finding.edits), None)

    @property
    def _expects(self) -> bool:
        return bool(self.plain.written.expect)

    def _after(self, edits: Sequence[Edit]) -> Tried | None:
        tell("proving mends")
        made = tuple(map(spelled_out, edits))
        if made in self._known:
            return self._known[made]
        try:
            network = self._amendable.with_edits(edits)
        except (EditError, DocumentError):
            return None
        plain = apply_change(self.plain, network)
        wide = widened(plain)
        arrays = change_arrays(self.before.pairs.arrays, wide.written)
        after = Tried(plain, decide(arrays, self._probes, self._settled))
        if (len(self._known) + 1) * len(network.hosts) <= MOST_KEPT:
            self._known[made] = after
        return after

    def _gains_with(self, findings: Sequence[Finding], others: Sequence[Finding]) -> bool:
        """Whether mends help once what they bring to light is mended too."""
        after = self._after(_edits([*findings, *others]))
        return after is not None and compare(self.before.pairs, after.pairs).gained > 0


def _promises(tried: Tried) -> Promises:
    return Promises(tried.plain, tried.pairs.arrays)


def _edits(findings: Sequence[Finding]) -> list[Edit]:
    return [edit for finding in findings for edit in finding.edits]


def _error(finding: Finding) -> bool:
    return finding.is_error


def _errors(findings: Sequence[Finding]) -> set[tuple[str, str]]:
    return {(finding.kind, finding.at) for finding in findings if _error(finding)}
