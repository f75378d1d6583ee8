"""What comparisons and changes count, beside fresh matrices of the plain documents, on networks with everything in
them: changed in some fields, or into another network altogether.

python tests/counts_referee.py FIRST-SEED COUNT      prints each difference, then the figures
"""

from __future__ import annotations

import sys
from collections import Counter
from collections.abc import Iterator
from contextlib import suppress
from random import Random

import archipelago
from archipelago.changes.differences import differences
from archipelago.errors import QueryError
from archipelago.model.network import Network
from changing_referee import anew, better_orders, wrong_claims
from every_field import changes, full_of_everything

MOST_STEPS = 12
"""Changes of more steps take a referee too long."""


def by_family(network: Network) -> dict[int, set[tuple[str, str]]]:
    """The pairs that a network answers, in each family."""
    return {
        version: {(a, b) for a, b, yes in archipelago.matrix(network, version, causes=False).rows() if yes}
        for version in (4, 6)
    }


def in_any(families: dict[int, set[tuple[str, str]]]) -> set[tuple[str, str]]:
    """The pairs that are answered in any family."""
    return families[4] | families[6]


def halved(before: dict[int, set[tuple[str, str]]], after: dict[int, set[tuple[str, str]]]) -> set[tuple[str, str]]:
    """The pairs that are lost in one family and not in the other."""
    return {pair for version in (4, 6) for pair in before[version] - after[version]} & in_any(after)


def changed(network: Network, random: Random, tried: Counter) -> Network:
    """The network with some fields changed; or another one."""
    if random.random() < 0.15:
        other = full_of_everything(Random(random.randrange(10**6)))
        return archipelago.read_network(archipelago.network_text(other))
    for _ in range(random.randint(1, 4)):
        made = next(iter(changes(network, random, tried, 1)), None)
        with suppress(archipelago.DocumentError, TypeError):  # no document says it
            network = network if made is None else archipelago.read_network(archipelago.network_text(made.network))
    return network


def wrong_comparison(old: Network, new: Network) -> Iterator[str]:
    """What a comparison counts otherwise than two fresh matrices."""
    found = archipelago.compare(old, new, failures=False, devices=True)
    before, after = by_family(anew(found.old)), by_family(anew(new))
    first, second = in_any(before), in_any(after)
    said = found.before, found.after, found.lost.pairs, found.gained.pairs, found.left_in_one_family.pairs
    fresh = len(first), len(second), len(first - second), len(second - first), len(halved(before, after))
    if said != fresh:
        yield f"comparison says {said}, fresh matrices {fresh}"
    gone = {pair for pair in first - second if {*pair} - {*new.hosts, "outside"}}
    if found.lost_with_an_end < len(gone):
        yield f"{found.lost_with_an_end} lost with an end that is gone, {len(gone)} are"
    beside = found.devices
    if beside is None or beside.before - beside.lost.pairs + beside.gained.pairs != beside.after:
        yield "devices' addresses do not add up"


def wrong_steps(old: Network, new: Network, host: str) -> Iterator[str]:
    """What the steps of a change count otherwise than fresh matrices."""
    if len(differences(old, new)) > MOST_STEPS:
        return
    change = archipelago.change(old, new, host)
    yield from wrong_claims(change)
    ends = [by_family(anew(network)) for network in (change.at(0), change.at(len(change)))]
    both = in_any(ends[0]) & in_any(ends[1])
    for step in change.steps[:-1]:
        now = by_family(anew(change.at(step.number)))
        fresh = len(both - in_any(now)), len(halved(ends[0], now) & halved(ends[1], now))
        if (step.cut.pairs, step.halved.pairs) != fresh:
            yield f"{step}: cut off and in one family {(step.cut.pairs, step.halved.pairs)}, fresh matrices {fresh}"


def judged(seed: int, figures: Counter) -> Iterator[str]:
    """What differs for a seed."""
    random = Random(seed)
    old = archipelago.read_network(archipelago.network_text(full_of_everything(random)))
    new = changed(old, random, Counter())
    figures["networks"] += 1
    yield from wrong_comparison(old, new)
    hosts = sorted(old.hosts.keys() & new.hosts.keys())
    if hosts:
        host = random.choice(hosts)
        try:
            yield from wrong_steps(old, new, host)
            yield from better_orders(old, new, host)
            figures["changes"] += 1
        except QueryError as error:
            yield f"refused: {error}"


def main() -> None:
    figures: Counter[str] = Counter()
    first, count = int(sys.argv[1]), int(sys.argv[2])
    for seed in range(first, first + count):
        try:
            for said in judged(seed, figures):
                print("differs", seed, said, flush=True)
        except Exception as error:  # a referee goes on
            print("fails", seed, type(error).__name__, error, flush=True)
    print(dict(figures))


if __name__ == "__main__":
    main()
