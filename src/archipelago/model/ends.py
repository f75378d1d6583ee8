"""What the ends of questions, expectations, policies and demands stand for: the one place that looks words up."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass
from enum import Enum
from typing import Protocol

from archipelago.addressing.values import Address, Prefix, parse_address, parse_prefix
from archipelago.errors import AddressError, quoted
from archipelago.model.parts import DEFAULT_VLAN
from archipelago.model.problems import Names, listed

OUTSIDE = "outside"
"""The end that stands for whatever lies beyond the network's own edge."""
GATEWAY = "gateway"
"""After a host's name: what that host sends to. As the target of an expectation: each source's own gateway."""
ANYBODY = "any"
"""The end that stands for every host and the outside."""
WORDS = frozenset({OUTSIDE, ANYBODY, "all", "none"})
"""Words of the documents: nothing is called so."""
MOST_DIGITS = 4


class Kind(Enum):
    """What an end can be; the values say how each is written."""

    OUTSIDE = f"'{OUTSIDE}'"
    ANYBODY = f"'{ANYBODY}'"
    ADDRESS = "an address"
    PREFIX = "a subnet"
    PART = "DEVICE/INTERFACE"
    GATEWAY = f"HOST/{GATEWAY}"
    HOST = "a host"
    DEVICE = "a device"
    VLAN = "a VLAN (name or id)"


@dataclass(frozen=True, slots=True)
class NamedEnd:
    """An end that was looked up: its kind; the name of its host or device; the `part` of a device; a VLAN's id; an
    address or a subnet."""

    kind: Kind
    name: str = ""
    part: str = ""
    vlan: int = 0
    address: Address | None = None
    prefix: Prefix | None = None

    @property
    def block(self) -> Prefix:
        """The addresses of an end that is an address or a subnet."""
        if self.prefix is not None:
            return self.prefix
        assert self.address is not None
        return Prefix(*self.address, 32 if self.address.version == 4 else 128)


_STANDS_FOR = {
    Kind.OUTSIDE: "what is beyond the network",
    Kind.ANYBODY: "every host and the outside",
    Kind.VLAN: "a VLAN",
}
"""What an end is, where that is not how it is written."""
OF_HOSTS = (Kind.VLAN, Kind.HOST, Kind.PREFIX, Kind.ADDRESS, Kind.OUTSIDE, Kind.ANYBODY)
"""The ends that stand for hosts."""
ENDS = (*OF_HOSTS, Kind.DEVICE, Kind.PART)
"""The ends of policies; those of expectations but `any`."""


class Named(Protocol):
    """What has the names that ends are looked up in."""

    @property
    def vlans(self) -> Mapping[str, int]:
        """The catalogue."""

    @property
    def hosts(self) -> Collection[str]:
        """The hosts."""

    @property
    def devices(self) -> Collection[str]:
        """The devices."""


def find(word: str, named: Named) -> NamedEnd | None:
    """What a word stands for: the outside or anybody; an address or a subnet; a part of a device; what a host sends to;
    a host; a device; a VLAN by its name, then by its id. None where it is nothing of these.

    Whether a device has the part is not looked at.
    """
    if word == OUTSIDE:
        return NamedEnd(Kind.OUTSIDE)
    if word == ANYBODY:
        return NamedEnd(Kind.ANYBODY)
    written = _written(word, named) if word[:1].isdigit() or ":" in word else None
    if written is not None:
        return written
    name, slash, part = word.partition("/")
    if slash:
        if name in named.devices:
            return NamedEnd(Kind.PART, name, part)
        return NamedEnd(Kind.GATEWAY, name) if name in named.hosts and part == GATEWAY else None
    if word in named.hosts:
        return NamedEnd(Kind.HOST, word)
    if word in named.devices:
        return NamedEnd(Kind.DEVICE, word)
    return NamedEnd(Kind.VLAN, word, vlan=named.vlans[word]) if word in named.vlans else None


def _written(word: str, named: Named) -> NamedEnd | None:
    """An end that is no name: an address, a subnet, or a VLAN's id."""
    if word.isascii() and word.isdigit():
        number = int(word) if len(word) <= MOST_DIGITS else 0
        known = number == DEFAULT_VLAN or number in named.vlans.values()
        return NamedEnd(Kind.VLAN, word, vlan=number) if known and str(number) == word else None
    try:
        if "/" in word:
            return NamedEnd(Kind.PREFIX, prefix=parse_prefix(word))
        return NamedEnd(Kind.ADDRESS, address=parse_address(word))
    except AddressError:
        return None


def problem(word: str, named: Named, accepted: Iterable[Kind], names: Names | None = None) -> str | None:
    """What is wrong with a word as an end, where only some kinds are accepted; None where nothing is.

    Args:
        word: the word.
        named: what has names.
        accepted: what the end may be.
        names: says what may have been meant.
    """
    kinds = tuple(accepted)
    end = find(word, named)
    if end is not None and end.kind in kinds:
        return None
    ways = [kind.value for kind in kinds]
    written = f"write {', '.join(ways[:-1])} or {ways[-1]}"
    if end is not None:
        return f"{quoted(word)} is {_STANDS_FOR.get(end.kind, end.kind.value)}, which is no end here; {written}"
    known = [name for kind, names in _names(named) if kind in kinds for name in names]
    hint = (names or Names()).hint(word, known)
    return f"{quoted(word)} is nothing in this network{_why(word)}{hint}; {written}; there are: {listed(known)}"


def _names(named: Named) -> tuple[tuple[Kind, Collection[str]], ...]:
    return (Kind.HOST, named.hosts), (Kind.VLAN, named.vlans), (Kind.DEVICE, named.devices), (Kind.OUTSIDE, (OUTSIDE,))


def _why(word: str) -> str:
    """Why something that looks like an address or an id is none."""
    if word.isascii() and word.isdigit():
        ids = 1 <= int(word[:9]) <= 4094 and not word.startswith("0")
        return ": no VLAN has that id" if ids else ": VLAN ids go from 1 to 4094 (IEEE 802.1Q)"
    if word[:1].isdigit() or ":" in word:
        try:
            parse_prefix(word) if "/" in word else parse_address(word)
        except AddressError as error:
            return f": {error}"
    return ""
