"""Leases against broadcast domains, and after a change that touches few. Run: python benchmarks/leases.py

100,000 hosts that ask in 1,000 VLANs, behind 100 layer 3 switches, by relays to 50 servers. At most twice what the
hosts' broadcast domains cost.
"""

from __future__ import annotations

from dataclasses import replace

from measure import seconds

import archipelago
from archipelago.knowledge.known import apply_change, know
from archipelago.knowledge.links import HOST_PORT
from archipelago.model.network import with_changes

VLANS, HOSTS, SWITCHES, SERVERS = 1_000, 100, 100, 50
EACH = VLANS // SWITCHES


def subnet(vlan: int) -> str:
    return f"10.{vlan // 200}.{vlan % 200}"


def text() -> str:
    """The network, in bulk."""
    lines = ["format: archipelago-network/1", "vlans:", *(f"  v{vlan}: {vlan + 2}" for vlan in range(VLANS))]
    lines += ["  core: 4000", "devices:"]
    for switch in range(SWITCHES):
        own = range(switch * EACH, (switch + 1) * EACH)
        lines += [
            f"  r{switch}:",
            "    kind: l3switch",
            "    routing: [ipv4]",
            "    ports:",
            "      up: {access: core}",
        ]
        lines += [f'      "a{vlan}x{{1..{HOSTS}}}": {{access: v{vlan}}}' for vlan in own]
        lines += ["    interfaces:", f"      core: {{vlan: core, address: 10.255.0.{switch + 1}/24}}"]
        lines += [
            f"      g{vlan}: {{vlan: v{vlan}, address: {subnet(vlan)}.1/24, "
            f"dhcp-relay: 10.255.0.{101 + vlan % SERVERS}}}"
            for vlan in own
        ]
        if switch == 0:  # the servers' gateway knows the ways to all
            routes = (
                f"{{destination: {subnet(vlan)}.0/24, next-hop: 10.255.0.{vlan // EACH + 1}}}"
                for vlan in range(EACH, VLANS)
            )
            lines += [f"    routes: [{', '.join(routes)}]"]
    lines += ['  mid: {kind: switch, ports: {"p{1..200}": {access: core}}}', "hosts:"]
    for server in range(SERVERS):
        pools = ", ".join(
            f"p{vlan}: {{subnet: {subnet(vlan)}.0/24, range: {subnet(vlan)}.10-{subnet(vlan)}.250, "
            f"gateway: {subnet(vlan)}.1}}"
            for vlan in range(server, VLANS, SERVERS)
        )
        at = f"at: mid/p{110 + server}, address: 10.255.0.{101 + server}/24, gateway: 10.255.0.1"
        lines += [f"  s{server}: {{{at}, dhcp-pools: {{{pools}}}}}"]
    for vlan in range(VLANS):
        at = f"r{vlan // EACH}/a{vlan}x{{1..{HOSTS}}}"
        lines += [f'  "h{vlan}x{{1..{HOSTS}}}": {{at: "{at}", address: dhcp}}']
    lines += ["cables:", *(f"  - r{switch}/up ~ mid/p{switch + 1}" for switch in range(SWITCHES))]
    return "\n".join(lines) + "\n"


def main() -> None:
    network = archipelago.read_network(text())
    known = know(network)
    domains = seconds(lambda: [known.domains.of((host, HOST_PORT)) for host in network.hosts])
    leasing = seconds(lambda: known.leases.given)
    leased = sum(lease is not None for lease in known.leases.given.values())
    device = network.devices["r5"]
    vlan = f"g{5 * EACH}"
    without = replace(device.interfaces[vlan], dhcp_relay=())
    changed = replace(device, interfaces={**device.interfaces, vlan: without})
    after = apply_change(known, with_changes(network, devices={**network.devices, "r5": changed}))
    again = seconds(lambda: after.leases.given)
    other = sum(after.leases.given[name] is not lease for name, lease in known.leases.given.items())
    print(f"{len(network.hosts):,} hosts, {leased:,} leases")
    print(f"  broadcast domains     {domains:6.2f} s")
    print(f"  leases                {leasing:6.2f} s  {leasing / domains:4.2f} times (bound 2)")
    print(f"  a relay taken away    {again:6.2f} s  {again / leasing:4.2f} times; {other:,} leases are otherwise")


if __name__ == "__main__":
    main()
