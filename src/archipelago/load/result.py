"""What links carry, as plain data."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from archipelago.answer import Answer, OneLine
from archipelago.errors import QueryError
from archipelago.model.network import Network
from archipelago.model.parts import speed_text


def rate_text(rate: float) -> str:
    """Bits per second in words, such as `12.5 Mbit/s`.

    Example:
        >>> rate_text(12_500_000)
        '12.5 Mbit/s'
    """
    for factor, unit in ((1e12, "T"), (1e9, "G"), (1e6, "M"), (1e3, "k")):
        if rate >= factor * 0.9995:
            return f"{rate / factor:.3g} {unit}bit/s"
    return f"{rate:.3g} bit/s"


def times(growth: float) -> str:
    """How often something fits, in words.

    Example:
        >>> times(2.5), times(4000)
        ('2.5 times', 'over 1,000 times')
    """
    return "over 1,000 times" if growth > 1000 else f"{growth:.3g} times"


@dataclass(frozen=True, slots=True, repr=False)
class DemandLoad(OneLine):
    """What became of one demand: how many ordered pairs of hosts it names and how many of them reach each other, what
    is sent and what of it arrives, in bits per second; the rest is dropped."""

    name: str
    pairs: int
    reached: int
    sent: float
    arrived: float

    @property
    def dropped(self) -> float:
        """What does not arrive, in bits per second."""
        return max(self.sent - self.arrived, 0.0)


class LinkLoad(NamedTuple):
    """What one cable carries in each direction, in bits per second, and what it can: between the ports `a` and `b`; for
    a host's port `b` is the host, for one that leads outside `outside`. `to_a_again` is what of the packets to `a` had
    come from there over the same cable (`to_b_again` the other way round): both legs of a routed way."""

    a: str
    b: str
    speed: int
    to_b: float
    to_a: float
    to_b_again: float = 0.0
    to_a_again: float = 0.0

    @property
    def name(self) -> str:
        """The cable, as documents write it."""
        return f"{self.a} ~ {self.b}"

    @property
    def busiest(self) -> float:
        """What the fuller of its directions carries."""
        return max(self.to_a, self.to_b)

    @property
    def share(self) -> float:
        """How full the fuller of its directions is: 1 is full."""
        return self.busiest / self.speed

    @property
    def growth(self) -> float:
        """How often what it carries fits into it."""
        return self.speed / self.busiest if self.busiest else float("inf")

    @property
    def both_legs(self) -> float:
        """What of it are packets that come by it and leave by it again, counted once."""
        return max(self.to_a_again, self.to_b_again)


@dataclass(frozen=True, slots=True, repr=False)
class BrokenLoad(OneLine):
    """What links carry once a part is broken: the fullest link and how full it is, which links are more than full that
    were not before, and what is dropped that arrived before, in bits per second."""

    part: str
    fullest: str
    share: float
    filled: tuple[str, ...]
    dropped: float


@dataclass(frozen=True, slots=True, repr=False)
class Load(Answer):
    """What every link of a network carries.

    Args:
        assumed: the rule of thumb that stands for demands which nobody wrote; empty where they are written.
        demands: what became of each demand.
        links: every cable between devices and every port that leads outside, the fullest first.
        host_links: every host's port, the fullest first.
        broken: what each single failure does to the others, the worst first; None where nobody asked.
        uncounted: pairs of kinds of hosts whose way was not looked at: too many hang on an address that several hold.
        network: whose links they are.
    """

    SHOWN = "traffic.TRAFFIC"

    assumed: str
    demands: tuple[DemandLoad, ...]
    links: tuple[LinkLoad, ...]
    host_links: tuple[LinkLoad, ...]
    broken: tuple[BrokenLoad, ...] | None = None
    uncounted: int = 0
    network: Network = field(default_factory=Network, compare=False)

    @property
    def sent(self) -> float:
        """What all hosts send, answers aside, in bits per second."""
        return sum(demand.sent for demand in self.demands)

    @property
    def arrived(self) -> float:
        """What of it arrives."""
        return sum(demand.arrived for demand in self.demands)

    @property
    def dropped(self) -> float:
        """What of it does not."""
        return sum(demand.dropped for demand in self.demands)

    @property
    def fullest(self) -> LinkLoad | None:
        """The link that fills first, a host's port or not; None where nothing is carried."""
        first = [links[0] for links in (self.links, self.host_links) if links and links[0].busiest]
        return max(first, key=lambda link: link.share, default=None)

    @property
    def overfull(self) -> tuple[LinkLoad, ...]:
        """The links that would have to carry more than they can."""
        return tuple(link for link in (*self.links, *self.host_links) if link.share > 1)

    @property
    def headline(self) -> str:
        """The answer in one line."""
        fullest = self.fullest
        if fullest is None:
            return f"nothing is carried: {rate_text(self.sent)} asked for, no pair of these hosts is reached"
        over = len(self.overfull)
        if over:
            links = f"{over:,} link{'s' * (over != 1)}"
            told = f"{links} would have to carry more than fits: {fullest.name} the most, {fullest.share:.0%} of "
            return f"{told}{speed_text(fullest.speed)}"
        return (
            f"every link has room: {fullest.name} fills first, {fullest.share:.1%} of {speed_text(fullest.speed)} "
            f"today, full at {times(fullest.growth)} today's traffic"
        )

    def __getitem__(self, name: str) -> LinkLoad:
        """A link by its name, by one of its ports or by its host.

        Raises:
            QueryError: there is no such link.
        """
        for link in (*self.links, *self.host_links):
            if name in (link.name, link.a, link.b):
                return link
        raise QueryError(f"there is no link '{name}' here; write a port, a host, or a cable as A/p1 ~ B/p2")

    def rows(self) -> Iterator[dict[str, Any]]:
        """Every port, as plain data: what it sends and is sent, in bits per second."""
        for link in (*self.links, *self.host_links):
            for port, far, sent, received in (
                (link.a, link.b, link.to_b, link.to_a),
                (link.b, link.a, link.to_a, link.to_b),
            ):
                if "/" in port:
                    yield {
                        "port": port,
                        "to": far,
                        "speed": link.speed,
                        "sends": sent,
                        "receives": received,
                        "share": max(sent, received) / link.speed,
                    }

    def __bool__(self) -> bool:
        return not self.overfull and not (self.dropped and not self.assumed)
