"""House conventions for addresses: where in its subnet a gateway's address sits."""

from __future__ import annotations

import re
from dataclasses import dataclass

from archipelago.addressing.values import Address, Prefix
from archipelago.errors import CarveError


@dataclass(frozen=True, slots=True)
class GatewayConvention:
    """Where in its subnet a gateway's address sits: `offset` counts from the subnet's first address when it is
    positive, back from its last (the broadcast address in IPv4) when it is negative. `text` is how it was written."""

    text: str
    offset: int


FIRST = GatewayConvention("first", 1)


def gateway_convention(text: str) -> GatewayConvention:
    """A convention from its text: `first`, `last`, `+N` or `-N`.

    Raises:
        CarveError: the text is none of them.
    """
    if text in ("first", "last"):
        return GatewayConvention(text, 1 if text == "first" else -1)
    if re.fullmatch(r"[+-][1-9]\d{0,8}", text, re.ASCII):
        return GatewayConvention(text, int(text))
    raise CarveError([f"'{text}' is not a gateway convention; accepted: first, last, +N or -N such as +1 or -2"])


def by_convention(prefix: Prefix, convention: GatewayConvention) -> Address:
    if convention.offset >= 0:
        start = prefix.value if prefix.reserved_ends() or prefix.version == 6 else prefix.value - 1
        return Address(prefix.version, start + convention.offset)
    return Address(prefix.version, prefix.usable()[1] + 1 + convention.offset)
