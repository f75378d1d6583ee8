"""Keep a network under test: what it promises, in both families, and what it keeps when any one cable fails."""

from pathlib import Path

import archipelago

BRIEF = """\
format: archipelago-brief/1
title: Tern Bay, the outer islands
space: [10.44.32.0/20, 2001:db8:44::/48]
vlans:
  ferry-pier: {id: 110, hosts: 30}
  gulls-rest: {id: 120, hosts: 60}
  lookout:    {id: 130, hosts: 6}
devices:
  bay:   {kind: l3switch, ports: 24}
  gull:  {kind: l3switch, ports: 24}
  stack: {kind: l3switch, ports: 24}
gateways:
  - {for: ferry-pier, at: bay}
  - {for: gulls-rest, at: gull}
  - {for: lookout, at: stack}
hosts:
  desk-{1..12}: {vlan: ferry-pier, at: bay}
  room-{1..12}: {vlan: gulls-rest, at: gull, address: auto}
  watch:        {vlan: lookout, at: stack}
cables: [bay/p24 ~ gull/p24, gull/p23 ~ stack/p23, stack/p24 ~ bay/p23]
outside: {at: bay/p22, address: 203.0.113.2/30, next-hop: 203.0.113.1}
expect:
  - {from: ferry-pier, to: gulls-rest, reached: yes}
  - {from: lookout, to: outside, reached: yes}
"""

Path("outer-brief.yaml").write_text(BRIEF)
network = archipelago.design(archipelago.read_brief("outer-brief.yaml")).network
archipelago.assert_expected(network)
for verdict in archipelago.expectations(network, [("watch", "desk-7", True), ("gulls-rest", "outside", False)]):
    print(verdict)

found = archipelago.matrix(network)
print(f"{found.reached} of {found.pairs} pairs reached")
cables = [str(cable) for cable in network.cables]
for part, without in archipelago.what_if(network, [*cables, *network.devices, cables[:2]]):
    print(f"without {part}: {without.pairs - without.reached} pairs cut off")
print(archipelago.to_table(found).to_string())
