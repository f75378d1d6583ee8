"""What two of everything costs: the spanning tree beside the broadcast domains, and all pairs of 100,000 hosts behind
300 switches, with two cores that share the gateways beside one.

python benchmarks/redundancy.py [HOSTS [SWITCHES [VLANS]]]
"""

from __future__ import annotations

import sys

from measure import in_turns, report

from archipelago.addressing.values import Address, InterfaceAddress
from archipelago.knowledge.known import know
from archipelago.knowledge.links import Links
from archipelago.knowledge.topology import adjacencies_inside, adjacencies_over
from archipelago.knowledge.tree import spanning_tree
from archipelago.model.network import Network
from archipelago.model.parts import Cable, Device, End, Host, NextHop, Port, VlanInterface
from archipelago.model.virtual import VirtualRouter
from archipelago.reachability.build import build_arrays
from archipelago.reachability.domains import label_domains
from archipelago.reachability.matrix import matrix

SPACE = 10 << 24
"""VLAN number n has the n-th block of 512 addresses of 10.0.0.0/8."""


def campus(hosts: int, switches: int, vlans: int, cores: int) -> Network:
    """So many hosts behind access switches, each cabled to every core; several cores share the gateways."""
    names = {f"v{number}": 2 + number for number in range(vlans)}
    devices: dict[str, Device] = {}
    cables = []
    for core in range(cores):
        ports = {f"q{number}": Port(f"q{number}", trunk="all", untagged="none") for number in range(switches)}
        if cores > 1:
            ports["beside"] = Port("beside", trunk="all", untagged="none")
        interfaces = {}
        for number in range(vlans):
            base = SPACE + (number << 9)
            own = InterfaceAddress(4, base + (2 + core if cores > 1 else 1), 23)
            shared = (VirtualRouter(1 + number % 255, (Address(4, base + 1),), 200 - 100 * core),) if cores > 1 else ()
            interfaces[f"gw-{number}"] = VlanInterface(f"gw-{number}", 2 + number, (own,), virtual=shared)
        devices[f"core-{core}"] = Device(f"core-{core}", "l3switch", (4,), None, ports, interfaces)
        cables += [Cable(End(f"core-{core}", f"q{n}"), End(f"quay-{n}", f"up-{core}")) for n in range(switches)]
    if cores > 1:
        cables.append(Cable(End("core-0", "beside"), End("core-1", "beside")))
    people = {}
    seats: list[dict[str, Port]] = [{} for _ in range(switches)]
    for number in range(hosts):
        vlan, quay = number % vlans, number % switches
        seat = f"p{number // switches}"
        seats[quay][seat] = Port(seat, access=2 + vlan)
        address = InterfaceAddress(4, SPACE + (vlan << 9) + 10 + number // vlans, 23)
        gateway = (NextHop(Address(4, SPACE + (vlan << 9) + 1)),)
        people[f"h{number}"] = Host(f"h{number}", End(f"quay-{quay}", seat), (address,), gateway)
    for number in range(switches):
        up = {f"up-{core}": Port(f"up-{core}", trunk="all", untagged="none") for core in range(cores)}
        devices[f"quay-{number}"] = Device(f"quay-{number}", "switch", None, None, {**up, **seats[number]})
    return Network("campus", names, devices, people, tuple(cables))


def main() -> None:
    hosts, switches, vlans = ([int(word) for word in sys.argv[1:]] + [100_000, 300, 200][len(sys.argv) - 1 :])[:3]
    two, one = campus(hosts, switches, vlans, 2), campus(hosts, switches, vlans, 1)
    known = know(two)
    devices = known.devices
    list(devices.values())

    def tree() -> object:
        return spanning_tree(two, devices.ports, devices.plugs, Links(two, devices.ports, devices.plugs))

    arrays = build_arrays(known)

    def domains() -> object:
        sent = [joint for node in devices.values() for joint in adjacencies_inside(node)]
        for node in devices.values():
            sent += [joint for part in node.attachments.values() for joint in adjacencies_over(devices, node, part)]
        return len(sent), label_domains(len(arrays.endpoints), arrays.adjacencies)

    report("the tree; the broadcast domains", *in_turns(tree, domains, 3), "1")
    pairs = in_turns(lambda: matrix(two, causes=False).reached, lambda: matrix(one, causes=False).reached, 3)
    report(f"all pairs of {hosts:,} hosts: two cores; one", *pairs, "1.3 a cable")
    print(
        f"{matrix(two, causes=False).reached:,} pairs reached, "
        f"{len(devices.tree.blocked):,} switches with a port blocked"
    )


if __name__ == "__main__":
    main()
