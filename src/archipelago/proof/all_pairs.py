"""All pairs with everything that there is to tell of them: both families, and what must hold."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import fields, replace
from functools import cached_property

from archipelago.knowledge.known import Knowledge, know
from archipelago.knowledge.outside import hides, widened
from archipelago.knowledge.parts import plugged_in, switched_off
from archipelago.model.ends import OUTSIDE
from archipelago.model.filters import ECHO, Probe
from archipelago.model.finding import Finding
from archipelago.model.network import Network
from archipelago.model.parts import Device, Path
from archipelago.proof.causes import proved, proved_verdicts, with_proof
from archipelago.reachability.apart import Apart, Meant
from archipelago.reachability.arrays import NetworkArrays
from archipelago.reachability.build import build_arrays
from archipelago.reachability.causes import Group
from archipelago.reachability.devices import DevicePairs, device_pairs
from archipelago.reachability.expect import Checked, check
from archipelago.reachability.families import Decided
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
    def apart(self) -> Apart | None:
        """What is kept apart on purpose; None where nothing is wanted at all."""
        together, answer = self._together, self._together.answers[self._number]
        return together.apart(answer) if together.separates else None

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
            return answer.reached + (self.apart.pairs if self.apart is not None else 0) == answer.pairs
        assert self.apart is not None
        return not self.apart.unforeseen and not any(verdict.broken for verdict in self.checked.verdicts)


class _Together:
    """The answers for several kinds of probe, and what they share."""

    def __init__(
        self,
        network: Network,
        plain: Knowledge,
        arrays: NetworkArrays,
        family: int | None,
        probes: Sequence[Probe],
        causes: bool,
        devices: bool,
    ) -> None:
        self.network = network
        self.plain = plain
        self.arrays = arrays
        self.devices = devices
        self._causes = causes
        self._probes = probes
        wanted = arrays.knowledge.network
        self.wants = bool(wanted.expect) or wanted.policy is not None
        self.separates = self.wants or hides(network)
        self.answers = self._decided(family)

    def _decided(self, family: int | None) -> list[Matrix]:
        meant = self._meant.kinds if self.separates else None
        return list(by_probe(self.arrays, self._probes, family, causes=self._causes, meant=meant))

    def apart(self, answer: Matrix | Decided) -> Apart:
        """What of an answer is kept apart on purpose."""
        return self._meant.of(answer)

    @cached_property
    def _meant(self) -> Meant:
        hosts = self.arrays.hosts
        return Meant(self.arrays.knowledge, hosts, (OUTSIDE,) if OUTSIDE in hosts else (), hidden=hides(self.network))

    @cached_property
    def sixes(self) -> Sequence[Matrix | None]:
        both = self.answers[0].family is None and len(self.arrays.families) == 2 and self._causes
        return self._decided(6) if both else [None] * len(self._probes)

    @cached_property
    def checked(self) -> Checked | None:
        if not self.wants:
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
    moves: Sequence[str] = (),
) -> list[Matrix]:
    """Decide all pairs of a network, with some parts of it switched off and hosts plugged in elsewhere (`moves`), once
    for each kind of probe; with `devices`, their addresses too.

    Raises:
        QueryError: there is no such part.
    """
    network = plugged_in(network, moves) if moves else network
    plain = know(network)
    arrays = build_arrays(widened(plain))
    if parts_off:
        arrays = without(arrays, parts_off)
        plain = know(switched_off(plain, parts_off)) if network.outside is not None else arrays.knowledge
    together = _Together(network, plain, arrays, family, tuple(dict.fromkeys(probes)), causes=causes, devices=devices)
    asked = asked_off(network, plain.written) if parts_off else frozenset()
    said = off_as_asked(parts_off)
    answers: list[Matrix] = []
    for number, answer in enumerate(together.answers):
        groups = tuple(_as_asked(group, asked, said) for group in answer.groups)
        told = with_proof(plain, arrays, replace(answer, groups=groups))
        answers.append(replace(told, beside=Beside(together, number)))
    return answers


def off_as_asked(parts: Sequence[str]) -> str:
    """What stands in place of a mend where a part is off since somebody asked so."""
    return f"switched off for this question (--without {', '.join(parts)})"


def asked_off(network: Network, without: Network) -> frozenset[Path]:
    """The places that are written otherwise since parts were switched off."""
    return frozenset(
        [
            *(("cables", number) for number, one in enumerate(without.cables) if one != network.cables[number]),
            *_other_places(("hosts",), network.hosts, without.hosts),
            *(
                place
                for name, device in without.devices.items()
                for place in _other_fields(("devices", name), network.devices[name], device)
            ),
        ]
    )


def _other_fields(path: Path, old: Device, new: Device) -> Iterator[Path]:
    """The fields that two states of a device have otherwise; of a mapping the entries."""
    for field in fields(new):
        was, now = getattr(old, field.name), getattr(new, field.name)
        if isinstance(now, Mapping):
            yield from _other_places((*path, field.name), was, now)
        elif was != now:
            yield (*path, field.name)


def _other_places(path: Path, old: Mapping[str, object], new: Mapping[str, object]) -> Iterator[Path]:
    return ((*path, name) for name, part in new.items() if part != old.get(name))


def _as_asked(group: Group, asked: frozenset[Path], said: str) -> Group:
    """A cause without a mend where that is what somebody asked for."""
    finding = group.finding
    if undoes(finding, asked):
        return replace(group, finding=replace(finding, mend=said, edits=(), instead=()))
    return group


def undoes(finding: Finding, asked: frozenset[Path]) -> bool:
    """Whether a mend takes back what somebody asked for."""
    return any(edit.path[: len(place)] == place for edit in finding.edits for place in asked)
