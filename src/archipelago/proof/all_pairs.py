"""All pairs with everything that there is to tell of them: both families, and what must hold."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from archipelago.knowledge.known import Knowledge, know
from archipelago.knowledge.outside import widened
from archipelago.knowledge.parts import switched_off
from archipelago.model.filters import ECHO, Probe
from archipelago.model.network import Network
from archipelago.proof.causes import proved, proved_verdicts, with_proof
from archipelago.reachability.build import build_arrays
from archipelago.reachability.causes import Group
from archipelago.reachability.expect import Checked, check
from archipelago.reachability.matrix import Matrix, by_probe, without


@dataclass(frozen=True, slots=True)
class AllPairs:
    """All pairs; in IPv6 too where both families are there, with the causes that only IPv6 has; and what must hold,
    where anything must."""

    knowledge: Knowledge
    found: Matrix
    six: Matrix | None
    only_six: tuple[Group, ...]
    checked: Checked | None

    @property
    def fine(self) -> bool:
        """Whether every pair is reached that nothing wants cut off, and nothing that must hold is broken."""
        if self.checked is None:
            return self.found.count == self.found.pairs
        return not self.checked.unforeseen and not any(verdict.broken for verdict in self.checked.verdicts)


def all_pairs(
    network: Network,
    family: int | None,
    parts_off: Sequence[str] = (),
    causes: bool = True,
    probes: Sequence[Probe] = (ECHO,),
) -> list[AllPairs]:
    """Decide all pairs of a network, with some parts of it switched off, once for each kind of probe.

    Raises:
        QueryError: there is no such part, or an end of an expectation does not exist.
    """
    plain = know(network)
    arrays = build_arrays(widened(plain))
    if parts_off:
        arrays = without(arrays, parts_off)
        plain = know(switched_off(plain, parts_off)) if network.outside is not None else arrays.knowledge
    both = family is None and len(arrays.families) == 2 and causes
    sixes = list(by_probe(arrays, probes, 6)) if both else [None] * len(probes)
    answers = list(by_probe(arrays, probes, family, causes=causes))
    checked = None
    if arrays.knowledge.network.expect or arrays.knowledge.network.policy is not None:
        echo = next((answer for answer in answers if answer.probe == ECHO), None)
        if network.outside is not None:  # what is expected may name other addresses out there
            checked = check(plain, family)
        else:
            checked = check(arrays.knowledge, family, echo)
        checked = replace(checked, verdicts=proved_verdicts(plain, checked.verdicts))
    told = []
    for answer, six in zip(answers, sixes, strict=True):
        known = {(group.finding.path, group.finding.mend) for group in answer.groups}
        only_six = (
            [group for group in six.groups if (group.finding.path, group.finding.mend) not in known] if six else []
        )
        shown = with_proof(plain, arrays, answer)
        told.append(AllPairs(arrays.knowledge, shown, six, proved(plain, arrays, only_six, answer.probe), checked))
    return told
