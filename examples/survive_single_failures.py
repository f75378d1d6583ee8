"""For a team's own test suite: no single failure breaks what the network promises, but for those that are known.

Run: python examples/survive_single_failures.py, or as tests: python -m pytest examples/survive_single_failures.py
"""

from __future__ import annotations

import archipelago

NETWORK = archipelago.read_network(
    """
format: archipelago-network/1
vlans: {tickets: 210, crew: 220}
devices:
  core-1:
    kind: l3switch
    routing: ipv4
    ports: {p1: {trunk: all}, p2: {trunk: all}, p9: {address: 203.0.113.2/29}}
    interfaces:
      tickets-gw:
        vlan: tickets
        address: 10.44.3.2/25
        virtual: {vrid: 1, address: 10.44.3.1, track: [{network: 0.0.0.0/0}, {interface: crew-gw}]}
      crew-gw:
        vlan: crew
        address: 10.44.2.2/24
        virtual: {vrid: 2, address: 10.44.2.1, track: [{network: 0.0.0.0/0}, {interface: tickets-gw}]}
    routes: [{destination: 0.0.0.0/0, next-hop: 203.0.113.1}]
  core-2:
    kind: l3switch
    routing: ipv4
    ports: {p1: {trunk: all}, p2: {trunk: all}, p9: {address: 203.0.113.10/29}}
    interfaces:
      tickets-gw: {vlan: tickets, address: 10.44.3.3/25, virtual: {vrid: 1, address: 10.44.3.1, priority: 95}}
      crew-gw: {vlan: crew, address: 10.44.2.3/24, virtual: {vrid: 2, address: 10.44.2.1, priority: 95}}
    routes: [{destination: 0.0.0.0/0, next-hop: 203.0.113.9}]
  quay:
    kind: switch
    ports: {p1: {trunk: all}, p2: {trunk: all}, p3: {access: tickets}, p4: {access: crew}}
hosts:
  kiosk: {at: quay/p3, address: 10.44.3.10/25, gateway: 10.44.3.1}
  purser: {at: quay/p4, address: 10.44.2.10/24, gateway: 10.44.2.1}
cables: [core-1/p1 ~ quay/p1, core-2/p1 ~ quay/p2, core-1/p2 ~ core-2/p2]
outside: [{at: core-1/p9}, {at: core-2/p9}]
expect:
  - {from: tickets, to: outside, reached: yes}
"""
)
KNOWN = {"quay"}
"""The failures that we live with: everybody is plugged in there."""


def test_no_single_failure_cuts_off_tickets_from_the_outside() -> None:
    for outage in archipelago.outages(NETWORK, additions=False):
        shut = outage.kinds == ("interface",)  # by a person: that is a change, and for a review
        if outage.name not in KNOWN and not shut:
            assert "tickets must reach outside" not in outage.expectations, outage


if __name__ == "__main__":
    print(archipelago.outages(NETWORK))
    test_no_single_failure_cuts_off_tickets_from_the_outside()
