"""An order for the steps of a change: none that locks out who makes them, and the fewest pairs cut off for the fewest
steps."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from heapq import heappop, heappush
from itertools import count, pairwise

from archipelago.changes.differences import Difference
from archipelago.changes.needs import needs
from archipelago.changes.related import related
from archipelago.changes.states import State, States, owners
from archipelago.changes.together import Stuck, smallest_possible
from archipelago.knowledge.known import Knowledge

EXHAUSTIVE = 12
"""Up to so many steps that hang together, every order is looked at that could be better."""
ASKED_AHEAD = 200
"""So many states are decided at most to find the way over an interruption."""
KEPT = 256
"""So many decided states are kept."""
Done = frozenset[int]
FEW = 7
"""Up to so many steps, every order is decided, so that none is better."""
Price = tuple[int, int, int, int, int]
"""What an order costs: steps after which somebody is locked out, expectations and lines of the policy that both ends
keep and are broken, pairs cut off, addresses held twice, pairs left in one family only; each is counted once for each
step."""
FREE: Price = (0, 0, 0, 0, 0)


@dataclass(frozen=True, slots=True)
class Standing:
    """A state on the way: which steps are done, which devices still to be changed the person does not reach, and which
    addresses are held twice that are not at either end."""

    done: Done
    state: State
    unreached: tuple[str, ...]
    doubled: tuple[str, ...]

    @property
    def price(self) -> Price:
        """What it costs to be in this state for one step."""
        state = self.state
        return bool(self.unreached), len(state.broken), state.cut.pairs, len(self.doubled), state.halved.pairs

    @property
    def harmless(self) -> bool:
        """Whether nobody is cut off or locked out, and what is promised is kept."""
        return self.lets_work and not self.state.broken and not self.state.halved.pairs

    @property
    def lets_work(self) -> bool:
        """Whether nobody is cut off or locked out."""
        return not self.unreached and not self.state.cut.pairs


@dataclass(frozen=True, slots=True)
class Order:
    """An order of the steps, by their places, and the state after each. `exhausted` says that it locks somebody out and
    that every order was looked at that does not, as far as `together` of the steps go."""

    steps: tuple[int, ...]
    standings: tuple[Standing, ...]
    exhausted: bool = False
    together: int = 0

    @property
    def price(self) -> Price:
        """What it costs."""
        return _sum(FREE, *(one.price for one in self.standings))


def _sum(*prices: Price) -> Price:
    locked, broken, cut, doubled, halved = (sum(column) for column in zip(*prices, strict=True))
    return locked, broken, cut, doubled, halved


@dataclass(slots=True)
class Search:
    """Looks for an order.

    Args:
        states: the two ends.
        differences: the steps.
        reached_otherwise: devices that need not be reached over the network: no order could, or there is a console.
    """

    states: States
    differences: Sequence[Difference]
    reached_otherwise: frozenset[str] = frozenset()
    _needs: list[Done] = field(init=False)
    _kept: dict[Done, Standing | None] = field(init=False, default_factory=dict)
    _doubled_too: bool = field(init=False, default=False)
    _promises_aside: bool = field(init=False, default=False)

    def __post_init__(self) -> None:
        self._needs = needs(self.differences)

    def best(self) -> Order:
        """The best order that is found: what harms nobody comes first or last, what is left in between so that it harms
        least; where possible without a state in which an address is held twice."""
        whole = frozenset(range(len(self.differences)))
        first, last = [self.start()], [self._judged(whole, self.states.last)]
        order = self._from_both_ends(first, last)
        if order.price > FREE:
            self._doubled_too = True
            every = len(whole) <= FEW
            best = self._cheapest(first[0], whole, lambda one: one.done >= whole, lock_out=True) if every else None
            if best is not None:
                return self._without_lock_out(best) if best.price[0] else best
            by_name = self._as_it_comes(first[0], self._by_name())
            orders = [order, self._from_both_ends(first, last), *([by_name] if by_name is not None else [])]
            if any(one.state.broken for one in order.standings):
                self._promises_aside = True
                orders.append(self._from_both_ends(first[:1], last[:1]))
                self._promises_aside = False
            order = min(orders, key=lambda one: one.price)
        return self._without_lock_out(order) if order.price[0] else order

    def _without_lock_out(self, order: Order) -> Order:
        """An order that locks nobody out in place of one that does, where few steps hang together and there is one;
        else the same, and that there is none."""
        at, among = self.interrupting(order)
        if len(among) > EXHAUSTIVE:
            return order
        if not self.lock_free(at, among):
            return replace(order, exhausted=True, together=len(among))
        goal = at.done | among
        better = self._cheapest(at, among, lambda one: one.done >= goal, lock_out=False)
        if better is None:
            return order
        begun, ended = len(at.done), len(goal)
        return Order(
            (*order.steps[:begun], *better.steps, *order.steps[ended:]),
            (*order.standings[:begun], *better.standings, *order.standings[ended:]),
        )

    def interrupting(self, order: Order) -> tuple[Standing, Done]:
        """The steps of an order that hang together with what it harms, and the state before them: all steps where they
        are few, else those from the first that harms somebody to the one that ends it."""
        start = self.start()
        if len(order.steps) <= EXHAUSTIVE:
            return start, frozenset(order.steps)
        harmed = [place for place, one in enumerate(order.standings) if not one.harmless]
        at = order.standings[harmed[0] - 1] if harmed[0] else start
        return at, frozenset(order.steps[harmed[0] : harmed[-1] + 2])

    def _from_both_ends(self, first: list[Standing], last: list[Standing]) -> Order:
        """An order of all steps, once more is found that harms nobody after the `first` states or before the `last`."""
        first += self._harmless_first(first[-1], last[-1].done)
        last += self._harmless_last(first[-1].done, last[-1])
        middle = self._middle(first[-1], last[-1].done - first[-1].done)
        states = [*first, *middle.standings, *reversed(last)]
        steps: list[int] = []
        standings: list[Standing] = []
        for before, after in pairwise(states):
            new = after.done - before.done
            if new:
                steps.append(*new)
                standings.append(after)
        return Order(tuple(steps), tuple(standings))

    def start(self) -> Standing:
        """Nothing is done."""
        return self._judged(frozenset(), self.states.first)

    # Single states

    def standing(self, near: Standing, done: Done) -> Standing | None:
        """The state once some steps are done, decided from one that is near; None where that is no network that can be,
        or one that is not looked at."""
        if done not in self._kept:
            while len(self._kept) >= KEPT:
                del self._kept[next(iter(self._kept))]
            forth = [self.differences[step] for step in sorted(done - near.done)]
            back = [self.differences[step] for step in sorted(near.done - done, reverse=True)]
            allowed = None if self._doubled_too else self.states.same_doubled
            state = self.states.beside(near.state, back, forth, allowed)
            if state is None and not self._doubled_too:
                return None
            self._kept[done] = self._judged(done, state) if state is not None else None
        return self._kept[done]

    def _judged(self, done: Done, state: State) -> Standing:
        unreached = self._unreached(done, state.arrays.knowledge)
        return Standing(done, state, tuple(unreached), tuple(sorted(state.doubled - self.states.same_doubled)))

    def _unreached(self, done: Done, knowledge: Knowledge) -> list[str]:
        """The devices still to be changed that the person does not reach."""
        left = [difference for number, difference in enumerate(self.differences) if number not in done]
        devices = [name for name in owners(left, knowledge.written) if name not in self.reached_otherwise]
        return self.states.unreached(knowledge, devices)

    def _possible(self, done: Done, among: Done) -> list[int]:
        """The steps that can be next, those that add to what is there first."""
        possible = [step for step in among - done if self._needs[step] <= done]
        return sorted(possible, key=lambda step: (self.differences[step].stage, step))

    def _latest(self, done: Done) -> list[int]:
        """The steps that can have been the last, those that take away first."""
        needed = frozenset[int]().union(*(self._needs[step] for step in done))
        return sorted(done - needed, key=lambda step: (-self.differences[step].stage, -step))

    # From both ends

    def _harms_nobody(self, one: Standing) -> bool:
        """Whether a state is harmless, what is promised aside where that stands in the way."""
        return one.harmless or (self._promises_aside and one.lets_work)

    def _harmless_first(self, at: Standing, among: Done) -> Iterator[Standing]:
        """States one after the other in which nobody is harmed, once some of the steps are made."""
        while True:
            tried = (self.standing(at, at.done | {step}) for step in self._possible(at.done, among))
            after = next((one for one in tried if one is not None and self._harms_nobody(one)), None)
            if after is None:
                return
            yield after
            at = after

    def _harmless_last(self, begun: Done, at: Standing) -> Iterator[Standing]:
        """States one before the other in which nobody is harmed, those steps aside that have begun."""
        while True:
            tried = (self.standing(at, at.done - {step}) for step in self._latest(at.done) if step not in begun)
            before = next((one for one in tried if one is not None and self._harms_nobody(one)), None)
            if before is None or before.done <= begun:
                return
            yield before
            at = before

    def _middle(self, at: Standing, middle: Done) -> Order:
        """What harms somebody whichever comes first, in the best order."""
        if not middle:
            return Order((), ())
        goal = at.done | middle
        order = self._cheapest(at, middle, lambda one: one.done >= goal, lock_out=False, most=ASKED_AHEAD)
        if order is None:
            order = self._improved(at, self._walked(at, middle), ASKED_AHEAD // 2)
        return order

    def lock_free(
        self, at: Standing, middle: Done, before: Sequence[Difference] = (), at_console: frozenset[str] = frozenset()
    ) -> bool:
        """Whether there is any order of some steps that locks nobody out; every one is looked at until one does not.

        Args:
            at: what is done.
            middle: the steps.
            before: what else is changed before them.
            at_console: devices that need not be reached.
        """
        plain = at.state.plain
        for difference in before:
            known = self.states.known_after(plain, difference)
            if known is None:
                return False
            plain = known
        seen: set[Done] = set()
        waiting = [(at.done, plain)]
        while waiting:
            done, plain = waiting.pop()
            if done >= at.done | middle:
                return True
            for step in self._possible(done, at.done | middle):
                after = done | {step}
                if after not in seen:
                    seen.add(after)
                    known = self.states.known_after(plain, self.differences[step])
                    if known is not None and not set(self._unreached(after, known)) - at_console:
                        waiting.append((after, known))
        return False

    # All orders

    def _cheapest(
        self,
        start: Standing,
        among: Done,
        arrived: Callable[[Standing], bool],
        *,
        lock_out: bool,
        most: int | None = None,
    ) -> Order | None:
        """The cheapest way to where one wants to be, the cheapest states first (Dijkstra); a state is decided only when
        it comes first. None where there is no way, or none was found in `most` states."""
        number = count()
        heap: list[tuple[Price, int, int, Standing | None, tuple[Standing, ...], Done]] = []
        seen: set[Done] = set()
        asked = 0

        def go_on(price: Price, at: Standing, path: tuple[Standing, ...]) -> None:
            for step in self._possible(at.done, among):
                heappush(heap, (price, -len(path) - 1, next(number), None, (*path, at), at.done | {step}))

        go_on(FREE, start, ())
        while heap:
            price, _, _, standing, path, done = heappop(heap)
            if done in seen:
                continue
            if standing is None:
                if asked == most:
                    return None
                asked += 1
                standing = self.standing(path[-1], done)
                if standing is not None and (lock_out or not standing.unreached):
                    item = (_sum(price, standing.price), -len(path), next(number), standing, path, done)
                    heappush(heap, item)
                continue
            seen.add(done)
            way = (*path[1:], standing)
            if arrived(standing):
                steps = [next(iter(after.done - before.done)) for before, after in zip(path, way, strict=True)]
                return Order(tuple(steps), way)
            go_on(price, standing, path)
        return None

    # Many steps

    def _can_be(self, at: Standing, some: Done) -> bool:
        """Whether some steps can be made at once."""
        return self.standing(at, at.done | some) is not None

    def _walked(self, at: Standing, middle: Done) -> Order:
        """Step by step: what harms nobody first; where every step does, the cheapest way until nobody is harmed."""
        goal = at.done | middle
        steps: list[int] = []
        standings: list[Standing] = []
        while at.done < goal:
            order = self._onward(at, goal)
            steps += order.steps
            standings += order.standings
            at = order.standings[-1]
        return Order(tuple(steps), tuple(standings))

    def _onward(self, at: Standing, goal: Done) -> Order:
        """The next step that harms nobody, or the steps that lead over an interruption."""
        tried = [(step, self.standing(at, at.done | {step})) for step in self._possible(at.done, goal)]
        possible = [(after.price, step, after) for step, after in tried if after is not None]
        if not possible and not self._doubled_too:  # only over a state with an address held twice
            self._doubled_too = True
            return self._onward(at, goal)
        if not possible:
            left = goal - at.done
            raise Stuck(smallest_possible(left, self._needs, at.done, lambda some: self._can_be(at, some)))
        price, cheapest, after = min(possible, key=lambda one: one[:2])
        if price > at.price:
            near = related(cheapest, sorted(goal - at.done), self.differences, self._needs)
            among = frozenset(near[:EXHAUSTIVE])

            def healed(one: Standing) -> bool:
                return one.price <= at.price or one.done >= goal

            for lock_out in (False, True):
                order = self._cheapest(at, among, healed, lock_out=lock_out, most=ASKED_AHEAD)
                if order is not None:
                    return order
        return Order((cheapest,), (after,))

    def _improved(self, start: Standing, order: Order, most: int) -> Order:
        """An order with single steps moved for as long as that makes it better, and `most` states are not yet asked."""
        limit = self.states.asked + most
        better = True
        while better and self.states.asked < limit:
            better = False
            costly = [place for place, one in enumerate(order.standings) if one.price > FREE]
            within = range(costly[0], min(costly[-1] + 2, len(order.steps))) if costly else range(0)
            for place in within:
                step = order.steps[place]
                rest = [*order.steps[:place], *order.steps[place + 1 :]]
                for other in within:
                    if other == place or self.states.asked >= limit:
                        continue
                    path = [*rest[:other], step, *rest[other:]]
                    moved = self._along(start, path, order.price)
                    if moved is not None:
                        order, better = moved, True
                        break
                if better:
                    break
        return order

    # Orders that need no thought

    def _by_name(self) -> list[int]:
        """Device by device, as their names come."""
        return sorted(range(len(self.differences)), key=lambda step: (self.differences[step].at, step))

    def _as_it_comes(self, at: Standing, ranked: Sequence[int]) -> Order | None:
        """An order as near as can be to one that may not be possible: the first of the steps that can be made is."""
        steps: list[int] = []
        standings: list[Standing] = []
        left = list(ranked)
        while left:
            tried = ((step, self.standing(at, at.done | {step})) for step in left if self._needs[step] <= at.done)
            step, after = next(((step, after) for step, after in tried if after is not None), (-1, None))
            if after is None:
                return None
            left.remove(step)
            steps.append(step)
            standings.append(after)
            at = after
        return Order(tuple(steps), tuple(standings))

    def _along(self, at: Standing, path: Sequence[int], below: Price | None = None) -> Order | None:
        """The states along an order; None where one is none, where something is not there that a step needs, and where
        it costs no less than `below`."""
        standings: list[Standing] = []
        price = FREE
        for step in path:
            after = self.standing(at, at.done | {step}) if self._needs[step] <= at.done else None
            if after is None:
                return None
            price = _sum(price, after.price)
            if below is not None and price >= below:
                return None
            standings.append(after)
            at = after
        return Order(tuple(path), tuple(standings))
