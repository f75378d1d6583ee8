"""What a change leaves of leases: which domains are as they were, whose listeners still hear the same, and whose leases
hang on anything that is otherwise."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping
from dataclasses import dataclass, replace
from typing import NamedTuple

from archipelago.addressing.values import Address
from archipelago.knowledge.devices import Devices, Node
from archipelago.knowledge.domains import Domain, Domains
from archipelago.knowledge.hearing import Hearing, Lease, Listener
from archipelago.knowledge.links import HOST_PORT
from archipelago.knowledge.pools import stocks_of
from archipelago.model.leases import Pool
from archipelago.model.parts import Host
from archipelago.model.projection import WHOLE

Members = Mapping[Domain | None, tuple[str, ...]]
"""The hosts that ask, by their broadcast domain (None: they are down), in the order of the network."""
Offered = Mapping[str, Mapping[str, Pool]]
"""The pools of each server, in their order."""
Listeners = Callable[[str], tuple[Listener, ...]]
_Stock = tuple[str, str, int]
"""Addresses that a server gives out of pools which share some: before or after a change, the server, and a number."""


class Known(NamedTuple):
    """All that leases were decided by: who hears what in each domain, who asks where, who was given what, the hosts as
    they are written and their places, what servers offer, which hosts serve or
    answer relays, and who is active in virtual routers."""

    heard: Mapping[Domain, tuple[Listener, ...]]
    members: Members
    given: Mapping[str, Lease | None]
    hosts: Mapping[str, Host]
    order: Mapping[str, int]
    offered: Offered
    answering: Collection[str]
    active: object


@dataclass(frozen=True, slots=True)
class KeptLeases:
    """What was known before a change; the devices that it touches, as they were; and the domains that it does not."""

    before: Known
    touched: Mapping[str, Node]
    domains: frozenset[Domain]


def changed_hosts(old: Mapping[str, Host], new: Mapping[str, Host]) -> set[str] | None:
    """The hosts that are written otherwise, or in one of two networks only; None where others have changed places."""
    if old is new:
        return set()
    if list(old) != list(new) and [name for name in old if name in new] != [name for name in new if name in old]:
        return None
    return {name for name in {**old, **new} if not WHOLE.same(old.get(name), new.get(name))}


def answers_relays(old: Host | None, new: Host | None, named: Collection[Address]) -> bool:
    """Whether a host that is written otherwise answers relays, which name some addresses, and not only leases something
    else."""
    if old is not None and new is not None and replace(old, dhcp_pools=new.dhcp_pools) == new:
        return False
    return any(
        host is not None
        and not host.dhcp
        and (bool(host.dhcp_pools) or any(own.address in named for own in host.addresses))
        for host in (old, new)
    )


class Standing:
    """What stands of what was known, once a network has changed.

    Args:
        kept: what was known.
        devices: the devices as they are now.
        domains: the broadcast domains as they are now.
        changed: the hosts that are written otherwise, or were not, or are no more.
        moved: the hosts that serve or answer relays and are plugged into what the change touches.
    """

    def __init__(
        self, kept: KeptLeases, devices: Devices, domains: Domains, changed: Collection[str], moved: Collection[str]
    ) -> None:
        self._kept = kept
        self._devices = devices
        self._domains = domains
        self._changed = frozenset(changed)
        self._otherwise = self._changed | kept.touched.keys() | set(moved)
        self._entered = {domains.of((name, HOST_PORT)) for name in moved}
        self._now: dict[Domain, Domain | None] = {}

    def domain(self, old: Domain) -> Domain | None:
        """What a domain is now; None where it is not the same any more."""
        if old in self._kept.domains:
            return old
        if old not in self._now:
            self._now[old] = self._same(old)
        return self._now[old]

    def _same(self, old: Domain) -> Domain | None:
        """The domain that has the same endpoints now, set up as they were."""
        name = old.endpoints[0][0]
        if old.leaks or name not in self._devices:
            return None
        new = self._domains.of(old.endpoints[0])
        if (
            new is None
            or new in self._entered
            or new.leaks
            or new.endpoints != old.endpoints
            or new.circle != old.circle
        ):
            return None
        return new if all(map(self._as_it_was, old.endpoints)) else None

    def _as_it_was(self, endpoint: tuple[str, str | int]) -> bool:
        name, part = endpoint
        before = self._kept.touched.get(name)
        if before is None or not isinstance(part, str):
            return True
        return before.nics.get(part) == self._devices[name].nics.get(part)

    def listeners(self) -> dict[Domain, tuple[Listener, ...]]:
        """Who hears what in the domains where that is as it was."""
        found: dict[Domain, tuple[Listener, ...]] = {}
        for old, listeners in self._kept.before.heard.items():
            new = self.domain(old)
            if new is not None and all(map(self._outlasts, listeners)):
                found[new] = tuple(map(self._now_crossing, listeners))
        return found

    def _outlasts(self, listener: Listener) -> bool:
        """Whether what becomes of the question hangs on nothing that is otherwise."""
        if listener.relay and listener.outcome is not Hearing.OFFERS:
            return False  # where it ended, something may have come
        return (
            listener.device not in self._otherwise
            and self._otherwise.isdisjoint(listener.passed)
            and all(self.domain(crossed) is not None for crossed in listener.crossed)
        )

    def _now_crossing(self, listener: Listener) -> Listener:
        if listener.crossed <= self._kept.domains:
            return listener
        return replace(listener, crossed=frozenset(filter(None, map(self.domain, listener.crossed))))

    @property
    def before(self) -> Known:
        """What was known."""
        return self._kept.before

    def members(self, hosts: Mapping[str, Host], order: Mapping[str, int]) -> Members:
        """Who asks where now; only who asks where something is otherwise is looked for."""
        found: dict[Domain | None, tuple[str, ...]] = {}
        changed, touched = self._changed, self._kept.touched
        loose = {name for name in changed if name in hosts and hosts[name].dhcp}
        for old, names in self._kept.before.members.items():
            new = self.domain(old) if old is not None else None
            near = new is None or old is None or not touched.keys().isdisjoint(name for name, _ in old.endpoints)
            if not near and (not changed or changed.isdisjoint(names)):
                found[new] = names
                continue
            same = [name for name in names if name not in changed]
            if old is None:  # they are down: who is plugged into nothing that is otherwise stays so
                found[None] = tuple(name for name in same if hosts[name].at.device not in touched)
                same = [name for name in same if hosts[name].at.device in touched]
            loose.update(same)
        if loose:
            placed: dict[Domain | None, list[str]] = {}
            for name in loose:
                placed.setdefault(self._domains.of((name, HOST_PORT)), []).append(name)
            for domain, names_there in placed.items():
                found[domain] = tuple(sorted((*found.get(domain, ()), *names_there), key=order.__getitem__))
        return found

    def undecided(self, members: Members, listeners: Listeners, offered: Offered) -> list[Domain | None]:
        """The domains whose hosts may be given something else: those where others ask, or as others, or others hear it,
        and those whose servers give out of the same stock as there."""
        before = self._kept.before
        was = {new: old for old in before.members if old is not None and (new := self.domain(old)) is not None}
        stocks = _Stocks(before.offered, offered)
        of_domain: dict[Domain | None, set[_Stock]] = {}
        queue: list[Domain | None] = []
        left = set(before.members)
        for domain, names in members.items():
            if domain is None or not names:
                continue
            old = was.get(domain)
            left.discard(old)
            now, then = listeners(names[0]), before.heard.get(old, ()) if old is not None else ()
            of_domain[domain] = stocks.of("now", now) | stocks.of("then", then)
            otherwise = not self._changed.isdisjoint(names)
            if old is None or before.members[old] != names or now != then or otherwise:
                queue.append(domain)
        # What those are given no more whose domain is gone, others may be given.
        gone = (before.heard.get(old, ()) for old in left if old is not None)
        reached = {stock for listeners_there in gone for stock in stocks.of("then", listeners_there)}
        return _spreading(queue, reached, of_domain)


def _spreading(
    queue: list[Domain | None], reached: set[_Stock], of_domain: Mapping[Domain | None, set[_Stock]]
) -> list[Domain | None]:
    """The domains that have to do with some stocks, or with those of some domains, and so on."""
    by_stock: dict[_Stock, list[Domain | None]] = {}
    for domain, stocks in of_domain.items():
        for stock in stocks:
            by_stock.setdefault(stock, []).append(domain)
    found = dict.fromkeys([*queue, *(domain for stock in reached for domain in by_stock.get(stock, ()))])
    todo = list(found)
    for domain in todo:
        for stock in of_domain[domain] - reached:
            reached.add(stock)
            for other in by_stock[stock]:
                if other not in found:
                    found[other] = None
                    todo.append(other)
    return todo


class _Stocks:
    """What servers give out of, before and after a change."""

    def __init__(self, then: Offered, now: Offered) -> None:
        self._offered = {"then": then, "now": now}
        self._known: dict[tuple[str, str], Mapping[str, int]] = {}

    def of(self, when: str, listeners: Iterable[Listener]) -> set[_Stock]:
        """The stocks that hosts can be given something of."""
        found: set[_Stock] = set()
        for listener in listeners:
            if listener.outcome is Hearing.OFFERS:
                key = when, listener.server
                if key not in self._known:
                    self._known[key] = stocks_of(self._offered[when].get(listener.server, {}))
                found.update((*key, self._known[key][pool.name]) for pool in listener.pools)
        return found
