"""Random changes of sound networks: gateways moved, VLANs renumbered, split and given IPv6, devices replaced. Every
claim of every step is held against the network at that step, derived anew.

python tests/changing_referee.py FIRST-SEED COUNT     prints what differs, then the figures
"""

from __future__ import annotations

import sys
from collections import Counter
from collections.abc import Iterator
from itertools import permutations
from random import Random

import archipelago
from archipelago import read_recipe
from archipelago.changes.differences import differences
from archipelago.changes.needs import needs
from archipelago.changes.order import Search
from archipelago.changes.result import Change
from archipelago.changes.states import States
from archipelago.errors import QueryError
from archipelago.knowledge.index import index_network
from archipelago.model.network import Network
from makers import designed, mixed_brief, trunked_brief
from outages_referee import reached

FEW = 6
"""Up to so many steps every order is tried."""
FIELDS = ("title", "vlans", "devices", "hosts", "cables", "expect", "outside", "policy", "domain", "suspended")


def anew(network: Network) -> Network:
    """The same network, checked again and known to nobody."""
    return Network(**{name: getattr(network, name) for name in FIELDS})


def recipe(network: Network, random: Random) -> str:
    """A recipe that may fit a network."""
    vlans = [name for name in network.vlans if not name.startswith("transit")]
    kind = random.choice(("renumber", "split", "replace", "add-ipv6", "move-gateways"))
    name = random.choice(vlans)
    if kind == "renumber":
        entry = f"{{vlan: {name}, subnet: 172.20.{random.randrange(200)}.0/22}}".replace(".0/22", ".0/24")
    elif kind == "split":
        hosts = [host for host in network.hosts.values() if not host.dhcp]
        some = ", ".join(host.name for host in random.sample(hosts, min(len(hosts), 1)))
        entry = f"{{vlan: {name}, new: mates, id: 3999, subnet: 172.21.0.0/24, hosts: [{some}]}}"
    elif kind == "replace":
        entry = f"{{device: {random.choice(list(network.devices))}, by: other}}"
    elif kind == "add-ipv6":
        entry = f'{{vlan: {name}, subnet: "2001:db8:aaaa::/64"}}'
    else:
        switches = [device.name for device in network.devices.values() if device.kind == "l3switch"]
        to = random.choice(switches) if switches else "nobody"
        entry = f'{{vlans: [{name}], to: {to}, transit: [172.22.0.0/31, "2001:db8:bbbb::/127"]}}'
    return f"format: archipelago-recipe/1\n{kind}:\n  - {entry}\n"


def wrong_claims(change: Change) -> Iterator[str]:
    """What a change claims and a network derived anew does not hold."""
    if change.at(0) != change.old or change.at(len(change)) != change.new:
        yield "the ends are not the two networks"
    network = change.at(0)
    leasing = any(host.dhcp for host in network.hosts.values())
    for step in change:
        after = archipelago.apply(network, step)
        if archipelago.apply(after, step, undo=True) != network:
            yield f"{step}: its undo is not the state before"
        if not leasing and after != change.at(step.number):
            yield f"{step}: the network at it is not what it makes of the one before"
        counted = len(reached(anew(change.at(step.number))))
        if counted != step.reached:
            yield f"{step}: it says {step.reached} pairs, a fresh matrix {counted}"
        later = [one for one in change.steps[step.number :] if not one.difference.by_hand]
        left = {one.at for one in later} - set(change.by_console)
        for device in sorted(left & after.devices.keys()):
            if manages(change.at(step.number), change.host, device) != (device not in step.unreached):
                yield f"{step}: whether {change.host} reaches {device}"
        network = after
    if network != change.new:
        yield "the steps do not end in the new network"


def manages(network: Network, host: str, device: str) -> bool:
    """Whether a host reaches a device by any address of its own, packet by packet; another holder is not the device."""
    node = index_network(network).knowledge.devices[device]
    if network.devices[device].console:
        return True
    owned = [own.address for nic in node.nics.values() if nic.up for own in nic.addresses]
    asked = [archipelago.reach(network, host, str(one)) for one in owned if not str(one).startswith("fe80")]
    return any(answer.reached and answer.out[-1].device == device for answer in asked)


def better_orders(old: Network, new: Network, host: str) -> Iterator[str]:
    """An order of few steps that is better than the one that is found; and a claim that none avoids a lock-out where
    one does."""
    found = differences(old, new)
    if not 1 < len(found) <= FEW:
        return
    search = Search(States(old, new, host), found)
    search.reached_otherwise = frozenset(search.start().unreached)
    best = search.best()
    search._doubled_too = True
    wanted = needs(found)
    paths = (path for path in permutations(range(len(found))) if _possible(path, wanted))
    orders = [order for path in paths if (order := search._along(search.start(), path)) is not None]
    least = min(order.price[:3] for order in orders)
    if best.price[:3] != least:
        yield f"an order costs {least}, the one that was found {best.price[:3]}"
    if best.exhausted != (min(order.price[0] for order in orders) > 0):
        yield "whether every order locks somebody out"


def _possible(path: tuple[int, ...], wanted: list[frozenset[int]]) -> bool:
    return all(wanted[step] <= set(path[:place]) for place, step in enumerate(path))


def main() -> None:
    first, count = int(sys.argv[1]), int(sys.argv[2])
    figures: Counter[str] = Counter()
    for seed in range(first, first + count):
        random = Random(seed)
        make = random.choice((trunked_brief, mixed_brief))
        old = designed(make(random, small=True))
        try:
            new = archipelago.follow(old, read_recipe(text := recipe(old, random), old))
        except (QueryError, archipelago.DocumentError) as error:
            figures["refused"] += 1
            figures[f"refused: {str(error).split(';')[0][:60]}"] += 1
            continue
        host = random.choice(list(old.hosts.keys() & new.hosts.keys()))
        change = archipelago.change(old, new, host)
        figures.update(changes=1, steps=len(change), locked=bool(change.locked_out), cut=change.cut_steps)
        for said in (*wrong_claims(change), *better_orders(old, new, host)):
            print("differs", seed, text.splitlines()[1:], said)
    print(dict(figures))


if __name__ == "__main__":
    main()
