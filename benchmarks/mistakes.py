"""What mistakes cost: the audit of a network in which every switch has one, beside that of the same network without;
and mending them all, beside auditing once.

python benchmarks/mistakes.py [SWITCHES ...]
"""

from __future__ import annotations

import sys
from typing import Any

import yaml
from measure import in_turns, report

import archipelago

VLANS = 10
HOSTS = 8


def campus(switches: int, *, wrong: bool) -> str:
    """A core, access switches with eight hosts each in four VLANs, and where that is wanted one of four mistakes at
    every switch: a VLAN missing on its trunk, a gateway, a port in another VLAN, no gateway."""
    gateways = {f"g{v}": {"vlan": f"v{v}", "address": f"10.{v}.0.1/16"} for v in range(VLANS)}
    core: dict[str, Any] = {"kind": "l3switch", "routing": ["ipv4"], "ports": {}, "interfaces": gateways}
    devices, hosts, cables = {"core": core}, {}, []
    for s in range(switches):
        carried = [f"v{(s + j) % VLANS}" for j in range(4)]
        core["ports"][f"d{s}"] = {"trunk": list(carried), "untagged": "none"}
        ports: dict[str, Any] = {f"p{j}": {"access": carried[j % 4]} for j in range(HOSTS)}
        devices[f"s{s}"] = {"kind": "switch", "ports": {**ports, "up": {"trunk": list(carried), "untagged": "none"}}}
        cables.append(f"core/d{s} ~ s{s}/up")
        for j in range(HOSTS):
            v = (s + j % 4) % VLANS
            hosts[f"h{s}-{j}"] = {"at": f"s{s}/p{j}", "address": f"10.{v}.{s + 1}.{j + 2}/16", "gateway": f"10.{v}.0.1"}
        if wrong:
            mistake = s % 4
            if mistake == 0:
                devices[f"s{s}"]["ports"]["up"]["trunk"] = carried[1:]
            elif mistake == 1:
                hosts[f"h{s}-3"]["gateway"] = "10.9.200.9"
            elif mistake == 2:
                ports["p5"]["access"] = carried[3]
            else:
                del hosts[f"h{s}-2"]["gateway"]
    head = {"format": "archipelago-network/1", "vlans": {f"v{v}": 200 + v for v in range(VLANS)}}
    return yaml.safe_dump({**head, "devices": devices, "hosts": hosts, "cables": cables}, sort_keys=False)


def compared(switches: int) -> None:
    wrong, right = campus(switches, wrong=True), campus(switches, wrong=False)
    ours, theirs, ratio = in_turns(lambda: audited(wrong), lambda: audited(right), 3)
    report(f"audit, {switches} switches with a mistake each; without", ours, theirs, ratio, "3")
    ours, theirs, ratio = in_turns(lambda: archipelago.mend(wrong), lambda: audited(wrong), 3)
    report(f"mending {switches} mistakes; auditing them", ours, theirs, ratio, "4")


def audited(text: str) -> object:
    return archipelago.audit(archipelago.read_network(text))


def main() -> None:
    for switches in map(int, sys.argv[1:] or ("30", "120")):
        compared(switches)


if __name__ == "__main__":
    main()
