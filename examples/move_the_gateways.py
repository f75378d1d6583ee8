"""Move the gateways of two VLANs from a trunked router to a layer 3 switch, keeping every address where it is."""

from pathlib import Path

import archipelago

BEFORE = """\
format: archipelago-brief/1
title: Tern Bay, north pier
space: 10.44.24.0/22
vlans:
  tickets: {id: 110, hosts: 30}
  crew:    {id: 120, hosts: 60}
devices:
  pier-office: {kind: router, ports: 4}
  mast:   {kind: l3switch, ports: 24}
gateways:
  - {for: [tickets, crew], at: pier-office/p1}
outside: {at: pier-office/p4, address: 203.0.113.2/30, next-hop: 203.0.113.1}
hosts:
  window: {vlan: tickets, at: mast}
  mess:   {vlan: crew, at: mast}
cables:
  - pier-office/p1 ~ mast/p24
"""

Path("before.yaml").write_text(BEFORE)
Path("after.yaml").write_text(BEFORE.replace("at: pier-office/p1}", "at: mast}"))

before = archipelago.design(archipelago.read_brief("before.yaml")).network
plan = archipelago.design(archipelago.read_brief("after.yaml"), keep=before)

for name, network in (("router on a trunk", before), ("layer 3 switch", plan.network)):
    answer = archipelago.reach(network, "window", "mess")
    way = ", ".join(dict.fromkeys(step.device for step in answer.out))
    print(f"{name}: window to mess {'reached' if answer.reached else 'not reached'} by way of {way}")

assert before.hosts == plan.network.hosts  # no host notices
assert archipelago.audit(plan.network) == ()
print("what changed at the router and the switch:")
for one in plan.decisions:
    if "/" in one.subject:
        print(f"  {one.subject}: {one.decided}")
