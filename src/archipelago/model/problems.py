"""What the rules of a network and of a brief share: names and what is meant by them, values, VLANs, addresses."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Iterator, Mapping
from difflib import get_close_matches
from typing import NamedTuple, Protocol

from archipelago.addressing.values import InterfaceAddress
from archipelago.errors import ModelProblem
from archipelago.model.parts import Path

Problems = Iterator[ModelProblem]
LEAST_IPV6 = 1280
"""The octets that every link with IPv6 passes (RFC 8200 5)."""
MOST_MEANT = 8
"""So many misspelt names of one document get a 'did you mean'; looking for one takes time."""


class Names:
    """The names that something can be meant by, for messages. `left_out` are those that were written and not
    understood: whatever refers to them is not held against the document. No more than some get a 'did you mean'."""

    def __init__(self, left_out: Collection[str] = ()) -> None:
        self._left_out = left_out
        self._meant = 0

    def hint(self, word: str, accepted: Iterable[str]) -> str:
        """`; did you mean 'x'?` where one accepted name is close, else nothing."""
        if self._meant >= MOST_MEANT:
            return ""
        self._meant += 1
        close = get_close_matches(word[:100], list(accepted), n=1, cutoff=0.6)
        return f"; did you mean '{close[0]}'?" if close else ""

    def unknown(self, path: Path, word: str, accepted: Collection[str], what: str) -> Problems:
        """A problem where a name is not among the accepted ones; an empty one is one that was not understood."""
        if word and word not in accepted and word not in self._left_out:
            hint = self.hint(word, accepted)
            yield ModelProblem(path, f"there is no {what} '{word}'{hint}; there are: {listed(accepted)}")

    def suppressed(self, word: str) -> bool:
        """Whether a name was written and not understood."""
        return word in self._left_out


def listed(accepted: Iterable[str], most: int = 12) -> str:
    """The accepted names as text, cut where there are very many."""
    names = list(accepted)
    if not names:
        return "none"
    return ", ".join(names[:most]) + (f" and {len(names) - most} more" if len(names) > most else "")


def folded(names: Iterable[str]) -> str:
    """Names with runs of numbers folded: p1, p2, p3, p7 becomes p1-p3, p7."""
    parsed = []
    for name in dict.fromkeys(names):
        match = re.fullmatch(r"(.*?)(\d{1,9})", name)
        parsed.append((match[1], int(match[2])) if match and not match[2].startswith("0") else (name, -1))
    parsed.sort()
    parts: list[str] = []
    index = 0
    while index < len(parsed):
        stem, first = parsed[index]
        last = first
        while first >= 0 and index + 1 < len(parsed) and parsed[index + 1] == (stem, last + 1):
            index += 1
            last += 1
        index += 1
        number = "" if first < 0 else str(first)
        parts.append(f"{stem}{number}" if last == first else f"{stem}{first}-{stem}{last}")
    return ", ".join(parts)


def can_be_held(address: InterfaceAddress) -> bool:
    """Whether an interface can hold an address: not the unspecified one, loopback, multicast and what is above."""
    if address.version == 4:
        return 0 < address.value >> 24 < 224 and address.value >> 24 != 127
    return address.value >> 120 != 0xFF and address.value > 1


def held_problems(path: Path, addresses: Iterable[InterfaceAddress]) -> Problems:
    """Addresses that no interface can hold."""
    for address in addresses:
        if not can_be_held(address):
            yield ModelProblem((*path, "address"), f"{address} is not an address that an interface can hold")


class Sized(Protocol):
    """What has addresses, and the size of the packets that it passes."""

    @property
    def addresses(self) -> tuple[InterfaceAddress, ...]:
        """Its addresses."""

    @property
    def mtu(self) -> int | None:
        """The largest packet, in octets; None where it is not written."""


def mtu_problems(path: Path, part: Sized) -> Problems:
    """IPv6 needs links that pass 1,280 octets (RFC 8200 5)."""
    if part.mtu is not None and part.mtu < LEAST_IPV6 and any(one.version == 6 for one in part.addresses):
        message = (
            f"an interface with an IPv6 address passes {LEAST_IPV6:,} octets at least (RFC 8200 5), not {part.mtu}"
        )
        yield ModelProblem((*path, "mtu"), message)


class Catalogue(NamedTuple):
    """The VLANs of a document: their ids by name, and all ids."""

    names: Mapping[str, int]
    ids: frozenset[int]

    @classmethod
    def of(cls, names: Mapping[str, int]) -> Catalogue:
        """The catalogue of some names."""
        return cls(names, frozenset(names.values()))


def vlan_problems(path: Path, vlan: int | None, vlans: Catalogue) -> Problems:
    """A VLAN that is neither in the catalogue nor VLAN 1."""
    if vlan is None or vlan == 1 or vlan == 0 or vlan in vlans.ids:  # 0: one that was not understood
        return
    if not 1 <= vlan <= 4094:
        yield ModelProblem(path, f"'{vlan}' is not a VLAN id; ids go from 1 to 4094 (IEEE 802.1Q)")
    else:
        yield ModelProblem(path, f"there is no VLAN '{vlan}' in the catalogue; 'vlans' holds: {listed(vlans.names)}")
