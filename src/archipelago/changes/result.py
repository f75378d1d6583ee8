"""The steps from one state of a network to another, as plain data."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from archipelago.answer import Answer, OneLine
from archipelago.changes.differences import Difference
from archipelago.changes.pairs import Cut
from archipelago.errors import QueryError
from archipelago.model.network import Network


@dataclass(frozen=True, slots=True, repr=False)
class Check(OneLine):
    """What to try after a step, and what it must show: one end asks another, and is answered or not."""

    source: str
    target: str
    reached: bool

    def __str__(self) -> str:
        return f"{self.source} {'reaches' if self.reached else 'does not reach'} {self.target}"


@dataclass(frozen=True, slots=True, repr=False)
class Step(OneLine):
    """One change on one device.

    Args:
        number: its place, from 1.
        difference: what is changed, in words and as data, and what takes it back.
        cut: the pairs that are cut off after it, of those that both ends of the change answer, in any family.
        halved: the pairs that are left in one family only after it, of those that both ends answer in both.
        broken: the expectations and lines of the policy that both ends keep and that are not kept after it.
        reached: how many ordered pairs of hosts are reached after it, in any family.
        unreached: the devices still to be changed that the person does not reach after it.
        doubled: the addresses that two hold after it, so that chance decides who answers.
        check: what to try.
        at_console: whether it is made at the device's own console, as the person does not reach it from afar.
        timed: whether it is made under an undo that comes by itself, as it locks the person out.
        undone_with_loss: whether taking it back cuts pairs off.
        cut_devices: the pairs with an address of a device at an end that are cut off after it; None where nobody asked.
    """

    number: int
    difference: Difference
    cut: Cut
    halved: Cut
    broken: tuple[str, ...]
    reached: int
    unreached: tuple[str, ...]
    doubled: tuple[str, ...]
    check: Check | None
    at_console: bool = False
    timed: bool = False
    undone_with_loss: bool = False
    cut_devices: Cut | None = None

    @property
    def at(self) -> str:
        """Where it is made: a device, a host or cables."""
        return self.difference.at

    @property
    def what(self) -> str:
        """What is done, in words."""
        return self.difference.what

    @property
    def undo(self) -> str:
        """What takes it back, in words."""
        return self.difference.undo

    def __str__(self) -> str:
        return f"{self.number}. {self.at}: {self.what}"


@dataclass(frozen=True, slots=True, repr=False)
class Window(OneLine):
    """Steps that interrupt together: the first and the last of them, and how many pairs are cut off at the most."""

    first: int
    last: int
    most: Cut

    @property
    def steps(self) -> int:
        """How many they are."""
        return self.last - self.first + 1


@dataclass(frozen=True, slots=True, repr=False)
class Change(Answer):
    """The steps from an old network to a new one, in an order that was searched.

    Args:
        old, new: the two ends.
        host: where the person sits.
        steps: the steps.
        by_console: devices that the person does not reach at the beginning.
        no_order: whether no order of the steps that hang together locks nobody out: every one was looked at. `together`
            says how many these are; where they are not all, the others were made before them or after.
        tried: how many states were decided.
        would_help: what makes an order possible that locks nobody out; each was tried.
    """

    SHOWN = "change.CHANGE"

    old: Network
    new: Network
    host: str
    steps: tuple[Step, ...]
    by_console: tuple[str, ...]
    no_order: bool
    together: int
    tried: int
    would_help: tuple[str, ...]
    _written: tuple[Network, ...] = field(repr=False, compare=False)

    def at(self, number: int) -> Network:
        """The network after a step; hosts have what they hold then. 0 is the old network.

        Raises:
            QueryError: there is no such step.
        """
        if not 0 <= number <= len(self.steps):
            raise QueryError(f"there is no step {number}; there are 1 to {len(self.steps)}, and 0 is before the first")
        return self._written[number]

    def enter(self, number: int) -> tuple[str, ...]:
        """What a person enters at a step, complete and in the order in which devices take it, an item for each thing,
        its lines apart by line ends; the last step at a device ends with making it permanent.

        Args:
            number: the step, from 1.

        Raises:
            QueryError: there is no such step.
        """
        from archipelago.changes.entering import PERMANENT, entered

        told = entered(self.at(number - 1), self.at(number))
        step = self.steps[number - 1]
        several = len(told.devices) > 1
        items = [f"{name}: {item}" if several else item for name, listed in told.devices.items() for item in listed]
        items += told.hosts.get(step.at, ()) + told.cables
        last = not any(other.at == step.at for other in self.steps[number:])
        if told.devices and last:
            items.append(PERMANENT)
        return tuple(items) or (step.what,)

    @property
    def cut_steps(self) -> int:
        """How many pairs are cut off, each counted once for each step."""
        return sum(step.cut.pairs for step in self.steps)

    @property
    def locked_out(self) -> tuple[Step, ...]:
        """The steps after which the person does not reach a device that is still to be changed."""
        return tuple(step for step in self.steps if step.unreached)

    @property
    def point_of_no_return(self) -> int | None:
        """The first step that cannot be taken back without a loss; None where every one can."""
        return next((step.number for step in self.steps if step.undone_with_loss), None)

    @property
    def windows(self) -> tuple[Window, ...]:
        """The steps that interrupt, those together that follow each other until nobody is cut off."""
        return tuple(self._windows())

    def _windows(self) -> Iterator[Window]:
        first: Step | None = None
        most = Cut(0)
        for step in self.steps:
            if step.cut.pairs or step.halved.pairs or step.unreached or step.broken:
                first = first or step
                most = max(most, step.cut, key=lambda cut: cut.pairs)
            elif first is not None:
                yield Window(first.number, step.number, most)
                first, most = None, Cut(0)

    @property
    def headline(self) -> str:
        """The answer in one line."""
        if not self.steps:
            return "nothing is to be changed"
        count = f"{len(self.steps):,} step{'s' * (len(self.steps) != 1)}"
        worst = max((step.cut for step in self.steps), key=lambda cut: cut.pairs)
        interrupting = sum(step.cut.pairs > 0 for step in self.steps)
        if worst.pairs:
            times = f"{interrupting} step{'s' * (interrupting != 1)}"
            told = f"{count}; {worst} cut off at the most, after {times} somebody is"
        else:
            told = f"{count}; no pair is cut off at any of them"
        half = max((step.halved for step in self.steps), key=lambda cut: cut.pairs)
        if half.pairs:
            told += f"; {half} left in one family only at the most"
        broken = {line for step in self.steps for line in step.broken}
        if broken:
            after = sum(bool(step.broken) for step in self.steps)
            promises = f"{len(broken):,} promise{'s' * (len(broken) != 1)}"
            told += f"; {promises} not kept after {after} step{'s' * (after != 1)}"
        locked = self.locked_out
        if not locked:
            return f"{told}; {self.host} is never locked out"
        names = ", ".join(dict.fromkeys(name for step in locked for name in step.unreached))
        return f"{told}; {self.host} is locked out of {names} after step {locked[0].number}"

    def __iter__(self) -> Iterator[Step]:
        return iter(self.steps)

    def __len__(self) -> int:
        return len(self.steps)

    def __bool__(self) -> bool:
        return not self.locked_out
