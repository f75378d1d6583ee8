"""Random briefs of every kind: one to four routing devices, switches, gateways anywhere, management, both families."""

from __future__ import annotations

from random import Random
from typing import Any

import yaml


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
