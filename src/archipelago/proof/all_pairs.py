"""All pairs with everything that there is to tell of them: both families, and what must hold."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import cached_property

from archipelago.knowledge.known import Knowledge, know
from archipelago.knowledge.outside import widened
from archipelago.knowledge.parts import switched_off
from archipelago.model.filters import ECHO, Probe
from archipelago.model.network import Network
from archipelago.proof.causes import proved, proved_verdicts, with_proof
from archipelago.reachability.arrays import NetworkArrays
from archipelago.reachability.build import build_arrays
from archipelago.reachability.causes import Group
from archipelago.reachability.devices import DevicePairs, device_pairs
from archipelago.reachability.expect import Checked, check
from archipelago.reachability.matrix import Matrix, by_probe, without


class Beside:
    """What there is to tell beside all pairs of one kind of probe; each is worked out when it is first asked for.

    Args:
        together: the answers for all kinds of probe.
        number: which of them it is.
    """

    def __init__(self, together: _Together, number: int) -> None:
        self._together = together
        self._number = number

    @property
    def knowledge(self) -> Knowledge:
        """The network that was asked, the outside in it."""
        return self._together.arrays.knowledge

    @property
    def checked(self) -> Checked | None:
        """What must hold; None where nothing must."""
        return self._together.checked

    @property
    def six(self) -> Matrix | None:
        """All pairs in IPv6, where both families are there and none was asked for."""
        return self._together.sixes[self._number]

    @cached_property
    def only_six(self) -> tuple[Group, ...]:
        """The causes that only IPv6 has."""
        six = self.six
        if six is None:
            return ()
        together = self._together
        four = together.answers[self._number]
        known = {(group.finding.path, group.finding.mend) for group in four.groups}
        only = [group for group in six.groups if (group.finding.path, group.finding.mend) not in known]
        return proved(together.plain, together.arrays, only, four.probe)

    @cached_property
    def devices(self) -> DevicePairs | None:
        """The pairs of devices' addresses; None where nobody asks for these."""
        together = self._together
        answer = together.answers[self._number]
        return device_pairs(together.arrays, answer.probe, answer.family) if together.devices else None

    @property
    def fine(self) -> bool:
        """Whether every pair is reached that nothing wants cut off, and nothing that must hold is broken."""
        if self.checked is None:
            answer = self._together.answers[self._number]
            return answer.reached == answer.pairs
        return not self.checked.unforeseen and not any(verdict.broken for verdict in self.checked.verdicts)


class _Together:
    """The answers for several kinds of probe, and what they share."""

    def __init__(
        self,
        network: Network,
        plain: Knowledge,
        arrays: NetworkArrays,
        answers: Sequence[Matrix],
        causes: bool,
        devices: bool,
    ) -> None:
        self.network = network
        self.plain = plain
        self.arrays = arrays
        self.answers = answers
        self.devices = devices
        self._causes = causes

    @cached_property
    def sixes(self) -> Sequence[Matrix | None]:
        both = self.answers[0].family is None and len(self.arrays.families) == 2 and self._causes
        probes = [answer.probe for answer in self.answers]
        return list(by_probe(self.arrays, probes, 6)) if both else [None] * len(probes)

    @cached_property
    def checked(self) -> Checked | None:
        wanted = self.arrays.knowledge.network
        if not wanted.expect and wanted.policy is None:
            return None
        family = self.answers[0].family
        if self.network.outside is not None:  # what is expected may name other addresses out there
            checked = check(self.plain, family)
        else:
            echo = next((answer for answer in self.answers if answer.probe == ECHO), None)
            checked = check(self.arrays.knowledge, family, echo)
        return replace(checked, verdicts=proved_verdicts(self.plain, checked.verdicts))


def all_pairs(
    network: Network,
    family: int | None = None,
    parts_off: Sequence[str] = (),
    *,
    causes: bool = True,
    probes: Sequence[Probe] = (ECHO,),
    devices: bool = False,
) -> list[Matrix]:
    """Decide all pairs of a network, with some parts of it switched off, once for each kind of probe; with `devices`,
    their addresses too.

    Raises:
        QueryError: there is no such part.
    """
    plain = know(network)
    arrays = build_arrays(widened(plain))
    if parts_off:
        arrays = without(arrays, parts_off)
        plain = know(switched_off(plain, parts_off)) if network.outside is not None else arrays.knowledge
    answers = list(by_probe(arrays, probes, family, causes=causes))
    together = _Together(network, plain, arrays, answers, causes, devices)
    return [
        replace(with_proof(plain, arrays, answer), beside=Beside(together, number))
        for number, answer in enumerate(answers)
    ]
