"""Move two gateways to a layer 3 switch, step by step, and check after each step what it says."""

from pathlib import Path

import archipelago

NETWORK = """\
format: archipelago-network/1
title: Tern Bay, north pier
vlans: {tickets: 110, crew: 120}
devices:
  pier-office:
    kind: router
    ports: {p1: {}, p2: {address: 10.44.26.1/24}}
    interfaces:
      p1.110: {parent: p1, tag: tickets, address: 10.44.24.1/24}
      p1.120: {parent: p1, tag: crew, address: 10.44.25.1/24}
  mast:
    kind: l3switch
    routing: []
    ports: {p1: {access: tickets}, p2: {access: crew}, p24: {trunk: [tickets, crew]}}
    interfaces: {manage: {vlan: crew, address: 10.44.25.9/24}}
    gateway: 10.44.25.1
hosts:
  window: {at: mast/p1, address: 10.44.24.2/24, gateway: 10.44.24.1}
  mess: {at: mast/p2, address: 10.44.25.2/24, gateway: 10.44.25.1}
  agent: {at: pier-office/p2, address: 10.44.26.2/24, gateway: 10.44.26.1}
cables: [pier-office/p1 ~ mast/p24]
"""
RECIPE = """\
format: archipelago-recipe/1
move-gateways:
  - {vlans: [tickets, crew], to: mast, transit: 10.44.27.0/31}
"""

Path("before.yaml").write_text(NETWORK)
Path("recipe.yaml").write_text(RECIPE)

before = archipelago.read_network("before.yaml")
after = archipelago.follow(before, archipelago.read_recipe("recipe.yaml", before))
print("what becomes of it:")
for event in archipelago.compare(before, after).events:
    print(f"  {event}")

change = archipelago.change(before, after, "agent")
print(change.headline)
network = change.at(0)
for step in change:
    network = archipelago.apply(network, step)
    assert archipelago.matrix(network).reached == step.reached  # what a step says is what the engine says anew
    print(f"  {step}; check: {step.check}")
assert network == after and not change.locked_out and change.cut_steps == 0
