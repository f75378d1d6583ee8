"""Every failure of random networks by the few hosts that stand for many, beside a fresh run of the document in which
the part is written off; and every addition that is offered, written into the document.

python tests/outages_referee.py FIRST-SEED COUNT      prints each difference, then the figures
"""

from __future__ import annotations

import sys
from collections import Counter
from dataclasses import replace
from random import Random
from typing import Any

import archipelago
from archipelago.addressing.values import Address, InterfaceAddress
from archipelago.errors import QueryError
from archipelago.failures.result import Outage
from archipelago.failures.single import single_outages
from archipelago.knowledge.known import know
from archipelago.knowledge.parts import switched_off
from archipelago.model.ends import OUTSIDE
from archipelago.model.network import Network
from archipelago.model.parts import End
from makers import filtered, scrambled, translated
from redundant import redundant


def a_network(random: Random) -> Network | None:
    """A network of any kind: with two of everything, or scrambled; some with filters, translation, twins of hosts."""
    network = redundant(random) if random.random() < 0.5 else scrambled(random, small=True)
    if network is not None and random.random() < 0.3:
        network = filtered(network, random)
    if network is not None and random.random() < 0.3:
        network = translated(network, random)
    return network if network is None or random.random() < 0.5 else crowded(network, random)


def crowded(network: Network, random: Random) -> Network:
    """The network with more hosts beside some that it has: at ports set up alike, with the next free addresses."""
    devices, hosts = dict(network.devices), dict(network.hosts)
    taken = {held.address for host in hosts.values() for held in host.addresses}
    nodes = know(network).devices.values()
    taken |= {held.address for node in nodes for nic in node.nics.values() for held in nic.addresses}
    for host in random.sample(list(hosts.values()), min(2, len(hosts))):
        device = devices[host.at.device]
        for number in range(random.randint(1, 4)):
            name = f"{host.at.port}-{number}"
            own = [held._replace(value=value) for held in host.addresses if (value := _free(held, taken)) is not None]
            if len(own) == len(host.addresses):
                taken |= {held.address for held in own}
                hosts[f"{host.name}-{number}"] = replace(
                    host, name=f"{host.name}-{number}", at=End(device.name, name), addresses=tuple(own), mac=None
                )
                if host.at.port in device.ports:
                    port = replace(device.ports[host.at.port], name=name)
                    device = devices[device.name] = replace(device, ports={**device.ports, name: port})
    return replace(network, devices=devices, hosts=hosts)


def _free(held: InterfaceAddress, taken: set[Address]) -> int | None:
    first, last = held.prefix.usable()
    values = range(first, min(last, first + 500) + 1)
    return next((value for value in values if Address(held.version, value) not in taken), None)


def judged(first: int, count: int) -> tuple[Counter[str], list[tuple[int, str, Any, Any]]]:
    """How much was asked, and what differs: the seed, what broke, what was said and what is."""
    figures: Counter[str] = Counter()
    different: list[tuple[int, str, Any, Any]] = []
    for seed in range(first, first + count):
        network = a_network(Random(seed))
        if network is None:
            continue
        figures["networks"] += 1
        try:
            found = single_outages(network)
        except QueryError as error:
            different.append((seed, "refused", str(error), None))
            continue
        before = reached(network)
        if found.reached != len(before):
            different.append((seed, "nothing", found.reached, len(before)))
        for outage in found:
            figures[outage.outcome] += 1
            said, fresh = _said(outage), _fresh(network, before, outage)
            if said != fresh:
                different.append((seed, outage.name, said, fresh))
            if outage.addition is not None:
                figures["additions"] += 1
                different += [(seed, outage.addition.says, "serves", why) for why in _does_not_serve(network, outage)]
    return figures, different


def reached(network: Network) -> set[tuple[str, str]]:
    """The pairs that a network answers in any family."""
    families = [archipelago.matrix(network, version, causes=False) for version in (4, 6)]
    return {(a, b) for answer in families for a, b, reached in answer.rows() if reached}


def _written_off(network: Network, part: str) -> Network:
    """The document with a part written off, read from its text."""
    text = archipelago.network_text(switched_off(know(network), [part]))
    return archipelago.read_network(text)


def _said(outage: Outage) -> tuple[int, int, int, int]:
    return outage.lost, outage.elsewhere, outage.hosts, outage.gained


def _fresh(network: Network, before: set[tuple[str, str]], outage: Outage) -> tuple[int, int, int, int]:
    after = reached(_written_off(network, outage.name))
    lost = before - after
    own = {name for name, host in network.hosts.items() if host.at.device in outage.parts}
    hosts = {a for a, _ in before} - {a for a, _ in after} - {OUTSIDE}
    return len(lost), sum(a not in own and b not in own for a, b in lost), len(hosts), len(after - before)


def _does_not_serve(network: Network, outage: Outage) -> list[str]:
    """What is wrong with an addition, once it is in the document."""
    assert outage.addition is not None
    text = archipelago.amend(archipelago.network_text(network), outage.addition.edits)
    added = archipelago.read_network(text)
    before = reached(added)
    wrong = ["it cuts pairs off"] if reached(network) - before else []
    if _fresh(added, before, outage)[1]:
        wrong.append("it does not help")
    return wrong


def main() -> None:
    figures, different = judged(int(sys.argv[1]), int(sys.argv[2]))
    for one in different:
        print("differs", *one)
    print(dict(figures))


if __name__ == "__main__":
    main()
