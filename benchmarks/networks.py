"""Large briefs, made by rule: a tree of layer 3 switches, switches below them, VLANs and hosts spread evenly."""

from __future__ import annotations


def brief_text(devices: int, vlans: int, hosts: int) -> str:
    """The text of a brief with about so many devices (a tenth of them routing), VLANs and hosts."""
    routing = max(2, devices // 10)
    switches = devices - routing
    below = max(1, switches // routing)
    share = -(-vlans // routing)
    lines = ["format: archipelago-brief/1", "title: Tern Bay at scale", "space: 10.0.0.0/8", "vlans:"]
    lines += [f"  vlan-{number}: {{id: {110 + number}, hosts: 20}}" for number in range(vlans)]
    lines.append("devices:")
    lines += [f"  isle-{number}: {{kind: l3switch}}" for number in range(routing)]
    lines += [f"  quay-{number}: {{kind: switch, ports: 240}}" for number in range(switches)]
    lines.append("gateways:")
    for number in range(routing):
        own = [f"vlan-{vlan}" for vlan in range(number * share, min(vlans, (number + 1) * share))]
        if own:
            lines.append(f"  - {{for: [{', '.join(own)}], at: isle-{number}}}")
    lines.append("hosts:")
    for number in range(hosts):
        vlan = number % vlans
        quay = min(switches - 1, vlan // share * below + number // vlans % below)
        lines.append(f"  host-{number}: {{vlan: vlan-{vlan}, at: quay-{quay}}}")
    lines += ["outside: {at: isle-0/out, address: 203.0.113.2/30, next-hop: 203.0.113.1}", "cables:"]
    lines += [f"  - isle-{(number - 1) // 2}/down-{number} ~ isle-{number}/up" for number in range(1, routing)]
    lines += [
        f"  - isle-{min(number // below, routing - 1)}/q{number} ~ quay-{number}/p240" for number in range(switches)
    ]
    return "\n".join(lines) + "\n"
