"""A mend is proved: tried on the network, decided again by the engines, kept only if it helps and harms nothing."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

from archipelago.errors import DocumentError, EditError
from archipelago.files.amended import Amendable
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Edit, Finding
from archipelago.proof.pairs import Decision, compare, decide
from archipelago.reachability.arrays import NetworkArrays
from archipelago.reachability.build import change_arrays
from archipelago.reachability.expect import check

MOST_TRIED = 60
"""So many mends are tried each for itself, fewer in a large network; the others together only."""
WORK = 20_000
"""How many hosts, ports and routes all trials of one audit look at, about."""
Rules = Callable[[NetworkIndex], Sequence[Finding]]


class Trial:
    """A network on which mends are tried.

    Args:
        arrays: the network.
        found: what is known to be wrong in it.
        rules: what finds mistakes, for the network with mends.
    """

    def __init__(self, arrays: NetworkArrays, found: Sequence[Finding], rules: Rules) -> None:
        self._amendable = Amendable(arrays.knowledge.written)
        self._before = decide(arrays)
        self._rules = rules
        self._broken = _broken(arrays)
        self._errors = _errors(found)
        network = arrays.knowledge.network
        devices = network.devices.values()
        parts = sum(len(device.ports) + len(device.interfaces) + len(device.routes) for device in devices)
        self._most = min(MOST_TRIED, WORK // (len(network.hosts) + parts + 1))

    def prove(self, findings: Sequence[Finding]) -> tuple[list[Finding], NetworkArrays]:
        """The findings, without the mends that do not hold, and the network once all others are made. What has no mend
        of its own and is gone by then was a symptom of the others, and is left out."""
        chosen = [finding for finding in findings if finding.edits]
        refused: dict[int, str] = {}
        gains: dict[int, int] = {}
        for finding in chosen[: self._most]:
            why, gains[id(finding)] = self._harm(finding.edits)
            if why:
                refused[id(finding)] = why
        kept, after = self._together([finding for finding in chosen if id(finding) not in refused], refused)
        found = self._rules(NetworkIndex(after.arrays.knowledge))
        still = {(finding.slug, finding.path) for finding in found}
        said = {(finding.slug, finding.path, finding.says) for finding in found}
        for finding in kept:
            if not gains.get(id(finding)) and (finding.slug, finding.path, finding.says) in said:
                refused[id(finding)] = "it changes nothing"
        mended = {id(finding) for finding in kept if id(finding) not in refused}
        left = [
            finding
            for finding in findings
            if finding.severity == "note"
            or not mended
            or id(finding) in mended
            or (finding.slug, finding.path) in still
            or (finding.edits and id(finding) not in refused)
        ]
        return [_told(finding, refused.get(id(finding))) for finding in left], after.arrays

    def _harm(self, edits: Sequence[Edit]) -> tuple[str, int]:
        """Why edits must not be made, if so, and how many pairs they gain."""
        after = self._after(edits)
        if after is None:
            return "the file would not be a network any more", 0
        difference = compare(self._before, after)
        if difference.lost:
            return f"it cuts off {difference.lost:,} pair{'s' * (difference.lost != 1)} that work", difference.gained
        return "", difference.gained

    def _after(self, edits: Sequence[Edit]) -> Decision | None:
        try:
            network = self._amendable.with_edits(edits)
        except (EditError, DocumentError):
            return None
        return decide(change_arrays(self._before.arrays, network))

    def _together(self, kept: list[Finding], refused: dict[int, str]) -> tuple[list[Finding], Decision]:
        """Those of some mends that hold together: all, or as many as can be made one after another."""
        why, after = self._judge(kept)
        if not why and after is not None:
            return kept, after
        chosen: list[Finding] = []
        best = self._before
        for finding in kept[: self._most]:
            why, after = self._judge([*chosen, finding])
            if why or after is None:
                refused[id(finding)] = why
            else:
                chosen.append(finding)
                best = after
        refused.update({id(finding): "it was not tried for itself" for finding in kept[self._most :]})
        return chosen, best

    def _judge(self, findings: Sequence[Finding]) -> tuple[str, Decision | None]:
        """Why mends must not be made together, if so, and all pairs once they are."""
        after = self._after([edit for finding in findings for edit in finding.edits])
        if after is None:
            return "it does not go with another", None
        gained, lost = compare(self._before, after)
        if lost:
            return f"it cuts off {lost:,} pair{'s' * (lost != 1)} that work", after
        changed = {str(edit.path[1]) for finding in findings for edit in finding.edits if len(edit.path) > 1}
        found = self._rules(NetworkIndex(after.arrays.knowledge))
        new = [finding for finding in found if _error(finding) and (finding.slug, finding.at) not in self._errors]
        # Elsewhere than where something was changed they were hidden, and now come to light.
        made = [finding for finding in new if finding.at in changed]
        if not made and new and not gained and not self._gains_with(findings, new):
            made = new
        if made:
            return f"it makes another error: {made[0].says}", after
        broken = _broken(after.arrays) - self._broken
        return ("it breaks what the network expects" if broken else ""), after

    def _gains_with(self, findings: Sequence[Finding], others: Sequence[Finding]) -> bool:
        """Whether mends help once what they bring to light is mended too."""
        after = self._after([edit for finding in (*findings, *others) for edit in finding.edits])
        return after is not None and compare(self._before, after).gained > 0


def _told(finding: Finding, why: str | None) -> Finding:
    """A finding whose mend does not hold says so, and has no edits."""
    return finding if why is None else replace(finding, mend=f"decide by hand ({finding.mend}: {why})", edits=())


def _error(finding: Finding) -> bool:
    return finding.severity == "error"


def _errors(findings: Sequence[Finding]) -> set[tuple[str, str]]:
    return {(finding.slug, finding.at) for finding in findings if _error(finding)}


def _broken(arrays: NetworkArrays) -> set[int]:
    """The places of the expectations that do not hold."""
    if not arrays.knowledge.network.expect:
        return set()
    return {number for number, verdict in enumerate(check(arrays.knowledge).verdicts) if verdict.broken}
