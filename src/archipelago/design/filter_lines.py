"""Lines of filters, each with what it is for; those that nothing is left to go."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Literal, NamedTuple

from archipelago.addressing.values import Prefix
from archipelago.design.entrances import Entrance
from archipelago.model.covering import taker
from archipelago.model.filters import FIRST_OWN_PORT, LAST_PORT, Filter, FilterRule, Ports, Traffic
from archipelago.model.policy import Policy

HIGH_PORTS = Ports(FIRST_OWN_PORT, LAST_PORT)
"""The ports that conversations begin from, so those that answers go to (RFC 6335 6)."""
EVERYTHING = (Traffic("any"),)

ANY_ANSWER = (
    FilterRule(accept=(Traffic("icmp"),), icmp_type="reply"),
    FilterRule(accept=(Traffic("tcp"),), answering=True),
    FilterRule(accept=(Traffic("udp"),), destination_port=(HIGH_PORTS,)),
)
"""What lets answers pass that no table of conversations knows."""
FOR_ANSWERS = "answers to what may be begun"


@dataclass(frozen=True, slots=True)
class Wanted:
    """What a policy wants at an interface, of what comes in by it (`inwards`) or of what is forwarded out: a filter
    (None where nothing is ever ended there), for each of its lines which line of the policy it serves, and why it is
    there."""

    entrance: Entrance
    inwards: bool
    filter: Filter | None
    serves: tuple[str, ...]
    why: str


class Line(NamedTuple):
    """A line of a filter, and what it serves."""

    rule: FilterRule
    serves: str


def needed(lines: Iterable[Line]) -> list[Line]:
    """Lines without those that an earlier one leaves nothing to."""
    kept: list[Line] = []
    takers: list[Callable[[FilterRule], bool]] = []
    for line in lines:
        if not any(takes_all(line.rule) for takes_all in takers):
            kept.append(line)
            takers.append(taker(line.rule))
    return kept


def trimmed(lines: Sequence[Line], policy: Policy) -> list[Line]:
    """Lines without the last ones that say what `otherwise` says; none where nothing is ever ended."""
    kept, last = list(lines), ending(policy)
    while kept and kept[-1].rule.action == last:
        kept.pop()  # what comes after it is the same
    return kept if last == "reject" or any(line.rule.reject for line in kept) else []


def ending(policy: Policy) -> Literal["accept", "reject"]:
    """What a filter does with what none of its lines speaks of."""
    return "reject" if policy.otherwise == "none" else "accept"


def of_families(prefixes: Iterable[Prefix], versions: set[int]) -> tuple[Prefix, ...]:
    """The prefixes of some families, each once."""
    return tuple(dict.fromkeys(prefix for prefix in prefixes if prefix.version in versions))


def spoken(
    may: tuple[Traffic, ...], may_not: tuple[Traffic, ...], source: tuple[Prefix, ...], there: tuple[Prefix, ...]
) -> Iterator[FilterRule]:
    """The line of a filter that says what a line of a policy says; none where its ends have no family in common."""
    if source and there:
        both = {prefix.version for prefix in source} & {prefix.version for prefix in there}
        source, there = of_families(source, both), of_families(there, both)
        if not both:
            return
    if may:
        yield FilterRule(accept=may, source=source, destination=there)
    else:
        yield FilterRule(reject=may_not, source=source, destination=there)
