"""Random networks with two of everything: rings, triangles, parallel cables, shared gateways; right and wrong ones.

python tests/redundant.py FIRST-SEED COUNT [shared]     prints where the engines differ, also after breaks
"""

from __future__ import annotations

import sys
from collections import Counter
from dataclasses import replace
from itertools import combinations
from random import Random
from typing import Any

import yaml

from agreement import calculated, simulated
from archipelago.files.network import network_from
from archipelago.files.tree import parse
from archipelago.knowledge.known import know
from archipelago.knowledge.parts import switched_off
from archipelago.model.network import Network, with_changes
from archipelago.model.parts import Aggregate, Device, End, Port

VLANS = {"crew": 120, "yard": 130, "tickets": 140}


def redundant(random: Random) -> Network:
    """A network with two or three cores that share gateways, and access switches with cables to more than one."""
    return network_from(parse(yaml.safe_dump(_document(random), sort_keys=False).encode(), "random"))


def _document(random: Random) -> dict[str, Any]:
    vlans = dict(list(VLANS.items())[: random.randint(1, 3)])
    cores = [f"core-{number}" for number in range(1, random.choice((2, 2, 2, 3)) + 1)]
    access = [f"quay-{number}" for number in range(1, random.randint(1, 4) + 1)]
    devices: dict[str, Any] = {name: _core(random, number, vlans) for number, name in enumerate(cores, 1)}
    devices |= {name: {"kind": "switch", "ports": {}} for name in access}
    if random.random() < 0.3:
        devices = dict(random.sample(list(devices.items()), len(devices)))
    cables: list[str] = []
    pairs = [(a, b) for at, a in enumerate(cores) for b in cores[at + 1 :] if random.random() < 0.9]
    pairs += [(core, switch) for switch in access for core in cores if random.random() < 0.85]
    pairs += [tuple(random.sample(access, 2)) for _ in range(random.choice((0, 0, 1))) if len(access) > 1]
    pairs += [random.choice(pairs) for _ in range(random.choice((0, 0, 1, 2))) if pairs]
    if random.random() < 0.05:
        pairs.append((random.choice(access),) * 2)
    for number, (a, b) in enumerate(pairs, 1):
        _cable(random, devices, cables, f"c{number}", a, b, vlans)
    hosts = _hosts(random, devices, access, cores, vlans)
    if random.random() < 0.4:
        _uplink(random, devices, cores, cables, hosts, len(vlans))
    for name, device in devices.items():
        if device["kind"] != "router" and random.random() < 0.25:
            device["bridge-priority"] = random.choice((0, 4096, 8192, 32768))
        if device["kind"] != "router" and random.random() < 0.12:
            device["spanning-tree"] = "off"
        if name in access and random.random() < 0.05:
            device["off"] = True
    return {"format": "archipelago-network/1", "vlans": vlans, "devices": devices, "hosts": hosts, "cables": cables}


def _core(random: Random, number: int, vlans: dict[str, int]) -> dict[str, Any]:
    six = random.random() < 0.5
    interfaces: dict[str, Any] = {}
    for place, (name, vlan) in enumerate(vlans.items()):
        if random.random() < 0.06:
            continue
        own = [f"10.44.{place}.{1 + number}/24", f"2001:db8:44:{place}::{1 + number}/64"][: 1 + six]
        virtual = [_member(random, vlan % 256, f"10.44.{place}.1", number)]
        if six:
            virtual.append(_member(random, vlan % 256, f"2001:db8:44:{place}::1", number))
        if random.random() < 0.1:
            virtual[0]["address"] = own[0].split("/")[0]
        if random.random() < 0.15:
            virtual.append(_member(random, 9, f"10.44.{place}.9", number))
        interfaces[f"{name}-gw"] = {"vlan": name, "address": own, "virtual": virtual if random.random() < 0.95 else []}
    routing = ["ipv4", "ipv6"] if random.random() < 0.95 else []
    return {"kind": "l3switch", "routing": routing, "ports": {"up": {"routed": True}}, "interfaces": interfaces}


def _member(random: Random, vrid: int, address: str, number: int) -> dict[str, Any]:
    member: dict[str, Any] = {"vrid": vrid, "address": address}
    if random.random() < 0.6:
        member["priority"] = random.choice((90, 100, 100, 110, 200))
    if random.random() < 0.3:
        tracked = random.choice(({"interface": "up"}, {"network": "0.0.0.0/0"}))
        member["track"] = {**tracked, "priority-decrement": random.choice((5, 60, 150))}
    return member


def _cable(
    random: Random, devices: dict[str, Any], cables: list[str], name: str, a: str, b: str, vlans: dict[str, int]
) -> None:
    listed = random.random() < 0.9
    bundled = listed and a != b and random.random() < 0.12
    for number, device in enumerate((a, b)):
        port = name if number == 0 or a != b else f"{name}x"
        settings: dict[str, Any] = {"trunk": "all", "untagged": "none"}
        if random.random() < 0.06:
            settings["trunk"] = random.sample(list(vlans), random.randint(1, len(vlans)))
        if random.random() < 0.05:
            settings = random.choice(({"access": random.choice(list(vlans))}, {"trunk": "all"}))
        if random.random() < 0.15:
            settings["path-cost"] = random.choice((1, 2000, 20000, 50000))
        speed = {"speed": random.choice(("100M", "1G", "10G"))} if random.random() < 0.2 else {}
        off = {"off": True} if random.random() < 0.04 else {}
        if bundled:
            members = {port: {**speed, **off}, f"{port}b": {}}
            devices[device]["ports"].update(members)
            devices[device].setdefault("interfaces", {})[f"bundle-{port}"] = {"members": list(members), **settings}
        elif listed:
            devices[device]["ports"][port] = {**settings, **speed, **off}
    far = name if a != b else f"{name}x"
    cables.append(f"{a}/{name} ~ {b}/{far}")
    if bundled:
        cables.append(f"{a}/{name}b ~ {b}/{far}b")


def _hosts(
    random: Random, devices: dict[str, Any], access: list[str], cores: list[str], vlans: dict[str, int]
) -> dict[str, Any]:
    hosts: dict[str, Any] = {}
    for place, name in enumerate(vlans):
        for number in range(random.randint(1, 3)):
            at = random.choice(access if random.random() < 0.8 else cores)
            port = f"h{place}{number}"
            devices[at]["ports"][port] = {"access": name}
            addresses = [f"10.44.{place}.{20 + number}/24"]
            gateways = [f"10.44.{place}.{random.choice((1, 1, 1, 1, 2, 9))}"]
            if random.random() < 0.5:
                addresses.append("auto" if random.random() < 0.6 else f"2001:db8:44:{place}::{20 + number}/64")
                gateways += [] if addresses[1] == "auto" else [f"2001:db8:44:{place}::1"]
            hosts[f"{name}-{number}"] = {"at": f"{at}/{port}", "address": addresses, "gateway": gateways}
    return hosts


def _uplink(
    random: Random, devices: dict[str, Any], cores: list[str], cables: list[str], hosts: dict[str, Any], vlans: int
) -> None:
    """A router beyond the cores, with a way back to a shared address or to one core's own."""
    router: dict[str, Any] = {"kind": "router", "ports": {"lan": {"address": "10.44.200.1/24"}}, "routes": []}
    for number, name in enumerate(cores):
        link = f"10.44.{210 + number}"
        devices[name]["ports"]["up"] = {"address": f"{link}.1/30"}
        devices[name]["routes"] = [{"destination": "0.0.0.0/0", "next-hop": f"{link}.2"}]
        router["ports"][f"p{number}"] = {"address": f"{link}.2/30"}
        cables.append(f"{name}/up ~ landing/p{number}")
        for place in range(vlans):
            route = {"destination": f"10.44.{place}.0/24", "next-hop": f"{link}.1", "metric": number + 1}
            router["routes"].append(route)
        if random.random() < 0.15:
            cables.pop()
    devices["landing"] = router
    hosts["pier"] = {"at": "landing/lan", "address": "10.44.200.9/24", "gateway": "10.44.200.1"}


def acting_as_one(network: Network, random: Random) -> Network:
    """The network with aggregates that two cores share: an access switch's cables to both become one; some wrong."""
    devices = dict(network.devices)
    for name, switch in network.devices.items():
        cables = [cable for cable in network.cables if name in (cable.a.device, cable.b.device)]
        ends = [(*cable.ends,) if cable.a.device == name else cable.ends[::-1] for cable in cables]
        plain = [(own, far) for own, far in ends if own.device != far.device and _plain(devices, own, far)]
        pairs = [(a, b) for a, b in combinations(plain, 2) if a[1].device != b[1].device]
        if switch.kind != "switch" or not pairs or random.random() < 0.2:
            continue
        chosen = random.choice(pairs)
        settings = devices[chosen[0][1].device].ports[chosen[0][1].port]
        devices[name] = _bundled(devices[name], "both", [own.port for own, _ in chosen], settings, None)
        for (_, far), (_, other) in zip(chosen, chosen[::-1], strict=True):
            own = settings if random.random() < 0.93 else devices[far.device].ports[far.port]
            devices[far.device] = _bundled(devices[far.device], f"to-{name}", [far.port], own, other.device)
    return with_changes(network, devices=devices)


def _plain(devices: dict[str, Device], own: End, far: End) -> bool:
    """Whether both ports are listed trunks of their own, the far one of a layer 3 switch."""
    sides = [(devices[end.device], devices[end.device].ports.get(end.port)) for end in (own, far)]
    return sides[1][0].kind == "l3switch" and all(port is not None and port.trunk is not None for _, port in sides)


def _bundled(device: Device, name: str, members: list[str], like: Port, partner: str | None) -> Device:
    """A device with some of its ports in an aggregate, which has the settings that a port had."""
    ports = {
        port.name: Port(port.name, speed=port.speed, off=port.off) for port in map(device.ports.get, members) if port
    }
    bundle = Aggregate(name, tuple(members), trunk=like.trunk, untagged=like.untagged, shared_with=partner)
    return replace(device, ports={**device.ports, **ports}, interfaces={**device.interfaces, name: bundle})


def broken(network: Network, random: Random) -> list[str]:
    """A part or two of a network to switch off."""
    parts = [*network.devices, *map(str, network.cables), *(f"{name}/up" for name in network.devices)]
    known = know(network)
    parts = [part for part in parts if not part.endswith("/up") or "up" in known.ports[part[:-3]]]
    return random.sample(parts, min(len(parts), random.choice((1, 1, 2))))


def main() -> None:
    first, count = int(sys.argv[1]), int(sys.argv[2])
    figures: Counter[str] = Counter()
    for seed in range(first, first + count):
        random = Random(seed)
        network = redundant(random)
        if "shared" in sys.argv:
            network = acting_as_one(network, random)
        breaks: list[list[str]] = [[], *(broken(network, random) for _ in range(3))]
        for parts in breaks:
            there = switched_off(know(network), parts)
            family = (None, 4, 6)[seed % 3]
            try:
                (ours, our_causes), (theirs, their_causes) = calculated(there, family), simulated(there, family)
            except Exception as error:
                print("fails", seed, parts, repr(error))
                figures["fails"] += 1
                continue
            tree = know(there).devices.tree
            figures.update(networks=1, reached=len(theirs), blocked=sum(map(len, tree.blocked.values())))
            figures["pairs that differ"] += len(ours ^ theirs)
            figures["networks whose causes differ"] += our_causes != their_causes
            if ours != theirs or our_causes != their_causes:
                print(
                    "differs",
                    seed,
                    family,
                    parts,
                    sorted(ours ^ theirs),
                    our_causes - their_causes,
                    their_causes - our_causes,
                )
    print(dict(figures))


if __name__ == "__main__":
    main()
