"""Random briefs of every kind: one to four routing devices, switches, gateways anywhere, management, both families."""

from __future__ import annotations

from dataclasses import replace
from itertools import pairwise
from random import Random
from typing import Any

import yaml

import archipelago
from archipelago.model.brief import Brief
from archipelago.model.filters import Traffic, parse_traffic
from archipelago.model.policy import Policy, PolicyRule

VLANS = (("crew", 120), ("yard", 130), ("guests", 140), ("tickets", 210))


def any_brief(random: Random) -> str:
    """The text of a brief that may or may not be one that a network can meet."""
    kinds = [random.choice(["router", "l3switch", "l3switch"]) for _ in range(random.randint(1, 4))]
    devices: dict[str, dict[str, Any]] = {
        f"core-{number}": {"kind": kind, "ports": random.choice([8, 12, 24])} for number, kind in enumerate(kinds)
    }
    for number in range(random.randint(0, 4)):
        devices[f"quay-{number}"] = {"kind": "switch", "ports": random.choice([8, 12, 24])}
    names = list(devices)
    used = dict.fromkeys(names, 0)

    def port(name: str) -> str:
        used[name] += 1
        return f"{name}/p{devices[name]['ports'] - used[name] + 1}"

    joined = [(random.choice(names[:number]), name) for number, name in enumerate(names) if number]
    if len(names) > 2 and random.random() < 0.15:
        joined.append(tuple(random.sample(names, 2)))
    ends = [(port(a), port(b)) for a, b in joined]
    vlans = {
        f"v{number}": {"id": 110 + 10 * number, "hosts": random.choice([2, 10, 50, 120])}
        for number in range(random.randint(1, 5))
    }
    gateways = []
    for vlan in vlans:
        device = random.choice([name for name in names if devices[name]["kind"] != "switch"])
        uplinks = [end for pair in ends for end in pair if end.startswith(f"{device}/")]
        if devices[device]["kind"] == "l3switch":
            gateways.append({"for": vlan, "at": device})
        elif uplinks:
            gateways.append({"for": vlan, "at": random.choice(uplinks)})
    hosts: dict[str, dict[str, str]] = {}
    free = dict.fromkeys(names, 1)
    for vlan in vlans:
        for number in range(random.randint(0, 3)):
            switches = [name for name in names if devices[name]["kind"] != "router"]
            name = random.choice(switches) if switches else ""
            if name and free[name] + used[name] <= devices[name]["ports"]:
                hosts[f"{vlan}-h{number}"] = {"vlan": vlan, "at": f"{name}/p{free[name]}"}
                free[name] += 1
    for name in names:
        if devices[name]["kind"] != "router" and random.random() < 0.2:
            devices[name]["manage"] = random.choice(list(vlans))
    brief = {
        "format": "archipelago-brief/1",
        "title": "random",
        "space": random.choice([["10.44.0.0/18"], ["10.44.0.0/18", "2001:db8:44::/48"], ["2001:db8:44::/48"]]),
        "vlans": vlans,
        "devices": devices,
        "gateways": gateways,
        "hosts": hosts,
        "cables": [" ~ ".join(pair) for pair in ends],
    }
    if len(vlans) > 1 and random.random() < 0.3:
        brief["expect"] = [{"from": "v0", "to": "v1", "reached": "yes"}]
    return yaml.safe_dump(brief, sort_keys=False)


def paired_brief(random: Random) -> tuple[str, list[str]]:
    """The text of a brief with two or three cores that share every gateway, every switch cabled to each of them, and
    the parts of which any one may break: the cores and their cables."""
    cores = [f"core-{number}" for number in range(1, random.choice((2, 2, 3)) + 1)]
    access = [f"quay-{number}" for number in range(1, random.randint(1, 3) + 1)]
    uplink = random.choice(("none", "each", "switch"))
    names = [*cores, *access, *(["landing"] if uplink != "none" else []), *(["link"] if uplink == "switch" else [])]
    kinds = {"core": "l3switch", "quay": "switch", "landing": "router", "link": "switch"}
    used = dict.fromkeys(names, 0)

    def port(name: str) -> str:
        used[name] += 1
        return f"{name}/p{used[name]}"

    pairs = [*pairwise(cores), *((core, switch) for switch in access for core in cores)]
    far = {"none": [], "each": ["landing"] * len(cores), "switch": ["link"] * len(cores)}[uplink]
    pairs += list(zip(far, cores, strict=False)) + ([("landing", "link")] if uplink == "switch" else [])
    cables = [f"{port(a)} ~ {port(b)}" for a, b in pairs]
    space = random.choice((["10.44.0.0/16"], ["2001:db8:44::/48"], ["10.44.0.0/16", "2001:db8:44::/48"]))
    vlans = {name: {"id": number, "hosts": random.randint(2, 90)} for name, number in VLANS[: random.randint(1, 4)]}
    shared = {"for": list(vlans), "at": cores, "shared": True, "spread": random.random() < 0.4}
    hosts = {}
    for number in range(random.randint(2, 6)):
        host = {"vlan": random.choice(list(vlans)), "at": port(random.choice(access))}
        kept = [*(["dhcp"] if "10.44.0.0/16" in space else []), *(["auto"] if "2001:db8:44::/48" in space else [])]
        if random.random() < 0.4:
            host["address"] = random.choice(kept)
        hosts[f"host-{number}"] = host
    brief = {
        "format": "archipelago-brief/1",
        "space": space,
        "vlans": vlans,
        "devices": {name: {"kind": kinds[name.split("-")[0]], "ports": 24} for name in names},
        "gateways": [shared],
        "hosts": hosts,
        "cables": cables,
    }
    if uplink != "none" and random.random() < 0.6:
        six = space[0].startswith("2001")
        ends = ("2001:db8:ffff::2/64", "2001:db8:ffff::1") if six else ("203.0.113.2/30", "203.0.113.1")
        brief["outside"] = {"at": port("landing"), "address": ends[0], "next-hop": ends[1]}
    return yaml.safe_dump(brief, sort_keys=False), [*cores, *(one for one in cables if "core" in one)]


def _kinds(random: Random, words: list[str]) -> dict[str, tuple[Traffic, ...]]:
    return {random.choice(("may", "may_not")): tuple(map(parse_traffic, words))}


def with_policy(seed: int) -> Brief | None:
    """A brief of any kind that can be designed, with a policy made by chance; None where it cannot be without one."""
    random = Random(seed)
    brief = archipelago.read_brief(any_brief(random))
    try:
        archipelago.design(brief)
    except archipelago.DesignError:
        return None
    ends = ["any", "outside", *brief.vlans, *brief.hosts]

    def rule() -> PolicyRule:
        words = random.sample(["any", "icmp", "tcp", "tcp/443", "udp/53", "tcp/20-30", "udp"], random.choice((1, 2)))
        source = tuple(random.sample(ends, random.choice((1, 2))))
        target = tuple(random.sample([*ends, *list(brief.devices)[:2]], random.choice((1, 2))))
        return PolicyRule(source, target, **_kinds(random, words))

    policy = Policy(random.choice(("any", "none")), tuple(rule() for _ in range(random.randint(1, 6))))
    return replace(brief, policy=policy, expect=())


def to_many(seed: int) -> Brief | None:
    """A brief with a policy that mostly says what everybody may begin with a few; None where there is none."""
    brief, random = with_policy(seed), Random(seed)
    if brief is None:
        return None
    places = [*brief.vlans, *brief.hosts, "outside"]

    def rule() -> PolicyRule:
        source = ("any",) if random.random() < 0.6 else tuple(random.sample([*brief.vlans], 1))
        words = random.sample(["any", "icmp", "tcp/443", "udp"], 1)
        return PolicyRule(source, (random.choice(places),), **_kinds(random, words))

    rules = tuple(rule() for _ in range(random.randint(2, 6)))
    return replace(brief, policy=Policy(random.choice(("any", "none")), rules))
