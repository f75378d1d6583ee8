"""Where should the gateways be? Every place that the devices allow, and at how much traffic another would be better.

Run: python examples/weigh_the_places.py
"""

from __future__ import annotations

import archipelago

BRIEF = """format: archipelago-brief/1
title: The slipway
space: 10.44.0.0/21
conventions: {growth: 15%}
vlans:
  winches: {id: 120, hosts: 30}
  cameras: {id: 130, hosts: 60, later: 120}
devices:
  slip: {kind: router, ports: 6}
  shed: {kind: l3switch, ports: 24}
gateways:
  - {for: [winches, cameras], at: slip/p1}
hosts:
  winch: {vlan: winches, at: shed}
  recorder: {vlan: winches, at: shed}
  gull: {vlan: cameras, at: shed}
  tern: {vlan: cameras, at: shed}
cables: [slip/p1 ~ shed/p24]
traffic:
  - {from: cameras, to: recorder, rate: 480M}
"""


def main() -> None:
    brief = archipelago.read_brief(BRIEF)
    found = archipelago.weigh(brief)
    print(found)
    for one in found.designs:
        print(
            f"{one.title}: {one.measures.share:.0%} full, {one.measures.hops:.2f} hops, {one.measures.cost.lines} lines"
        )

    best = found.designs[0].design
    print(archipelago.traffic(best.network))
    print(archipelago.foresee(brief, best))


if __name__ == "__main__":
    main()
