"""A change, planned: the differences as steps in a good order, each with what the engines say of the state after it."""

from __future__ import annotations

from collections.abc import Iterator

from archipelago.changes.differences import differences
from archipelago.changes.order import Order, Search, Standing
from archipelago.changes.pairs import Between, Pair, Pairs
from archipelago.changes.result import Change, Check, Step
from archipelago.changes.states import State, States
from archipelago.changes.together import Stuck, merged
from archipelago.changes.way_in import would_help
from archipelago.errors import QueryError
from archipelago.model.ends import Kind, problem
from archipelago.model.network import Network
from archipelago.reachability.devices import device_pairs


def plan_change(old: Network, new: Network, host: str, *, devices: bool = False) -> Change:
    """The steps from one network to another.

    Args:
        old, new: the two ends.
        host: where the person sits who makes the steps: a host of both.
        devices: also say which pairs of devices' addresses are cut off after each step.

    Raises:
        QueryError: there is no such host at both ends.
    """
    for name, network in (("old", old), ("new", new)):
        wrong = problem(host, network, (Kind.HOST, Kind.DEVICE))
        if wrong is not None:
            raise QueryError(f"in the {name} network {wrong}; changes are made from there")
    states = States(old, new, host)
    steps = [*differences(old, new), *states.leases.renewals()]
    while True:
        search = Search(states, steps)
        start = search.start()
        search.reached_otherwise = frozenset(start.unreached)
        try:
            order = search.best() if steps else Order((), ())
            break
        except Stuck as impossible:
            alone = next(iter(impossible.together)) if len(impossible.together) == 1 else None
            if alone is None:
                steps = merged(steps, impossible.together, old, new)
            elif steps[alone].replacements:
                raise
            else:  # leases that differ only by the order of a document: nobody can ask for them
                del steps[alone]
    stuck = any(one.unreached for one in order.standings)
    return Change(
        old=old,
        new=new,
        host=host,
        steps=tuple(_steps(search, order, devices)),
        by_console=start.unreached,
        no_order=order.exhausted,
        together=order.together,
        tried=states.asked,
        would_help=tuple(would_help(search, order)) if stuck else (),
        _written=tuple(_written(states, order)),
    )


def _written(states: States, order: Order) -> Iterator[Network]:
    yield states.old
    for number, standing in enumerate(order.standings, 1):
        if number == len(order.standings):
            yield states.new
        else:
            network = standing.state.network
            leasing = any(host.dhcp for host in network.hosts.values())
            yield states.leases.as_written(network, standing.state.renewed) if leasing else network


def _steps(search: Search, order: Order, devices: bool) -> Iterator[Step]:
    before, states = search.start(), search.states
    beside = Between(*(_devices(end) for end in (states.first, states.last))) if devices else None
    for number, (place, standing) in enumerate(zip(order.steps, order.standings, strict=True), 1):
        difference = search.differences[place]
        device = difference.at
        yield Step(
            number=number,
            difference=difference,
            cut=standing.state.cut,
            cut_devices=beside.cut(_devices(standing.state)) if beside is not None else None,
            broken=standing.state.broken,
            halved=standing.state.halved,
            reached=states.between.answered(standing.state.answers),
            unreached=standing.unreached,
            doubled=standing.doubled,
            check=_check(search, device, before, standing),
            at_console=not difference.by_hand and (device in search.reached_otherwise or device in before.unreached),
            timed=not difference.by_hand and bool(set(standing.unreached) - set(before.unreached)),
            undone_with_loss=(len(before.state.broken), before.state.cut.pairs)
            > (len(standing.state.broken), standing.state.cut.pairs),
        )
        before = standing


def _devices(state: State) -> Pairs:
    return device_pairs(state.arrays).by_family


def _check(search: Search, device: str, before: Standing, after: Standing) -> Check | None:
    """What to try after a step: a pair that it cuts off or brings back; else whether the device still answers."""
    pair = next(_otherwise(search, before.state, after.state), None)
    if pair is not None:
        return Check(*pair)
    states = search.states
    host = states.host
    way_in = states.way_in(after.state, device) if device in after.state.network.devices else None
    if way_in is not None:
        return Check(host, f"{device} ({way_in})", True)
    kept = next(_kept(after.state, host), None)
    return Check(*kept, True) if kept is not None else None


def _otherwise(search: Search, before: State, after: State) -> Iterator[tuple[str, str, bool]]:
    between = search.states.between
    for (one, other), reached in (((before, after), False), ((after, before), True)):
        yield from ((*pair, reached) for pair in between.only(one.answers, other.answers).examples)


def _kept(state: State, host: str) -> Iterator[Pair]:
    """Pairs that are answered, those from where the person sits first."""
    for answer in state.answers.values():
        names = answer.hosts
        for source in (host, *names) if host in names else names:
            row = answer.between[answer.kind[names.index(source)]]
            others = (name for name, kind in zip(names, answer.kind, strict=True) if row[kind] and name != source)
            yield from ((source, name) for name in others)
