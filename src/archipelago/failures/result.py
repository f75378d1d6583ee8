"""What a failure does, as plain data."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Literal, NamedTuple

from archipelago.answer import Answer, OneLine
from archipelago.errors import QueryError
from archipelago.failures.parts import Kind
from archipelago.model.finding import Mend
from archipelago.model.network import Network

Outcome = Literal["cuts off", "cuts off its own hosts", "taken over", "not missed"]
OUTCOMES: tuple[Outcome, ...] = ("cuts off", "cuts off its own hosts", "taken over", "not missed")


MOST_NAMED = 3
"""So many things are named in a sentence or a cell; more are counted."""


def named(things: Sequence[object], between: str = ", ") -> str:
    """The first of some things, and how many more there are."""
    more = len(things) - MOST_NAMED
    return between.join(map(str, things[:MOST_NAMED])) + (f" and {more:,} more" if more > 0 else "")


class Takeover(NamedTuple):
    """What does a broken part's work from then on: at which device, and what it does now that it did not before."""

    at: str
    what: str

    def __str__(self) -> str:
        return f"{self.at} {self.what}"


class DevicesLost(NamedTuple):
    """How many pairs with an address of a device at an end are lost of which no end is on a device that breaks or
    plugged into it, and one of them."""

    pairs: int
    example: tuple[str, str] | None


@dataclass(frozen=True, slots=True, repr=False)
class Outage(OneLine):
    """What happens when parts break, once all has settled.

    Args:
        parts: what breaks, as people call it.
        kinds: what each of them is.
        lost: how many ordered pairs of hosts are reached before, in any family, and not after.
        elsewhere: of them, those of which neither end is plugged into a device that breaks.
        one_family: how many pairs are then reached in one of two address families only.
        hosts: how many hosts reach nobody any more, of those that reached somebody.
        gained: how many pairs are reached only now.
        example: one of the pairs that are lost, elsewhere where there are such.
        expectations: what the network expects, and holds no more.
        policy: what the network's policy says, and is kept no more.
        takeovers: what does the work of what is broken.
        addition: what would make it harmless elsewhere; None where it is, or nothing single does.
        without: why there is no addition although there should be one.
        devices: the same of devices' addresses; None where nobody asked.
    """

    parts: tuple[str, ...]
    kinds: tuple[Kind, ...]
    lost: int
    elsewhere: int
    one_family: int
    hosts: int
    gained: int
    example: tuple[str, str] | None
    expectations: tuple[str, ...] = ()
    policy: tuple[str, ...] = ()
    takeovers: tuple[Takeover, ...] = ()
    addition: Mend | None = None
    without: str = ""
    devices: DevicesLost | None = None

    @property
    def name(self) -> str:
        """What breaks, as people call it."""
        return " and ".join(self.parts)

    @property
    def outcome(self) -> Outcome:
        """What it comes to, in words."""
        if self.elsewhere or self.one_family:
            return "cuts off"
        if self.lost:
            return "cuts off its own hosts"
        return "taken over" if self.takeovers else "not missed"

    @property
    def by_hand(self) -> bool:
        """Whether only people end it: interfaces are switched off, they do not break."""
        return all(kind == "interface" for kind in self.kinds)

    @property
    def harmless(self) -> bool:
        """Whether no pair elsewhere, no expectation and no line of the policy falls with it."""
        return self.outcome != "cuts off" and not self.expectations and not self.policy

    @property
    def rank(self) -> tuple[int, ...]:
        """The worst comes first."""
        broken = len(self.expectations) + len(self.policy)
        return -self.elsewhere, -self.one_family, -broken, -self.lost, -len(self.takeovers)

    def __str__(self) -> str:
        if self.outcome == "cuts off":
            said = f"{self.elsewhere:,} pairs" if self.elsewhere else f"{self.one_family:,} pairs in one address family"
            such = f", such as {self.example[0]} to {self.example[1]}" if self.example else ""
            return f"{self.name} breaks: cuts off {said}{such}"
        if self.outcome == "cuts off its own hosts":
            return f"{self.name} breaks: cuts off its own hosts only"
        over = f" by {'; '.join(map(str, self.takeovers))}" if self.takeovers else ""
        return f"{self.name} breaks: {self.outcome}{over}"


@dataclass(frozen=True, slots=True, repr=False)
class Outages(Answer):
    """Every failure that was asked for, the worst first; `pairs` is how many ordered pairs of hosts there are, and
    `reached` how many are reached while nothing is broken; `network` is what was broken."""

    SHOWN = "outages.OUTAGES"

    pairs: int
    reached: int
    outages: tuple[Outage, ...]
    network: Network = field(default_factory=Network, compare=False)

    @property
    def single_points(self) -> tuple[Outage, ...]:
        """Those that cut off others than the hosts plugged into what breaks."""
        return tuple(outage for outage in self.outages if outage.outcome == "cuts off")

    @property
    def harmful(self) -> tuple[Outage, ...]:
        """Those that cut others off, or break what the network expects or its policy says."""
        return tuple(outage for outage in self.outages if not outage.harmless)

    @property
    def headline(self) -> str:
        """The answer in one line."""
        by_hand = [outage for outage in self.outages if outage.by_hand]
        cut_by_hand = sum(outage.by_hand for outage in self.single_points)
        many = len(self.single_points) - cut_by_hand
        total = len(self.outages) - len(by_hand)
        both = any(len(outage.parts) > 1 for outage in self.outages)
        noun = "double failure" if both else "part"
        if not many:
            said = f"none of {total:,} {noun}{'s' * (total != 1)} cuts anybody off elsewhere when it breaks"
        elif both:
            said = f"{many:,} of {total:,} {noun}s cut somebody off elsewhere"
        else:
            are = "is a single point" if many == 1 else "are single points"
            said = f"{many:,} of {total:,} parts {are} of failure"
        if by_hand:
            cut = "cuts somebody off when it is" if cut_by_hand == 1 else "cut somebody off when they are"
            said += f"; {cut_by_hand:,} of {len(by_hand):,} {'pairs of ' * both}interfaces {cut} switched off"
        broken = sum(bool(outage.expectations or outage.policy) for outage in self.outages)
        over = sum(outage.outcome == "taken over" for outage in self.outages)
        said += f"; {over:,} taken over" if over else ""
        return said + (f"; {broken:,} break what is expected" if broken else "")

    def __getitem__(self, name: str) -> Outage:
        """The outage of a part, by its name; of several, by their names joined by ' and '.

        Raises:
            QueryError: no such part was broken.
        """
        for outage in self.outages:
            if name in (outage.name, " and ".join(outage.parts[::-1])):
                return outage
        raise QueryError(f"there is no outage of '{name}'")

    def __iter__(self) -> Iterator[Outage]:
        return iter(self.outages)

    def __len__(self) -> int:
        return len(self.outages)

    def __bool__(self) -> bool:
        return not self.harmful
