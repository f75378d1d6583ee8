"""Plan a terminal from a list of VLANs: allocate subnets, design, audit, and ask who reaches whom."""

from pathlib import Path

import archipelago

BRIEF = """\
format: archipelago-brief/1
title: Tern Bay, east pier
space: 10.44.16.0/22
vlans:
  tickets: {id: 110, hosts: 30}
  crew:    {id: 120, hosts: 60}
  radio:   {id: 130, hosts: 6}
devices:
  pier-office: {kind: router, ports: 2}
  pier-1: {kind: switch, ports: 12}
  pier-2: {kind: switch, ports: 12}
gateways:
  - {for: [tickets, crew, radio], at: pier-office/p1}
hosts:
  window-1: {vlan: tickets, at: pier-1}
  mess:     {vlan: crew, at: pier-1}
  mast:     {vlan: radio, at: pier-2}
cables:
  - pier-office/p1 ~ pier-1/p12
  - pier-1/p11 ~ pier-2/p12
"""

Path("pier-brief.yaml").write_text(BRIEF)
plan = archipelago.design(archipelago.read_brief("pier-brief.yaml"))
print(archipelago.to_table(plan.carving)[["name", "prefix", "gateway", "spare"]].to_string(index=False))

findings = archipelago.audit(plan.network)
print(f"{len(findings)} findings")

for source, target in (("window-1", "mess"), ("mast", "window-1")):
    answer = archipelago.reach(plan.network, source, target)
    print(f"{source} to {target}: {'reached' if answer.reached else answer.says}, by way of")
    print("  " + ", ".join(step.device for step in answer.out))

archipelago.write_network(plan.network, "pier-network.yaml")
