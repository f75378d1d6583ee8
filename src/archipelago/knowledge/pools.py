"""What a server gives out of its pools: which of them fit, and the lowest address that is free."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from archipelago.addressing.values import Address, InterfaceAddress
from archipelago.model.leases import Pool


def fitting(pools: Mapping[str, Pool], near: Iterable[Address | InterfaceAddress]) -> tuple[Pool, ...]:
    """The pools, in order, whose subnet holds an address of where a question comes from."""
    places = list(near)
    return tuple(pool for pool in pools.values() if any(pool.subnet.holds(address) for address in places))


def own_name(addresses: Iterable[InterfaceAddress], pool: Pool) -> Address | None:
    """The address that a server names itself by (RFC 2132 9.7), so that hosts renew there: of the interface by which
    the question came in, one in the pool's subnet, else the first. RFC 2131 4.3.1 leaves the choice; this is what
    servers do that listen by interface."""
    own = [address for address in addresses if address.version == 4]
    inside = (address.address for address in own if pool.subnet.holds(address))
    return next(inside, own[0].address if own else None)


def stocks_of(pools: Mapping[str, Pool]) -> Mapping[str, int]:
    """For each pool the number of the stock that it gives out of: pools of one server that share an address share one,
    since none is given twice."""
    spans: list[tuple[int, int, str]] = []
    for pool in pools.values():
        spans += [(given.first.value, given.last.value, pool.name) for given in pool.ranges]
        spans += [(address.value, address.value, pool.name) for address in pool.reservations.values()]
    stock = {name: number for number, name in enumerate(pools)}
    last, holder = -1, ""
    for first, end, name in sorted(spans):
        if first <= last and stock[name] != stock[holder]:
            old, new = stock[name], stock[holder]
            stock = {other: new if number == old else number for other, number in stock.items()}
        if end > last:
            last, holder = end, name
    return stock


class Shop:
    """What one server has given: it never gives an address twice, from whatever pool, nor one that is reserved in any
    of its pools to another host."""

    def __init__(self, pools: Mapping[str, Pool]) -> None:
        self._taken: set[int] = set()
        self._reserved = {address.value for pool in pools.values() for address in pool.reservations.values()}
        self._next: dict[tuple[str, int], int] = {}

    def give(self, pool: Pool, host: str, never: frozenset[int], *, keep: bool = True) -> int | None:
        """An address for a host, noted as given where it is to be kept; None where the pool is used up."""
        reserved = pool.reservations.get(host)
        if reserved is not None and reserved.value not in self._taken and reserved.value not in never:
            if keep:
                self._taken.add(reserved.value)
            return reserved.value
        for number, given in enumerate(pool.ranges):
            value = self._lowest((pool.name, number), given.first.value, given.last.value, never)
            if value is not None:
                if keep:
                    self._taken.add(value)
                return value
        return None

    def _lowest(self, key: tuple[str, int], first: int, last: int, never: frozenset[int]) -> int | None:
        """The lowest free address of a range. What is taken once stays so; what is only not given here is passed over
        each time."""
        value = self._next.get(key, first)
        while value <= last and (value in self._taken or value in self._reserved):
            value += 1
        self._next[key] = value
        while value <= last and (value in self._taken or value in self._reserved or value in never):
            value += 1
        return value if value <= last else None
