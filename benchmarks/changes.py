"""What planning a change costs: an order for some 300 steps between two states of 100 devices beside one run of all
pairs; and how it compares with the order by device name, by pairs cut off, each once for each step.

python benchmarks/changes.py [DEVICES [VLANS [HOSTS [RENUMBERED]]]]
"""

from __future__ import annotations

import sys

from measure import report, seconds, timed
from networks import brief_text

import archipelago
from archipelago.changes.differences import differences
from archipelago.changes.order import Search
from archipelago.changes.states import States
from archipelago.reachability.matrix import matrix


def main() -> None:
    devices, vlans, hosts, moved = ([int(word) for word in sys.argv[1:]] + [100, 60, 1_500, 10][len(sys.argv) - 1 :])[
        :4
    ]
    old = archipelago.design(archipelago.read_brief(brief_text(devices, vlans, hosts))).network
    names = list(old.vlans)[:moved]
    lines = [f"  - {{vlan: {name}, subnet: 172.16.{number}.0/24}}" for number, name in enumerate(names)]
    text = "\n".join(["format: archipelago-recipe/1", "renumber:", *lines, ""])
    new = archipelago.follow(old, archipelago.read_recipe(text, old))
    host = next(name for name in old.hosts if old.hosts[name] == new.hosts[name])
    one = seconds(lambda: matrix(new, causes=False).reached)
    taken, change = timed(lambda pair: archipelago.change(*pair, host), (old, new))
    report(f"an order for {len(change)} steps; one run of all pairs", taken, one, taken / one, "1,000")
    search = Search(States(old, new, host), differences(old, new))
    search.reached_otherwise = frozenset(search.start().unreached)
    by_name = search._as_it_comes(search.start(), search._by_name())
    if by_name is not None:
        print(f"pairs cut off, each once for each step: {change.cut_steps:,}; by device name: {by_name.price[1]:,}")
        print(f"steps after which somebody is locked out: {len(change.locked_out)}; by device name: {by_name.price[0]}")


if __name__ == "__main__":
    main()
